package workflow

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
		for l := range before.Lines() {
			if writes(l, catalog) {
				known[way(l.Step, catalog)] = true
			}
		}
	}
	var out []Write
	for l := range after.Lines() {
		if writes(l, catalog) {
			out = append(out, Write{l, !known[way(l.Step, catalog)]})
		}
	}
	return out
}

func writes(l Line, catalog *Catalog) bool {
	if l.Step == nil || l.Step.Off {
		return false
	}
	a := catalog.Called(l.Step)
	return a != nil && a.Effect == "write"
}

// way is how a step writes.
func way(s *Step, catalog *Catalog) string {
	if _, _, ok := s.IsAction(); ok {
		return s.Type + " " + s.Connection
	}
	return s.Type + " " + s.Connection + " " + catalog.Sentence(s)
}
