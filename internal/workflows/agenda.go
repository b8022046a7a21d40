package workflows

import (
	"slices"
	"time"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/store"
)

// Agenda is what starts by the clock within a span.
type Agenda struct {
	Now, Until time.Time
	Entries    []Entry
	Together   []Together
}

// Entry is a schedule with the times at which it is due.
type Entry struct {
	store.Soon
	Times []cadence.Due
	More  int // times within the span that are not listed
}

// Together is a minute at which several workflows start.
type Together struct {
	At        time.Time
	Workflows []string // their names
}

// mostTogether is how many such minutes are listed.
const mostTogether = 200

// MakeAgenda tells what starts until a moment, with at most so many times of each
// schedule.
func MakeAgenda(list []store.Soon, now, until time.Time, most int) *Agenda {
	a := &Agenda{Now: now, Until: until}
	minutes := map[time.Time][]string{}
	for _, s := range list {
		e := Entry{Soon: s}
		// Every sentence of ours is read back.
		if c, err := cadence.Read(s.Cadence, ""); err == nil && !s.Due.IsZero() && !s.Due.After(until) {
			count, _ := c.Between(s.Due, until, s.Anchor, 0)
			for after := s.Due.Add(-time.Nanosecond); len(e.Times) < most; {
				d, ok := c.Next(after, s.Anchor)
				if !ok || d.At.After(until) {
					break
				}
				e.Times = append(e.Times, d)
				after = d.At
				if m := d.At.Truncate(time.Minute); !slices.Contains(minutes[m], s.Name) {
					minutes[m] = append(minutes[m], s.Name)
				}
			}
			e.More = count + 1 - len(e.Times)
		}
		a.Entries = append(a.Entries, e)
	}
	for at, names := range minutes {
		if len(names) > 1 {
			slices.Sort(names)
			a.Together = append(a.Together, Together{at, names})
		}
	}
	slices.SortFunc(a.Together, func(x, y Together) int { return x.At.Compare(y.At) })
	a.Together = a.Together[:min(len(a.Together), mostTogether)]
	return a
}

// Beside is another workflow that starts at the same minute as one does.
type Beside struct {
	Name, Title string
	At          time.Time // the first time
}

// Neighbours are the workflows that start at the same minutes as one within a span, at
// most so many.
func (a *Agenda) Neighbours(name string, most int) (out []Beside) {
	titles, seen := map[string]string{}, map[string]bool{name: true}
	for _, e := range a.Entries {
		titles[e.Name] = e.Title
	}
	for _, t := range a.Together {
		if !slices.Contains(t.Workflows, name) {
			continue
		}
		for _, other := range t.Workflows {
			if !seen[other] && len(out) < most {
				seen[other] = true
				out = append(out, Beside{other, titles[other], t.At})
			}
		}
	}
	return out
}
