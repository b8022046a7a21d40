package steps

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

func apply(t *testing.T, kind, settings, fields string) Result {
	t.Helper()
	k, ok := Find(kind)
	require.True(t, ok)
	s, err := item.DecodeObject([]byte(settings))
	require.NoError(t, err)
	op, errs := k.Compile(s)
	require.Empty(t, errs)
	f, err := item.DecodeObject([]byte(fields))
	require.NoError(t, err)
	r, err := op.Operator.(Each).Apply(&expr.Scope{Item: f})
	require.NoError(t, err)
	return r
}

func TestShapeBuildsTheFieldsThatGoOn(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ settings, fields, want string }{
		"all are kept":               {`{}`, `{"a": 1, "b": 2}`, `{"a":1,"b":2}`},
		"only these":                 {`{"keep": ["b", "none"]}`, `{"a": 1, "b": 2}`, `{"b":2}`},
		"none":                       {`{"keep": "none", "set": {"x": "(= item.a + 1 )"}}`, `{"a": 1}`, `{"x":2}`},
		"dropped":                    {`{"drop": ["a"]}`, `{"a": 1, "b": 2}`, `{"b":2}`},
		"renamed":                    {`{"rename": {"a": "c"}}`, `{"a": 1, "b": 2}`, `{"b":2,"c":1}`},
		"dots make objects":          {`{"keep": "none", "set": {"studio.name": "(= item.n )", "studio.cone": 6}}`, `{"n": "Quern"}`, `{"studio":{"cone":6,"name":"Quern"}}`},
		"within an object":           {`{"set": {"studio.name": "new"}}`, `{"studio": {"name": "old", "id": 1}}`, `{"studio":{"id":1,"name":"new"}}`},
		"types stay":                 {`{"keep": "none", "set": {"l": "(= item.l )", "t": "n (= item.n )", "o": {"k": ["(= item.n )"]}}}`, `{"l": [1], "n": 2}`, `{"l":[1],"o":{"k":[2]},"t":"n 2"}`},
		"a missing field is nothing": {`{"keep": "none", "set": {"x": "(= item.gone )"}}`, `{}`, `{"x":null}`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got, err := item.Encode(apply(t, "shape", c.settings, c.fields).Fields)
			require.NoError(t, err)
			require.Equal(t, c.want, string(got))
		})
	}
}

func TestShapeLeavesTheItemItCameFromAlone(t *testing.T) {
	t.Parallel()
	k, _ := Find("shape")
	op, errs := k.Compile(map[string]any{"set": map[string]any{"studio.name": "new"}, "drop": []any{"b"}})
	require.Empty(t, errs)
	before := map[string]any{"studio": map[string]any{"name": "old"}, "b": int64(1)}
	_, err := op.Operator.(Each).Apply(&expr.Scope{Item: before})
	require.NoError(t, err)
	require.Equal(t, map[string]any{"studio": map[string]any{"name": "old"}, "b": int64(1)}, before)
}

func TestFilterSaysWhatItSaw(t *testing.T) {
	t.Parallel()
	require.Equal(t, Result{Held: true, Text: "4, needs 20"}, apply(t, "filter", `{"where": "item.s >= 20"}`, `{"s": 4}`))
	require.Equal(t, Result{Text: "20"}, apply(t, "filter", `{"where": "item.s >= 20"}`, `{"s": 20}`))
	require.Equal(t, Result{Held: true, Text: "item.s is empty"}, apply(t, "filter", `{"where": "item.s >= 20"}`, `{}`))
}

func TestSettingsThatAreWrongSayWhich(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		kind     string
		settings map[string]any
		want     string
	}{
		{"filter", nil, "Keep an item where is required and empty"},
		{"filter", map[string]any{"where": ""}, "is empty"},
		{"filter", map[string]any{"wher": "true", "where": "true"}, "Did you mean where?"},
		{"filter", map[string]any{"where": int64(3)}, "should be text and is a number"},
		{"filter", map[string]any{"where": "item. >"}, ""},
		{"shape", map[string]any{"set": map[string]any{"a..b": "x"}}, "is not the name of a field"},
		{"shape", map[string]any{"set": map[string]any{"a": "(= item. )"}}, ""},
		{"shape", map[string]any{"drop": "a"}, "should be a list"},
	} {
		k, _ := Find(c.kind)
		_, errs := k.Compile(c.settings)
		require.NotEmpty(t, errs, "%v", c.settings)
		require.Contains(t, errs[0].Error(), c.want)
		var se *form.Error
		require.ErrorAs(t, errs[0], &se)
	}
	_, ok := Find("none")
	require.False(t, ok)
}

func TestKindsReadAsSentences(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		kind     string
		settings map[string]any
		want     string
	}{
		{"filter", map[string]any{"where": `item.cone in ["6", "9"] and not empty(item.name)`}, "Keep items where cone is one of 6, 9 and not name is empty"},
		{"filter", map[string]any{"where": `age(item.dry_since) >= duration("6d")`}, "Keep items where the age of dry since is at least 6 days"},
		{"filter", nil, "Keep items where … (to fill in)"},
		{"shape", map[string]any{"keep": []any{"a_b", "c"}}, "Keep a b and c"},
		{"shape", map[string]any{"keep": "none", "set": map[string]any{"x": 1}}, "Make x"},
		{"shape", map[string]any{"rename": map[string]any{"a": "b"}, "drop": []any{"c"}}, "Rename a, drop c"},
		{"shape", map[string]any{"drop": []any{"a", "b", "c", "d", "e", "f"}}, "Drop a, b, c, d and 2 more"},
		{"shape", nil, "Shape the fields … (to fill in)"},
		{"sort", map[string]any{"by": []any{map[string]any{"of": "item.due"}, map[string]any{"of": "item.weight_kg", "order": "descending"}}}, "Put items in order by due, then weight kg, greatest first"},
		{"sort", map[string]any{"by": []any{map[string]any{}}}, "Put items in order … (to fill in)"},
		{"take", map[string]any{"count": int64(1)}, "Take the first 1 item"},
		{"take", map[string]any{"which": "last", "count": int64(3), "by": "item.studio"}, "Take the last 3 items for each studio"},
		{"take", map[string]any{"which": "rest", "count": int64(3)}, "Take all but the first 3 items"},
		{"take", map[string]any{"which": "random", "count": int64(20)}, "Take 20 items at random"},
		{"take", nil, "Take some items … (to fill in)"},
		{"distinct", map[string]any{"by": "item.email"}, "Keep one item for each email"},
		{"distinct", nil, "Keep one of those items that are alike"},
		{"stop", map[string]any{"as": "failure", "message": "The list of (= item.supplier ) is empty."}, "End the run as a failure: The list of supplier is empty."},
		{"stop", nil, "End the run"},
	} {
		k, _ := Find(c.kind)
		require.Equal(t, c.want, k.Sentence(c.settings))
	}
}
