package steps

import (
	"youngtrellis/internal/core/expr"
)

type filter struct {
	Where *expr.Program `form:"where,required" title:"Keep an item where" help:"A condition on the item's fields." example:"item.duration_s >= 20"`
}

var filterKind = tells(New(Info{
	Type: "filter", Title: "Keep only some items",
	Words: "only if condition keep drop skip where when exclude ignore remove unwanted rows that",
	Help:  "Holds back every item for which a condition does not hold, and says why.",
}, func(f *filter) string {
	if f.Where == nil {
		return "Keep items where … (to fill in)"
	}
	return "Keep items where " + f.Where.Words()
}, func(f *filter) (Operator, error) { return f, nil }), filterTraits)

// Apply implements Each.
func (f *filter) Apply(s *expr.Scope) (Result, error) {
	ok, err := f.Where.Holds(s)
	if err != nil {
		return Result{}, wrong("where", err)
	}
	if ok {
		return Result{Text: f.Where.Met(s)}, nil
	}
	return Result{Held: true, Text: f.Where.Why(s)}, nil
}
