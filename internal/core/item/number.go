package item

import (
	"math"
	"math/big"
	"strconv"
	"strings"
)

// Number reads a JSON number literal: int64 where it is whole and fits,
// float64 where that keeps every digit, else the text itself. What it gives is
// the same after Encode and Decode, so that a stored value is the one at hand.
func Number(s string) any {
	if !strings.ContainsAny(s, ".eE") {
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return n
		}
		return s
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || significant(s) > 17 || (f == 0 && significant(s) > 0) {
		return s
	}
	if f == math.Trunc(f) {
		if math.Abs(f) < exact {
			return int64(f)
		}
		if shortest, _ := new(big.Rat).SetString(FormatFloat(f)); shortest == nil || !same(shortest, s) {
			return s
		}
		if n, err := strconv.ParseInt(FormatFloat(f), 10, 64); err == nil {
			return n
		}
	}
	return f
}

// exact bounds the whole numbers that float64 holds one by one.
const exact = 1 << 53

func same(r *big.Rat, literal string) bool {
	l, ok := new(big.Rat).SetString(literal)
	return ok && r.Cmp(l) == 0
}

// FormatFloat writes a number as the shortest decimal that reads back equal,
// never with an exponent.
func FormatFloat(f float64) string {
	if f == 0 {
		return "0" // there is no negative nothing
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

// significant counts the digits of a literal without the zeros around them.
func significant(s string) int {
	n, zeros := 0, 0
	for i := range len(s) {
		switch c := s[i]; {
		case c == 'e' || c == 'E':
			return n
		case c == '0':
			zeros++
		case c > '0' && c <= '9':
			if n == 0 {
				zeros = 0 // they led
			}
			n, zeros = n+zeros+1, 0
		}
	}
	return n
}

// Key is the canonical form of a value that is a key: equal values have the same,
// the number 1 and the text "1" do not, and how a number is formatted changes
// nothing. Nothing and empty text have "".
func Key(v any) (string, error) {
	switch v := v.(type) {
	case nil:
		return "", nil
	case string:
		if v == "" {
			return "", nil
		}
		return `"` + v, nil
	case int64:
		return strconv.FormatInt(v, 10), nil
	case float64:
		return FormatFloat(v), nil
	}
	b, err := Plain(v)
	return string(b), err
}
