package expr

import (
	"errors"
	"fmt"
	"slices"

	"youngtrellis/internal/core/item"
)

var listFunctions = group("lists",
	withBody("filter(list: list, condition: body) list", "The elements for which the condition holds. Fields are .name, the element itself is #.", `filter([1, 2, 3], # > 1)`, `[2,3]`, found("keep only where select")),
	withBody("map(list: list, expression: body) list", "What the expression gives for each element.", `map([{"n": 1}, {"n": 2}], .n)`, `[1,2]`, found("each transform every pluck field of all")),
	withBody("any(list: list, condition: body) yes", "Whether it holds for at least one element.", `any([1, 2], # == 2)`, `true`, found("some exists at least one")),
	withBody("all(list: list, condition: body) yes", "Whether it holds for every element.", `all([1, 2], # > 0)`, `true`, found("every each")),
	withBody("none(list: list, condition: body) yes", "Whether it holds for no element.", `none([1, 2], # > 5)`, `true`, found("not any never")),
	withBody("find(list: list, condition: body) any", "The first element for which it holds, or nothing.", `find([1, 2, 3], # > 1)`, `2`, found("first where search lookup")),
	withBody("find_last(list: list, condition: body) any", "The last element for which it holds, or nothing.", `find_last([1, 2, 3], # > 1)`, `3`, found("last where search latest")),
	withBody("count(list: list, condition: body) whole", "For how many elements it holds.", `count([1, 2, 3], # > 1)`, `2`, found("how many number of")),
	withBody("reduce(list: list, expression: body, start?: any) any", "Goes through the list with a running value, #acc.", `reduce([1, 2, 3], #acc + #, 0)`, `6`, found("fold accumulate running total")),
	withBody("sort_by(list: list, key: body, order?: text) list", "Ordered by a key, \"desc\" for the greatest first; nothing comes last.", `sort_by([{"n": 2}, {"n": 1}], .n)`, `[{"n":1},{"n":2}]`, found("order arrange newest first descending ascending")),
	withBody("group_by(list: list, key: body) object", "An object of lists, one for each value of the key as text.", `group_by([{"k": "a"}, {"k": "b"}], .k)`, `{"a":[{"k":"a"}],"b":[{"k":"b"}]}`, found("bucket categorise by field")),
	withBody("index_by(list: list, key: body) object", "An object of the elements, by the key as text; of several with one key the last.", `index_by([{"k": "a", "n": 1}], .k)`, `{"a":{"k":"a","n":1}}`, found("lookup table dictionary by id key")),
	fn("list(name: text) list", "The rows of a list of the workspace, as they stand as the item comes to the step; its name stands here in quotes.", `len(list("duty"))`, `2`, func(m *machine, a args) (any, error) {
		if m.scope.Lists == nil {
			return nil, errors.New("a list is read only while a workflow runs or is rehearsed")
		}
		rows, err := m.scope.Lists.List(a.text(0))
		if err != nil {
			m.broken = brokenBy(err)
			return nil, err
		}
		return rows, m.charge(0, 16*len(rows))
	}, fails("there is no list of this name"), found("workspace table rows lookup words people"), byOthers),
	fn("first(list: any) any", "The first element, or nothing.", `first([4, 5])`, `4`, elementAt(0), fails("the value is neither a list nor text"), found("beginning head one")),
	fn("last(list: any) any", "The last element, or nothing.", `last([4, 5])`, `5`, elementAt(-1), fails("the value is neither a list nor text"), found("end tail newest")),
	fn("at(list: any, n: whole) any", "The n-th element, counted from 0, or from the end if negative; nothing where there is none.", `at([4, 5, 6], -1)`, `6`, func(m *machine, a args) (any, error) { return m.index(0, a[0], a.whole(1, 0)) }, fails("the value is neither a list nor text"), found("index element position nth")),
	fn("take(list: list, n: whole) list", "The first n elements.", `take([1, 2, 3], 2)`, `[1,2]`, func(_ *machine, a args) (any, error) { return a.list(0)[:counted(a)], nil }, found("limit top first few")),
	fn("skip(list: list, n: whole) list", "All but the first n elements.", `skip([1, 2, 3], 2)`, `[3]`, func(_ *machine, a args) (any, error) { return a.list(0)[counted(a):], nil }, found("offset drop rest")),
	fn("slice(list: any, from: whole, to?: whole) any", "The elements of a list, or characters of a text, from one place up to another, counted from 0, or from the end if negative.", `slice([1, 2, 3, 4], 1, 3)`, `[2,3]`, func(m *machine, a args) (any, error) {
		var to any
		if a.has(2) {
			to = a[2]
		}
		return m.slice(0, a[0], a[1], to)
	}, fails("the value is neither a list nor text"), found("part range substring sublist")),
	fn("unique(list: list) list", "Each value once, in order of first appearance.", `unique([2, 1, 2])`, `[2,1]`, func(m *machine, a args) (any, error) {
		if err := m.charge(0, 32*len(a.list(0))); err != nil {
			return nil, err
		}
		if err := m.written(0, a[0]); err != nil {
			return nil, err
		}
		seen, out := map[string]bool{}, []any{}
		for _, v := range a.list(0) {
			if k := identity(v); !seen[k] {
				seen[k] = true
				out = append(out, v)
			}
		}
		return out, nil
	}, costs(16), found("distinct duplicates remove once")),
	fn("sort(list: list) list", "Ordered from least to greatest; nothing comes last.", `sort([3, 1, 2])`, `[1,2,3]`, func(m *machine, a args) (any, error) { return sorted(m, 0, a.list(0), a.list(0), 1) }, costs(32), fails("the elements cannot be compared"), found("order ascending arrange")),
	fn("reverse(list: list) list", "From last to first.", `reverse([1, 2])`, `[2,1]`, func(m *machine, a args) (any, error) {
		l := slices.Clone(a.list(0))
		slices.Reverse(l)
		return l, m.charge(0, 16*len(l))
	}, found("backwards descending")),
	fn("flatten(list: list) list", "Lists within the list opened, one level.", `flatten([[1], [2, 3]])`, `[1,2,3]`, flatten, found("merge nested lists together")),
	fn("compact(list: list) list", "Without nothing and empty text.", `compact([1, nil, "", 2])`, `[1,2]`, func(m *machine, a args) (any, error) {
		return slices.DeleteFunc(slices.Clone(a.list(0)), func(v any) bool { return v == nil || v == "" }), m.charge(0, 16*len(a.list(0)))
	}, found("remove empty blank null missing")),
	fn("difference(list: list, other: list) list", "The elements that are not in the other list.", `difference([1, 2, 3], [2])`, `[1,3]`, against(false), costs(16), found("without minus except new ones missing")),
	fn("intersect(list: list, other: list) list", "The elements that are in the other list too.", `intersect([1, 2, 3], [2, 9])`, `[2]`, against(true), costs(16), found("common both shared overlap")),
	fn("chunks(list: list, size: whole) list", "Lists of at most so many elements.", `chunks([1, 2, 3], 2)`, `[[1,2],[3]]`, chunked, fails("the size is less than 1"), found("batch pages groups of")),
	fn("zip(lists…: list) list", "Lists of the first elements of all, of the second ones, and so on; nothing where a list is shorter.", `zip([1, 2], ["a", "b"])`, `[[1,"a"],[2,"b"]]`, zip, takesNothing, found("pair combine columns together")),
	fn("range(from: whole, to: whole, step?: whole) list", "The whole numbers from one up to and with another.", `range(2, 8, 3)`, `[2,5,8]`, ranged, fails("the step is 0"), found("numbers sequence series count list of")),
)

