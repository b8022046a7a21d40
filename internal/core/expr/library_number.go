package expr

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/shopspring/decimal"

	"youngtrellis/internal/core/item"
)

var numberFunctions = group("numbers",
	fn("number(text, decimal_mark)", "A number from text. The decimal mark is a point unless given; blanks and the other mark between thousands are passed over.", `number("1.234,50", ",")`, `1234.5`, 1, 2, toNumber),
	fn("round(number, places)", "Rounded half away from zero, worked out in decimal.", `round(2.675, 2)`, `2.68`, 1, 2, rounded(decimal.Decimal.Round)),
	fn("round_even(number, places)", "Rounded half to even, worked out in decimal.", `round_even(2.5)`, `2`, 1, 2, rounded(decimal.Decimal.RoundBank)),
	fn("floor(number)", "The whole number below.", `floor(2.7)`, `2`, 1, 1, rounded(func(d decimal.Decimal, _ int32) decimal.Decimal { return d.Floor() })),
	fn("ceil(number)", "The whole number above.", `ceil(2.1)`, `3`, 1, 1, rounded(func(d decimal.Decimal, _ int32) decimal.Decimal { return d.Ceil() })),
	fn("abs(number)", "Without its sign.", `abs(-3)`, `3`, 1, 1, absolute),
	takesNothing(fn("min(values…)", "The least of the values, or of one list; nothing is passed over.", `min(3, 1, 2)`, `1`, 1, many, extreme(-1))),
	takesNothing(fn("max(values…)", "The greatest of the values, or of one list; nothing is passed over.", `max([3, 1, 2])`, `3`, 1, many, extreme(1))),
	takesNothing(fn("sum(list)", "The sum, worked out in decimal; 0 for no elements. With a body, of what it gives: sum(item.lines, .price).", `sum([0.1, 0.2])`, `0.3`, 1, 1, func(_ *machine, a []any) (any, error) {
		l, err := listArg(a, 0)
		if err != nil {
			return nil, err
		}
		return total(l)
	})),
	fn("avg(list)", "The mean, worked out in decimal; nothing for no elements.", `avg([1, 2, 4.5])`, `2.5`, 1, 1, average),
	fn("median(list)", "The middle one, or the mean of the two in the middle.", `median([5, 1, 3])`, `3`, 1, 1, median),
	fn("percent(part, whole)", "How many hundredths of the whole the part is.", `percent(3, 12)`, `25`, 2, 2, percent),
	fn("format_number(number, places, decimal_mark, thousands_mark)", "A number as text with fixed places.", `format_number(1234.5, 2, ",", ".")`, `"1.234,50"`, 2, 4, formatNumber),
)

