package expr

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/shopspring/decimal"
	"golang.org/x/text/currency"
)

var numberFunctions = group("numbers",
	fn("number(text: any, mark?: text) number", "A number from text. The mark is the decimal mark, or a locale such as de; without it the text must be clear by itself. Between groups of three digits there may be blanks and the other mark.", `number("1.234,50", ",")`, `1234.5`, toNumber, fails("the text is no number, or can be read in two ways"), found("parse convert to number decimal comma amount price"), byLocale(1)),
	fn("round(number: number, places?: whole) number", "Rounded half away from zero, worked out in decimal.", `round(2.675, 2)`, `2.68`, rounded(decimal.Decimal.Round), found("decimals cents")),
	fn("round_even(number: number, places?: whole) number", "Rounded half to even, worked out in decimal.", `round_even(2.5)`, `2`, rounded(decimal.Decimal.RoundBank), found("bankers rounding")),
	fn("floor(number: number) whole", "The whole number below.", `floor(2.7)`, `2`, rounded(func(d decimal.Decimal, _ int32) decimal.Decimal { return d.Floor() }), found("round down integer")),
	fn("ceil(number: number) whole", "The whole number above.", `ceil(2.1)`, `3`, rounded(func(d decimal.Decimal, _ int32) decimal.Decimal { return d.Ceil() }), found("round up integer")),
	fn("abs(number: number) number", "Without its sign.", `abs(-3)`, `3`, func(_ *machine, a args) (any, error) {
		d, _ := decimalOf(a[0])
		return fromDecimal(d.Abs())
	}, found("absolute positive")),
	fn("min(values…: any) any", "The least of the values, or of one list; nothing is passed over.", `min(3, 1, 2)`, `1`, extreme(-1), takesNothing, found("smallest lowest earliest")),
	fn("max(values…: any) any", "The greatest of the values, or of one list; nothing is passed over.", `max([3, 1, 2])`, `3`, extreme(1), takesNothing, found("largest highest latest")),
	fn("sum(list: list) number", "The sum, worked out in decimal; 0 for no elements. With a body, of what it gives: sum(item.lines, .price).", `sum([0.1, 0.2])`, `0.3`, func(_ *machine, a args) (any, error) { return total(a.list(0)) }, costs(8), takesNothing, fails("an element is no number, or the sum has more digits than a number holds"), found("total add up")),
	fn("avg(list: list) number", "The mean, worked out in decimal; nothing for no elements.", `avg([1, 2, 4.5])`, `2.5`, average, costs(4), takes(6), fails("an element is no number"), found("average mean")),
	fn("median(list: list) number", "The middle one, or the mean of the two in the middle; nothing for no elements.", `median([5, 1, 3])`, `3`, median, costs(4), takes(4), fails("an element is no number"), found("middle typical")),
	fn("percent(part: number, whole: number) number", "How many hundredths of the whole the part is.", `percent(3, 12)`, `25`, func(_ *machine, a args) (any, error) {
		part, _ := decimalOf(a[0])
		whole, _ := decimalOf(a[1])
		if whole.IsZero() {
			return nil, errors.New("the whole is 0")
		}
		return nearest(divide(part.Mul(decimal.NewFromInt(100)), whole))
	}, takes(6), fails("the whole is 0"), found("share ratio percentage")),
	fn("format_number(number: number, places?: whole, mark?: text, thousands?: text) text", "A number as text, rounded to so many places, or as many as it has. The mark is the decimal mark, or a locale such as de, which brings its own marks.", `format_number(1234.5, 2, "de")`, `"1.234,50"`, formatNumber, fails("the places do not lie between 0 and 18, or the locale is not known"), found("display thousands separator decimals comma locale"), byLocale(2)),
	fn("money(number: number, currency: text, locale?: text) text", "An amount as text with its currency, with as many places as the currency has (ISO 4217); as in English unless a locale is given.", `money(1234.5, "EUR", "de")`, "\"1.234,50\u00a0€\"", money, takes(8), fails("the currency or the locale is not known"), found("price currency euro dollar amount format cents"), byOthers),
)

