// Package form makes of a typed struct all that is said of it: the JSON Schema
// that checks it and that editors complete by, the fields of a form in their
// order, the reading of values into it with every problem placed, and the paths
// that its expressions read.
//
//	type settings struct {
//		Where *expr.Program `form:"where,required" title:"Keep an item where" help:"A condition on its fields."`
//	}
//	var f = form.Of[settings](expr.Names{"item"})
//	errs := f.Read(values, &s)
//
// Tags of a field: form (name, and required), title, help, hint (the control),
// oneof (values with | between them), usual (the same, where others are right too), words (value=words; …), default, example,
// pattern, min, max, part (of a long form, in which it stands with others; of a
// part that ends in |one only one is filled in), reads (the names of its expressions, with | between them,
// where they are others than those of the form). An embedded struct adds its fields.
package form

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"youngtrellis/internal/core/expr"
)

// Property is one field, in the order in which a form shows them.
type Property struct {
	Name     string
	Required bool
	Schema   map[string]any
}

// Steps are steps that stand within a setting. They are read by whoever knows
// what a step is.
type Steps []any

// Custom is of types that say themselves what they look like in a document.
type Custom interface {
	FormSchema() map[string]any
	// ReadForm takes a value that fits the schema.
	ReadForm(v any) error
}

// Error places an error in a field, as set.studio or cases[1].when.
type Error struct {
	Field string
	Err   error
}

// Gap is an error of what nobody has filled in yet: it is no mistake of anybody.
type Gap struct{ Err error }

func (g *Gap) Error() string { return g.Err.Error() }
func (g *Gap) Unwrap() error { return g.Err }

func (e *Error) Error() string { return e.Err.Error() }
func (e *Error) Unwrap() error { return e.Err }

// Form is what is said of a struct.
type Form struct {
	Properties []Property
	Schema     map[string]any
	compiled   *jsonschema.Schema
	in         expr.Names
}

// Of makes the form of a struct, whose expressions read values by these names, or
// by those of their tag. It panics if the struct cannot be one, which is a mistake
// in the program.
func Of[T any](in expr.Names) *Form {
	t := reflect.TypeFor[T]()
	f := &Form{Schema: object(t), in: in}
	for _, x := range fields(t) {
		f.Properties = append(f.Properties, Property{x.name, x.required, x.schema()})
	}
	var err error
	if f.compiled, err = Compile(f.Schema); err != nil {
		panic("form: " + t.String() + ": " + err.Error())
	}
	return f
}

// Read fills the struct that into points to, with defaults where nothing is
// said, and gives every problem, each an *Error where it has a place.
func (f *Form) Read(values map[string]any, into any) []error {
	if values == nil {
		values = map[string]any{}
	}
	if err := Validate(f.compiled, f.Properties, values); err != nil {
		var input *InputError
		if !errors.As(err, &input) {
			return []error{err}
		}
		var errs []error
		for _, x := range input.Fields {
			err := errors.New(x.Message)
			if x.Gap {
				err = &Gap{err}
			}
			errs = append(errs, &Error{x.Field, err})
		}
		return errs
	}
	r := &reader{defaults: true, in: f.in}
	r.object(values, "", reflect.ValueOf(into).Elem())
	return r.errs
}

// Sketch fills the struct as far as the values can be read: for whoever words
// what is not finished yet.
func (f *Form) Sketch(values map[string]any, into any) {
	r := &reader{in: f.in}
	r.object(values, "", reflect.ValueOf(into).Elem())
}

// field is a field of a struct with its tags.
type field struct {
	name     string
	required bool
	index    []int
	t        reflect.Type
	tag      reflect.StructTag
}

func fields(t reflect.Type) []field {
	var out []field
	for i := range t.NumField() {
		s := t.Field(i)
		if s.Anonymous && s.Type.Kind() == reflect.Struct {
			for _, x := range fields(s.Type) {
				x.index = append([]int{i}, x.index...)
				out = append(out, x)
			}
			continue
		}
		name, option, _ := strings.Cut(s.Tag.Get("form"), ",")
		if name == "" {
			continue
		}
		out = append(out, field{name, option == "required", []int{i}, s.Type, s.Tag})
	}
	return out
}

var (
	programType  = reflect.TypeFor[*expr.Program]()
	valueType    = reflect.TypeFor[*expr.Value]()
	durationType = reflect.TypeFor[time.Duration]()
	stepsType    = reflect.TypeFor[Steps]()
	customType   = reflect.TypeFor[Custom]()
)

