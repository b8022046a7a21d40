package form

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/expr"
)

type load struct {
	Piece  *expr.Program          `form:"piece,required" title:"Piece" help:"Which one." example:"item.piece"`
	Cone   int                    `form:"cone" title:"Cone" default:"6" min:"1" max:"14"`
	How    string                 `form:"how" title:"How" oneof:"slow|fast" default:"slow" words:"slow=overnight; fast=within a day"`
	Glossy bool                   `form:"glossy" title:"Glossy" default:"true"`
	Rest   time.Duration          `form:"rest" title:"Rest" default:"2h"`
	Label  string                 `form:"label" title:"Label" pattern:"^[a-z]+$" max:"5"`
	Set    map[string]*expr.Value `form:"set" title:"Set"`
	Tags   []string               `form:"tags" title:"Tags"`
	Any    any                    `form:"any" title:"Anything"`
	Shelf  *shelf                 `form:"shelf" title:"Shelf"`
	Cases  []shelf                `form:"cases" title:"Cases" min:"1"`
	Else   Steps                  `form:"else" title:"Else"`
	Grip   grip                   `form:"grip" title:"Grip"`
	embedded
	unseen string
}

type embedded struct {
	Size int `form:"size" title:"Size"`
}

type shelf struct {
	Name  string        `form:"name,required" title:"Name"`
	When  *expr.Program `form:"when" title:"When"`
	Steps Steps         `form:"steps" title:"Steps"`
}

// grip is text, or a number of fingers.
type grip struct{ fingers int64 }

func (grip) FormSchema() map[string]any {
	return map[string]any{"oneOf": []any{map[string]any{"const": "all"}, map[string]any{"type": "integer"}}}
}

func (g *grip) ReadForm(v any) error {
	switch v := v.(type) {
	case int64:
		if g.fingers = v; v > 10 {
			return errors.New("nobody has so many fingers")
		}
	default:
		g.fingers = 10
	}
	return nil
}

var loads = Of[load](expr.Names{"item"})

func TestAStructIsReadByItsTags(t *testing.T) {
	t.Parallel()
	var l load
	errs := loads.Read(map[string]any{
		"piece": "item.piece", "cone": int64(9), "how": "fast", "glossy": false, "rest": "90m", "label": "bowl", "set": map[string]any{"a": "(= item.x )", "b": int64(3), "c": nil},
		"tags": []any{"blue", "tall"}, "any": map[string]any{"x": true}, "size": int64(4), "grip": "all",
		"shelf": map[string]any{"name": "top", "when": "item.high"},
		"cases": []any{map[string]any{"name": "one", "steps": []any{map[string]any{"name": "s"}}}, map[string]any{"name": "two"}},
		"else":  []any{},
	}, &l)
	require.Empty(t, errs)
	require.Equal(t, "item.piece", l.Piece.Source)
	require.Equal(t, []any{9, "fast", false, 90 * time.Minute, "bowl", 4}, []any{l.Cone, l.How, l.Glossy, l.Rest, l.Label, l.Size})
	require.Len(t, l.Set, 3)
	require.Equal(t, []string{"blue", "tall"}, l.Tags)
	require.Equal(t, "top", l.Shelf.Name)
	require.EqualValues(t, 10, l.Grip.fingers)
	require.Equal(t, []Nested{
		{Place: "shelf.steps", Name: "top", Owned: true, When: l.Shelf.When.Words()},
		{Place: "cases[0].steps", Name: "one", Owned: true, Steps: l.Cases[0].Steps},
		{Place: "cases[1].steps", Name: "two", Owned: true},
		{Place: "else", Name: "else", Steps: Steps{}},
	}, Within(&l))
	refs := Refs(&l)
	require.Contains(t, refs, "piece")
	require.Contains(t, refs, "set.a")
	require.Contains(t, refs, "shelf.when")
	require.Empty(t, l.unseen)
}

func TestDefaultsCountWhereNothingIsSaid(t *testing.T) {
	t.Parallel()
	var read, sketched load
	require.Empty(t, loads.Read(map[string]any{"piece": "item.piece", "how": nil}, &read))
	require.Equal(t, []any{6, "slow", true, 2 * time.Hour}, []any{read.Cone, read.How, read.Glossy, read.Rest})
	loads.Sketch(map[string]any{"piece": "item.", "cone": "many", "how": "fast"}, &sketched)
	require.Nil(t, sketched.Piece)
	require.Equal(t, []any{0, "fast", time.Duration(0)}, []any{sketched.Cone, sketched.How, sketched.Rest}, "what is not finished is only worded")
	require.Empty(t, loads.Read(nil, &struct{}{})[1:], "nothing at all lacks what is required")
}