func toNumber(_ *machine, a args) (any, error) {
	if isNumber(a[0]) {
		return a[0], nil
	}
	s, ok := a[0].(string)
	if !ok {
		return nil, fmt.Errorf("%s cannot be made a number", show(a[0]))
	}
	if !a.has(1) || a.text(1) == "" {
		return readNumber(s, nil)
	}
	switch mark := a.text(1); mark {
	case ".":
		return readNumber(s, &marks{decimal: ".", groups: "," + groupSigns})
	case ",":
		return readNumber(s, &marks{decimal: ",", groups: "." + groupSigns})
	default:
		l, err := localeOf(mark)
		if err != nil {
			return nil, fmt.Errorf(`the mark is the decimal mark, "." or ",", or a locale such as "de"; %w`, err)
		}
		return readNumber(s, &marks{decimal: l.decimal, groups: strings.TrimSuffix(l.group+groupSigns, l.decimal), pairs: l.pairs})
	}
}

func toDecimal(v any) (decimal.Decimal, error) {
	if d, ok := decimalOf(v); ok {
		return d, nil
	}
	return decimal.Zero, fmt.Errorf("%s is not a number%s", show(v), cure("number", v))
}

func rounded(apply func(decimal.Decimal, int32) decimal.Decimal) func(*machine, args) (any, error) {
	return func(_ *machine, a args) (any, error) {
		d, _ := decimalOf(a[0])
		places := a.whole(1, 0)
		if places < -18 || places > 18 {
			return nil, errors.New("the places lie between -18 and 18")
		}
		return fromDecimal(apply(d, int32(places)))
	}
}

func extreme(sign int) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) {
		values := []any(a)
		if l, ok := a[0].([]any); ok && len(a) == 1 {
			values = l
		}
		var best any
		for _, v := range values {
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
	return fromDecimal(decimal.Sum(decimal.Zero, ds...))
}

func average(_ *machine, a args) (any, error) {
	ds, err := decimals(a.list(0))
	if err != nil || len(ds) == 0 {
		return nil, err
	}
	return nearest(divide(decimal.Sum(ds[0], ds[1:]...), decimal.NewFromInt(int64(len(ds)))))
}

func median(_ *machine, a args) (any, error) {
	ds, err := decimals(a.list(0))
	if err != nil || len(ds) == 0 {
		return nil, err
	}
	slices.SortFunc(ds, decimal.Decimal.Cmp)
	mid := len(ds) / 2
	if len(ds)%2 == 1 {
		return fromDecimal(ds[mid])
	}
	return nearest(ds[mid-1].Add(ds[mid]).Mul(decimal.New(5, -1)))
}

func formatNumber(_ *machine, a args) (any, error) {
	d, _ := decimalOf(a[0])
	places := a.whole(1, int64(max(0, -d.Exponent())))
	if places < 0 || places > 18 && a.has(1) {
		return nil, errors.New("the places lie between 0 and 18")
	}
	l := &locale{decimal: ".", group: a.text(3), least: 1}
	switch mark := a.text(2); {
	case len(mark) > 1 && isLetter(mark[0]):
		named, err := localeOf(mark)
		if err != nil {
			return nil, err
		}
		if l = named; a.has(3) {
			with := *named
			with.group = a.text(3)
			l = &with
		}
	case mark != "":
		l.decimal = mark
	}
	return l.format(d, int32(places)), nil
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

func money(_ *machine, a args) (any, error) {
	d, _ := decimalOf(a[0])
	code := strings.ToUpper(strings.TrimSpace(a.text(1)))
	unit, err := currency.ParseISO(code)
	if err != nil {
		return nil, fmt.Errorf("%s is no currency; currencies are written as EUR (ISO 4217)", show(a.text(1)))
	}
	name := "en"
	if a.has(2) {
		name = a.text(2)
	}
	l, err := localeOf(name)
	if err != nil {
		return nil, err
	}
	places, _ := currency.Standard.Rounding(unit)
	return l.money(d, int32(places), unit), nil
}
