package expr

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/go-playground/locales"
	iso "github.com/go-playground/locales/currency"
	"github.com/shopspring/decimal"
	"golang.org/x/text/currency"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"youngtrellis/internal/core/near"
)

// locale is how numbers and the names of days and months are written somewhere,
// by CLDR.
type locale struct {
	decimal, group string
	pairs          bool // groups beyond the last three digits are of two
	least          int  // digits before the first group mark
	words          locales.Translator
}

var (
	localesMu sync.Mutex
	known     = map[string]*locale{}
)

// localeOf finds a locale by its name, as de, de-CH or de_CH; of an area that is
// not known the language counts.
func localeOf(name string) (*locale, error) {
	if l, ok := named.Load(name); ok {
		return l.(*locale), nil
	}
	l, err := findLocale(name)
	if err == nil && translators[name] != nil { // those that are spelled as we do, so that they are few
		named.Store(name, l)
	}
	return l, err
}

var named sync.Map

func findLocale(name string) (*locale, error) {
	tag := strings.ReplaceAll(strings.ToLower(strings.TrimSpace(name)), "_", "-")
	localesMu.Lock()
	defer localesMu.Unlock()
	if l, ok := known[tag]; ok {
		return l, nil
	}
	made, ok := translators[tag]
	if !ok {
		language, _, _ := strings.Cut(tag, "-")
		switch {
		case tag == "pt-br":
			language = "pt"
		case tag == "no", strings.HasPrefix(tag, "no-"):
			language = "nb"
		case strings.HasPrefix(tag, "zh-tw"), strings.HasPrefix(tag, "zh-hk"):
			language = "zh-hant"
		}
		if made, ok = translators[language]; !ok {
			names := make([]string, 0, len(translators))
			for n := range translators {
				names = append(names, n)
			}
			slices.Sort(names)
			return nil, fmt.Errorf("%s is no locale that is known; locales are written as de or en-GB.%s", show(name), near.Hint(tag, names))
		}
	}
	l := &locale{words: made()}
	// How a locale groups digits is read off what it makes of some numbers.
	sample := l.words.FmtNumber(1234567.8, 1)
	tail := strings.TrimSuffix(sample, lastDigit(sample))
	l.decimal = strings.TrimPrefix(tail[strings.LastIndexAny(tail, "0123456789"):], tail[strings.LastIndexAny(tail, "0123456789"):][:1])
	whole := sample[:strings.LastIndex(sample, l.decimal)]
	digits := strings.FieldsFunc(whole, func(r rune) bool { return r < '0' || r > '9' })
	if len(digits) > 1 {
		last := digits[len(digits)-1]
		before := strings.TrimSuffix(whole, last)
		l.group = before[strings.LastIndexAny(before, "0123456789")+1:]
		l.pairs = len(digits[len(digits)-2]) == 2 && len(digits) > 2
	}
	if l.least = 1; !strings.Contains(l.words.FmtNumber(1234, 0), l.group) {
		l.least = 2
	}
	if len(known) < 1000 {
		known[tag] = l
	}
	return l, nil
}

func lastDigit(s string) string { return s[strings.LastIndexAny(s, "0123456789"):] }

// format writes a number with so many places.
func (l *locale) format(d decimal.Decimal, places int32) string {
	whole, rest, _ := strings.Cut(d.StringFixed(places), ".")
	sign := ""
	if strings.HasPrefix(whole, "-") {
		sign, whole = "-", whole[1:]
		if strings.Trim(whole+rest, "0") == "" {
			sign = "" // -0.00 is nothing
		}
	}
	if l.group != "" && len(whole) >= 3+max(1, l.least) {
		size := 3
		for i := len(whole) - size; i > 0; i -= size {
			whole = whole[:i] + l.group + whole[i:]
			if l.pairs {
				size = 2
			}
		}
	}
	if rest != "" {
		rest = l.decimal + rest
	}
	return sign + whole + rest
}

// money writes an amount with its currency where the locale puts it.
func (l *locale) money(d decimal.Decimal, places int32, unit currency.Unit) string {
	amount := l.format(d, places)
	sign := ""
	if strings.HasPrefix(amount, "-") {
		sign, amount = "-", amount[1:]
	}
	symbol := message.NewPrinter(language.Make(strings.ReplaceAll(l.words.Locale(), "_", "-"))).Sprint(currency.Symbol(unit))
	// Where the sign stands is read off what the locale makes of one dollar.
	sample := l.words.FmtCurrency(1, 2, iso.USD)
	before, after, _ := strings.Cut(sample, "1"+l.decimal+"00")
	space := func(s string) string {
		if strings.TrimFunc(s, unicode.IsSpace) != s || isLetter(symbol[0]) {
			return "\u00a0" // so that a line is not broken there
		}
		return ""
	}
	if strings.TrimSpace(before) != "" {
		return sign + symbol + space(before) + amount
	}
	return sign + amount + space(after) + symbol
}

func (l *locale) month(m time.Month, wide bool) string {
	if wide {
		return l.words.MonthWide(m)
	}
	return l.words.MonthAbbreviated(m)
}

func (l *locale) weekday(d time.Weekday, wide bool) string {
	if wide {
		return l.words.WeekdayWide(d)
	}
	return l.words.WeekdayAbbreviated(d)
}
