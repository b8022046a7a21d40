package triggers

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/form"
)

func asks(t *testing.T, list ...any) Asked {
	t.Helper()
	kind, ok := Find(Manual)
	require.True(t, ok)
	start, errs := kind.Start(map[string]any{"fields": list})
	require.Empty(t, errs)
	return start.Asks
}

var (
	glazeField = map[string]any{"name": "glaze", "title": "Glaze", "type": "string", "required": true}
	coneField  = map[string]any{"name": "cone", "enum": []any{int64(6), int64(9)}, "default": int64(6)}
	litres     = map[string]any{"name": "litres", "type": "number", "exclusiveMinimum": int64(0)}
)

func TestAStartAsksForFieldsInTheirOrder(t *testing.T) {
	t.Parallel()
	a := asks(t, glazeField, coneField)
	require.Equal(t, []form.Property{
		{Name: "glaze", Required: true, Schema: map[string]any{"title": "Glaze", "type": "string", "minLength": int64(1)}},
		{Name: "cone", Schema: map[string]any{"enum": []any{int64(6), int64(9)}, "default": int64(6)}},
	}, a.Properties)
	require.Equal(t, []any{"glaze"}, a.Schema()["required"])
	kind, _ := Find(Manual)
	require.Equal(t, "When somebody starts it with glaze and cone", kind.Sentence(map[string]any{"fields": []any{glazeField, coneField}}))
	many := []any{}
	for _, n := range []string{"a", "b", "c", "d_e", "f"} {
		many = append(many, map[string]any{"name": n})
	}
	require.Equal(t, "When somebody starts it with a, b, c and 2 more", kind.Sentence(map[string]any{"fields": many}))
	require.Equal(t, "When somebody starts it", kind.Sentence(map[string]any{"fields": []any{map[string]any{"name": "9"}}}), "a sentence of what cannot be read is the plain one")
}

func TestItemsAreCompletedAndChecked(t *testing.T) {
	t.Parallel()
	a := asks(t, glazeField, coneField, litres)
	given := map[string]any{"glaze": "Tenmoku", "note": "as last time"}
	full, err := a.Complete(given)
	require.NoError(t, err)
	require.Equal(t, map[string]any{"glaze": "Tenmoku", "cone": int64(6), "note": "as last time"}, full, "presets are filled in, and what was not asked for is kept")
	require.Len(t, given, 2, "what was given stays as it was")
	for wrong, items := range map[string]map[string]any{
		"Glaze is required and empty":                nil,
		"cone is 7; it can be 6, 9. Did you mean 6?": {"glaze": "Tenmoku", "cone": int64(7)},
		"Glaze should be text and is a number":       {"glaze": int64(4)},
		"Glaze is empty":                             {"glaze": ""},
		"litres should be a number and is text":      {"glaze": "Tenmoku", "litres": "4"},
		"litres is 0; it must be more than 0":        {"glaze": "Tenmoku", "litres": int64(0)},
	} {
		_, err := a.Complete(items)
		var input *form.InputError
		require.ErrorAs(t, err, &input, wrong)
		require.Equal(t, wrong, input.Error())
	}
	none := Asked{}
	full, err = none.Complete(nil)
	require.NoError(t, err)
	require.Nil(t, full, "nothing is asked for, so nothing is made up")
}

func TestWhatCannotBeAskedForIsPlaced(t *testing.T) {
	t.Parallel()
	kind, _ := Find(Manual)
	for place, list := range map[string][]any{
		"fields[0].name": {map[string]any{"name": "9lives"}},
		"fields[1].name": {glazeField, glazeField},
		"fields[0].type": {map[string]any{"name": "glaze", "type": "strnig"}},
		"fields[0]":      {map[string]any{"name": "glaze", "minimum": "much"}},
	} {
		_, errs := kind.Start(map[string]any{"fields": list})
		require.Len(t, errs, 1, place)
		var placed *form.Error
		require.ErrorAs(t, errs[0], &placed, place)
		require.Equal(t, place, placed.Field)
	}
	_, errs := kind.Start(map[string]any{"fields": []any{map[string]any{"name": "glaze", "type": "strnig"}}})
	require.ErrorContains(t, errs[0], "Did you mean string?")
	_, errs = kind.Start(map[string]any{"fields": []any{map[string]any{"title": "Glaze"}}})
	require.ErrorContains(t, errs[0], "Name is required and empty")
	_, errs = kind.Start(map[string]any{"fields": []any{map[string]any{"name": "x", "$ref": "https://glazes.example/schema"}}})
	require.ErrorContains(t, errs[0], "only references within the document are followed")
	_, errs = kind.Start(map[string]any{"fields": make([]any, MaxAsked+1)})
	require.NotEmpty(t, errs)
}

