package expr

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/item"
)

const record = `{"n": 3, "f": 2.5, "big": 9007199254740993, "name": "Ash bowl", "id": "17", "none": null, "yes": true, "tags": ["a", "b"],
	"lines": [{"q": 2, "p": 0.1}, {"q": 1, "p": 0.2}], "deep": {"a": {"b": 1}}, "at": "2026-11-20", "price": "12,50",
	"family": "👩‍👩‍👧‍👦", "accent": "e\u0301", "html": "<p>One <b>two</b></p>"}`

// The table of what expressions give is read, and held, line by line.
func TestTheTableOfCases(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("testdata/cases.txt")
	require.NoError(t, err)
	group, number, zoned := "", 0, 0
	for n, line := range strings.Split(string(text), "\n") {
		if title, ok := strings.CutPrefix(line, "## "); ok {
			group = title
		}
		if line == "" || line[0] == '#' {
			continue
		}
		number++
		if strings.HasPrefix(group, "summer time") {
			zoned++
		}
		holds(t, n+1, line)
	}
	require.GreaterOrEqual(t, number, 400)
	require.GreaterOrEqual(t, zoned, 30)
}

// The examples of the documentation are what happens.
func TestTheExamplesOfTheDocumentation(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../../docs/values.md")
	require.NoError(t, err)
	within, number := false, 0
	for n, line := range strings.Split(string(text), "\n") {
		switch {
		case line == "```expression":
			within = true
		case line == "```":
			within = false
		case within:
			number++
			holds(t, n+1, line)
		}
	}
	require.Greater(t, number, 30)
}

// holds runs a line of a table: an expression, => and its value, or =! and a part
// of its error.
func holds(t *testing.T, n int, line string) {
	t.Helper()
	source, want, fails := strings.Cut(line, " =! ")
	if !fails {
		var ok bool
		source, want, ok = strings.Cut(line, "  =>  ")
		require.True(t, ok, "line %d has neither => nor =!", n)
	}
	source, want = strings.TrimSpace(source), strings.TrimSpace(want)
	p, err := Compile(source, roots)
	var v any
	if err == nil {
		v, err = p.Eval(scope(t, record))
	}
	switch {
	case fails && err == nil:
		t.Errorf("line %d, %s: gave %s, and should fail with %s", n, source, Text(v), want)
	case fails:
		var e *Error
		require.ErrorAs(t, err, &e, "line %d", n)
		if !strings.Contains(e.Message, want) {
			t.Errorf("line %d, %s: fails with\n     %s\nnot  %s", n, source, e.Message, want)
		}
	case err != nil:
		t.Errorf("line %d, %s: %v", n, source, err)
	default:
		got, err := item.Encode(v)
		require.NoError(t, err)
		if string(got) != want {
			t.Errorf("line %d, %s:\n gave %s\n not  %s", n, source, got, want)
		}
	}
}
