package workflow

import "iter"

// Write is a line of a workflow that writes outside.
type Write struct {
	Line
	// New tells that nothing of the workflow before wrote the same way: by the same
	// action through the same connection, or by the same call.
	New bool
}

// Writes lists the lines of a workflow that write outside, with what is new in them
// against the workflow before, which may be nil.
func Writes(before, after *Workflow, catalog *Catalog) []Write {
	known := map[string]bool{}
	if before != nil {
		for l := range writing(before, catalog) {
			known[way(l.Step, catalog)] = true
		}
	}
	var out []Write
	for l := range writing(after, catalog) {
		out = append(out, Write{l, !known[way(l.Step, catalog)]})
	}
	return out
}

// FirstWrite finds the line of the outermost block that is, or holds, the first one
// that writes outside, as Plan.FirstWrite does of one that has no errors.
func FirstWrite(w *Workflow, catalog *Catalog) (top Line, found bool) {
	tops := map[*Step]Line{}
	for l := range w.Lines() {
		if l.Of != nil {
			tops[l.Step] = tops[l.Of]
		} else {
			tops[l.Step] = l
		}
	}
	for l := range writing(w, catalog) {
		top = tops[l.Step]
		return top, top.Block == nil
	}
	return top, false
}

// writing goes through the lines that write outside and are not switched off.
func writing(w *Workflow, catalog *Catalog) iter.Seq[Line] {
	return func(yield func(Line) bool) {
		off := map[*Step]bool{}
		for l := range w.Lines() {
			if l.Step == nil {
				continue
			}
			if off[l.Step] = l.Step.Off || off[l.Of]; off[l.Step] {
				continue
			}
			if a := catalog.Called(l.Step); a != nil && a.Effect == "write" && !yield(l) {
				return
			}
		}
	}
}

// way is how a step writes.
func way(s *Step, catalog *Catalog) string {
	if _, _, ok := s.IsAction(); ok {
		return s.Type + " " + s.Connection
	}
	return s.Type + " " + s.Connection + " " + catalog.Sentence(s)
}
