package expr

import (
	"strings"
	"time"

	"youngtrellis/internal/core/item"
)

func (m *machine) equal(pos int, l, r any) (bool, error) {
	if a, ok := l.(string); ok {
		if b, ok := r.(string); ok {
			return a == b, nil
		}
	}
	if s, ok := l.(string); ok && isNumber(r) && looksNumeric(s) || isText(r) && isNumber(l) && looksNumeric(r.(string)) {
		return false, m.errorf(pos, "%s is compared with %s, which is text; turn it into a number with number(…)", show(pick(isNumber(l), l, r)), show(pick(isNumber(l), r, l)))
	}
	return m.same(pos, l, r)
}

func pick(first bool, a, b any) any {
	if first {
		return a
	}
	return b
}

func isText(v any) bool { _, ok := v.(string); return ok }

// bothTimes reads both as times where at least one is a time already.
func bothTimes(l, r any) (a, b time.Time, ok bool) {
	a, lt := l.(time.Time)
	b, rt := r.(time.Time)
	if !lt && !rt {
		return a, b, false
	}
	var err error
	if s, isText := l.(string); isText {
		a, err = ParseTime(s, time.UTC)
		lt = err == nil
	}
	if s, isText := r.(string); isText {
		b, err = ParseTime(s, time.UTC)
		rt = err == nil
	}
	return a, b, lt && rt
}

// ordering compares numbers, texts, times and durations. With nothing on
// either side it does not hold.
func ordering(op string, holds func(int) bool) operator {
	return func(m *machine, pos int, l, r any) (any, error) {
		if l == nil || r == nil {
			return false, nil
		}
		c, err := m.compare(pos, op, l, r)
		if err != nil {
			return nil, err
		}
		return holds(c), nil
	}
}

func (m *machine) compare(pos int, op string, l, r any) (int, error) {
	switch a := l.(type) {
	case int64:
		if b, ok := r.(int64); ok {
			return order(a < b, a > b), nil
		}
	case string:
		if b, ok := r.(string); ok {
			return strings.Compare(a, b), nil
		}
	case time.Duration:
		if b, ok := r.(time.Duration); ok {
			return order(a < b, a > b), nil
		}
	}
	if c, ok := compareNumbers(l, r); ok {
		return c, nil
	}
	if a, b, ok := bothTimes(l, r); ok {
		return a.Compare(b), nil
	}
	hint := offerNumber(l, r)
	if _, ok := l.(time.Duration); ok && hint == "" {
		hint = `; a duration is written duration("6d")`
	}
	return 0, m.errorf(pos, "%s cannot compare %s with %s%s", op, show(l), show(r), hint)
}

// Compare orders two values as < does, and as sort does: -1, 0 or 1, nothing
// after everything else. Values of which neither is less are an *Error.
func Compare(a, b any) (int, error) {
	if a == nil || b == nil {
		return order(b == nil && a != nil, a == nil && b != nil), nil
	}
	return (&machine{}).compare(0, "sorting", a, b)
}

func order(less, more bool) int {
	switch {
	case less:
		return -1
	case more:
		return 1
	}
	return 0
}

func within(m *machine, pos int, l, r any) (any, error) {
	switch r := r.(type) {
	case nil:
		return false, nil
	case []any:
		for _, e := range r {
			if err := m.step(pos); err != nil {
				return nil, err
			}
			if same, err := m.equal(pos, l, e); err != nil || same {
				return same, err
			}
		}
		return false, nil
	case map[string]any:
		name, ok := l.(string)
		if !ok {
			return false, nil
		}
		_, ok = r[name]
		return ok, nil
	case string:
		if s, ok := l.(string); ok {
			return strings.Contains(r, s), nil
		}
	}
	return nil, m.errorf(pos, "in looks into a list, an object or text; this is %s", show(r))
}

func span(m *machine, pos int, l, r any) (any, error) {
	a, ok1 := l.(int64)
	b, ok2 := r.(int64)
	if !ok1 || !ok2 {
		return nil, m.errorf(pos, ".. needs two whole numbers; these are %s and %s", item.Kind(l), item.Kind(r))
	}
	if b < a {
		return []any{}, nil
	}
	if b-a > MaxMemory/16 || b-a < 0 {
		return nil, m.charge(pos, MaxMemory+1)
	}
	if err := m.charge(pos, 24*int(b-a+1)); err != nil {
		return nil, err
	}
	out := make([]any, 0, b-a+1)
	for i := a; i <= b; i++ {
		out = append(out, i)
	}
	return out, nil
}
