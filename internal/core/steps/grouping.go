package steps

import (
	"fmt"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// grouping says which items belong together: by key, so many at a time, or up to
// a size.
type grouping struct {
	By    *expr.Program `form:"by" title:"Apart for each" help:"Only items for which this is the same come together." example:"item.cone"`
	Size  int           `form:"size" title:"So many at most" min:"1" max:"100000"`
	Bytes int           `form:"bytes" title:"So many bytes at most" min:"1" max:"16777216" help:"Of the items as JSON. One that is larger by itself stands alone."`
}

// key gives an item's key.
func (g *grouping) key(s *expr.Scope) (any, error) {
	if g.By == nil {
		return nil, nil
	}
	v, err := g.By.Eval(s)
	if err != nil {
		return nil, wrong("by", err)
	}
	return v, nil
}

// Streams implements Holder: groups that have a size are made as they fill.
func (g *grouping) Streams() bool { return g.Size > 0 || g.Bytes > 0 }

// Fits implements Holder.
func (g *grouping) Fits(f Filling, m Member) bool {
	return g.Bytes == 0 || f.Count == 0 || f.Size+m.Size <= g.Bytes
}

// Full implements Holder.
func (g *grouping) Full(f Filling) bool {
	return g.Size > 0 && f.Count >= g.Size || g.Bytes > 0 && f.Size >= g.Bytes
}

// OfNothing implements Holder.
func (g *grouping) OfNothing() bool { return false }

// named is the field in which the key stands: the last name of a path, else key.
func (g *grouping) named() string {
	if g.By == nil {
		return ""
	}
	if r := g.By.Refs; len(r) == 1 && len(r[0].Path) > 1 && r[0].Path[0] == "item" && g.By.Source == strings.Join(r[0].Path, ".") {
		return r[0].Path[len(r[0].Path)-1]
	}
	return "key"
}

// words says how the items come together: "24 at most, apart for each cone".
func (g *grouping) words() string {
	var parts []string
	switch {
	case g.Size == 1:
		parts = append(parts, "one at a time")
	case g.Size > 0:
		parts = append(parts, fmt.Sprintf("%d at most", g.Size))
	}
	if g.Bytes > 0 {
		parts = append(parts, "up to "+item.Bytes(int64(g.Bytes)))
	}
	if g.By != nil {
		parts = append(parts, "apart for each "+g.By.Words())
	}
	return strings.Join(parts, ", ")
}
