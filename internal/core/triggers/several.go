package triggers

import (
	"errors"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

// How many runs start with several items that come at once.
const (
	RunsTogether = "together" // one for all of them
	RunsEach     = "each"     // one for each
	RunsBy       = "by"       // one for each value of something
)

// Runs is how many runs start with several items that come at once.
type Runs struct {
	Each bool          // one for each item
	By   *expr.Program // over item: one for each value; nil: no
}

// several are the settings of kinds whose items somebody gives: how many runs they
// start. The keys of the items stand beside them.
type several struct {
	Runs string        `form:"runs" title:"A list of items starts" part:"Several items at once" oneof:"together|each|by" default:"together" words:"together=one run for all of them; each=one run for each; by=one run for each value of what stands below"`
	By   *expr.Program `form:"by" title:"One run for each" part:"Several items at once" example:"item.studio" help:"Items that have the same value run together, in the order in which they came."`
}

func (s *several) words(key *expr.Program) string {
	out := ""
	if key != nil {
		out = ", once for each " + key.Words()
	}
	switch {
	case s.Runs == RunsEach:
		out += ", a run for each item"
	case s.Runs == RunsBy && s.By != nil:
		out += ", a run for each " + s.By.Words()
	}
	return out
}

// runs reads how many runs start with several items.
func (s *several) runs() (Runs, error) {
	switch {
	case s.Runs == RunsBy && s.By == nil:
		return Runs{}, &form.Error{Field: "by", Err: &form.Gap{Err: errors.New("say of what there is one run for each, as item.studio")}}
	case s.Runs != RunsBy && s.By != nil:
		return Runs{}, &form.Error{Field: "by", Err: errors.New("it counts only with runs: by; choose that, or take this out")}
	}
	return Runs{Each: s.Runs == RunsEach, By: s.By}, nil
}