func elementAt(i int64) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) { return m.index(0, a[0], i) }
}

func counted(a args) int { return int(max(0, min(a.whole(1, 0), int64(len(a.list(0)))))) }

// identity gives equal values the same text, and values of different types
// different ones.
func identity(v any) string {
	b, err := item.Plain(settle(v))
	if err != nil {
		return fmt.Sprintf("%T %v", v, v)
	}
	return string(b)
}

func flatten(m *machine, a args) (any, error) {
	out := []any{}
	for _, v := range a.list(0) {
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

func against(keep bool) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) {
		if err := m.charge(0, 32*(len(a.list(0))+len(a.list(1)))); err != nil {
			return nil, err
		}
		if err := errors.Join(m.written(0, a[0]), m.written(0, a[1])); err != nil {
			return nil, err
		}
		known := map[string]bool{}
		for _, v := range a.list(1) {
			known[identity(v)] = true
		}
		out := []any{}
		for _, v := range a.list(0) {
			if known[identity(v)] == keep {
				out = append(out, v)
			}
		}
		return out, nil
	}
}

func chunked(m *machine, a args) (any, error) {
	n := a.whole(1, 0)
	if n < 1 {
		return nil, errors.New("the size is at least 1")
	}
	if err := m.charge(0, 48*len(a.list(0))); err != nil {
		return nil, err
	}
	out := []any{}
	for c := range slices.Chunk(a.list(0), bounded(n)) {
		out = append(out, slices.Clone(c))
	}
	return out, nil
}

func zip(m *machine, a args) (any, error) {
	longest := 0
	for i := range a {
		longest = max(longest, len(a.list(i)))
	}
	if err := m.charge(0, 16*longest*(len(a)+2)); err != nil {
		return nil, err
	}
	out := make([]any, longest)
	for i := range out {
		row := make([]any, len(a))
		for j := range a {
			if l := a.list(j); i < len(l) {
				row[j] = l[i]
			}
		}
		out[i] = row
	}
	return out, nil
}

func ranged(m *machine, a args) (any, error) {
	from, to, step := a.whole(0, 0), a.whole(1, 0), a.whole(2, 1)
	if step == 0 {
		return nil, errors.New("the step is not 0")
	}
	if step < 0 {
		if to > from {
			return []any{}, nil
		}
	} else if to < from {
		return []any{}, nil
	}
	n := (magnitude(to-from) / magnitude(step)) + 1
	if (to-from < 0) != (step < 0) && to != from || n > MaxMemory/24 {
		return nil, m.charge(0, MaxMemory+1)
	}
	if err := m.charge(0, 24*int(n)); err != nil {
		return nil, err
	}
	out := make([]any, n)
	for i := range out {
		out[i] = from + int64(i)*step
	}
	return out, nil
}
