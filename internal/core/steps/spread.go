package steps

import (
	"errors"
	"fmt"
	"maps"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// MaxSpread is how many items a spread gives for one at most.
const MaxSpread = 1_000_000

type spread struct {
	List  Lists  `form:"list,required" title:"One item for each of" help:"An expression that gives a list. Several, by name, are taken in step." example:"item.lines"`
	As    string `form:"as" title:"As the field" pattern:"^[A-Za-z_][A-Za-z0-9_]*$" help:"Where the element stands in the new item. Without it an element that is an object becomes the item, and any other its field value."`
	Carry Names  `form:"carry" title:"Fields carried along" default:"none" help:"All fields of the item, none, or a list of names."`
}

// Lists are expressions that give lists: one, or several by name.
type Lists struct {
	One  *expr.Program            `form:"one"`
	Many map[string]*expr.Program `form:"many"`
}

// FormSchema implements form.Custom.
func (Lists) FormSchema() map[string]any {
	return map[string]any{"hint": "condition", "oneOf": []any{
		map[string]any{"type": "string", "minLength": int64(1)},
		map[string]any{"type": "object", "minProperties": int64(1), "additionalProperties": map[string]any{"type": "string", "minLength": int64(1)}},
	}}
}

// ReadForm implements form.Custom.
func (l *Lists) ReadForm(v any) (err error) {
	switch v := v.(type) {
	case string:
		l.One, err = expr.Compile(v, Reads)
	case map[string]any:
		l.Many = map[string]*expr.Program{}
		for _, name := range item.Keys(v) {
			source, _ := v[name].(string)
			if l.Many[name], err = expr.Compile(source, Reads); err != nil {
				return &expr.PathError{Path: name, Err: err}
			}
		}
	}
	return err
}

var spreadKind = New(Info{
	Type: "spread", Title: "Make an item of each element of a list",
	Words: "split list explode elements one item per row array unpack lines", Does: DoesSpread,
	Help: "Gives one item for each element of a list, or of several lists in step, with chosen fields carried along.",
}, func(s *spread) string {
	switch {
	case s.List.One != nil:
		return "One item for each of " + s.List.One.Words()
	case len(s.List.Many) > 0:
		return "One item for each of " + names(item.Keys(s.List.Many)) + ", in step"
	}
	return "One item for each of … (to fill in)"
}, func(s *spread) (Operator, error) { return s, nil })

// Spreads implements Spreads.
func (s *spread) Spreads() {}

// Apply implements Each.
func (s *spread) Apply(scope *expr.Scope) (Result, error) {
	if s.List.One == nil {
		return s.inStep(scope)
	}
	list, err := listOf(s.List.One, scope)
	if err != nil {
		return Result{}, wrong("list", err)
	}
	carried := s.Carry.of(scope.Item)
	many := make([]map[string]any, len(list))
	for i, e := range list {
		out := maps.Clone(carried)
		switch m, isObject := e.(map[string]any); {
		case s.As != "":
			out[s.As] = e
		case isObject:
			maps.Copy(out, m)
		default:
			out["value"] = e
		}
		many[i] = out
	}
	return Result{Many: many, Text: fmt.Sprintf("%d", len(many))}, nil
}

// inStep takes the elements of several lists together; one that ends early
// gives nothing.
func (s *spread) inStep(scope *expr.Scope) (Result, error) {
	lists, most := map[string][]any{}, 0
	for _, name := range item.Keys(s.List.Many) {
		list, err := listOf(s.List.Many[name], scope)
		if err != nil {
			return Result{}, wrong("list."+name, err)
		}
		lists[name], most = list, max(most, len(list))
	}
	carried := s.Carry.of(scope.Item)
	many := make([]map[string]any, most)
	for i := range many {
		taken := map[string]any{}
		for name, list := range lists {
			if taken[name] = nil; i < len(list) {
				taken[name] = list[i]
			}
		}
		many[i] = maps.Clone(carried)
		if s.As != "" {
			many[i][s.As] = taken
		} else {
			maps.Copy(many[i], taken)
		}
	}
	return Result{Many: many, Text: fmt.Sprintf("%d", len(many))}, nil
}

// listOf evaluates an expression that gives a list; nothing is an empty one.
func listOf(p *expr.Program, scope *expr.Scope) ([]any, error) {
	v, err := p.Eval(scope)
	if err != nil {
		return nil, err
	}
	switch v := v.(type) {
	case nil:
		return nil, nil
	case []any:
		if len(v) > MaxSpread {
			return nil, fmt.Errorf("the list has %d elements; at most %d are spread", len(v), MaxSpread)
		}
		return v, nil
	case map[string]any:
		return nil, fmt.Errorf("this is an object with %s, not a list; entries(…) makes one of it", names(item.Keys(v)))
	}
	text := item.Kind(v)
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("this is not a list")
	}
	return nil, fmt.Errorf("this is %s (%s), not a list", text, expr.Brief(v))
}
