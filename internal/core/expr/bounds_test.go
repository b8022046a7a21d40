package expr

import (
	"context"
	"errors"
	"math"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func eval(t require.TestingT, source string, fields map[string]any) (any, error) {
	p, err := Compile(source, roots)
	require.NoError(t, err, source)
	return p.Eval(&Scope{Item: fields, Now: at})
}

// Whole numbers are exact to 64 bits, and what does not fit is an error, never
// another number.
func TestArithmeticIsExactOrAnError(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		number := rapid.OneOf(rapid.Int64(), rapid.SampledFrom([]int64{0, 1, -1, 2, -2, math.MaxInt64, math.MinInt64, math.MinInt64 / 2}))
		a, b := number.Draw(t, "a"), number.Draw(t, "b")
		x, y := big.NewInt(a), big.NewInt(b)
		for op, want := range map[string]*big.Int{"+": new(big.Int).Add(x, y), "-": new(big.Int).Sub(x, y), "*": new(big.Int).Mul(x, y)} {
			got, err := eval(t, "item.a "+op+" item.b", map[string]any{"a": a, "b": b})
			if want.IsInt64() {
				require.NoError(t, err)
				require.Equal(t, want.Int64(), got, "%d %s %d", a, op, b)
			} else {
				require.ErrorContains(t, err, "64-bit", "%d %s %d gave %v", a, op, b, got)
			}
		}
		less, err := eval(t, "item.a < item.b", map[string]any{"a": a, "b": b})
		require.NoError(t, err)
		require.Equal(t, a < b, less)
	})
}

func TestSumsAreWorkedOutInDecimal(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		cents := rapid.SliceOfN(rapid.Int64Range(-100_000, 100_000), 1, 50).Draw(t, "cents")
		list, total := make([]any, len(cents)), int64(0)
		for i, c := range cents {
			list[i] = float64(c) / 100
			total += c
		}
		got, err := eval(t, "round(sum(item.l) * 100)", map[string]any{"l": list})
		require.NoError(t, err)
		require.Equal(t, total, got)
	})
}

func TestDurationsAndTimesComeBackAsTheyWere(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(0, int64(1000*24*time.Hour/time.Millisecond)).Draw(t, "ms")) * time.Millisecond
		back, err := ParseDuration(FormatDuration(d))
		require.NoError(t, err)
		require.InDelta(t, float64(d), float64(back), float64(time.Millisecond))
		require.NotEmpty(t, Words(d))
	})
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "1d12h": 36 * time.Hour, "250ms": 250 * time.Millisecond, "-2h": -2 * time.Hour, "1.5h": 90 * time.Minute} {
		d, err := ParseDuration(text)
		require.NoError(t, err)
		require.Equal(t, want, d)
	}
	for _, bad := range []string{"", "5", "m", "5 m", "5y", "99999999999999d", "1d-2h", "--1h"} {
		_, err := ParseDuration(bad)
		require.Error(t, err, bad)
	}
	for _, text := range []string{"2026-11-23", "2026-11-23T16:30", "2026-11-23 16:30:05", "2026-11-23T16:30:00+01:00", "Mon, 23 Nov 2026 16:30:00 +0100"} {
		_, err := ParseTime(text, time.UTC)
		require.NoError(t, err, text)
	}
	_, err := ParseTime("23.11.2026", time.UTC)
	require.ErrorContains(t, err, `parse_date(…, "d.M.yyyy")`)
}

func TestDatePatterns(t *testing.T) {
	t.Parallel()
	moment := time.Date(2026, 3, 7, 9, 5, 4, 123_000_000, time.FixedZone("", 3600))
	for pattern, want := range map[string]string{
		"yyyy-MM-dd HH:mm:ss": "2026-03-07 09:05:04", "d.M.yy": "7.3.26", "EEEE d MMMM": "Saturday 7 March", "EEE MMM": "Sat Mar", "h:mm a": "9:05 AM", "SSS": "123", "XXX": "+01:00",
		"'at' HH": "at 09", "''": "'", "D": "66",
	} {
		got, err := FormatTime(moment, pattern, "")
		require.NoError(t, err, pattern)
		require.Equal(t, want, got, pattern)
	}
	for _, bad := range []string{"yyyy b", "'open", "ddd", "yyyyyyy"} {
		_, err := FormatTime(moment, bad, "")
		require.Error(t, err, bad)
	}
}

// Nothing that an expression can say takes more than its bounds.
func TestEveryWayToGrowIsBounded(t *testing.T) {
	t.Parallel()
	big := map[string]any{"s": strings.Repeat("x", 1<<20), "l": make([]any, 100_000)}
	for _, source := range []string{
		`reduce(1..60, #acc + #acc, "x")`, `reduce(1..60, #acc + #acc, [1])`, `repeat(item.s, 1000)`, `pad("", 999999999)`, `replace(item.s, "x", item.s)`, `join(map(1..1000, item.s), "")`,
		`map(1..100000, item.s + "y")`, `0..99999999999`, `map(item.l, map(item.l, 1))`, `json(map(1..1000, item.s))`, `map(1..200, lines(replace(item.s, "x", "\n")))`,
	} {
		_, err := eval(t, source, big)
		require.Error(t, err, source)
	}
	_, err := Compile(strings.Repeat("not ", 300)+"true", roots)
	require.ErrorContains(t, err, "deeper")
	_, err = Compile(strings.Repeat("1+", MaxSource), roots)
	require.ErrorContains(t, err, "longer")
	_, err = Compile("\xff", roots)
	require.ErrorContains(t, err, "UTF-8")
}

