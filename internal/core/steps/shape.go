package steps

import (
	"fmt"
	"slices"
	"strings"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
)

var shapeProperties = []connector.Property{
	property("keep", false, map[string]any{
		"title": "Fields to keep", "hint": "keep", "default": "all",
		"description": "All fields, none, or a list of names.",
		"oneOf": []any{
			map[string]any{"enum": []any{"all", "none"}},
			map[string]any{"type": "array", "items": map[string]any{"type": "string"}},
		},
	}),
	property("set", false, map[string]any{
		"type": "object", "title": "Fields to set", "hint": "fields", "additionalProperties": true,
		"description": "Name to value. A name with dots makes objects, as in studio.name.",
	}),
	property("rename", false, map[string]any{
		"type": "object", "title": "Fields to rename", "hint": "names", "additionalProperties": map[string]any{"type": "string"},
		"description": "Old name to new name.",
	}),
	property("drop", false, map[string]any{
		"type": "array", "title": "Fields to drop", "hint": "list", "items": map[string]any{"type": "string"},
	}),
}

var shapeKind = &Kind{
	Type: "shape", Title: "Build the fields that go on",
	Help:       "Keeps, drops and renames fields, and sets new ones from expressions.",
	Schema:     settingsSchema(shapeProperties),
	properties: shapeProperties,
	Sentence:   shapeSentence,
	Compile:    compileShape,
}

func shapeSentence(settings map[string]any) string {
	var parts []string
	keep := settings["keep"]
	if list, ok := keep.([]any); ok && len(list) > 0 {
		parts = append(parts, "keep "+names(list))
	}
	if set, ok := settings["set"].(map[string]any); ok && len(set) > 0 {
		verb := "set "
		if keep == "none" {
			verb = "make "
		}
		parts = append(parts, verb+names(sortedNames(set)))
	}
	if re, ok := settings["rename"].(map[string]any); ok && len(re) > 0 {
		parts = append(parts, "rename "+names(sortedNames(re)))
	}
	if list, ok := settings["drop"].([]any); ok && len(list) > 0 {
		parts = append(parts, "drop "+names(list))
	}
	if len(parts) == 0 {
		return "Shape the fields … (to fill in)"
	}
	s := strings.Join(parts, ", ")
	return strings.ToUpper(s[:1]) + s[1:]
}

func names(list []any) string {
	words := make([]string, 0, len(list))
	for _, v := range list {
		words = append(words, strings.ReplaceAll(expr.Text(v), "_", " "))
	}
	if len(words) > 5 {
		words = append(words[:4], fmt.Sprintf("%d more", len(list)-4))
	}
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

func sortedNames(m map[string]any) []any {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	out := make([]any, len(keys))
	for i, k := range keys {
		out[i] = k
	}
	return out
}

type shape struct {
	all    bool
	keep   []string
	drop   []string
	rename map[string]string
	set    []assignment
}

type assignment struct {
	name  string
	path  []string
	value *expr.Value
}

func compileShape(settings map[string]any) (Operation, error) {
	s := shape{all: settings["keep"] == nil || settings["keep"] == "all", rename: map[string]string{}}
	if list, ok := settings["keep"].([]any); ok {
		for _, v := range list {
			s.keep = append(s.keep, expr.Text(v))
		}
	}
	if list, ok := settings["drop"].([]any); ok {
		for _, v := range list {
			s.drop = append(s.drop, expr.Text(v))
		}
	}
	re, _ := settings["rename"].(map[string]any)
	for old, v := range re {
		s.rename[old] = expr.Text(v)
	}
	set, _ := settings["set"].(map[string]any)
	for _, n := range sortedNames(set) {
		name := n.(string)
		v, err := expr.CompileValue(set[name])
		if err != nil {
			return nil, &SettingError{"set." + name, err}
		}
		path := strings.Split(name, ".")
		if slices.Contains(path, "") {
			return nil, &SettingError{"set." + name, fmt.Errorf("%q is not the name of a field", name)}
		}
		s.set = append(s.set, assignment{name, path, v})
	}
	return s, nil
}

func (s shape) Apply(scope *expr.Scope) (Result, error) {
	out := map[string]any{}
	if s.all {
		for k, v := range scope.Item {
			out[k] = v
		}
	}
	for _, k := range s.keep {
		if v, ok := scope.Item[k]; ok {
			out[k] = v
		}
	}
	for old, fresh := range s.rename {
		if v, ok := scope.Item[old]; ok {
			delete(out, old)
			out[fresh] = v
		}
	}
	for _, k := range s.drop {
		delete(out, k)
	}
	text := ""
	for i, a := range s.set {
		v, err := a.value.Eval(scope)
		if err != nil {
			return Result{}, &SettingError{"set." + a.name, err}
		}
		assign(out, a.path, v)
		if i < 3 {
			text = strings.TrimPrefix(text+", "+strings.ReplaceAll(a.name, "_", " ")+" "+expr.Brief(v), ", ")
		}
	}
	return Result{Fields: out, Text: text}, nil
}

// assign sets a field below path, copying the objects on the way so that the
// item it came from keeps its own.
func assign(out map[string]any, path []string, v any) {
	for len(path) > 1 {
		inner := map[string]any{}
		if old, ok := out[path[0]].(map[string]any); ok {
			for k, e := range old {
				inner[k] = e
			}
		}
		out[path[0]] = inner
		out, path = inner, path[1:]
	}
	out[path[0]] = v
}

func (s shape) Refs() map[string][]expr.Ref {
	out := map[string][]expr.Ref{}
	for _, a := range s.set {
		out["set."+a.name] = a.value.Refs()
	}
	return out
}