func TestEveryProblemHasItsPlaceAndItsWords(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, field, message string }{
		"missing":                {`{}`, "piece", "Piece is required and empty"},
		"empty":                  {`{"piece": ""}`, "piece", "Piece"},
		"an unknown name":        {`{"piece": "item.a", "glosy": true}`, "glosy", "glossy"},
		"too small":              {`{"piece": "item.a", "cone": 0}`, "cone", "1"},
		"too large":              {`{"piece": "item.a", "cone": 15}`, "cone", "14"},
		"no number":              {`{"piece": "item.a", "cone": "six"}`, "cone", "whole number"},
		"none of the choices":    {`{"piece": "item.a", "how": "medium"}`, "how", "slow"},
		"another pattern":        {`{"piece": "item.a", "label": "B 1"}`, "label", "Label"},
		"too long":               {`{"piece": "item.a", "label": "abcdef"}`, "label", "5"},
		"an expression":          {`{"piece": "item. +"}`, "piece", "“item. +”"},
		"a value":                {`{"piece": "item.a", "set": {"x": "(= item.( )"}}`, "set.x", "item.("},
		"no duration":            {`{"piece": "item.a", "rest": "long"}`, "rest", "duration"},
		"within an object":       {`{"piece": "item.a", "shelf": {}}`, "shelf.name", "Name"},
		"within a list":          {`{"piece": "item.a", "cases": [{"name": "a"}, {"name": "b", "when": ")"}]}`, "cases[1].when", ")"},
		"too few":                {`{"piece": "item.a", "cases": []}`, "cases", "1"},
		"what a type says":       {`{"piece": "item.a", "grip": 11}`, "grip", "nobody has so many fingers"},
		"what no choice of is":   {`{"piece": "item.a", "grip": "some"}`, "grip", ""},
		"an unknown name within": {`{"piece": "item.a", "shelf": {"name": "a", "wen": "x"}}`, "shelf.wen", "when"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var values map[string]any
			d := json.NewDecoder(bytesOf(c.text))
			d.UseNumber()
			require.NoError(t, d.Decode(&values))
			errs := loads.Read(whole(values).(map[string]any), &load{})
			require.NotEmpty(t, errs)
			var e *Error
			require.ErrorAs(t, errs[0], &e)
			require.Equal(t, c.field, e.Field, "%v", errs)
			require.Contains(t, e.Error(), c.message)
		})
	}
}

func TestTheSchemaSaysWhatTheTagsSay(t *testing.T) {
	t.Parallel()
	p := loads.Schema["properties"].(map[string]any)
	require.Equal(t, map[string]any{"type": "string", "hint": "condition", "title": "Piece", "description": "Which one.", "examples": []any{"item.piece"}, "minLength": int64(1)}, p["piece"])
	require.Equal(t, map[string]any{"type": "integer", "title": "Cone", "default": int64(6), "minimum": int64(1), "maximum": int64(14)}, p["cone"])
	require.Equal(t, true, p["glossy"].(map[string]any)["default"])
	require.Equal(t, map[string]any{"enum": []any{"slow", "fast"}, "title": "How", "default": "slow", "words": map[string]any{"slow": "overnight", "fast": "within a day"}}, p["how"])
	require.Equal(t, []any{"piece"}, loads.Schema["required"])
	require.Equal(t, "steps", p["else"].(map[string]any)["hint"])
	require.Equal(t, int64(5), p["label"].(map[string]any)["maxLength"])
	require.Equal(t, int64(1), p["cases"].(map[string]any)["minItems"])
	require.Contains(t, p["grip"], "oneOf")
	names := []string{}
	for _, x := range loads.Properties {
		names = append(names, x.Name)
	}
	require.Equal(t, []string{"piece", "cone", "how", "glossy", "rest", "label", "set", "tags", "any", "shelf", "cases", "else", "grip", "size"}, names, "in the order of the fields")
	require.Panics(t, func() {
		Of[struct {
			C chan int `form:"c"`
		}](nil)
	}, "what cannot be a setting is a mistake in the program")
}

func TestASchemaThatLeadsOutsideIsRefused(t *testing.T) {
	t.Parallel()
	_, err := Compile(map[string]any{"$ref": "https://other.example/schema"})
	require.ErrorContains(t, err, "only references within the document are followed")
}

// whole gives numbers as documents have them.
func whole(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k, e := range v {
			v[k] = whole(e)
		}
	case []any:
		for i, e := range v {
			v[i] = whole(e)
		}
	case json.Number:
		n, _ := v.Int64()
		return n
	}
	return v
}

func bytesOf(s string) *strings.Reader { return strings.NewReader(s) }
