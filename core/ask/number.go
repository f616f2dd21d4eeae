package ask

import (
	"math"
	"math/big"
	"strconv"
	"strings"

	"dimlantern/core/entry"
)

// num is an exact number: m × 10^e, or r where that is not nil. Numbers of up to 15 digits, which almost
// all are, stand in m without trailing zeros.
type num struct {
	m int64
	e int32
	r *big.Rat
}

// pow10 are the powers of ten that fit.
var pow10 = func() (out [19]int64) {
	out[0] = 1
	for i := 1; i < len(out); i++ {
		out[i] = 10 * out[i-1]
	}
	return out
}()

// exact are the powers of ten that a float64 has exactly.
var exact = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17,
	1e18, 1e19, 1e20, 1e21, 1e22}

// parseNum reads a value as a number, as points 25 to 29 of the rules have it; durations count in
// seconds.
func parseNum(s string) (num, bool) {
	if n, ok := plainNum(s); ok {
		return n, true
	}
	if n, ok := entry.ParseNumber(s); ok {
		r, ok := n.Rat()
		if !ok {
			return num{}, false
		}
		return ratNum(r), true
	}
	if s != "" && isDigit(s[0]) {
		if d, err := entry.ParseDuration(s); err == nil {
			return num{m: int64(d), e: -9}.tidy(), true
		}
	}
	return num{}, false
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// plainNum reads a number without exponent and unit, of up to 15 digits.
func plainNum[T string | []byte](s T) (num, bool) {
	m, decimals, ok := plainDigits(s)
	return num{m: m, e: int32(-decimals)}.tidy(), ok
}

// plainFloat is the num.float of a plainNum.
func plainFloat(s []byte) (float64, bool) {
	m, decimals, ok := plainDigits(s)
	if decimals > 0 {
		return float64(m) / exact[decimals], ok
	}
	return float64(m), ok
}

// plainDigits are a number's digits, and how many of them are decimals.
func plainDigits[T string | []byte](s T) (m int64, decimals int, ok bool) {
	if len(s) == 0 {
		return 0, 0, false
	}
	i, neg := 0, false
	if s[0] == '-' || s[0] == '+' {
		neg, i = s[0] == '-', 1
	}
	digits, point := 0, -1
	for ; i < len(s); i++ {
		switch c := s[i]; {
		case isDigit(c):
			m = 10*m + int64(c-'0')
			digits++
		case c == '.' && point < 0 && digits > 0:
			point = digits
		default:
			return 0, 0, false
		}
		if digits > 15 {
			return 0, 0, false
		}
	}
	if digits == 0 || point == digits {
		return 0, 0, false
	}
	if point >= 0 {
		decimals = digits - point
	}
	if neg {
		m = -m
	}
	return m, decimals, true
}

// tidy takes trailing zeros away.
func (n num) tidy() num {
	if n.m == 0 {
		return num{}
	}
	for n.m%10 == 0 {
		n.m, n.e = n.m/10, n.e+1
	}
	return n
}

// ratNum is a number of a fraction, which stays as it is where it has too many digits.
func ratNum(r *big.Rat) num {
	if digits, ok := decimals(r, 15); ok && r.Num().IsInt64() {
		m := new(big.Int).Mul(r.Num(), big.NewInt(pow10[digits]))
		if m.Quo(m, r.Denom()); m.IsInt64() && m.CmpAbs(big.NewInt(1e15)) < 0 {
			return num{m: m.Int64(), e: int32(-digits)}.tidy()
		}
	}
	if r.IsInt() {
		z, e := new(big.Int).Set(r.Num()), int32(0)
		q, rest := new(big.Int), new(big.Int)
		for z.CmpAbs(big.NewInt(1e15)) >= 0 && e < 300 {
			if q.QuoRem(z, big.NewInt(10), rest); rest.Sign() != 0 {
				break
			}
			z, q = q, z
			e++
		}
		if z.CmpAbs(big.NewInt(1e15)) < 0 {
			return num{m: z.Int64(), e: e}.tidy()
		}
	}
	return num{r: r}
}

// decimals is how many decimals a fraction has; false where they do not end, or are more than most.
func decimals(r *big.Rat, most int) (int, bool) {
	n, exact := r.FloatPrec()
	return n, exact && n <= most
}

// rat is the number as a fraction, which must not be changed.
func (n num) rat() *big.Rat {
	if n.r != nil {
		return n.r
	}
	z := big.NewInt(n.m)
	p := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(n.e, -n.e))), nil)
	if n.e >= 0 {
		return new(big.Rat).SetInt(z.Mul(z, p))
	}
	return new(big.Rat).SetFrac(z, p)
}

// compare is negative, 0 or positive.
func (n num) compare(o num) int {
	if n.r == nil && o.r == nil {
		if n.e == o.e {
			switch {
			case n.m < o.m:
				return -1
			case n.m > o.m:
				return 1
			}
			return 0
		}
		a, okA := n.float()
		b, okB := o.float()
		if okA && okB && a != b {
			if a < b {
				return -1
			}
			return 1
		}
	}
	return n.rat().Cmp(o.rat())
}