func TestValuesAreReadAsTheyAreTyped(t *testing.T) {
	t.Parallel()
	of := func(schema map[string]any) form.Property { return form.Property{Name: "x", Schema: schema} }
	for _, c := range []struct {
		schema map[string]any
		typed  string
		want   any
	}{
		{map[string]any{"type": "string"}, " 007 ", " 007 "},
		{map[string]any{"type": "string"}, `{"a": 1}`, `{"a": 1}`},
		{map[string]any{"type": "integer"}, " 12 ", int64(12)},
		{map[string]any{"type": "number"}, "0.5", 0.5},
		{map[string]any{"type": "boolean"}, "Yes", true},
		{map[string]any{"type": "boolean"}, "n", false},
		{map[string]any{"enum": []any{int64(6), "9"}}, "6", int64(6)},
		{map[string]any{"enum": []any{int64(6), "9"}}, "9", "9"},
		{map[string]any{"enum": []any{int64(6)}}, "7", "7"},
		{map[string]any{"type": "array", "items": map[string]any{"type": "integer"}}, "1, 2,", []any{int64(1), int64(2)}},
		{map[string]any{"type": "array"}, "ash, slip", []any{"ash", "slip"}},
		{map[string]any{"type": "array"}, `["ash, wood"]`, []any{"ash, wood"}},
		{map[string]any{"type": "object"}, `{"a": 1}`, map[string]any{"a": int64(1)}},
		{nil, "as it is", "as it is"},
	} {
		v, err := Value(of(c.schema), c.typed)
		require.NoError(t, err, c.typed)
		require.Equal(t, c.want, v, c.typed)
	}
	for typed, schema := range map[string]map[string]any{
		"twelve":   {"type": "integer", "title": "Days"},
		"perhaps":  {"type": "boolean"},
		"1, two":   {"type": "array", "items": map[string]any{"type": "number"}},
		"{":        {"type": "object"},
		`"twelve"`: {"type": "number"},
	} {
		_, err := Value(of(schema), typed)
		require.Error(t, err, typed)
	}
	_, err := Value(of(map[string]any{"type": "integer", "title": "Days"}), "twelve")
	require.EqualError(t, err, `Days should be a number, as 12, and this is "twelve"`)
	require.NoError(t, Fits(of(map[string]any{"type": "integer", "maximum": int64(9)}), int64(9)))
	require.ErrorContains(t, Fits(of(map[string]any{"type": "integer", "maximum": int64(9)}), int64(10)), "x is 10; the most is 9")
}

func TestAFieldCanBeOneOfAList(t *testing.T) {
	t.Parallel()
	k, _ := Find(Manual)
	start, errs := k.Start(map[string]any{"fields": []any{map[string]any{"name": "glaze"}, map[string]any{"name": "who", "from_list": "duty", "required": true}}})
	require.Empty(t, errs)
	require.Equal(t, []Listed{{Field: "fields[1].from_list", List: "duty"}}, start.Lists)
	require.Equal(t, "string", start.Asks.Properties[1].Schema["type"])
	_, err := start.Asks.Complete(map[string]any{"who": ""})
	require.Error(t, err)
	for want, field := range map[string]map[string]any{
		"which list it is one of is not said": {"name": "who", "from_list": ""},
		"what is one of a list is text":       {"name": "who", "from_list": "duty", "type": "number"},
	} {
		_, errs := k.Start(map[string]any{"fields": []any{field}})
		require.Len(t, errs, 1)
		require.ErrorContains(t, errs[0], want)
	}
}
