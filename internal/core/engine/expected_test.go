package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatIsExpectedOfASample(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: keep, type: filter, settings: {where: item.n >= 1}}
  - {name: twice, type: shape, settings: {set: {double: (= item.n * 2 )}}}`)
	r, m := newRun(numberedItems(3), newWorld(), Pass{Number: 1, Plan: p})
	r.Rehearse = true
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	rows := func(i int) []*Row { return []*Row{&m.Seen[i]} }
	read := func(fate string, fields map[string]any) *Expected {
		v := map[string]any{}
		if fate != "" {
			v["fate"] = fate
		}
		if fields != nil {
			v["fields"] = fields
		}
		e, err := ReadExpected(v)
		require.NoError(t, err)
		return e
	}
	require.Empty(t, read("held_back", nil).Differs(p, rows(0)))
	require.Empty(t, read("passed", map[string]any{"double": int64(4)}).Differs(p, rows(2)), "other fields do not matter")
	require.Equal(t, []string{"it ends as held back, expected is passed"}, read("passed", map[string]any{"n": int64(0)}).Differs(p, rows(0)), "of what was held back the fields as it came count")
	require.Equal(t, []string{"double is 4, expected is 5", "note is nothing, expected is why"}, read("", map[string]any{"double": int64(5), "note": "why"}).Differs(p, rows(2)))
	require.Empty(t, read("", map[string]any{"n": int64(2)}).Differs(p, append(rows(1), rows(2)...)), "one of several is enough")
	require.Equal(t, []string{"n is 2, expected is 3"}, read("passed", map[string]any{"n": int64(3)}).Differs(p, append(rows(0), rows(2)...)), "the nearest is told")
	require.Equal(t, []string{"nothing came of it"}, read("passed", nil).Differs(p, nil))
}

func TestWhatIsExpectedIsReadStrictly(t *testing.T) {
	t.Parallel()
	for want, v := range map[string]map[string]any{
		"Did you mean held_back?":                 {"fate": "held_bak"},
		`"field" is not known here`:               {"field": map[string]any{}},
		"fields is an object, and this is a list": {"fields": []any{}},
		`"7" is no fate`:                          {"fate": int64(7)},
	} {
		_, err := ReadExpected(v)
		require.ErrorContains(t, err, want)
	}
}
