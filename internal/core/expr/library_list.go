package expr

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"youngtrellis/internal/core/item"
)

var listFunctions = group("lists",
	withBody("filter(list, condition)", "The elements for which the condition holds. Fields are .name, the element itself is #.", `filter([1, 2, 3], # > 1)`, `[2,3]`),
	withBody("map(list, expression)", "What the expression gives for each element.", `map([{"n": 1}, {"n": 2}], .n)`, `[1,2]`),
	withBody("any(list, condition)", "Whether it holds for at least one element.", `any([1, 2], # == 2)`, `true`),
	withBody("all(list, condition)", "Whether it holds for every element.", `all([1, 2], # > 0)`, `true`),
	withBody("none(list, condition)", "Whether it holds for no element.", `none([1, 2], # > 5)`, `true`),
	withBody("find(list, condition)", "The first element for which it holds, or nothing.", `find([1, 2, 3], # > 1)`, `2`),
	withBody("find_last(list, condition)", "The last element for which it holds, or nothing.", `find_last([1, 2, 3], # > 1)`, `3`),
	withBody("count(list, condition)", "For how many elements it holds.", `count([1, 2, 3], # > 1)`, `2`),
	withBody("reduce(list, expression, start)", "Goes through the list with a running value, #acc.", `reduce([1, 2, 3], #acc + #, 0)`, `6`),
	withBody("sort_by(list, key, \"desc\")", "Ordered by a key; nothing comes last.", `sort_by([{"n": 2}, {"n": 1}], .n)`, `[{"n":1},{"n":2}]`),
	withBody("group_by(list, key)", "An object of lists, one for each value of the key.", `group_by([{"k": "a"}, {"k": "b"}], .k)`, `{"a":[{"k":"a"}],"b":[{"k":"b"}]}`),
	fn("first(list)", "The first element, or nothing.", `first([4, 5])`, `4`, 1, 1, elementAt(0)),
	fn("last(list)", "The last element, or nothing.", `last([4, 5])`, `5`, 1, 1, elementAt(-1)),
	fn("take(list, n)", "The first n elements.", `take([1, 2, 3], 2)`, `[1,2]`, 2, 2, func(_ *machine, a []any) (any, error) {
		l, n, err := listAndCount(a)
		return l[:n], err
	}),
	fn("skip(list, n)", "All but the first n elements.", `skip([1, 2, 3], 2)`, `[3]`, 2, 2, func(_ *machine, a []any) (any, error) {
		l, n, err := listAndCount(a)
		return l[n:], err
	}),
	fn("unique(list)", "Each value once, in order of first appearance.", `unique([2, 1, 2])`, `[2,1]`, 1, 1, unique),
	fn("sort(list)", "Ordered from least to greatest; nothing comes last.", `sort([3, 1, 2])`, `[1,2,3]`, 1, 1, func(m *machine, a []any) (any, error) {
		l, err := listArg(a, 0)
		if err != nil {
			return nil, err
		}
		return sorted(m, 0, l, l, 1)
	}),
	fn("reverse(list)", "From last to first.", `reverse([1, 2])`, `[2,1]`, 1, 1, func(m *machine, a []any) (any, error) {
		l, err := listArg(a, 0)
		if err := errors.Join(err, m.charge(0, 16*len(l))); err != nil {
			return nil, err
		}
		l = slices.Clone(l)
		slices.Reverse(l)
		return l, nil
	}),
	fn("flatten(list)", "Lists within the list opened, one level.", `flatten([[1], [2, 3]])`, `[1,2,3]`, 1, 1, flatten),
	fn("compact(list)", "Without nothing and empty text.", `compact([1, nil, "", 2])`, `[1,2]`, 1, 1, compact),
	fn("difference(list, other)", "The elements that are not in the other list.", `difference([1, 2, 3], [2])`, `[1,3]`, 2, 2, against(false)),
	fn("intersect(list, other)", "The elements that are in the other list too.", `intersect([1, 2, 3], [2, 9])`, `[2]`, 2, 2, against(true)),
	fn("chunks(list, size)", "Lists of at most so many elements.", `chunks([1, 2, 3], 2)`, `[[1,2],[3]]`, 2, 2, chunked),
)

func elementAt(i int64) func(*machine, []any) (any, error) {
	return func(m *machine, a []any) (any, error) { return m.index(0, a[0], i) }
}

func listAndCount(a []any) ([]any, int, error) {
	l, err1 := listArg(a, 0)
	n, err2 := intArg(a, 1, 0)
	return l, int(max(0, min(n, int64(len(l))))), errors.Join(err1, err2)
}

// identity gives equal values the same text, and values of different types
// different ones.
func identity(v any) string {
	b, err := item.Encode(settle(v))
	if err != nil {
		return fmt.Sprintf("%T %v", v, v)
	}
	return string(b)
}

