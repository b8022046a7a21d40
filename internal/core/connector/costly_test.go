package connector

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/document"
)

// Wrong documents of a megabyte are looked through within bounds, which are counted in
// memory that is taken on the way, and told in an answer that can be read.
func TestCostlyConnectorsAreRefusedWithinBounds(t *testing.T) {
	const head = "format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\n"
	const whole = head + "check: {request: {method: GET, path: /}, says: own}\nactions:\n"
	const action = "  a: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, "
	docs := map[string]string{
		"50,000 unknown keys":             repeated("format: young-trellis-connector/1\nname: a\n", 50_000, "x%d: 1\n", ""),
		"5,000 wrong actions":             repeated(whole, 5000, "  a%d: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, x: 1}\n", ""),
		"25,000 fields":                   repeated(whole+action+"fields: {type: object, properties: {", 25_000, "p%d: {type: string}, ", "}}}\n"),
		"75,000 expressions in a sample":  repeated(whole+action+"sample: [", 75_000, "'(= %d )', ", "]}\n"),
		"an order of 125,000":             repeated("format: young-trellis-connector/1\nname: a\norder: [", 125_000, "a%d, ", "]\n"),
		"an expression of 8,000 brackets": head + "check: {request: {method: GET, path: /}, says: '(= " + strings.Repeat("(", 8000) + strings.Repeat(")", 8000) + " )'}\n",
	}
	for name, text := range docs {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, problems := Examine([]byte(text))
		runtime.ReadMemStats(&after)
		require.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(400), "%s, MiB", name)
		require.NotEmpty(t, problems, name)
		require.LessOrEqual(t, len(problems), document.MostProblems, name)
		for _, p := range problems {
			require.Less(t, len(p.Message), 1000, name)
		}
	}
}

// repeated puts so many of a line, numbered, between a head and an end.
func repeated(head string, n int, line, end string) string {
	var b strings.Builder
	b.WriteString(head)
	for i := range n {
		fmt.Fprintf(&b, line, i)
	}
	b.WriteString(end)
	return b.String()
}
