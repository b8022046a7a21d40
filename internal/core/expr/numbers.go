package expr

import (
	"errors"
	"math"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"youngtrellis/internal/core/item"
)

// A number is an int64 or a float64. What is calculated is calculated in
// decimal, with the shortest decimals that read back as the numbers at hand, so
// that 0.1 + 0.2 is 0.3; the result is the number nearest to it. Where that
// would lose digits of a whole number, an error says so.

const (
	exactFloats = 1 << 53 // whole numbers below it are floats without loss
	quotient    = 30      // digits that a division works out
)

var (
	errTooLarge  = errors.New("the result is larger than a 64-bit whole number")
	errNoNumber  = errors.New("the result is not a number")
	errInexact   = errors.New("the result has more digits than a number can hold; keep it as text, or round what goes in")
	errDivZero   = errors.New("division by 0")
	largestPower = int64(1 << 10)
)

func isWhole(f float64) bool { return f == math.Trunc(f) && math.Abs(f) < exactFloats }

// decimalOf is a number as the shortest decimal that reads back equal.
func decimalOf(v any) (decimal.Decimal, bool) {
	switch v := v.(type) {
	case int64:
		return decimal.NewFromInt(v), true
	case float64:
		return decimal.NewFromFloat(v), true
	}
	return decimal.Zero, false
}

// fromDecimal is the number nearest to a decimal.
func fromDecimal(d decimal.Decimal) (any, error) {
	whole := d.IsInteger()
	if whole {
		if b := d.BigInt(); b.IsInt64() {
			return b.Int64(), nil
		}
	}
	f := d.InexactFloat64()
	switch {
	case math.IsInf(f, 0) || math.IsNaN(f):
		return nil, errNoNumber
	case math.Abs(f) < exactFloats:
		return f, nil
	case decimal.NewFromFloat(f).Equal(d):
		return f, nil
	case whole:
		return nil, errTooLarge
	}
	return nil, errInexact
}

// divide works out as many digits as a number can need, and more.
func divide(a, b decimal.Decimal) decimal.Decimal {
	places := int32(quotient) - (a.Exponent() + int32(a.NumDigits())) + (b.Exponent() + int32(b.NumDigits()))
	return a.DivRound(b, max(0, places))
}

// calculateNumbers applies + - * / % or ** to two numbers.
func calculateNumbers(op string, l, r any) (any, error) {
	a, aInt := l.(int64)
	b, bInt := r.(int64)
	if aInt && bInt {
		switch v, ok := whole(op, a, b); {
		case ok:
			return v, nil
		case (op == "/" || op == "%") && b == 0:
			return nil, errDivZero
		case op == "/" && magnitude(a) < exactFloats && magnitude(b) < exactFloats:
			return float64(a) / float64(b), nil
		case op == "**" && b >= 0 && a != 0:
			return nil, errTooLarge
		case op != "/" && op != "**":
			return nil, errTooLarge
		}
	}
	x, ok1 := decimalOf(l)
	y, ok2 := decimalOf(r)
	if !ok1 || !ok2 {
		return nil, nil
	}
	switch op {
	case "+":
		return fromDecimal(x.Add(y))
	case "-":
		return fromDecimal(x.Sub(y))
	case "*":
		return fromDecimal(x.Mul(y))
	case "/", "%":
		if y.IsZero() {
			return nil, errDivZero
		}
		if op == "%" {
			return fromDecimal(x.Mod(y))
		}
		return fromDecimal(divide(x, y))
	}
	return power(x, l, r)
}

// power is exact where the exponent is a small whole number, and the nearest
// number elsewhere.
func power(x decimal.Decimal, l, r any) (any, error) {
	if n, ok := r.(int64); ok && n >= 0 && n <= largestPower && x.NumDigits() <= 17 && x.Exponent() > -64 {
		out := decimal.NewFromInt(1)
		for base := x; n > 0; n >>= 1 {
			if n&1 == 1 {
				out = out.Mul(base)
			}
			if base = base.Mul(base); base.NumDigits() > 4096 {
				return nil, errNoNumber
			}
		}
		return nearest(out)
	}
	a, _ := asFloat(l)
	b, _ := asFloat(r)
	f := math.Pow(a, b)
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return nil, errNoNumber
	}
	if isWhole(f) {
		return int64(f), nil
	}
	return f, nil
}

