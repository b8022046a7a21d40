package engine

import (
	"slices"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
)

var labelFields = []string{"title", "name", "subject", "email", "phone", "key"}

// norun is where labels are made: no run is known there.
var norun = &execution{Run: &Run{}}

// telling are ends of the names of fields that tell items apart.
var telling = []string{"id", "number", "no", "code", "reference", "ref"}

// Label is what a row is called: the workflow's label for the newest item on
// the lineage for which it gives something, else the first usual field, else one
// that tells items apart, else its first field that has a plain value. Secrets are
// masked in it.
func Label(p *workflow.Plan, it *item.Item, secrets *call.Secrets) string {
	var before *item.Item
	for a := it; a != nil; before, a = a, a.Parent {
		if before != nil && sameFields(a.Fields, before.Fields) {
			continue
		}
		if p.Label != nil {
			if !filled(p.Label, a) {
				continue
			}
			e := &eyes{x: norun, plan: p}
			v, err := p.Label.Eval(e.look(a))
			if s := expr.Text(v); err == nil && s != "" {
				return words.Line(secrets.Mask(s))
			}
			continue
		}
		for _, f := range labelFields {
			if s, ok := a.Fields[f].(string); ok && s != "" {
				return words.Line(secrets.Mask(s))
			}
		}
	}
	if name := calledBy(it.Fields); name != "" {
		return words.Line(secrets.Mask(strings.ReplaceAll(name, "_", " ") + " " + expr.Brief(it.Fields[name])))
	}
	return ""
}

// calledBy is the field by which an item without a name is called; "" for none.
func calledBy(fields map[string]any) string {
	plain := slices.DeleteFunc(item.Keys(fields), func(name string) bool {
		switch v := fields[name].(type) {
		case string:
			return strings.TrimSpace(v) == ""
		case int64, float64, bool:
			return false
		}
		return true
	})
	for _, end := range telling {
		if slices.Contains(plain, end) {
			return end
		}
		if i := slices.IndexFunc(plain, func(name string) bool { return strings.HasSuffix(name, "_"+end) }); i >= 0 {
			return plain[i]
		}
	}
	if len(plain) == 0 {
		return ""
	}
	return plain[0]
}

// Keys are what find_by gives for the newest item on the lineage for which it gives
// something, in the canonical form of keys.
func Keys(p *workflow.Plan, it *item.Item) []string {
	var out []string
	for _, f := range p.FindBy {
		for a := it; a != nil; a = a.Parent {
			if !filled(f, a) {
				continue
			}
			e := &eyes{x: norun, plan: p}
			v, err := f.Eval(e.look(a))
			if key, err2 := item.Key(v); err == nil && err2 == nil && key != "" && !slices.Contains(out, key) {
				out = append(out, key)
				break
			}
		}
	}
	return out
}

// filled tells whether the item has at least one of the fields that the label
// reads; without any, the label would be its punctuation alone.
func filled(label *expr.Program, it *item.Item) bool {
	reads := false
	for _, r := range label.Refs {
		if r.Path[0] == "item" && len(r.Path) > 1 {
			if it.Fields[r.Path[1]] != nil {
				return true
			}
			reads = true
		}
	}
	return !reads
}
