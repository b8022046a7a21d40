package connector

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// costlyDocuments say little that costs much to be read.
func costlyDocuments() map[string]string {
	const head = "format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: bearer, title: Token, secret: Token}]\ncheck: {request: {method: GET, path: /me}, says: (= output.name )}\nfailure: {message: (= response.error )}\n"
	many := func(n int, line string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, line, i)
		}
		return b.String()
	}
	one := func(rest string) string {
		return head + "actions:\n  a: {title: A, sentence: A, effect: read, request: {method: GET, path: /a}, " + rest + "}\n"
	}
	return map[string]string{
		"unknown keys":       head + many(200_000, "x%d: 1\n") + "actions: {}\n",
		"actions":            head + "actions:\n" + many(10_000, "  a%[1]d: {title: A, sentence: A, effect: read, fields: {type: object, properties: {p%[1]d: {type: string, title: P, description: '"+strings.Repeat("x", 200)+"'}}}, request: {method: GET, path: /a}, sample: {}}\n"),
		"fields":             head + "actions:\n" + many(60, "  a%[1]d: {title: A, sentence: A, effect: read, request: {method: GET, path: /a}, sample: {}, fields: {type: object, properties: {"+many(500, "p%d: {type: string, title: P, description: '"+strings.Repeat("y", 80)+"'}, ")+"}}}\n"),
		"a sample":           one("fields: {type: object}, sample: [" + strings.Repeat("{a: 1}, ", 500_000) + "]"),
		"a list in a schema": one("sample: {}, fields: {type: object, properties: {p: {enum: [" + many(450_000, "v%d, ") + "]}}}"),
		"expressions":        one("fields: {type: object}, sample: [" + strings.Repeat("(= input.a ), ", 290_000) + "]"),
		"fewer expressions":  one("fields: {type: object}, sample: [" + strings.Repeat("(= input.a ), ", 99_000) + "]"),
		"lists in lists":     one("fields: {type: object}, sample: " + strings.Repeat("[", 300_000) + strings.Repeat("]", 300_000)),
		"one long line":      one("fields: {type: object}, sample: {a: '" + strings.Repeat("x", 3<<20) + "'}"),
		"many long lines":    head + strings.Repeat("# "+strings.Repeat("y", 100)+"\n", 39_000) + "actions: {}\n",
	}
}

// Each is read, or refused in words, within so much memory taken on the way: that goes
// with the time, and does not hang on how busy the machine is.
func TestCostlyConnectorsAreReadWithinBoundsOrRefused(t *testing.T) {
	for name, text := range costlyDocuments() {
		require.LessOrEqual(t, len(text), MaxBytes, name)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		c, problems := Examine([]byte(text))
		runtime.ReadMemStats(&after)
		t.Logf("%-20s %4d MiB, %d problems", name, (after.TotalAlloc-before.TotalAlloc)>>20, len(problems))
		require.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(700), "%s, MiB", name)
		require.LessOrEqual(t, len(problems), 501, name)
		if c == nil {
			require.NotEmpty(t, problems, name)
			require.Less(t, len(problems[0].Message), 300, name)
		}
	}
	_, problems := Examine([]byte("actions: [" + strings.Repeat("a,", mostMarks) + "]"))
	require.Len(t, problems, 1)
	require.Contains(t, problems[0].Message, "The document holds about 400,001 values; a connector has at most 400,000.")
}
