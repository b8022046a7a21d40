package document

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
)

// Decode fills target, a pointer to a struct with doc tags, and returns every
// problem at once. A field tagged `doc:"name,required"` must be there.
func (d *Document) Decode(target any) []Problem {
	r := &reader{}
	r.read(d.root, "", reflect.ValueOf(target).Elem())
	return r.found()
}

// DecodeAt fills target of what stands at a path, with problems placed in the
// whole document.
func (d *Document) DecodeAt(path string, target any) []Problem {
	r := &reader{}
	if n := d.At(path); n != nil {
		r.read(n, path, reflect.ValueOf(target).Elem())
	}
	return r.found()
}

// MostProblems is how many problems of a document are told, one of them being how
// many more there are.
const MostProblems = 500

type reader struct {
	problems []Problem
	more     int
	first    *yaml.Node // of those that are not told
}

func (r *reader) found() []Problem {
	if r.more == 0 {
		return r.problems
	}
	return append(r.problems, Problem{Severity: SeverityError, Line: r.first.Line, Column: r.first.Column, Message: fmt.Sprintf("There are %d more problems from here on.", r.more), Cure: "Mend these first."})
}

func (r *reader) add(n *yaml.Node, path, message, cure string) {
	if len(r.problems) == MostProblems-1 {
		if r.more++; r.first == nil {
			r.first = n
		}
		return
	}
	r.problems = append(r.problems, Problem{Severity: SeverityError, Path: path, Line: n.Line, Column: n.Column, Message: message, Cure: cure})
}

func kindOf(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "an object"
	case yaml.SequenceNode:
		return "a list"
	}
	switch n.Tag {
	case "!!null":
		return "nothing"
	case "!!bool":
		return "true or false"
	case "!!int", "!!float":
		return "a number"
	}
	return "text"
}

func (r *reader) read(n *yaml.Node, path string, v reflect.Value) {
	wrong := func(want string) {
		name := path
		if name == "" {
			name = "The document"
		}
		r.add(n, path, fmt.Sprintf("%s should be %s and is %s.", name, want, kindOf(n)), "")
	}
	switch v.Kind() {
	case reflect.Pointer:
		if n.Tag == "!!null" {
			return
		}
		v.Set(reflect.New(v.Type().Elem()))
		r.read(n, path, v.Elem())
	case reflect.Struct:
		if n.Kind != yaml.MappingNode {
			wrong("an object")
			return
		}
		r.readStruct(n, path, v)
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode {
			wrong("a list")
			return
		}
		list := reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content))
		for i, c := range n.Content {
			r.read(c, fmt.Sprintf("%s[%d]", path, i), list.Index(i))
		}
		v.Set(list)
	case reflect.Map:
		if n.Kind != yaml.MappingNode {
			wrong("an object")
			return
		}
		m := reflect.MakeMap(v.Type())
		for i := 0; i+1 < len(n.Content); i += 2 {
			e := reflect.New(v.Type().Elem()).Elem()
			r.read(n.Content[i+1], join(path, n.Content[i].Value), e)
			m.SetMapIndex(reflect.ValueOf(n.Content[i].Value), e)
		}
		v.Set(m)
	case reflect.Interface:
		if value := Value(n); value != nil {
			v.Set(reflect.ValueOf(value))
		}
	case reflect.String:
		if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
			wrong("text")
			return
		}
		v.SetString(n.Value)
	case reflect.Bool:
		if n.Tag != "!!bool" {
			wrong("true or false")
			return
		}
		v.SetBool(strings.EqualFold(n.Value, "true"))
	case reflect.Int:
		i, ok := Value(n).(int64)
		if !ok || i > math.MaxInt32 || i < math.MinInt32 {
			wrong("a whole number")
			return
		}
		v.SetInt(i)
	case reflect.Float64:
		switch f := Value(n).(type) {
		case int64:
			v.SetFloat(float64(f))
		case float64:
			v.SetFloat(f)
		default:
			wrong("a number")
		}
	default:
		panic("document: cannot read into " + v.Type().String())
	}
}

func (r *reader) readStruct(n *yaml.Node, path string, v reflect.Value) {
	fields, required := map[string]int{}, []string{}
	for i := range v.NumField() {
		name, option, _ := strings.Cut(v.Type().Field(i).Tag.Get("doc"), ",")
		if name == "" {
			continue
		}
		fields[name] = i
		if option == "required" {
			required = append(required, name)
		}
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		f, ok := fields[key.Value]
		if !ok {
			known := make([]string, 0, len(fields))
			for k := range fields {
				known = append(known, k)
			}
			slices.Sort(known)
			cure := strings.TrimSpace(near.Hint(key.Value, known))
			if cure == "" {
				cure = "Known here: " + strings.Join(known, ", ") + "."
			}
			r.add(key, join(path, key.Value), fmt.Sprintf("%q is not a known key.", key.Value), cure)
			continue
		}
		seen[key.Value] = true
		r.read(n.Content[i+1], join(path, key.Value), v.Field(f))
	}
	for _, name := range required {
		if !seen[name] {
			r.add(n, path, fmt.Sprintf("%q is missing here.", name), "")
		}
	}
}

// Value turns a node into a JSON value as item.Decode makes them.
func Value(n *yaml.Node) any {
	switch n.Kind {
	case yaml.MappingNode:
		m := make(map[string]any, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			m[n.Content[i].Value] = Value(n.Content[i+1])
		}
		return m
	case yaml.SequenceNode:
		l := make([]any, len(n.Content))
		for i, c := range n.Content {
			l[i] = Value(c)
		}
		return l
	}
	switch n.Tag {
	case "!!null":
		return nil
	case "!!bool":
		return strings.EqualFold(n.Value, "true")
	case "!!int":
		if strings.HasPrefix(n.Value, "0") && len(n.Value) > 1 {
			return n.Value // 04 is a cone, not the number four
		}
		return item.Number(strings.TrimPrefix(n.Value, "+"))
	case "!!float":
		if f, err := strconv.ParseFloat(n.Value, 64); err == nil && !math.IsInf(f, 0) && !math.IsNaN(f) {
			return item.Number(n.Value)
		}
	}
	return n.Value
}