func TestFunctionsRefuseWhatTheyCannotUse(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]string{
		`upper([1])`: "should be text", `take("x", 1)`: "should be a list", `take([1], "x")`: "should be a whole number", `keys([1])`: "should be an object",
		`number("12,5x")`: "is not a number", `number("1", ";")`: "decimal mark", `round(1.5, 99)`: "between -18 and 18", `percent(1, 0)`: "the whole is 0",
		`format("2026-11-23", "bb")`: "stands for nothing", `in_zone(now(), "Mars/Base")`: "not a zone", `start_of(now(), "decade")`: "not a unit", `split("a", "")`: "separator is empty",
		`from_base64("%%")`: "not base64", `from_json("{")`: "JSON", `match("a", "(")`: "pattern", `truncate("a", 0)`: "at least 1", `chunks([1], 0)`: "at least 1", `sum(["1"])`: "number(",
		`sort([1, "a"])`: "cannot compare", `phone("01632 960142")`: "country", `len(1)`: "no length", `time(true)`: "not a time", `max([1, "b"])`: "cannot compare",
	} {
		_, err := eval(t, source, nil)
		require.ErrorContains(t, err, want, source)
		var e *Error
		require.ErrorAs(t, err, &e, source)
	}
}

func TestNothingGoesThroughFunctions(t *testing.T) {
	t.Parallel()
	for _, f := range Functions() {
		fn := library[f.Name]
		if fn == nil || fn.min == 0 || fn.nothing {
			continue
		}
		args := "item.gone" + strings.Repeat(", item.gone", fn.min-1)
		switch f.Name { // names stand in quotes
		case "hmac":
			args = `item.gone, "studio"`
		case "list":
			continue
		}
		v, err := eval(t, f.Name+"("+args+")", map[string]any{})
		require.NoError(t, err, f.Name)
		require.Nil(t, v, f.Name)
	}
}

// An evaluation for which nobody waits any more is given up.
func TestAnEvaluationIsGivenUpWhenItsCallerLeaves(t *testing.T) {
	t.Parallel()
	ctx, leave := context.WithCancel(context.Background())
	leave()
	p, err := Compile(`count(1..100000, item.s matches "b$")`, roots)
	require.NoError(t, err)
	_, err = p.Eval(&Scope{Item: map[string]any{"s": "a"}, Now: at, Context: ctx})
	require.ErrorIs(t, err, context.Canceled)
	var e *Error
	require.False(t, errors.As(err, &e), "it is no error of the expression")
	v, err := p.Eval(&Scope{Item: map[string]any{"s": "a"}, Now: at, Context: context.Background()})
	require.NoError(t, err)
	require.Equal(t, int64(0), v)
}

// What an evaluation costs is counted: what is slow counts for more, and so does
// what reads much, whatever the machine.
func TestWhatIsSlowCountsForMore(t *testing.T) {
	t.Parallel()
	long := strings.Repeat("ab", 50_000)
	for source, least := range map[string]int{
		`upper("kiln")`: 1, `phone("+441632960142")`: 40, `html_table("<table><tr><td>1</table>")`: 28, `main_content("<p>x</p>")`: 600, `markdown("<p>x</p>")`: 70, `without_quoted_reply("x")`: 24,
		`slug("x")`: 10, `from_csv("a,b")`: 8, `path({"a": 1}, "$..*")`: 14, `match("kiln", "k.n")`: 4, `working_hours("2026-01-01", "2027-01-01")`: 365,
		`upper(item.s)`: len(long) / reading, `item.s matches "b$"`: len(long) / matching, `match(item.s, "b$")`: len(long) / matching, `html_text(item.s)`: len(long) / parsing, `similarity(item.s[:1000], item.s[:999])`: 999 * 1000 / 64,
		`json(item.l)`: 8 * 10_000 / reading, `item.l == item.l`: 10_000, `unique(item.l)`: 10_000 * 16 / 16,
	} {
		p, err := Compile(source, roots)
		require.NoError(t, err, source)
		m := &machine{source: source, scope: &Scope{Item: map[string]any{"s": long, "l": make([]any, 10_000)}, Now: at}}
		_, err = p.root(m)
		require.NoError(t, err, source)
		require.GreaterOrEqual(t, m.steps, least, source)
	}
	// The same at every time: the place where it ends hangs on nothing else.
	ends := map[int]bool{}
	for range 3 {
		p, err := Compile(`count(item.l, item.l == item.l)`, roots)
		require.NoError(t, err)
		m := &machine{scope: &Scope{Item: map[string]any{"s": long, "l": make([]any, 10_000)}, Now: at}}
		_, err = p.root(m)
		require.ErrorContains(t, err, "steps")
		ends[m.steps] = true
	}
	require.Len(t, ends, 1)
}
