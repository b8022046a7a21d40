package expr

import (
	"crypto/hmac"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/item"
)

var at = time.Date(2026, 11, 23, 16, 30, 0, 0, time.UTC)

// signer signs by a key, whatever the connection is called.
// duty is a workspace with one list.
type duty struct{}

func (duty) List(name string) ([]any, error) {
	if name != "duty" {
		return nil, fmt.Errorf("there is no list %q", name)
	}
	return []any{map[string]any{"short": "wren", "phone": "1"}, map[string]any{"short": "tam", "phone": nil}}, nil
}

type signer string

func (s signer) Sign(_, text string) ([]byte, error) {
	mac := hmac.New(sha256.New, []byte(s))
	mac.Write([]byte(text))
	return mac.Sum(nil), nil
}

func scope(t testing.TB, fields string) *Scope {
	m, err := item.DecodeObject([]byte(fields))
	require.NoError(t, err)
	return &Scope{Signer: signer("a key"), Lists: duty{}, Item: m, Now: at, Seed: "run", Names: map[string]any{"vars": map[string]any{"limit": int64(6)}}}
}

func TestEveryFunctionDoesWhatItsExampleSays(t *testing.T) {
	for _, f := range Functions() {
		t.Run(f.Name, func(t *testing.T) {
			p, err := Compile(f.Example, roots)
			require.NoError(t, err)
			v, err := p.Eval(scope(t, `{}`))
			require.NoError(t, err)
			got, err := item.Encode(v)
			require.NoError(t, err)
			require.Equal(t, f.Result, string(got))
			require.NotEmpty(t, f.Help)
			require.Contains(t, f.Example, f.Name+"(")
		})
	}
}

func TestMeaning(t *testing.T) {
	fields := `{"n": 3, "big": 9007199254740993, "id": "17", "name": "Ash bowl", "none": null, "f": 2.5,
		"lines": [{"q": 2, "p": 0.1}, {"q": 1, "p": 0.2}], "at": "2026-11-20", "deep": {"a": {"b": 1}}}`
	for source, want := range map[string]string{
		`item.missing.further.still`:    `null`,
		`item.none.x`:                   `null`,
		`item.lines[9].q`:               `null`,
		`item.lines[-1].q`:              `1`,
		`item.deep.a["b"]`:              `1`,
		`item.big + 1`:                  `9007199254740994`,
		`item.n / 2`:                    `1.5`,
		`6 / 3`:                         `2`,
		`2 ** 62`:                       `4611686018427387904`,
		`"cone " + item.n + item.none`:  `"cone 3"`,
		`item.n > item.missing`:         `false`,
		`item.missing == nil`:           `true`,
		`item.missing ?? "x"`:           `"x"`,
		`item.n > 2 ? "many" : "few"`:   `"many"`,
		`item.name | upper() | left(3)`: `"ASH"`,
		`sum(item.lines, .p)`:           `0.3`,
		`map(item.lines, .q * 2)`:       `[4,2]`,
		`map(item.lines, map(item.lines, .q)[#index])`:           `[2,1]`,
		`sort_by(item.lines, .q)[0].q`:                           `1`,
		`let x = item.n; let y = x + 1; x * y`:                   `12`,
		`age(item.at) > duration("3d")`:                          `true`,
		`now() - duration("1d") == time("2026-11-22T16:30:00Z")`: `true`,
		`now() + duration("90m")`:                                `"2026-11-23T18:00:00Z"`,
		`item.n in [1, 2, 3]`:                                    `true`,
		`item.n not in [1]`:                                      `true`,
		`item.name matches "^Ash"`:                               `true`,
		`{"a": item.n, "b": [1, item.f]}`:                        `{"a":3,"b":[1,2.5]}`,
		`item.name[0:3]`:                                         `"Ash"`,
		`upper(item.missing)`:                                    `null`,
		`len(item.missing)`:                                      `0`,
		`not item.missing`:                                       `true`,
		`vars.limit`:                                             `6`,
		`1 < item.n and item.n < 5`:                              `true`,
		`reduce(1..10, #acc + #, 0)`:                             `55`,
		`phone("01632 960 142", "gb")`:                           `"+441632960142"`,
		`"sort_by(" + item.id`:                                   `"sort_by(17"`,
	} {
		t.Run(source, func(t *testing.T) {
			p, err := Compile(source, roots)
			require.NoError(t, err)
			v, err := p.Eval(scope(t, fields))
			require.NoError(t, err)
			got, err := item.Encode(v)
			require.NoError(t, err)
			require.Equal(t, want, string(got))
		})
	}
}

