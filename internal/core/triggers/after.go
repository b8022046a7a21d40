package triggers

import (
	"strings"
	"time"
)

// After is the type of what starts after another workflow.
const After = "after"

// MostHops is how many runs can lead to one, each started by the one before: what
// goes round ends here.
const MostHops = 7

// States in which a run that another workflow follows has ended.
const (
	succeeded = "succeeded"
	partial   = "partial" // items were set aside
	failed    = "failed"
)

var endings = map[string][]string{"succeeded": {succeeded}, "set_aside": {partial}, "failed": {failed}, "ended": {succeeded, partial, failed}}

// Following is after what a workflow starts.
type Following struct {
	Workflow string   // by its name
	States   []string // in which a pass of its run has ended
}

type following struct {
	Workflow string `form:"workflow,required" title:"Workflow" hint:"workflow" pattern:"^[a-z][a-z0-9-]{0,59}$" example:"gas-price" help:"Another workflow of this workspace, by its name."`
	When     string `form:"when" title:"Once a run of it has" oneof:"succeeded|set_aside|failed|ended" default:"succeeded" words:"succeeded=succeeded; set_aside=ended with items set aside; failed=failed; ended=ended, in whichever of these ways"`
}

var endingWords = map[string]string{"set_aside": "has set items aside", "failed": "has failed", "ended": "has ended"}

var afterKind = New(Info{
	Type: After, Title: "After another workflow", Follows: true, Alone: true, Began: "after another workflow", By: "the workflow before",
	Help: "When a run of another workflow has succeeded, failed, or set items aside. Each run has one item that tells which run it was and how it ended.",
}, func(f *following) string {
	if f.Workflow == "" {
		return "After another workflow"
	}
	ends, ok := endingWords[f.When]
	if !ok {
		ends = "has succeeded"
	}
	return "After " + f.Workflow + " " + ends
}, func(f *following) (Start, error) {
	x := &Following{Workflow: f.Workflow, States: endings[f.When]}
	return Start{Follows: x, Own: x.Sample}, nil
})

// Ended is a pass of a run that has ended.
type Ended struct {
	Workflow, Title, Run string
	Pass                 int
	State, Message       string
	Began, Ended         time.Time
	Items, SetAside      int
}

// Item is that with which a run starts after another.
func (f *Following) Item(e Ended) map[string]any {
	outcome := e.State
	if outcome == partial {
		outcome = "set_aside"
	}
	return map[string]any{
		"workflow": e.Workflow, "title": e.Title, "run": e.Run, "pass": int64(e.Pass), "outcome": outcome, "message": e.Message,
		"began": e.Began.UTC().Format(time.RFC3339), "ended": e.Ended.UTC().Format(time.RFC3339), "items": int64(e.Items), "set_aside": int64(e.SetAside),
	}
}

// Sample is the item of a start that somebody makes at a moment, as if a run had
// ended then.
func (f *Following) Sample(now time.Time) map[string]any {
	return f.Item(Ended{Workflow: f.Workflow, Title: strings.ReplaceAll(f.Workflow, "-", " "), Pass: 1, State: f.States[0], Began: now, Ended: now, Items: 1})
}