// nearest is the number nearest to a decimal that is no whole number, and whole
// ones as fromDecimal gives them.
func nearest(d decimal.Decimal) (any, error) {
	v, err := fromDecimal(d)
	if errors.Is(err, errInexact) {
		return d.InexactFloat64(), nil
	}
	return v, err
}

// compareNumbers orders two numbers by value, also where a float cannot hold
// what a whole number does.
func compareNumbers(l, r any) (c int, ok bool) {
	a, aInt := l.(int64)
	b, bInt := r.(int64)
	if aInt && bInt {
		return order(a < b, a > b), true
	}
	x, ok1 := asFloat(l)
	y, ok2 := asFloat(r)
	if !ok1 || !ok2 {
		return 0, false
	}
	if aInt && magnitude(a) >= exactFloats || bInt && magnitude(b) >= exactFloats {
		x, _ := decimalOf(l)
		y, _ := decimalOf(r)
		return x.Cmp(y), true
	}
	return order(x < y, x > y), true
}

// same tells whether two values are equal by value, through lists and objects.
func (m *machine) same(pos int, l, r any) (bool, error) {
	if err := m.step(pos); err != nil {
		return false, err
	}
	if c, ok := compareNumbers(l, r); ok {
		return c == 0, nil
	}
	switch a := l.(type) {
	case []any:
		b, ok := r.([]any)
		if !ok || len(a) != len(b) {
			return false, nil
		}
		for i := range a {
			if ok, err := m.same(pos, a[i], b[i]); !ok || err != nil {
				return false, err
			}
		}
		return true, nil
	case map[string]any:
		b, ok := r.(map[string]any)
		if !ok || len(a) != len(b) {
			return false, nil
		}
		for k, v := range a {
			w, there := b[k]
			if !there {
				return false, nil
			}
			if ok, err := m.same(pos, v, w); !ok || err != nil {
				return false, err
			}
		}
		return true, nil
	case string, bool, nil:
		if _, ok := r.(time.Time); !ok {
			return l == r, nil
		}
	}
	if lt, rt, ok := bothTimes(l, r); ok {
		return lt.Equal(rt), nil
	}
	a, ok1 := settle(l).(string)
	b, ok2 := settle(r).(string)
	return ok1 && ok2 && a == b, nil
}

// marks are the signs that a locale, or a person, writes numbers with.
type marks struct {
	decimal string
	groups  string // each that may stand between groups of three digits
	pairs   bool   // groups beyond the last are of two digits
}

const groupSigns = " \u00a0\u2009\u202f'’"

// readNumber reads a number that people write. Without marks it must be clear
// from the text alone which sign is the decimal mark.
func readNumber(s string, m *marks) (any, error) {
	text := strings.TrimSpace(strings.ReplaceAll(s, "\u2212", "-"))
	sign, digits := "", text
	if strings.HasPrefix(digits, "-") || strings.HasPrefix(digits, "+") {
		sign, digits = strings.TrimPrefix(digits[:1], "+"), strings.TrimLeft(digits[1:], groupSigns)
	}
	digits, exponent := cutExponent(digits)
	if strings.ContainsFunc(digits, func(r rune) bool {
		return (r < '0' || r > '9') && !strings.ContainsRune(".,"+groupSigns, r) && (m == nil || !strings.ContainsRune(m.decimal+m.groups, r))
	}) {
		return nil, errors.New(show(s) + " is not a number")
	}
	if m == nil {
		var err error
		if m, err = marksOf(s, digits, exponent != ""); err != nil {
			return nil, err
		}
	}
	front, back, pointed := cutLast(digits, m.decimal)
	whole, ok := ungrouped(front, m.groups, m.pairs)
	if !ok || pointed && !onlyDigits(back) || whole == "" && back == "" || exponent != "" && whole != front {
		return nil, unreadable(s, digits, m)
	}
	literal := sign + trimZeros(whole)
	if back != "" {
		literal += "." + back
	}
	v := item.Number(literal + exponent)
	if isText(v) {
		return nil, errors.New(show(s) + " has more digits than a number can hold exactly; keep it as text")
	}
	return v, nil
}

