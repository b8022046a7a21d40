package form

import (
	"fmt"
	"reflect"
)

// Nested are steps that stand within a struct.
type Nested struct {
	Place string // as cases[1].steps
	Name  string // of the object in which they stand, else that of the field
	Owned bool   // the object has a name of its own
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
		for _, f := range fields(v.Type()) {
			if f.t.Kind() == reflect.String && f.name == "name" {
				owner = v.FieldByIndex(f.index).String()
			}
		}
		for _, f := range fields(v.Type()) {
			inner := v.FieldByIndex(f.index)
			if f.t == stepsType {
				if inner.IsNil() && f.name != "steps" {
					continue
				}
				n := Nested{Place: join(place, f.name), Name: f.name, Steps: inner.Interface().(Steps)}
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
