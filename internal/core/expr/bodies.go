package expr

import (
	"slices"
	"strings"

	"github.com/expr-lang/expr/ast"

	"youngtrellis/internal/core/near"
)

// A walk applies a body to the elements of a list, as in
// filter(item.lines, .quantity > 0). Rest are the further arguments.
type walk func(w *walker, list []any, rest []any) (any, error)

type walker struct {
	m    *machine
	pos  int
	body evaluator
}

// of evaluates the body for the i-th element.
func (w *walker) of(e any, i int) (any, error) {
	if err := w.m.step(w.pos); err != nil {
		return nil, err
	}
	w.m.element, w.m.position = e, int64(i)
	return w.body(w.m)
}

// holds evaluates the body as a condition.
func (w *walker) holds(e any, i int) (bool, error) {
	v, err := w.of(e, i)
	if err != nil {
		return false, err
	}
	return w.m.truth(w.pos, v)
}

// first returns the place of the first element for which the body is want.
func (w *walker) first(list []any, want bool) (int, error) {
	for i, e := range list {
		ok, err := w.holds(e, i)
		if err != nil {
			return -1, err
		}
		if ok == want {
			return i, nil
		}
	}
	return -1, nil
}

var ownName = map[string]string{"sortBy": "sort_by", "groupBy": "group_by", "findLast": "find_last", "one": "index_by"}

var walks = map[string]walk{
	"filter": func(w *walker, list, _ []any) (any, error) {
		out := []any{}
		for i, e := range list {
			ok, err := w.holds(e, i)
			if err != nil {
				return nil, err
			}
			if ok {
				out = append(out, e)
			}
		}
		return out, nil
	},
	"map": func(w *walker, list, _ []any) (any, error) {
		out := make([]any, len(list))
		for i, e := range list {
			v, err := w.of(e, i)
			if err != nil {
				return nil, err
			}
			out[i] = v
		}
		return out, nil
	},
	"any": func(w *walker, list, _ []any) (any, error) {
		i, err := w.first(list, true)
		return i >= 0, err
	},
	"all": func(w *walker, list, _ []any) (any, error) {
		i, err := w.first(list, false)
		return i < 0, err
	},
	"none": func(w *walker, list, _ []any) (any, error) {
		i, err := w.first(list, true)
		return i < 0, err
	},
	"find": func(w *walker, list, _ []any) (any, error) {
		i, err := w.first(list, true)
		if i < 0 || err != nil {
			return nil, err
		}
		return list[i], nil
	},
	"find_last": func(w *walker, list, _ []any) (any, error) {
		for i := len(list) - 1; i >= 0; i-- {
			if ok, err := w.holds(list[i], i); ok || err != nil {
				return list[i], err
			}
		}
		return nil, nil
	},
	"count": func(w *walker, list, _ []any) (any, error) {
		n := int64(0)
		for i, e := range list {
			ok, err := w.holds(e, i)
			if err != nil {
				return nil, err
			}
			if ok {
				n++
			}
		}
		return n, nil
	},
	"sum": func(w *walker, list, _ []any) (any, error) {
		out, err := each(w, list)
		if err != nil {
			return nil, err
		}
		return total(out)
	},
	"reduce": func(w *walker, list, rest []any) (any, error) {
		if len(rest) == 0 && len(list) == 0 {
			return nil, nil
		}
		var acc any
		start := 0
		if len(rest) > 0 {
			acc = rest[0]
		} else {
			acc, start = list[0], 1
		}
		outer := w.m.total
		defer func() { w.m.total = outer }()
		for i := start; i < len(list); i++ {
			w.m.total = acc
			v, err := w.of(list[i], i)
			if err != nil {
				return nil, err
			}
			acc = v
		}
		return acc, nil
	},
	"sort_by": func(w *walker, list, rest []any) (any, error) {
		keys, err := each(w, list)
		if err != nil {
			return nil, err
		}
		sign := 1
		if len(rest) > 0 && strings.HasPrefix(Text(rest[0]), "desc") {
			sign = -1
		}
		return sorted(w.m, w.pos, list, keys, sign)
	},
	"group_by": func(w *walker, list, _ []any) (any, error) {
		keys, err := each(w, list)
		if err != nil {
			return nil, err
		}
		out := map[string]any{}
		for i, k := range keys {
			name := Text(k)
			if err := w.m.charge(w.pos, 16+len(name)); err != nil {
				return nil, err
			}
			group, _ := out[name].([]any)
			out[name] = append(group, list[i])
		}
		return out, nil
	},
	"index_by": func(w *walker, list, _ []any) (any, error) {
		out := map[string]any{}
		for i, e := range list {
			k, err := w.of(e, i)
			if err != nil {
				return nil, err
			}
			name := Text(k)
			if err := w.m.charge(w.pos, 32+len(name)); err != nil {
				return nil, err
			}
			out[name] = e
		}
		return out, nil
	},
}

func each(w *walker, list []any) ([]any, error) {
	out := make([]any, len(list))
	for i, e := range list {
		v, err := w.of(e, i)
		if err != nil {
			return nil, err
		}
		out[i] = v
	}
	return out, nil
}

// sorted orders list by keys; nothing comes last, equal keys keep their order.
func sorted(m *machine, pos int, list, keys []any, sign int) (any, error) {
	place := make([]int, len(list))
	for i := range place {
		place[i] = i
	}
	var failed error
	slices.SortStableFunc(place, func(a, b int) int {
		x, y := keys[a], keys[b]
		if x == nil || y == nil {
			return order(y == nil && x != nil, x == nil && y != nil)
		}
		c, err := m.compare(pos, "sorting", x, y)
		if err != nil && failed == nil {
			failed = err
		}
		return sign * c
	})
	if failed != nil {
		return nil, failed
	}
	out := make([]any, len(list))
	for i, p := range place {
		out[i] = list[p]
	}
	return out, nil
}

func (c *compiler) builtin(n *ast.BuiltinNode) evaluator {
	name := n.Name
	if own, ok := ownName[name]; ok {
		name = own
	}
	var body *ast.PredicateNode
	var rest []ast.Node
	for _, a := range n.Arguments[min(1, len(n.Arguments)):] {
		if p, ok := a.(*ast.PredicateNode); ok {
			body = p
		} else {
			rest = append(rest, a)
		}
	}
	if body == nil {
		return c.function(n, name, n.Arguments)
	}
	apply, ok := walks[name]
	if !ok {
		return c.fail(n, "there is no function %s with a body.%s", name, near.Hint(name, c.in.functions()))
	}
	c.calls = append(c.calls, name)
	list, inner, pos := c.compile(n.Arguments[0]), c.compile(body.Node), n.Location().From
	further := make([]evaluator, len(rest))
	for i, r := range rest {
		further[i] = c.compile(r)
	}
	return func(m *machine) (any, error) {
		v, err := list(m)
		if err != nil {
			return nil, err
		}
		if v == nil {
			v = []any{}
		}
		elements, ok := v.([]any)
		if !ok {
			return nil, m.errorf(pos, "%s goes through a list; this is %s", name, show(v))
		}
		args := make([]any, len(further))
		for i, f := range further {
			if args[i], err = f(m); err != nil {
				return nil, err
			}
		}
		if err := m.charge(pos, 16*len(elements)); err != nil {
			return nil, err
		}
		element, position := m.element, m.position
		defer func() { m.element, m.position = element, position }()
		return apply(&walker{m, pos, inner}, elements, args)
	}
}
