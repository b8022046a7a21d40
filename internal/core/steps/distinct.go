package steps

import "youngtrellis/internal/core/expr"

type distinct struct {
	By *expr.Program `form:"by" title:"One for each" help:"The first item for every value of this goes on; without it the whole item counts." example:"item.email"`
}

var distinctKind = New(Info{
	Type: "distinct", Title: "Keep one of those that are alike",
	Words: "unique remove duplicates deduplicate once same alike only new",
	Help:  "Lets the first item of every value go on and holds the others back. A resume goes on from where it stood.",
}, func(d *distinct) string {
	if d.By == nil {
		return "Keep one of those items that are alike"
	}
	return "Keep one item for each " + d.By.Words()
}, func(d *distinct) (Operator, error) { return d, nil })

// Key implements Sieve.
func (d *distinct) Key(s *expr.Scope) (any, error) {
	if d.By == nil {
		return s.Item, nil
	}
	v, err := d.By.Eval(s)
	if err != nil {
		return nil, wrong("by", err)
	}
	return v, nil
}

// Lets implements Sieve.
func (d *distinct) Lets(before int) bool { return before == 0 }

// Why implements Sieve.
func (d *distinct) Why(passes bool, key any) string {
	if d.By == nil {
		if passes {
			return "the first of its kind"
		}
		return "an item before it is the same"
	}
	if passes {
		return "the first with " + d.By.Words() + " " + expr.Brief(key)
	}
	return "an item before it has " + d.By.Words() + " " + expr.Brief(key)
}