func unique(m *machine, a []any) (any, error) {
	l, err := listArg(a, 0)
	if err := errors.Join(err, m.charge(0, 32*len(l))); err != nil {
		return nil, err
	}
	seen, out := map[string]bool{}, []any{}
	for _, v := range l {
		if k := identity(v); !seen[k] {
			seen[k] = true
			out = append(out, v)
		}
	}
	return out, nil
}

func flatten(m *machine, a []any) (any, error) {
	l, err := listArg(a, 0)
	if err != nil {
		return nil, err
	}
	out := []any{}
	for _, v := range l {
		inner, ok := v.([]any)
		if !ok {
			inner = []any{v}
		}
		if err := m.charge(0, 16*len(inner)); err != nil {
			return nil, err
		}
		out = append(out, inner...)
	}
	return out, nil
}

func compact(m *machine, a []any) (any, error) {
	l, err := listArg(a, 0)
	if err := errors.Join(err, m.charge(0, 16*len(l))); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(l), func(v any) bool { return v == nil || v == "" }), nil
}

func against(keep bool) func(*machine, []any) (any, error) {
	return func(m *machine, a []any) (any, error) {
		l, err1 := listArg(a, 0)
		other, err2 := listArg(a, 1)
		if err := errors.Join(err1, err2, m.charge(0, 32*(len(l)+len(other)))); err != nil {
			return nil, err
		}
		known := map[string]bool{}
		for _, v := range other {
			known[identity(v)] = true
		}
		out := []any{}
		for _, v := range l {
			if known[identity(v)] == keep {
				out = append(out, v)
			}
		}
		return out, nil
	}
}

func chunked(m *machine, a []any) (any, error) {
	l, err1 := listArg(a, 0)
	n, err2 := intArg(a, 1, 0)
	if err := errors.Join(err1, err2, m.charge(0, 32*len(l))); err != nil {
		return nil, err
	}
	if n < 1 {
		return nil, errors.New("the size is at least 1")
	}
	out := []any{}
	for c := range slices.Chunk(l, int(n)) {
		out = append(out, slices.Clone(c))
	}
	return out, nil
}

var objectFunctions = group("objects",
	fn("keys(object)", "The names of its fields, in order.", `keys({"b": 1, "a": 2})`, `["a","b"]`, 1, 1, func(m *machine, a []any) (any, error) {
		o, err := objectArg(a, 0)
		if err != nil {
			return nil, err
		}
		return texts(m, keysOf(o))
	}),
	fn("values(object)", "The values of its fields, in order of their names.", `values({"b": 1, "a": 2})`, `[2,1]`, 1, 1, func(m *machine, a []any) (any, error) {
		o, err := objectArg(a, 0)
		if err := errors.Join(err, m.charge(0, 16*len(o))); err != nil {
			return nil, err
		}
		out := []any{}
		for _, k := range keysOf(o) {
			out = append(out, o[k])
		}
		return out, nil
	}),
	fn("pick(object, names…)", "Only these fields.", `pick({"a": 1, "b": 2}, "a")`, `{"a":1}`, 2, many, chosen(true)),
	fn("omit(object, names…)", "All but these fields.", `omit({"a": 1, "b": 2}, "a")`, `{"b":2}`, 2, many, chosen(false)),
	takesNothing(fn("merge(objects…)", "The fields of all; later ones win.", `merge({"a": 1}, {"b": 2})`, `{"a":1,"b":2}`, 1, many, func(m *machine, a []any) (any, error) {
		out := map[string]any{}
		for i := range a {
			o, err := objectArg(a, i)
			if err := errors.Join(err, m.charge(0, 32*len(o))); err != nil {
				return nil, err
			}
			for k, v := range o {
				out[k] = v
			}
		}
		return out, nil
	})),
	fn("entries(object)", "A list of objects with key and value.", `entries({"a": 1})`, `[{"key":"a","value":1}]`, 1, 1, func(m *machine, a []any) (any, error) {
		o, err := objectArg(a, 0)
		if err := errors.Join(err, m.charge(0, 64*len(o))); err != nil {
			return nil, err
		}
		out := []any{}
		for _, k := range keysOf(o) {
			out = append(out, map[string]any{"key": k, "value": o[k]})
		}
		return out, nil
	}),
)

func chosen(keep bool) func(*machine, []any) (any, error) {
	return func(m *machine, a []any) (any, error) {
		o, err := objectArg(a, 0)
		if err := errors.Join(err, m.charge(0, 32*len(o))); err != nil {
			return nil, err
		}
		names := map[string]bool{}
		for _, n := range a[1:] {
			for _, s := range strings.Split(Text(n), ",") {
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
