package item

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAProfileTellsOfEveryField(t *testing.T) {
	t.Parallel()
	of := map[string]Profile{}
	var order []string
	for _, p := range Profiles([]map[string]any{
		{"order": "O-1", "total": 12.5, "paid": false, "due": "2026-11-20", "lines": []any{map[string]any{"glaze": "Ash"}, map[string]any{"glaze": "Slip"}}},
		{"order": "O-22", "total": int64(3), "paid": nil, "due": "", "lines": []any{}, "to": map[string]any{"mail": "a@example.org"}},
		{"order": "O-1", "total": int64(7), "due": "2026-11-22", "lines": []any{map[string]any{"glaze": "Ash"}}, "at": "2026-11-22T10:00:00Z"},
	}) {
		of[p.Path], order = p, append(order, p.Path)
	}
	require.Equal(t, []string{"due", "lines", "lines[]", "lines[].glaze", "order", "paid", "total", "to", "to.mail", "at"}, order)
	require.Equal(t, Profile{Path: "due", Types: []string{"date"}, Filled: 2, Of: 3, Distinct: 2, Spread: "2026-11-20 to 2026-11-22", Examples: []string{"2026-11-20", "2026-11-22"}}, of["due"])
	require.Equal(t, "3 to 12.5", of["total"].Spread)
	require.Equal(t, []string{"number", "whole number"}, of["total"].Types)
	require.Equal(t, "3 to 4 characters", of["order"].Spread)
	require.Equal(t, 2, of["order"].Distinct)
	require.Equal(t, 2, of["lines[].glaze"].Filled, "once for each item, also in its list")
	require.Equal(t, []string{"yes or no"}, of["paid"].Types)
	require.Equal(t, 1, of["paid"].Filled)
	require.Equal(t, "13 characters", of["to.mail"].Spread)
	require.Equal(t, []string{"date and time"}, of["at"].Types)
	require.Empty(t, Profiles(nil))
}

func TestAProfileIsBounded(t *testing.T) {
	t.Parallel()
	var many []map[string]any
	for i := range 200 {
		many = append(many, map[string]any{"n": int64(i), "long": strings.Repeat("clay ", 40)})
	}
	p := Profiles(many)
	require.Equal(t, MostDistinct+1, p[1].Distinct, "more than are told apart")
	require.Equal(t, 200, p[1].Filled)
	require.Less(t, len([]rune(p[0].Examples[0])), 41)
	wide := map[string]any{}
	for i := range 5000 {
		wide[fmt.Sprintf("f%04d", i)] = int64(i)
	}
	require.Len(t, Profiles([]map[string]any{wide}), profileFields)
	var deep any = "end"
	for range 40 {
		deep = map[string]any{"down": deep}
	}
	require.Len(t, Profiles([]map[string]any{deep.(map[string]any)}), profileDepth)
}
