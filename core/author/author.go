// Package author writes rules, patterns and clauses from examples: from an entry the pattern
// that fits it and others of its kind, from a value in it a field, from a place in a text
// what may stand there. What it writes is text of the rule language; nothing is tried here,
// and nothing read or kept.
package author
