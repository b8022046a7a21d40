package lists

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

// Change changes a row.
type Change struct {
	// Key is that of the row that is changed or removed; "" adds one.
	Key string
	// Fields are the cells that are changed; an empty one is taken out.
	Fields map[string]any
	Remove bool
}

// Difference is what two contents of a list differ in, by the keys of their rows.
type Difference struct {
	Added, Changed, Removed []string
	Moved                   bool // rows that both have stand in another order
	Between                 bool // rows that were added stand before others that were there
}

// None tells whether they are the same.
func (d Difference) None() bool {
	return len(d.Added)+len(d.Changed)+len(d.Removed) == 0 && !d.Moved
}

// Touches finds a change of a row that was changed or removed by the difference.
func (d Difference) Touches(changes []Change) (key string, touched bool) {
	gone := make(map[string]bool, len(d.Changed)+len(d.Removed))
	for _, k := range append(slices.Clone(d.Changed), d.Removed...) {
		gone[k] = true
	}
	for _, c := range changes {
		if c.Key != "" && gone[c.Key] {
			return c.Key, true
		}
	}
	return "", false
}

// String tells it in words.
func (d Difference) String() string {
	var parts []string
	for _, p := range []struct {
		n   int
		how string
	}{{len(d.Added), "added"}, {len(d.Changed), "changed"}, {len(d.Removed), "removed"}} {
		if p.n > 0 {
			parts = append(parts, words.Count(p.n, "row")+" "+p.how)
		}
	}
	if d.Moved {
		parts = append(parts, "the order changed")
	}
	if len(parts) == 0 {
		return "nothing changed"
	}
	return words.And(parts...)
}

// Between compares two contents.
func Between(before, after []Row) Difference {
	var d Difference
	old := byKey(before)
	var common []string
	for _, r := range after {
		was, ok := old[r.Key]
		if !ok {
			d.Added = append(d.Added, r.Key)
			continue
		}
		d.Between = d.Between || len(d.Added) > 0
		if !reflect.DeepEqual(was.Fields, r.Fields) {
			d.Changed = append(d.Changed, r.Key)
		}
		common = append(common, r.Key)
	}
	now := byKey(after)
	var stayed []string
	for _, r := range before {
		if _, ok := now[r.Key]; ok {
			stayed = append(stayed, r.Key)
		} else {
			d.Removed = append(d.Removed, r.Key)
		}
	}
	d.Moved = !slices.Equal(stayed, common)
	return d
}

func byKey(rows []Row) map[string]Row {
	out := make(map[string]Row, len(rows))
	for _, r := range rows {
		out[r.Key] = r
	}
	return out
}

// Apply carries edits out, all of them or none. The table itself stays as it is.
func (t *Table) Apply(edits []Change) (*Table, error) {
	out := &Table{t.Columns, slices.Clone(t.Rows)}
	var wrong Wrongs
	at := make(map[string]int, len(out.Rows))
	for i, r := range out.Rows {
		at[r.Key] = i
	}
	removed := map[int]bool{}
	for i, e := range edits {
		if len(wrong) >= mostWrong {
			break
		}
		var fields map[string]any
		place, known := at[e.Key]
		switch {
		case e.Key == "" && e.Remove:
			wrong = append(wrong, Wrong{Message: fmt.Sprintf("Edit %d removes a row and does not say which.", i+1)})
			continue
		case e.Key == "":
			place = len(out.Rows)
		case !known || removed[place]:
			wrong = append(wrong, Wrong{Message: fmt.Sprintf("There is no row %s.%s", shown(e.Key), near.Hint(e.Key, keys(t.Rows)))})
			continue
		case e.Remove:
			removed[place] = true
			delete(at, e.Key)
			continue
		default:
			fields = maps.Clone(out.Rows[place].Fields)
		}
		if fields == nil {
			fields = map[string]any{}
		}
		maps.Copy(fields, e.Fields)
		row, w := Fit(t.Columns, fields, place+1)
		if len(w) > 0 {
			wrong = append(wrong, w...)
			continue
		}
		if other, taken := at[row.Key]; taken && other != place {
			wrong = append(wrong, Wrong{place + 1, t.Columns[0].Name, fmt.Sprintf("There is a row %s already.", shown(row.Key))})
			continue
		}
		if place == len(out.Rows) {
			out.Rows = append(out.Rows, row)
		} else {
			delete(at, e.Key)
			out.Rows[place] = row
		}
		at[row.Key] = place
	}
	if len(wrong) > 0 {
		return nil, wrong
	}
	kept := out.Rows[:0:0]
	for i, r := range out.Rows {
		if !removed[i] {
			kept = append(kept, r)
		}
	}
	out.Rows = kept
	return out, out.Check()
}

