package engine

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
)

// Expected is what should become of a sample: how it ends, and fields that it has
// then. Of a sample that becomes several, one of them must be so.
type Expected struct {
	Fate   Fate           // "" for any
	Fields map[string]any // those that are named; others do not matter
}

// ReadExpected reads what was noted of a sample: {"fate": …, "fields": {…}}.
func ReadExpected(v map[string]any) (*Expected, error) {
	e := &Expected{}
	for _, k := range item.Keys(v) {
		switch k {
		case "fate":
			name, _ := v[k].(string)
			if !slices.ContainsFunc(words.Fates, func(f words.Fate) bool { return f.Name == name }) {
				var all []string
				for _, f := range words.Fates {
					all = append(all, f.Name)
				}
				return nil, fmt.Errorf("%q is no fate; there are %s.%s", expr.Text(v[k]), words.And(all...), near.Hint(name, all))
			}
			e.Fate = Fate(name)
		case "fields":
			fields, ok := v[k].(map[string]any)
			if !ok {
				return nil, fmt.Errorf("fields is an object, and this is %s", item.Kind(v[k]))
			}
			e.Fields = fields
		default:
			return nil, fmt.Errorf("%q is not known here; what is expected has a fate, fields, or both", k)
		}
	}
	return e, nil
}

// Differs says in what the rows that came of a sample differ from what is
// expected; nothing where one of them is so. Of several it tells of the nearest.
func (e *Expected) Differs(plan *workflow.Plan, rows []*Row) []string {
	if len(rows) == 0 {
		return []string{"nothing came of it"}
	}
	var nearest []string
	for i, r := range rows {
		d := e.differs(plan, r)
		if len(d) == 0 {
			return nil
		}
		if i == 0 || len(d) < len(nearest) {
			nearest = d
		}
	}
	return nearest
}

func (e *Expected) differs(plan *workflow.Plan, r *Row) []string {
	var out []string
	if end := EndOf(r.Cells); e.Fate != "" && end != e.Fate {
		out = append(out, fmt.Sprintf("it ends as %s, expected is %s", fateWords(end), fateWords(e.Fate)))
	}
	var has map[string]any
	for i := len(plan.Steps) - 1; i >= 0 && has == nil; i-- {
		has = r.Fields(plan.Steps[i].Number)
	}
	if has == nil && r.Item != nil {
		has = r.Item.First().Fields
	}
	for _, k := range item.Keys(e.Fields) {
		if !reflect.DeepEqual(has[k], e.Fields[k]) {
			out = append(out, fmt.Sprintf("%s is %s, expected is %s", strings.ReplaceAll(k, "_", " "), expr.Brief(has[k]), expr.Brief(e.Fields[k])))
		}
	}
	return out
}

func fateWords(f Fate) string { return strings.ReplaceAll(string(f), "_", " ") }
