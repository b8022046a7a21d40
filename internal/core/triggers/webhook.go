package triggers

import (
	"errors"
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

// Webhook is the type of what something calls.
const Webhook = "webhook"

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

type webhook struct {
	Key    *expr.Program `form:"key" title:"Once for each" example:"item.call_id" help:"An expression over the item. An item whose key was there before is left out."`
	For    time.Duration `form:"for" title:"Remembered for" default:"7d" help:"How long a key is remembered, as 7d."`
	Runs   string        `form:"runs" title:"A call with a list of items starts" part:"Calls with several items" oneof:"together|each|by" default:"together" words:"together=one run for all of them; each=one run for each; by=one run for each value of what stands below"`
	By     *expr.Program `form:"by" title:"One run for each" part:"Calls with several items" example:"item.studio" help:"Items that have the same value run together, in the order in which they came."`
	Verify string        `form:"verify" title:"The caller proves itself with" oneof:"bearer|none" default:"bearer" words:"bearer=the secret in the Authorization header; none=whoever knows the address may call"`
}

func (w *webhook) words() string {
	out := ""
	if w.Key != nil {
		out = ", once for each " + w.Key.Words()
	}
	switch {
	case w.Runs == RunsEach:
		out += ", a run for each item"
	case w.Runs == RunsBy && w.By != nil:
		out += ", a run for each " + w.By.Words()
	}
	return out
}

// runs reads how many runs start with one call.
func (w *webhook) runs() (Runs, error) {
	switch {
	case w.Runs == RunsBy && w.By == nil:
		return Runs{}, &form.Error{Field: "by", Err: &form.Gap{Err: errors.New("say of what there is one run for each, as item.studio")}}
	case w.Runs != RunsBy && w.By != nil:
		return Runs{}, &form.Error{Field: "by", Err: errors.New("it counts only with runs: by; choose that, or take this out")}
	}
	return Runs{Each: w.Runs == RunsEach, By: w.By}, nil
}

var webhookKind = New(Info{
	Type: Webhook, Title: "Something calls an address", Called: true, Began: "by a call", By: "its webhook",
	Help: "An address of its own is called with JSON, a form or text. Each call becomes an item, or several where it brings a list.",
}, func(w *webhook) string {
	return "Whenever its address is called" + w.words()
}, func(w *webhook) (Start, error) {
	runs, err := w.runs()
	return Start{Key: w.Key, KeyLasts: w.For, Runs: runs, Open: w.Verify == "none"}, err
})
