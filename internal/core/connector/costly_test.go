package connector

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/document"
)

// Wrong documents of megabytes are looked through within bounds, which are counted in
// memory that is taken on the way, and told in an answer that can be read.
func TestCostlyConnectorsAreRefusedWithinBounds(t *testing.T) {
	docs := map[string]string{}
	var b strings.Builder
	b.WriteString("format: young-trellis-connector/1\nname: a\n")
	for i := range 200000 {
		fmt.Fprintf(&b, "x%d: 1\n", i)
	}
	docs["200,000 unknown keys"] = b.String()
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: own}\nactions:\n")
	for i := range 20000 {
		fmt.Fprintf(&b, "  a%d: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, x: 1}\n", i)
	}
	docs["20,000 wrong actions"] = b.String()
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: own}\nactions:\n  a: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, fields: {type: object, properties: {")
	for i := range 100000 {
		fmt.Fprintf(&b, "p%d: {type: string}, ", i)
	}
	b.WriteString("}}}\n")
	docs["100,000 fields"] = b.String()
	docs["expression"] = "format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: '(= " + strings.Repeat("(", 8000) + strings.Repeat(")", 8000) + " )'}\n"
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: own}\nactions:\n  a: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, sample: [")
	for i := range 300000 {
		fmt.Fprintf(&b, "'(= %d )', ", i)
	}
	b.WriteString("]}\n")
	docs["300,000 expressions in a sample"] = b.String()
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\norder: [")
	for i := range 500000 {
		fmt.Fprintf(&b, "a%d, ", i)
	}
	b.WriteString("]\n")
	docs["an order of 500,000"] = b.String()
	for name, text := range docs {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, problems := Examine([]byte(text))
		runtime.ReadMemStats(&after)
		require.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(1200), "%s, MiB", name)
		require.NotEmpty(t, problems, name)
		require.LessOrEqual(t, len(problems), document.MostProblems, name)
		for _, p := range problems {
			require.Less(t, len(p.Message), 1000, name)
		}
	}
}
