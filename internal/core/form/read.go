package form

import (
	"errors"
	"fmt"
	"reflect"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

type reader struct {
	defaults bool // they count where nothing is said
	in       expr.Names
	errs     []error
}

func (r *reader) add(place string, err error) {
	var within *expr.PathError
	if errors.As(err, &within) {
		place, err = join(place, within.Path), within.Err
	}
	r.errs = append(r.errs, &Error{place, err})
}

func join(place, name string) string {
	if place == "" || strings.HasPrefix(name, "[") {
		return place + name
	}
	return place + "." + name
}

// read takes a value that fits its schema; one that does not is left out.
func (r *reader) read(v any, place string, to reflect.Value) {
	if to.CanAddr() {
		if own, ok := to.Addr().Interface().(Custom); ok {
			if err := own.ReadForm(v); err != nil {
				r.add(place, err)
			}
			return
		}
	}
	switch to.Type() {
	case programType:
		if s, ok := v.(string); ok {
			p, err := expr.Compile(s, r.in)
			if err != nil {
				r.add(place, err)
				return
			}
			to.Set(reflect.ValueOf(p))
		}
		return
	case valueType:
		p, err := expr.CompileValue(v, r.in)
		if err != nil {
			r.add(place, err)
			return
		}
		to.Set(reflect.ValueOf(p))
		return
	case durationType:
		if s, ok := v.(string); ok {
			d, err := expr.ParseDuration(s)
			if err != nil {
				r.add(place, err)
				return
			}
			to.SetInt(int64(d))
		}
		return
	case stepsType:
		if list, ok := v.([]any); ok {
			to.Set(reflect.ValueOf(Steps(list)))
		}
		return
	}
	r.plain(v, place, to)
}

func (r *reader) plain(v any, place string, to reflect.Value) {
	switch to.Kind() {
	case reflect.Pointer:
		to.Set(reflect.New(to.Type().Elem()))
		r.read(v, place, to.Elem())
	case reflect.String:
		if s, ok := v.(string); ok {
			to.SetString(s)
		}
	case reflect.Bool:
		if b, ok := v.(bool); ok {
			to.SetBool(b)
		}
	case reflect.Int:
		if n, ok := v.(int64); ok {
			to.SetInt(n)
		}
	case reflect.Slice:
		r.list(v, place, to)
	case reflect.Map:
		r.names(v, place, to)
	case reflect.Struct:
		if m, ok := v.(map[string]any); ok {
			r.object(m, place, to)
		}
	case reflect.Interface:
		to.Set(reflect.ValueOf(v))
	}
}

func (r *reader) list(v any, place string, to reflect.Value) {
	list, ok := v.([]any)
	if !ok {
		return
	}
	out := reflect.MakeSlice(to.Type(), len(list), len(list))
	for i, e := range list {
		if e != nil {
			r.read(e, fmt.Sprintf("%s[%d]", place, i), out.Index(i))
		}
	}
	to.Set(out)
}

func (r *reader) names(v any, place string, to reflect.Value) {
	m, ok := v.(map[string]any)
	if !ok {
		return
	}
	out := reflect.MakeMapWithSize(to.Type(), len(m))
	for _, k := range item.Keys(m) {
		e := reflect.New(to.Type().Elem()).Elem()
		if m[k] != nil || e.Type() == valueType {
			r.read(m[k], join(place, k), e)
		}
		out.SetMapIndex(reflect.ValueOf(k), e)
	}
	to.Set(out)
}

func (r *reader) object(values map[string]any, place string, to reflect.Value) {
	for _, f := range fields(to.Type()) {
		v := values[f.name]
		if v == nil && r.defaults {
			v, _ = f.preset()
		}
		if v == nil {
			continue
		}
		in := r.in
		if own := f.tag.Get("reads"); own != "" {
			r.in = strings.Split(own, "|")
		}
		r.read(v, join(place, f.name), to.FieldByIndex(f.index))
		r.in = in
	}
}
