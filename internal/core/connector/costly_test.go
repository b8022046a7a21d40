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
	docs := map[string]string{}
	var b strings.Builder
	b.WriteString("format: young-trellis-connector/1\nname: a\n")
	for i := range 50000 {
		fmt.Fprintf(&b, "x%d: 1\n", i)
	}
	docs["50,000 unknown keys"] = b.String()
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: own}\nactions:\n")
	for i := range 5000 {
		fmt.Fprintf(&b, "  a%d: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, x: 1}\n", i)
	}
	docs["5,000 wrong actions"] = b.String()
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: own}\nactions:\n  a: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, fields: {type: object, properties: {")
	for i := range 25000 {
		fmt.Fprintf(&b, "p%d: {type: string}, ", i)
	}
	b.WriteString("}}}\n")
	docs["25,000 fields"] = b.String()
	docs["expression"] = "format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: '(= " + strings.Repeat("(", 8000) + strings.Repeat(")", 8000) + " )'}\n"
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\ntitle: A\nversion: 1\nbase: https://a.example\nsign_in: [{method: none, title: Open}]\ncheck: {request: {method: GET, path: /}, says: own}\nactions:\n  a: {title: A, sentence: A, effect: read, request: {method: GET, path: /}, sample: [")
	for i := range 75000 {
		fmt.Fprintf(&b, "'(= %d )', ", i)
	}
	b.WriteString("]}\n")
	docs["75,000 expressions in a sample"] = b.String()
	b.Reset()
	b.WriteString("format: young-trellis-connector/1\nname: a\norder: [")
	for i := range 125000 {
		fmt.Fprintf(&b, "a%d, ", i)
	}
	b.WriteString("]\n")
	docs["an order of 125,000"] = b.String()
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
