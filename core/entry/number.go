package entry

import (
	"math/big"
	"strings"
)

// Number is an exact decimal. Its value is ±0.DIGITS × 10^exp; digits have
// neither leading nor trailing zeros, and zero has none. Numbers compare
// exactly, however long they are.
type Number struct {
	neg    bool
	digits string
	exp    int
}

// units of size, as factors of a thousand or of 1024.
var units = []struct {
	name  string
	pow10 int
	pow2  uint
}{{"kB", 3, 0}, {"MB", 6, 0}, {"GB", 9, 0}, {"KiB", 0, 10}, {"MiB", 0, 20}, {"GiB", 0, 30}}

// maxExponent bounds the written exponent, so that arithmetic on it stays small.
const maxExponent = 1_000_000

// ParseNumber reads [+-]digits[.digits][e|E[+-]digits], followed at most by %
// or a unit of size (kB MB GB, KiB MiB GiB), with nothing between. The sign %
// changes nothing; a unit multiplies.
func ParseNumber(s string) (Number, bool) {
	var n Number
	i := 0
	if i < len(s) && (s[i] == '+' || s[i] == '-') {
		n.neg = s[i] == '-'
		i++
	}
	start := i
	for i < len(s) && isDigit(s[i]) {
		i++
	}
	whole := s[start:i]
	if whole == "" {
		return Number{}, false
	}
	frac := ""
	if i+1 < len(s) && s[i] == '.' && isDigit(s[i+1]) {
		start = i + 1
		for i++; i < len(s) && isDigit(s[i]); i++ {
		}
		frac = s[start:i]
	}
	exp := 0
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		j := i + 1
		minus := false
		if j < len(s) && (s[j] == '+' || s[j] == '-') {
			minus = s[j] == '-'
			j++
		}
		if j < len(s) && isDigit(s[j]) {
			for ; j < len(s) && isDigit(s[j]); j++ {
				if exp < maxExponent {
					exp = exp*10 + int(s[j]-'0')
				}
			}
			if minus {
				exp = -exp
			}
			i = j
		}
	}
	rest := s[i:]
	pow2 := uint(0)
	switch {
	case rest == "" || rest == "%":
	default:
		known := false
		for _, u := range units {
			if rest == u.name {
				exp, pow2, known = exp+u.pow10, u.pow2, true
			}
		}
		if !known {
			return Number{}, false
		}
	}
	digits := whole + frac
	if pow2 > 0 {
		b, _ := new(big.Int).SetString(digits, 10)
		digits = b.Lsh(b, pow2).String()
	}
	// The value is DIGITS × 10^(exp - len(frac)).
	trimmed := strings.TrimLeft(digits, "0")
	n.exp = len(trimmed) - len(frac) + exp
	n.digits = strings.TrimRight(trimmed, "0")
	if n.digits == "" {
		return Number{}, true
	}
	return n, true
}

// Compare returns -1, 0 or 1 as a is less than, equal to or greater than b.
func (a Number) Compare(b Number) int {
	switch {
	case a.sign() != b.sign():
		if a.sign() < b.sign() {
			return -1
		}
		return 1
	case a.digits == "":
		return 0
	}
	c := 0
	switch {
	case a.exp != b.exp:
		c = 1
		if a.exp < b.exp {
			c = -1
		}
	default:
		c = strings.Compare(a.digits, b.digits)
	}
	if a.neg {
		return -c
	}
	return c
}

func (a Number) sign() int {
	switch {
	case a.digits == "":
		return 0
	case a.neg:
		return -1
	}
	return 1
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// Int is the number as an integer of 63 bits; false where it is none.
func (a Number) Int() (int64, bool) {
	if len(a.digits) > a.exp || a.exp > 19 {
		return 0, a.digits == ""
	}
	n, ok := new(big.Int).SetString(a.digits+strings.Repeat("0", a.exp-len(a.digits)), 10)
	if !ok || !n.IsInt64() {
		return 0, false
	}
	if a.neg {
		return -n.Int64(), true
	}
	return n.Int64(), true
}

// Rat is the number as a fraction. Numbers with more than a thousand places before or
// behind the point are answered with false.
func (a Number) Rat() (*big.Rat, bool) {
	if a.digits == "" {
		return new(big.Rat), true
	}
	if a.exp > 1000 || a.exp-len(a.digits) < -1000 {
		return nil, false
	}
	n, ok := new(big.Int).SetString(a.digits, 10)
	if !ok {
		return nil, false
	}
	if a.neg {
		n.Neg(n)
	}
	shift := a.exp - len(a.digits)
	p := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(shift, -shift))), nil)
	if shift >= 0 {
		return new(big.Rat).SetInt(n.Mul(n, p)), true
	}
	return new(big.Rat).SetFrac(n, p), true
}

// Holds tells whether a comparison holds: c is negative, 0 or positive where the left
// side is less, equal or greater, and op one of == != < <= > >=.
func Holds(c int, op string) bool {
	switch op {
	case "==":
		return c == 0
	case "!=":
		return c != 0
	case "<":
		return c < 0
	case "<=":
		return c <= 0
	case ">":
		return c > 0
	}
	return c >= 0
}
