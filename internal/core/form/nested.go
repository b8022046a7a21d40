package form

import (
	"fmt"
	"reflect"

	"youngtrellis/internal/core/expr"
)

// Nested are steps that stand within a struct.
type Nested struct {
	Place string // as cases[1].steps
	Name  string // of the object in which they stand, else that of the field
	Owned bool   // the object has a name of its own
	When  string // the object's condition in words, where it has one
	Steps Steps
}

// Within lists all steps that stand within a struct, in the order of its fields.
// A field that is called steps is listed even without any.
func Within(target any) []Nested {
	var out []Nested
	nested(reflect.ValueOf(target), "", "", &out)
	return out
}

func nested(v reflect.Value, place, owner string, out *[]Nested) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			nested(v.Elem(), place, owner, out)
		}
	case reflect.Struct:
		when := ""
		for _, f := range fields(v.Type()) {
			switch p, _ := v.FieldByIndex(f.index).Interface().(*expr.Program); {
			case f.t.Kind() == reflect.String && f.name == "name":
				owner = v.FieldByIndex(f.index).String()
			case p != nil && f.name == "when":
				when = p.Words()
			}
		}
		for _, f := range fields(v.Type()) {
			inner := v.FieldByIndex(f.index)
			if f.t == stepsType {
				if inner.IsNil() && f.name != "steps" {
					continue
				}
				n := Nested{Place: join(place, f.name), Name: f.name, When: when, Steps: inner.Interface().(Steps)}
				if owner != "" {
					n.Name, n.Owned = owner, true
				}
				*out = append(*out, n)
				continue
			}
			nested(inner, join(place, f.name), "", out)
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Struct {
			for i := range v.Len() {
				nested(v.Index(i), fmt.Sprintf("%s[%d]", place, i), "", out)
			}
		}
	}
}
