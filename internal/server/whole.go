package server

import (
	"reflect"

	"github.com/gin-gonic/gin"

	"youngtrellis/api"
)

// wholeAnswers lets no answer hold null where the contract promises a list, however
// deep it lies.
func wholeAnswers(f api.StrictHandlerFunc, _ string) api.StrictHandlerFunc {
	return func(c *gin.Context, request any) (any, error) {
		answer, err := f(c, request)
		if err != nil || answer == nil {
			return answer, err
		}
		if v, changed := filled(reflect.ValueOf(answer)); changed {
			return v.Interface(), nil
		}
		return answer, nil
	}
}

// whole is the same for an answer that is written bit by bit.
func whole[T any](answer T) T {
	if v, changed := filled(reflect.ValueOf(answer)); changed {
		answer, _ = v.Interface().(T)
	}
	return answer
}

// filled gives every list without an element its empty form. What others may hold too
// is copied where it changes. An optional list that is not there stays so.
func filled(v reflect.Value) (out reflect.Value, changed bool) {
	switch v.Kind() {
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return v, false // text, or JSON
		}
		if v.IsNil() {
			return reflect.MakeSlice(v.Type(), 0, 0), true
		}
		for i := range v.Len() {
			e, c := filled(v.Index(i))
			if !c {
				continue
			}
			if !changed {
				out, changed = reflect.MakeSlice(v.Type(), v.Len(), v.Len()), true
				reflect.Copy(out, v)
			}
			out.Index(i).Set(e)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if !v.Type().Field(i).IsExported() {
				continue
			}
			f, c := filled(v.Field(i))
			if !c {
				continue
			}
			if !changed {
				out, changed = reflect.New(v.Type()).Elem(), true
				out.Set(v)
			}
			out.Field(i).Set(f)
		}
	case reflect.Pointer:
		if v.IsNil() || v.Elem().Kind() != reflect.Struct {
			break // an optional list
		}
		if e, c := filled(v.Elem()); c {
			out, changed = reflect.New(v.Type().Elem()), true
			out.Elem().Set(e)
		}
	}
	if !changed {
		return v, false
	}
	return out, true
}
