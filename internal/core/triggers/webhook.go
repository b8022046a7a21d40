package triggers

import (
	"time"

	"youngtrellis/internal/core/expr"
)

// Webhook is the type of what something calls.
const Webhook = "webhook"

type webhook struct {
	Key    *expr.Program `form:"key" title:"Once for each" example:"item.call_id" help:"An expression over the item. The same key starts nothing again."`
	For    time.Duration `form:"for" title:"Remembered for" default:"7d" help:"How long a key is remembered, as 7d."`
	Verify string        `form:"verify" title:"The caller proves itself with" oneof:"bearer|none" default:"bearer" words:"bearer=the secret in the Authorization header; none=whoever knows the address may call"`
}

var webhookKind = New(Info{
	Type: Webhook, Title: "Something calls an address", Called: true, Began: "by a call", By: "its webhook",
	Help: "An address of its own is called with JSON, a form or text. Each call becomes one item and starts one run.",
}, func(w *webhook) string {
	if w.Key == nil {
		return "Whenever its address is called"
	}
	return "Whenever its address is called, once for each " + w.Key.Words()
}, func(w *webhook) (Start, error) {
	return Start{Key: w.Key, KeyLasts: w.For, Open: w.Verify == "none"}, nil
})