func TestErrorsSayWhatAndWhere(t *testing.T) {
	for source, want := range map[string]string{
		`item.n = 3`:                             "two equals signs",
		`item.n +`:                               "ends too early",
		`item.n == item.id`:                      "number(",
		`item.id > 3`:                            "number(",
		`itm.n`:                                  "Did you mean item?",
		`uper(item.id)`:                          "Did you mean upper?",
		`upper()`:                                "upper takes one value",
		`9223372036854775807 + 1`:                "64-bit",
		`item.n / 0`:                             "division by 0",
		`item.lines.q`:                           "map(",
		`"abc`:                                   "quote",
		`item.n and true`:                        "true or false",
		`duration("6 days")`:                     "90s, 5m, 2h",
		`phone("+44 1632")`:                      "not a whole telephone number",
		`steps.x`:                                "cannot be used here",
		`reduce(1..40, #acc + #acc, "xxxxxxxx")`: "MiB",
		`repeat("x", 99999999999)`:               "MiB",
		`1..999999999999`:                        "MiB",
		`map(1..3000, map(1..3000, # + 1))`:      "",
		`item.name matches "("`:                  "pattern",
		`count(1..9)`:                            "there is no function count",
	} {
		t.Run(source, func(t *testing.T) {
			_, err := func() (any, error) {
				p, err := Compile(source, roots)
				if err != nil {
					return nil, err
				}
				return p.Eval(scope(t, `{"n": 3, "id": "17", "name": "x", "lines": [{"q": 1}]}`))
			}()
			require.Error(t, err)
			require.Contains(t, err.Error(), want)
			var e *Error
			require.ErrorAs(t, err, &e)
		})
	}
	_, err := Compile(`item.name + sort_by(item.x, .y) + uper("x")`, roots)
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, 34, e.Pos, "positions stay true after our own names are read")
}

func TestTemplates(t *testing.T) {
	for source, want := range map[string]string{
		`plain`:                           `"plain"`,
		`(= item.n )`:                     `3`,
		`(=item.list)`:                    `[1]`,
		`n is (= item.n), (= item.gone)!`: `"n is 3, !"`,
		`(== not an expression)`:          `"(= not an expression)"`,
		`(= ")" + '(' )`:                  `")("`,
		`(= {"a": (1 + 2) * 2}.a)`:        `6`,
	} {
		tpl, err := CompileTemplate(source, roots)
		require.NoError(t, err, source)
		v, err := tpl.Eval(scope(t, `{"n": 3, "list": [1]}`))
		require.NoError(t, err, source)
		got, _ := item.Encode(v)
		require.Equal(t, want, string(got), source)
	}
	_, err := CompileTemplate("Größe (= itm.n )", roots)
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, 9, e.Pos)
	_, err = CompileTemplate("(= item.n", roots)
	require.ErrorContains(t, err, "closing bracket")
	_, err = CompileValue(map[string]any{"lines": []any{"x", "(= item. )"}}, roots)
	require.ErrorContains(t, err, "lines[1]")
}

func TestWhyNamesThePartThatDidNotHold(t *testing.T) {
	for source, want := range map[string]string{
		`item.n > 1 and age(item.at) >= duration("6d")`: "3 days, needs 6 days",
		`item.gone >= 2`:                   "item.gone is empty",
		`item.name == "x" and item.n == 3`: "Ash, needs x",
		`empty(item.name)`:                 "empty(item.name) is false",
		`item.n > 1`:                       "",
	} {
		require.Equal(t, want, MustCompile(source, roots).Why(scope(t, `{"n": 3, "at": "2026-11-20", "name": "Ash"}`)), source)
	}
}

func TestReadingAFieldAllocatesNothing(t *testing.T) {
	p, s := MustCompile(`item.deep.n >= 3 and item.name == "x"`, roots), scope(t, `{"deep": {"n": 5}, "name": "x"}`)
	require.Zero(t, testing.AllocsPerRun(100, func() {
		if ok, err := p.Holds(s); !ok || err != nil {
			t.Fatal(ok, err)
		}
	}))
}

func FuzzCompile(f *testing.F) {
	for _, fn := range Functions() {
		f.Add(fn.Example)
	}
	f.Add(strings.Repeat("(", 300) + "1")
	f.Fuzz(func(t *testing.T, source string) {
		p, err := Compile(source, roots)
		if err != nil {
			ours(t, err)
			return
		}
		v, err := p.Eval(fuzzed())
		if err != nil {
			ours(t, err)
			return
		}
		again, err := p.Eval(fuzzed())
		require.NoError(t, err)
		require.Equal(t, Text(v), Text(again), "it gives the same every time")
		b, err := item.Encode(v)
		require.NoError(t, err, "what it gives can be kept")
		_, err = item.Decode(b)
		require.NoError(t, err)
		_, _ = p.Holds(fuzzed())
		_, _ = p.Why(fuzzed()), p.Words()
	})
}

