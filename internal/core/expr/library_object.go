package expr

import (
	"errors"
	"fmt"
	"strings"

	"github.com/theory/jsonpath"
)

var objectFunctions = group("objects",
	fn("keys(object: object) list", "The names of its fields, in order.", `keys({"b": 1, "a": 2})`, `["a","b"]`, func(m *machine, a args) (any, error) { return texts(m, keysOf(a.object(0))) }, found("field names properties")),
	fn("values(object: object) list", "The values of its fields, in order of their names.", `values({"b": 1, "a": 2})`, `[2,1]`, func(m *machine, a args) (any, error) {
		out := make([]any, 0, len(a.object(0)))
		for _, k := range keysOf(a.object(0)) {
			out = append(out, a.object(0)[k])
		}
		return out, m.charge(0, 16*len(out))
	}, found("field contents list")),
	fn("pick(object: object, names…: text) object", "Only these fields.", `pick({"a": 1, "b": 2}, "a")`, `{"a":1}`, chosen(true), found("keep only select fields")),
	fn("omit(object: object, names…: text) object", "All but these fields.", `omit({"a": 1, "b": 2}, "a")`, `{"b":2}`, chosen(false), found("remove drop without fields")),
	fn("rename(object: object, names: object) object", "Its fields, some under other names: each old name with the new one.", `rename({"a": 1, "b": 2}, {"a": "first"})`, `{"b":2,"first":1}`, renameFields, fails("two fields would have the same name"), found("change field name key")),
	fn("merge(objects…: object) object", "The fields of all; later ones win.", `merge({"a": 1}, {"b": 2})`, `{"a":1,"b":2}`, func(m *machine, a args) (any, error) {
		out := map[string]any{}
		for i := range a {
			if err := m.charge(0, 32*len(a.object(i))); err != nil {
				return nil, err
			}
			for k, v := range a.object(i) {
				out[k] = v
			}
		}
		return out, nil
	}, takesNothing, found("combine add fields together defaults")),
	fn("entries(object: object) list", "A list of objects with key and value.", `entries({"a": 1})`, `[{"key":"a","value":1}]`, func(m *machine, a args) (any, error) {
		out := make([]any, 0, len(a.object(0)))
		for _, k := range keysOf(a.object(0)) {
			out = append(out, map[string]any{"key": k, "value": a.object(0)[k]})
		}
		return out, m.charge(0, 64*len(out))
	}, found("object to list pairs")),
	fn("from_entries(list: list) object", "The object that a list of objects with key and value makes, or of lists of two.", `from_entries([{"key": "a", "value": 1}])`, `{"a":1}`, fromEntries, fails("an element has no key"), found("list to object pairs dictionary")),
	fn("flatten_keys(object: object, separator?: text) object", "Fields within fields as one level, with names joined by a point, or the separator.", `flatten_keys({"a": {"b": 1, "c": [2]}})`, `{"a.b":1,"a.c":[2]}`, func(m *machine, a args) (any, error) {
		separator := "."
		if a.has(1) {
			separator = a.text(1)
		}
		out := map[string]any{}
		return out, flattenKeys(m, out, "", separator, a.object(0))
	}, found("nested to flat columns dotted names")),
	fn("path(value: any, path: text) list", "All values at a JSONPath (RFC 9535); what *, .. and ? find stands in the order of the lists, fields by their names.", `path({"a": [{"n": 1}, {"n": 2}]}, "$.a[*].n")`, `[1,2]`, jsonPath, costs(16), takes(14), fails("the path cannot be read"), found("jsonpath query deep nested select search")),
)

func chosen(keep bool) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) {
		o := a.object(0)
		if err := m.charge(0, 32*len(o)); err != nil {
			return nil, err
		}
		names := map[string]bool{}
		for i := range a[1:] {
			for _, s := range strings.Split(a.text(i+1), ",") {
				names[strings.TrimSpace(s)] = true
			}
		}
		out := map[string]any{}
		for k, v := range o {
			if names[k] == keep {
				out[k] = v
			}
		}
		return out, nil
	}
}

func renameFields(m *machine, a args) (any, error) {
	o, names := a.object(0), a.object(1)
	out := make(map[string]any, len(o))
	for _, k := range keysOf(o) {
		to := k
		if n, ok := names[k]; ok && n != nil {
			to = Text(n)
		}
		if _, taken := out[to]; taken {
			return nil, fmt.Errorf("two fields would be named %s", quote(to))
		}
		out[to] = o[k]
	}
	return out, m.charge(0, 32*len(o))
}

func fromEntries(m *machine, a args) (any, error) {
	out := map[string]any{}
	for i, e := range a.list(0) {
		var key, value any
		switch e := e.(type) {
		case map[string]any:
			key, value = e["key"], e["value"]
			if key == nil {
				key = e["name"]
			}
		case []any:
			if len(e) == 2 {
				key, value = e[0], e[1]
			}
		}
		if key == nil {
			return nil, fmt.Errorf("element %d is %s; it should be an object with key and value", i+1, show(e))
		}
		out[Text(key)] = value
	}
	return out, m.charge(0, 32*len(out))
}

func flattenKeys(m *machine, out map[string]any, prefix, separator string, o map[string]any) error {
	for k, v := range o {
		if err := errors.Join(m.step(0), m.charge(0, 32+len(prefix)+len(k))); err != nil {
			return err
		}
		if inner, ok := v.(map[string]any); ok && len(inner) > 0 {
			if err := flattenKeys(m, out, prefix+k+separator, separator, inner); err != nil {
				return err
			}
			continue
		}
		out[prefix+k] = v
	}
	return nil
}

// jsonPath selects by RFC 9535. What it walks through is charged before.
func jsonPath(m *machine, a args) (any, error) {
	source := a.text(1)
	p, err := jsonpath.Parse(source)
	if err != nil {
		_, what, found := strings.Cut(err.Error(), "jsonpath: ")
		if !found {
			what = err.Error()
		}
		return nil, fmt.Errorf("the path %s cannot be read: %s; paths are written as $.orders[*].id", quote(source), what)
	}
	// A path may go through everything once for each of its parts.
	left := MaxMemory
	if !weigh(a[0], &left) {
		return nil, m.charge(0, MaxMemory+1)
	}
	parts := strings.Count(source, "..") + strings.Count(source, "?") + 1
	if err := m.work(0, parts*parts*(MaxMemory-left)/64); err != nil {
		return nil, err
	}
	found := p.SelectLocated(settle(a[0]))
	if strings.ContainsAny(source, "*?") || strings.Contains(source, "..") {
		found.Sort() // fields have no order of their own
	}
	out := []any{}
	for n := range found.Nodes() {
		out = append(out, n)
	}
	if err := m.charge(0, 16*len(out)); err != nil {
		return nil, err
	}
	return out, nil
}