// float is the number as a float64; true where that is the nearest one, from which the number can be
// had again.
func (n num) float() (float64, bool) {
	switch {
	case n.r != nil:
		f, _ := n.r.Float64()
		return f, false
	case n.e >= 0 && n.e <= 22:
		return float64(n.m) * exact[n.e], n.m < 1e15 && n.m > -1e15
	case n.e < 0 && n.e >= -22:
		return float64(n.m) / exact[-n.e], n.m < 1e15 && n.m > -1e15
	}
	f, _ := n.rat().Float64()
	return f, false
}

// floatNum is the number of which float gave that, with true.
func floatNum(f float64) num {
	n, ok := plainNum(strconv.FormatFloat(f, 'f', -1, 64))
	if !ok {
		r, _ := new(big.Rat).SetString(strconv.FormatFloat(f, 'g', -1, 64))
		return ratNum(r)
	}
	return n
}

// String writes the number as a decimal. One whose decimals do not end has 25 digits.
func (n num) String() string {
	if n.r != nil {
		return ratString(n.r)
	}
	digits := strconv.FormatInt(n.m, 10)
	if n.e > 30 || n.e < -30 {
		return ratString(n.rat())
	}
	if n.e >= 0 {
		if n.m == 0 {
			return "0"
		}
		return digits + strings.Repeat("0", int(n.e))
	}
	sign := ""
	if n.m < 0 {
		sign, digits = "-", digits[1:]
	}
	places := int(-n.e)
	if len(digits) <= places {
		digits = strings.Repeat("0", places-len(digits)+1) + digits
	}
	return sign + digits[:len(digits)-places] + "." + digits[len(digits)-places:]
}

func ratString(r *big.Rat) string {
	if n, exact := r.FloatPrec(); exact && n <= 1000 {
		return r.FloatString(n)
	}
	return rounded(r, 25)
}

// rounded writes a fraction with so many significant digits, rounded half to even.
func rounded(r *big.Rat, digits int) string {
	if r.Sign() == 0 {
		return "0"
	}
	// Where does the first digit stand? 10^at <= |r| < 10^(at+1).
	f, _ := new(big.Float).SetRat(new(big.Rat).Abs(r)).Float64()
	at := 0
	if f > 0 && !math.IsInf(f, 0) {
		at = int(math.Floor(math.Log10(f)))
	} else {
		at = len(new(big.Int).Abs(r.Num()).String()) - len(r.Denom().String())
	}
	ten := big.NewInt(10)
	power := func(n int) *big.Rat {
		p := new(big.Int).Exp(ten, big.NewInt(int64(max(n, -n))), nil)
		if n >= 0 {
			return new(big.Rat).SetInt(p)
		}
		return new(big.Rat).SetFrac(big.NewInt(1), p)
	}
	abs := new(big.Rat).Abs(r)
	for abs.Cmp(power(at)) < 0 {
		at--
	}
	for abs.Cmp(power(at+1)) >= 0 {
		at++
	}
	// The digits as a whole number, half to even.
	x := new(big.Rat).Mul(abs, power(digits-1-at))
	q, rest := new(big.Int).QuoRem(x.Num(), x.Denom(), new(big.Int))
	switch c := new(big.Int).Lsh(rest, 1).Cmp(x.Denom()); {
	case c > 0, c == 0 && q.Bit(0) == 1:
		q.Add(q, big.NewInt(1))
	}
	out := new(big.Rat).Mul(new(big.Rat).SetInt(q), power(at+1-digits))
	if r.Sign() < 0 {
		out.Neg(out)
	}
	n, _ := out.FloatPrec()
	return out.FloatString(n)
}

// total is a sum of numbers, exactly: n × 10^e, with n in big once it does not fit any more.
type total struct {
	n   int64
	e   int32
	big *big.Rat // what else belongs to it; nil is nothing
}

// add adds a number.
func (t *total) add(x num) {
	if x.r != nil || x.e < -18 || x.e > 18 || x.m == math.MinInt64 {
		t.more(x.rat())
		return
	}
	if t.n == 0 {
		t.n, t.e = x.m, x.e
		return
	}
	m := x.m
	switch {
	case x.e < t.e:
		n, ok := times(t.n, int(t.e-x.e))
		if !ok {
			t.more(num{m: t.n, e: t.e}.rat())
			t.n, t.e = x.m, x.e
			return
		}
		t.n, t.e = n, x.e
	case x.e > t.e:
		var ok bool
		if m, ok = times(m, int(x.e-t.e)); !ok {
			t.more(x.rat())
			return
		}
	}
	sum := t.n + m
	if (sum > t.n) != (m > 0) && m != 0 { // it does not fit
		t.more(num{m: t.n, e: t.e}.rat())
		t.n = m
		return
	}
	t.n = sum
}

func (t *total) more(r *big.Rat) {
	if t.big == nil {
		t.big = new(big.Rat)
	} else {
		t.big = new(big.Rat).Set(t.big)
	}
	t.big.Add(t.big, r)
}

func times(n int64, power int) (int64, bool) {
	if power >= len(pow10) {
		return 0, n == 0
	}
	p := pow10[power]
	out := n * p
	return out, n == 0 || out/p == n
}

// merge adds another sum.
func (t *total) merge(o *total) {
	if o.n != 0 {
		t.add(num{m: o.n, e: o.e})
	}
	if o.big != nil {
		t.more(o.big)
	}
}

// rat is the sum.
func (t *total) rat() *big.Rat {
	r := num{m: t.n, e: t.e}.rat()
	if t.big != nil {
		r = new(big.Rat).Add(r, t.big)
	}
	return r
}