// fuzzed is a scope with values of every kind.
func fuzzed() *Scope {
	return &Scope{Now: at, Signer: signer("k"), Lists: duty{}, Names: map[string]any{"vars": map[string]any{"a": "b"}}, Item: map[string]any{"n": int64(1), "f": 2.5, "s": "né👨‍👩‍👧 <p>x</p>", "yes": true, "none": nil, "at": "2026-03-29T01:30:00+01:00",
		"list": []any{int64(3), "a", nil, 1.5}, "rows": []any{map[string]any{"k": "a", "q": int64(2)}, map[string]any{"k": "b"}}, "deep": map[string]any{"a": map[string]any{"b": "c"}}}}
}

// ours says that an error has our words and a place, and none of the language that
// we are written in.
func ours(t *testing.T, err error) {
	t.Helper()
	var e *Error
	require.ErrorAs(t, err, &e)
	for _, word := range []string{"runtime error", "strconv.", "panic", "goroutine", "interface {}", "nil pointer", "%!"} {
		if strings.Contains(e.Message, word) && !strings.Contains(e.Source, word) && !strings.Contains(e.Source, "%") {
			t.Fatalf("%q: %s", e.Source, e.Message)
		}
	}
}

func FuzzTemplate(f *testing.F) {
	for _, s := range []string{"a (= item.n ) b", "(== x (= steps.a.b )", "(= {\"a\": (1 + 2)}.a )", "(= ')' )(= item.s[0:2] )", "(="} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		p, err := CompileTemplate(source, roots)
		if err != nil {
			ours(t, err)
			return
		}
		_, _ = p.Words(), p.Refs()
		renamed, n := RenameStepsIn(source, map[string]string{"a": "b2"})
		if n == 0 {
			require.Equal(t, source, renamed)
		}
		_, err = CompileTemplate(renamed, roots)
		require.NoError(t, err, "%q became %q", source, renamed)
		require.Equal(t, source, strings.Join(Split(source, '/'), "/"))
		v, err := p.Eval(fuzzed())
		if err != nil {
			ours(t, err)
			return
		}
		_, err = item.Encode(v)
		require.NoError(t, err)
	})
}

// What can be read is known before anything is compiled, and hints offer nothing
// else.
func TestOnlyTheNamesOfAPlaceAreKnownThere(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		source string
		in     Names
		want   string
	}{
		{"response.x", Names{"item", "trigger"}, "response cannot be used here; there are item and trigger"},
		{"item.x", Names{"account"}, "item cannot be used here; there is only account"},
		{"item.x", nil, "item cannot be used here; there is nothing to read"},
		{"acount.x", Names{"account"}, "Did you mean account?"},
		{"glazing.x", Names{"item"}, `"glazing" is not known here. A field of the record is written item.glazing`},
		{`column("a")`, Names{"item"}, "column(…) can be used only in the steps of a workflow"},
		{`hmac("a", "b")`, Names{"item"}, "hmac(…) can be used only in the steps of a workflow"},
		{`hmc("a", "b")`, Names{"item"}, "there is no function hmc."},
		{`hmc("a", "b")`, Names{"item", "hmac"}, "Did you mean hmac?"},
	} {
		_, err := Compile(c.source, c.in)
		require.ErrorContains(t, err, c.want, c.source)
	}
	_, err := Compile(`hmc("a", "b")`, Names{"item"})
	require.NotContains(t, err.Error(), "hmac")
	p, err := Compile("account.x + 1", Names{"account"})
	require.NoError(t, err)
	v, err := p.Eval(&Scope{Names: map[string]any{"account": map[string]any{"x": int64(1)}}})
	require.NoError(t, err)
	require.Equal(t, int64(2), v)
}

func TestWhatIsReadInAListIsSaidInWords(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]string{
		`find(list("on-duty"), .on_duty).phone_number ?? vars.technician`: "phone number of on duty or technician",
		`item.to in map(list("allowed"), .address)`:                       `to is one of map(list("allowed"), .address)`,
		`list("duty")`: "duty",
		`find(list("duty"), .short == item.who).phone`: "phone of duty",
		`find(item.lots, .kg > 3).name`:                "name of lots",
		`sort_by(list("sortBy(x"), .short)[0].phone`:   `sort_by(list("sortBy(x"), .short)[0].phone`,
	} {
		p, err := Compile(source, Names{"item", "vars", "list"})
		require.NoError(t, err)
		require.Equal(t, want, p.Words(), source)
	}
}
