package runs

import (
	"cmp"
	"context"
	"slices"
)

// Range is some rows, counted among those that are looked at.
type Range struct{ From, Count int }

// Placed is a row with its number, from 1: in its band where one is looked at,
// else among all; and its place among those that are looked at, from 0.
type Placed struct {
	Number int
	At     int
	Row
}

// Rows reads ranges of the rows that a filter shows.
func (l *Lattice) Rows(ctx context.Context, f Filter, ranges ...Range) ([]Placed, error) {
	type wanted struct{ page, row, at, number int }
	var list []wanted
	at, number := 0, 0
	for i, p := range l.list {
		row := 0
		for _, r := range p.Runs {
			k, n := p.Kinds[r[0]], r[1]
			if f.Band == nil || k.Band == *f.Band {
				if f.holds(k, l.plan) {
					for _, x := range ranges {
						for j := max(x.From, at); j < min(x.From+x.Count, at+n); j++ {
							list = append(list, wanted{i, row + j - at, j, number + j - at + 1})
						}
					}
					at += n
				}
				number += n
			}
			row += n
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	slices.SortFunc(list, func(a, b wanted) int { return cmp.Compare(a.at, b.at) })
	list = slices.CompactFunc(list, func(a, b wanted) bool { return a.at == b.at })
	var pages []int
	for _, w := range list {
		if n := l.list[w.page].number; len(pages) == 0 || pages[len(pages)-1] != n {
			pages = append(pages, n)
		}
	}
	bodies, err := l.kept.LatticeBodies(ctx, l.sc, l.run, l.pass, pages)
	if err != nil {
		return nil, err
	}
	if len(bodies) != len(pages) {
		return nil, ErrChanged
	}
	out := make([]Placed, 0, len(list))
	var rows []Row
	open := -1
	for _, w := range list {
		if n := slices.Index(pages, l.list[w.page].number); n != open {
			if rows, err = rowsOf(bodies[n]); err != nil {
				return nil, err
			}
			open = n
		}
		if w.row >= len(rows) {
			return nil, ErrChanged
		}
		out = append(out, Placed{w.number, w.at, rows[w.row]})
	}
	return out, nil
}

// Find gives the place of an item's row among those that a filter shows; -1 where
// it is not among them.
func (l *Lattice) Find(ctx context.Context, f Filter, address string) (int, error) {
	pages, err := l.kept.LatticePageOf(ctx, l.sc, l.run, l.pass, addressKey(address))
	if err != nil {
		return -1, err
	}
	for _, number := range pages {
		bodies, err := l.kept.LatticeBodies(ctx, l.sc, l.run, l.pass, []int{number})
		if err != nil || len(bodies) == 0 {
			return -1, err
		}
		rows, err := rowsOf(bodies[0])
		if err != nil {
			return -1, err
		}
		if i := slices.IndexFunc(rows, func(r Row) bool { return r.Address == address }); i >= 0 {
			return l.placeOf(f, number, i), nil
		}
	}
	return -1, nil
}

// placeOf is the place of the n-th row of a page among those that a filter shows.
func (l *Lattice) placeOf(f Filter, number, n int) int {
	at := 0
	for _, p := range l.list {
		row := 0
		for _, r := range p.Runs {
			holds := f.holds(p.Kinds[r[0]], l.plan)
			if p.number == number && n < row+r[1] {
				if !holds {
					return -1
				}
				return at + n - row
			}
			if row += r[1]; holds {
				at += r[1]
			}
		}
	}
	return -1
}
