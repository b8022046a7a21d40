package steps

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

type shape struct {
	Keep   Names                  `form:"keep" title:"Fields to keep" help:"All fields, none, or a list of names." default:"all"`
	Set    map[string]*expr.Value `form:"set" title:"Fields to set" hint:"fields" help:"Name to value. A name with dots makes objects, as in studio.name."`
	Rename map[string]string      `form:"rename" title:"Fields to rename" hint:"names" help:"Old name to new name."`
	Drop   []string               `form:"drop" title:"Fields to drop" hint:"list"`

	assignments []assignment
}

// Names are those of fields: all, none, or a list.
type Names struct {
	Given bool
	All   bool
	List  []string
}

// FormSchema implements form.Custom.
func (Names) FormSchema() map[string]any {
	return map[string]any{"hint": "keep", "oneOf": []any{
		map[string]any{"enum": []any{"all", "none"}},
		map[string]any{"type": "array", "items": map[string]any{"type": "string"}},
	}}
}

// ReadForm implements form.Custom.
func (n *Names) ReadForm(v any) error {
	n.Given = true
	switch v := v.(type) {
	case string:
		n.All = v == "all"
	case []any:
		for _, e := range v {
			n.List = append(n.List, expr.Text(e))
		}
	}
	return nil
}

// of gives the named fields of an item, in a map of their own.
func (n Names) of(fields map[string]any) map[string]any {
	if n.All {
		return maps.Clone(fields)
	}
	out := make(map[string]any, len(n.List)+4)
	for _, k := range n.List {
		if v, ok := fields[k]; ok {
			out[k] = v
		}
	}
	return out
}

type assignment struct {
	name  string
	words string // before the value, in a cell
	path  []string
	value *expr.Value
}

var shapeKind = tells(New(Info{
	Type: "shape", Title: "Build the fields that go on",
	Words: "map mapping set fields rename columns calculate compute format transform edit change values clean keep fields",
	Help:  "Keeps, drops and renames fields, and sets new ones from expressions.",
}, shapeSentence, compileShape), shapeTraits)

func shapeSentence(s *shape) string {
	var parts []string
	if len(s.Keep.List) > 0 {
		parts = append(parts, "keep "+names(s.Keep.List))
	}
	if len(s.Set) > 0 {
		verb := "set "
		if s.Keep.Given && !s.Keep.All && len(s.Keep.List) == 0 {
			verb = "make "
		}
		parts = append(parts, verb+names(item.Keys(s.Set)))
	}
	if len(s.Rename) > 0 {
		parts = append(parts, "rename "+names(item.Keys(s.Rename)))
	}
	if len(s.Drop) > 0 {
		parts = append(parts, "drop "+names(s.Drop))
	}
	if len(parts) == 0 {
		return "Shape the fields … (to fill in)"
	}
	text := strings.Join(parts, ", ")
	return strings.ToUpper(text[:1]) + text[1:]
}

// names words a list of fields.
func names(list []string) string {
	said := make([]string, 0, len(list))
	for _, v := range list {
		said = append(said, strings.ReplaceAll(v, "_", " "))
	}
	if len(said) > 5 {
		said = append(said[:4], fmt.Sprintf("%d more", len(list)-4))
	}
	return words.And(said...)
}

func compileShape(s *shape) (Operator, error) {
	s.Keep.All = s.Keep.All || !s.Keep.Given
	for _, name := range item.Keys(s.Set) {
		path, err := fieldPath(name)
		if err != nil {
			return nil, wrong("set."+name, err)
		}
		s.assignments = append(s.assignments, assignment{name, strings.ReplaceAll(name, "_", " ") + " ", path, s.Set[name]})
	}
	return s, nil
}

// fieldPath cuts the name of a field at its dots.
func fieldPath(name string) ([]string, error) {
	path := strings.Split(name, ".")
	if slices.Contains(path, "") {
		return nil, fmt.Errorf("%q is not the name of a field", name)
	}
	return path, nil
}

// Apply implements Each.
func (s *shape) Apply(scope *expr.Scope) (Result, error) {
	out := s.Keep.of(scope.Item)
	for old, fresh := range s.Rename {
		if v, ok := scope.Item[old]; ok {
			delete(out, old)
			out[fresh] = v
		}
	}
	for _, k := range s.Drop {
		delete(out, k)
	}
	var text strings.Builder
	for i, a := range s.assignments {
		v, err := a.value.Eval(scope)
		if err != nil {
			return Result{}, within("set."+a.name, err)
		}
		assign(out, a.path, v)
		if i < 3 {
			if i > 0 {
				text.WriteString(", ")
			}
			text.WriteString(a.words)
			text.WriteString(expr.Brief(v))
		}
	}
	return Result{Fields: out, Text: text.String()}, nil
}

// within places an error that may have a place of its own within a setting.
func within(setting string, err error) error {
	var inner *expr.PathError
	if errors.As(err, &inner) {
		return wrong(setting+"."+inner.Path, inner.Err)
	}
	return &form.Error{Field: setting, Err: err}
}

// assign sets a field below path, copying the objects on the way so that the
// item it came from keeps its own.
func assign(out map[string]any, path []string, v any) {
	for len(path) > 1 {
		inner := map[string]any{}
		if old, ok := out[path[0]].(map[string]any); ok {
			maps.Copy(inner, old)
		}
		out[path[0]] = inner
		out, path = inner, path[1:]
	}
	out[path[0]] = v
}