func keys(rows []Row) []string {
	const most = 1000 // of which the nearest is looked for
	out := make([]string, 0, min(most, len(rows)))
	for _, r := range rows[:min(most, len(rows))] {
		out = append(out, r.Key)
	}
	return out
}

// Reshape gives the list other columns. A column that says what it was keeps its
// cells, as far as they fit; one that is not there any more loses them.
func (t *Table) Reshape(columns []Column) (*Table, error) {
	if err := CheckColumns(columns); err != nil {
		return nil, err
	}
	out := &Table{Columns: make([]Column, len(columns)), Rows: make([]Row, 0, len(t.Rows))}
	from := make([]string, len(columns))
	for i, c := range columns {
		// A name that another column had before is that of a new one.
		if !slices.ContainsFunc(columns, func(other Column) bool { return other.Was == c.Name && other.Name != c.Name }) {
			from[i] = c.Name
		}
		if c.Was != "" {
			from[i] = c.Was
			if !slices.Contains(names(t.Columns), c.Was) {
				return nil, Wrongs{{Column: c.Name, Message: fmt.Sprintf("It was never called %q.%s", c.Was, near.Hint(c.Was, names(t.Columns)))}}
			}
		}
		out.Columns[i] = c
		out.Columns[i].Was = ""
	}
	var wrong Wrongs
	for i, r := range t.Rows {
		fields := map[string]any{}
		for j, c := range out.Columns {
			if v, ok := r.Fields[from[j]]; ok {
				fields[c.Name] = v
			}
		}
		row, w := Fit(out.Columns, fields, i+1)
		wrong = append(wrong, w...)
		out.Rows = append(out.Rows, row)
	}
	if len(wrong) > 0 {
		return nil, wrong
	}
	return out, out.Check()
}

// How rows that come in join those that stand.
type How string

// Ways to join.
const (
	Merge   How = "merge"   // rows of the same key are changed, others added, none removed
	Replace How = "replace" // what comes in is all that stands then
)

// Join puts rows that come in beside those that stand, or in their place. Cells of
// columns that did not come in stay.
func (t *Table) Join(in *Table, how How) (*Table, error) {
	if how != Merge && how != Replace {
		return nil, errors.New("rows come in by merge, or by replace")
	}
	if err := in.Check(); err != nil {
		return nil, err
	}
	came := names(in.Columns)
	old := byKey(t.Rows)
	fresh := make(map[string]Row, len(in.Rows))
	out := &Table{Columns: t.Columns}
	for _, r := range in.Rows {
		fields := maps.Clone(old[r.Key].Fields)
		if fields == nil {
			fields = map[string]any{}
		}
		for _, c := range came {
			delete(fields, c)
		}
		maps.Copy(fields, r.Fields)
		fresh[r.Key] = Row{r.Key, fields}
	}
	if how == Merge {
		for _, r := range t.Rows {
			if n, ok := fresh[r.Key]; ok {
				r = n
				delete(fresh, n.Key)
			}
			out.Rows = append(out.Rows, r)
		}
	}
	for _, r := range in.Rows {
		if n, ok := fresh[r.Key]; ok {
			out.Rows = append(out.Rows, n)
		}
	}
	return out, out.Check()
}
