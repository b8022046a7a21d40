package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/words"
)

// bands reads the bands of a run's lattice, each as far as so many lines, and says
// what one would look at next.
func (a *app) bands(ctx context.Context, cl *api.Client, r api.Run, fate string, open []string, most int) (list []*sheet, hints []string, err error) {
	look := &look{ctx: ctx, cl: cl, run: r.Run.Id, open: open}
	if fate != "" {
		f := api.Fate(fate)
		look.fate = &f
	}
	whole, err := look.shape(nil)
	if err != nil {
		return nil, nil, err
	}
	for _, b := range whole.Bands {
		band := b.Band
		s, err := look.band(r.Columns, band, b.First, b.Last, most)
		if err != nil {
			return nil, nil, err
		}
		if len(s.lines) == 0 {
			continue
		}
		list = append(list, s)
	}
	if len(list) == 0 {
		return nil, nil, nil
	}
	row := fmt.Sprintf("row%d", list[0].lines[0].Row.Row)
	if list[0].title != "" {
		row = list[0].columns[list[0].shown[0]].Name + ":" + row
	}
	hints = append(hints, fmt.Sprintf("all about one: trellis run item %s %s STEP", r.Run.Id, row))
	if into := nestHint(r.Columns, open); into != "" {
		hints = append(hints, "look into a case or a round: --open "+into)
	}
	return list, hints, nil
}

// look is how a lattice is looked at.
type look struct {
	ctx  context.Context
	cl   *api.Client
	run  uuid.UUID
	fate *api.Fate
	open []string
}

func (l *look) within() *[]string {
	if len(l.open) == 0 {
		return nil
	}
	return &l.open
}

func (l *look) shape(band *string) (api.LatticeShape, error) {
	return got[api.LatticeShape](l.cl.GetLatticeShape(l.ctx, l.run, &api.GetLatticeShapeParams{Band: band, Within: l.within(), Fate: l.fate}))
}

// band reads the first lines of a band: rows that are alike are one.
func (l *look) band(columns []api.Column, band string, first, last, most int) (*sheet, error) {
	shape, err := l.shape(&band)
	if err != nil {
		return nil, err
	}
	s := &sheet{columns: columns, open: map[string]string{}}
	if band != "-" {
		at := slices.IndexFunc(columns, func(c api.Column) bool { return c.Name == band })
		if at < 0 {
			at = len(columns)
		}
		s.title = bandTitle(columns, at)
	}
	for _, o := range l.open {
		name, into, _ := strings.Cut(o, "/")
		s.open[name] = into
	}
	s.choose(first, last)
	lines := shape.Lines[:min(most, len(shape.Lines))]
	windows, counts := []string{}, []int{}
	at := 0
	for _, n := range lines {
		count := max(n, -n)
		windows, counts = append(windows, fmt.Sprintf("%d-1", at)), append(counts, count)
		at += count
	}
	for part := range slices.Chunk(windows, 50) {
		text := strings.Join(part, ",")
		rows, err := got[api.Lattice](l.cl.GetLattice(l.ctx, l.run, &api.GetLatticeParams{Band: &band, Within: l.within(), Fate: l.fate, At: &text}))
		if err != nil {
			return nil, err
		}
		for _, r := range rows.Rows {
			s.lines = append(s.lines, latticeLine{r, counts[min(len(s.lines), len(counts)-1)] - 1})
		}
	}
	if left := shape.Matching - at; left > 0 {
		s.more = fmt.Sprintf("and %s more; --rows shows more, --fate narrows", plural(left, "row"))
	}
	return s, nil
}

// nestHint names a case or round that could be looked into.
func nestHint(columns []api.Column, open []string) string {
	for _, c := range columns {
		if c.Nest == nil || slices.ContainsFunc(open, func(o string) bool { return strings.HasPrefix(o, c.Name+"/") }) || c.Within != nil {
			continue
		}
		switch *c.Nest {
		case api.Branch:
			var list []string
			for _, w := range deref(c.Ways) {
				if w.Name != "" {
					list = append(list, fmt.Sprintf("%s/%s (%s)", c.Name, w.Name, words.Number(w.Count)))
				}
			}
			return strings.Join(list, ", ")
		case api.Loop:
			return fmt.Sprintf("%s/1 of %s", c.Name, plural(deref(c.Rounds), "round"))
		}
	}
	return ""
}