// trimZeros takes off leading zeros, as of 007.
func trimZeros(s string) string {
	if t := strings.TrimLeft(s, "0"); t != "" {
		return t
	}
	return "0"
}

func unreadable(s, digits string, m *marks) error {
	for _, mark := range m.groups {
		if string(mark) != " " && strings.ContainsRune(digits, mark) && onlyDigits(strings.Map(func(r rune) rune {
			if strings.ContainsRune(m.groups+m.decimal, r) {
				return '0'
			}
			return r
		}, digits)) {
			return errors.New(show(s) + " is not a number with the decimal mark " + quote(m.decimal) + ": " + quote(string(mark)) + " may stand only between groups of three digits before it")
		}
	}
	return errors.New(show(s) + " is not a number")
}

// marksOf tells from a text which signs it is written with.
func marksOf(s, digits string, scientific bool) (*marks, error) {
	point, comma := strings.LastIndexByte(digits, '.'), strings.LastIndexByte(digits, ',')
	spaced := strings.ContainsAny(digits, groupSigns)
	points, commas := strings.Count(digits, "."), strings.Count(digits, ",")
	english, other := &marks{decimal: ".", groups: "," + groupSigns}, &marks{decimal: ",", groups: "." + groupSigns}
	unclear := func(n, m string) error {
		return errors.New(show(s) + " can be read in two ways; the second value says which sign is the decimal mark, as in number(" + n + ", \"" + m + "\")")
	}
	quoted := `"` + strings.TrimSpace(s) + `"`
	switch {
	case scientific, point < 0 && comma < 0:
		return english, nil
	case point >= 0 && comma >= 0:
		if point > comma {
			return english, nil
		}
		return other, nil
	case points > 1: // only groups are written so
		return other, nil
	case commas > 1, spaced && points == 1:
		return english, nil
	case spaced:
		return other, nil
	case commas == 1:
		return nil, unclear(quoted, ",")
	case point > 0 && point <= 3 && len(digits)-point == 4 && digits[0] != '0':
		return nil, unclear(quoted, ".")
	}
	return english, nil
}

func cutExponent(s string) (digits, exponent string) {
	i := strings.IndexAny(s, "eE")
	if i <= 0 {
		return s, ""
	}
	e := s[i+1:]
	if n := strings.TrimLeft(e, "+-"); n != "" && len(e)-len(n) <= 1 && onlyDigits(n) {
		return s[:i], "e" + e
	}
	return s, ""
}

func cutLast(s, mark string) (front, back string, found bool) {
	if mark == "" {
		return s, "", false
	}
	if i := strings.LastIndex(s, mark); i >= 0 {
		return s[:i], s[i+len(mark):], true
	}
	return s, "", false
}

func onlyDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// ungrouped takes out the marks between groups of three digits; the first group
// may be shorter. All marks of one number are the same sign.
func ungrouped(s, signs string, pairs bool) (string, bool) {
	if onlyDigits(s) {
		return s, true
	}
	at := strings.IndexAny(s, signs)
	if at < 0 {
		return "", false
	}
	var mark string
	for _, r := range s[at:] {
		mark = string(r)
		break
	}
	groups := strings.Split(s, mark)
	for i, g := range groups {
		size := 3
		if pairs && i < len(groups)-1 {
			size = 2
		}
		if !onlyDigits(g) || len(g) != size && (i > 0 || len(g) == 0 || len(g) > size) {
			return "", false
		}
	}
	return strings.Join(groups, ""), true
}
