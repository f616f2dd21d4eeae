// Package lang is the language in which rules are written: settings files come in, a checked
// tree of what they mean goes out, with everything that is wrong or doubtful, where it is, and
// what to write instead.
//
// A file goes through it like this:
//
//   - Parse reads a text (lex.go cuts it into tokens, tree.go puts these into blocks and
//     clauses). It never fails: a File keeps what it could read, with its mistakes, and prints
//     itself in its one canonical form, comments kept.
//   - Check puts all files of a folder together (check.go, and a file for each kind of block:
//     readrule.go, readlayout.go, source.go, contact.go, …). What it answers are Settings, without the
//     blocks that have errors, and Diagnostics: errors, findings of the linter (lint.go), notes.
//   - Settings are plain values that nobody changes any more. An Expr (expr.go) is a part of a
//     clause that fits an entry or does not; who evaluates it is package match, what a rule does
//     over time package engine.
//
// The language knows no zone and no form of a time by itself: these come in an Env. Nothing
// here reads a file or a clock. Files, Settings and all that they hold may be read by several
// goroutines at once.
package lang