func object(t reflect.Type) map[string]any {
	properties, required := map[string]any{}, []any{}
	for _, x := range fields(t) {
		properties[x.name] = x.schema()
		if x.required {
			required = append(required, x.name)
		}
	}
	return map[string]any{"type": "object", "additionalProperties": false, "properties": properties, "required": required}
}

// schema is that of one field, with all that its tags say.
func (f field) schema() map[string]any {
	s := schemaOf(f.t)
	for key, tag := range map[string]string{"title": "title", "description": "help", "hint": "hint", "pattern": "pattern", "part": "part"} {
		if v := f.tag.Get(tag); v != "" {
			s[key] = v
		}
	}
	if part, one := strings.CutSuffix(f.tag.Get("part"), "|one"); one {
		s["part"], s["one"] = part, true
	}
	if v := f.tag.Get("oneof"); v != "" {
		delete(s, "type")
		s["enum"] = texts(strings.Split(v, "|"))
	}
	if v := f.tag.Get("usual"); v != "" {
		s["usual"] = texts(strings.Split(v, "|"))
	}
	if v := f.tag.Get("example"); v != "" {
		s["examples"] = []any{v}
	}
	if v, ok := f.preset(); ok {
		s["default"] = v
	}
	if v := f.tag.Get("words"); v != "" {
		words := map[string]any{}
		for _, pair := range strings.Split(v, ";") {
			value, text, _ := strings.Cut(pair, "=")
			words[strings.TrimSpace(value)] = strings.TrimSpace(text)
		}
		s["words"] = words
	}
	bound(s, "min", f.tag.Get("min"))
	bound(s, "max", f.tag.Get("max"))
	if f.required && s["type"] == "string" && s["minLength"] == nil {
		s["minLength"] = int64(1)
	}
	return s
}

// bound is of numbers, of the length of text, and of lists.
func bound(s map[string]any, which, text string) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return
	}
	key := map[string]string{"min": "minimum", "max": "maximum"}[which]
	switch s["type"] {
	case "string":
		key = map[string]string{"min": "minLength", "max": "maxLength"}[which]
	case "array":
		key = map[string]string{"min": "minItems", "max": "maxItems"}[which]
	}
	s[key] = n
}

func texts(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

func schemaOf(t reflect.Type) map[string]any {
	if reflect.PointerTo(t).Implements(customType) {
		return reflect.New(t).Interface().(Custom).FormSchema()
	}
	switch t {
	case programType:
		return map[string]any{"type": "string", "hint": "condition"}
	case valueType:
		return map[string]any{}
	case durationType:
		return map[string]any{"type": "string", "hint": "duration"}
	case stepsType:
		return map[string]any{"type": "array", "hint": "steps"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem())
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Interface {
			return map[string]any{"type": "array"}
		}
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case reflect.Map:
		if t.Elem() == valueType || t.Elem().Kind() == reflect.Interface {
			return map[string]any{"type": "object", "additionalProperties": true}
		}
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem())}
	case reflect.Struct:
		return object(t)
	case reflect.Interface:
		return map[string]any{}
	}
	panic("form: a field cannot be " + t.String())
}

// preset is the default that the field's tag says, as a document would.
func (f field) preset() (any, bool) {
	v := f.tag.Get("default")
	if v == "" {
		return nil, false
	}
	switch f.t.Kind() {
	case reflect.Int:
		n, err := strconv.ParseInt(v, 10, 64)
		return n, err == nil
	case reflect.Bool:
		return v == "true", true
	}
	return v, true
}

// Refs lists the paths that each field's expressions read, by the field's place.
func Refs(target any) map[string][]expr.Ref {
	out := map[string][]expr.Ref{}
	walk(reflect.ValueOf(target), "", func(place string, refs []expr.Ref) {
		out[place] = append(out[place], refs...)
	})
	return out
}

func walk(v reflect.Value, place string, found func(string, []expr.Ref)) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return
		}
		switch x := v.Interface().(type) {
		case *expr.Program:
			found(place, x.Refs)
			return
		case *expr.Value:
			found(place, x.Refs())
			return
		}
		walk(v.Elem(), place, found)
	case reflect.Struct:
		for _, f := range fields(v.Type()) {
			walk(v.FieldByIndex(f.index), join(place, f.name), found)
		}
	case reflect.Slice:
		if v.Type() == stepsType || v.Type().Elem().Kind() == reflect.Interface {
			return
		}
		for i := range v.Len() {
			walk(v.Index(i), fmt.Sprintf("%s[%d]", place, i), found)
		}
	case reflect.Map:
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
		for _, k := range keys {
			walk(v.MapIndex(k), join(place, k.String()), found)
		}
	}
}
