package engine

import (
	"iter"
	"slices"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
)

// grouping puts items together as a holder says.
type grouping struct {
	holder steps.Holder // nil: nothing is put together
	open   []*group     // in the order of their first members
	byKey  map[string]*group
}

// group are items that belong together; places are those in the pile.
type group struct {
	key     any
	name    string
	places  []int
	filling steps.Filling
	values  []any
	made    *steps.Result
	full    bool // it was closed before the list had ended
}

func newGrouping(h steps.Holder) *grouping { return &grouping{holder: h, byKey: map[string]*group{}} }

// put puts an item into its group and gives the groups that are full by that: one
// into which it did not fit any more, and its own.
func (g *grouping) put(place int, m steps.Member, value any) (full []*group, err error) {
	name, err := item.Key(m.Key)
	if err != nil {
		return nil, err
	}
	in := g.byKey[name]
	if in != nil && !g.holder.Fits(in.filling, m) {
		full = append(full, g.shut(in))
		in = nil
	}
	if in == nil {
		in = &group{key: m.Key, name: name}
		g.byKey[name] = in
		g.open = append(g.open, in)
	}
	in.places, in.values = append(in.places, place), append(in.values, value)
	in.filling.Count++
	in.filling.Size += m.Size
	if g.holder.Streams() && g.holder.Full(in.filling) {
		full = append(full, g.shut(in))
	}
	return full, nil
}

// shut takes a group from those that are open.
func (g *grouping) shut(in *group) *group {
	delete(g.byKey, in.name)
	in.full = true
	g.open = slices.DeleteFunc(g.open, func(x *group) bool { return x == in })
	return in
}

// rest gives the groups that are open still.
func (g *grouping) rest() []*group {
	rest := g.open
	g.open, g.byKey = nil, map[string]*group{}
	return rest
}

// spilled stands for a value that lies in the spool with its item.
type spilled struct{}

// values goes through what was kept of a group's members.
func (g *group) members(p *pile, h steps.Holder, scope func(*item.Item) *expr.Scope) iter.Seq2[any, error] {
	return func(yield func(any, error) bool) {
		for i, v := range g.values {
			if _, away := v.(spilled); away {
				f, err := p.get(g.places[i])
				var m steps.Member
				if err == nil {
					m, err = h.Take(scope(f.it))
				}
				if v = m.Value; err != nil {
					yield(nil, err)
					return
				}
			}
			if !yield(v, nil) {
				return
			}
		}
	}
}