func formatFloat(f float64) string {
	if f == math.Trunc(f) && math.Abs(f) < 1e15 {
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return strconv.FormatFloat(f, 'g', -1, 64)
}

func toNumber(_ *machine, a []any) (any, error) {
	if isNumber(a[0]) {
		return a[0], nil
	}
	s, ok := a[0].(string)
	if !ok {
		return nil, fmt.Errorf("%s cannot be made a number", show(a[0]))
	}
	mark, err := textArg(a, 1)
	if err != nil {
		return nil, err
	}
	other := ","
	switch mark {
	case "", ".":
	case ",":
		other = "."
	default:
		return nil, fmt.Errorf(`the decimal mark is "." or ",", not %s`, show(mark))
	}
	clean := strings.NewReplacer(" ", "", "\u00a0", "", "\u202f", "", "'", "", other, "").Replace(strings.TrimSpace(s))
	clean = strings.Replace(clean, ",", ".", 1)
	if _, err := strconv.ParseFloat(clean, 64); err != nil || strings.ContainsAny(clean, "xXpPnNiI_") {
		return nil, fmt.Errorf("%s is not a number", show(s))
	}
	v := item.Number(strings.TrimPrefix(clean, "+"))
	if isText(v) {
		return nil, fmt.Errorf("%s has more digits than a number can hold exactly; keep it as text", show(s))
	}
	return v, nil
}

func toDecimal(v any) (decimal.Decimal, error) {
	switch v := v.(type) {
	case int64:
		return decimal.NewFromInt(v), nil
	case float64:
		return decimal.NewFromFloat(v), nil
	}
	hint := ""
	if s, ok := v.(string); ok && looksNumeric(s) {
		hint = "; turn text into a number with number(…)"
	}
	return decimal.Zero, fmt.Errorf("%s is not a number%s", show(v), hint)
}

func fromDecimal(d decimal.Decimal) any {
	if d.IsInteger() {
		if b := d.BigInt(); b.IsInt64() {
			return b.Int64()
		}
	}
	return d.InexactFloat64()
}

func rounded(apply func(decimal.Decimal, int32) decimal.Decimal) func(*machine, []any) (any, error) {
	return func(_ *machine, a []any) (any, error) {
		d, err1 := toDecimal(a[0])
		places, err2 := intArg(a, 1, 0)
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		if places < -18 || places > 18 {
			return nil, errors.New("the places lie between -18 and 18")
		}
		return fromDecimal(apply(d, int32(places))), nil
	}
}

func absolute(_ *machine, a []any) (any, error) {
	d, err := toDecimal(a[0])
	return fromDecimal(d.Abs()), err
}

func extreme(sign int) func(*machine, []any) (any, error) {
	return func(m *machine, a []any) (any, error) {
		if l, ok := a[0].([]any); ok && len(a) == 1 {
			a = l
		}
		var best any
		for _, v := range a {
			if v == nil {
				continue
			}
			if best == nil {
				best = v
				continue
			}
			c, err := m.compare(0, "min and max", v, best)
			if err != nil {
				return nil, err
			}
			if c*sign > 0 {
				best = v
			}
		}
		return best, nil
	}
}

func decimals(list []any) ([]decimal.Decimal, error) {
	var out []decimal.Decimal
	for i, v := range list {
		if v == nil {
			continue
		}
		d, err := toDecimal(v)
		if err != nil {
			return nil, fmt.Errorf("element %d: %w", i+1, err)
		}
		out = append(out, d)
	}
	return out, nil
}

func total(list []any) (any, error) {
	ds, err := decimals(list)
	if err != nil {
		return nil, err
	}
	return fromDecimal(decimal.Sum(decimal.Zero, ds...)), nil
}

func average(_ *machine, a []any) (any, error) {
	list, err := listArg(a, 0)
	if err != nil {
		return nil, err
	}
	ds, err := decimals(list)
	if err != nil || len(ds) == 0 {
		return nil, err
	}
	return fromDecimal(decimal.Avg(ds[0], ds[1:]...)), nil
}

func median(_ *machine, a []any) (any, error) {
	list, err := listArg(a, 0)
	if err != nil {
		return nil, err
	}
	ds, err := decimals(list)
	if err != nil || len(ds) == 0 {
		return nil, err
	}
	slices.SortFunc(ds, decimal.Decimal.Cmp)
	mid := len(ds) / 2
	if len(ds)%2 == 1 {
		return fromDecimal(ds[mid]), nil
	}
	return fromDecimal(decimal.Avg(ds[mid-1], ds[mid])), nil
}

func percent(_ *machine, a []any) (any, error) {
	part, err1 := toDecimal(a[0])
	whole, err2 := toDecimal(a[1])
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	if whole.IsZero() {
		return nil, errors.New("the whole is 0")
	}
	return fromDecimal(part.Mul(decimal.NewFromInt(100)).DivRound(whole, 12)), nil
}

func formatNumber(_ *machine, a []any) (any, error) {
	d, err1 := toDecimal(a[0])
	places, err2 := intArg(a, 1, 0)
	mark, err3 := textArg(a, 2)
	thousands, err4 := textArg(a, 3)
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		return nil, err
	}
	if places < 0 || places > 18 {
		return nil, errors.New("the places lie between 0 and 18")
	}
	if mark == "" {
		mark = "."
	}
	whole, rest, _ := strings.Cut(d.StringFixed(int32(places)), ".")
	sign := ""
	if strings.HasPrefix(whole, "-") {
		sign, whole = "-", whole[1:]
	}
	for i := len(whole) - 3; i > 0 && thousands != ""; i -= 3 {
		whole = whole[:i] + thousands + whole[i:]
	}
	if rest != "" {
		rest = mark + rest
	}
	return sign + whole + rest, nil
}
