package triggers

import (
	"time"

	"youngtrellis/internal/core/expr"
)

// Webhook is the type of what something calls.
const Webhook = "webhook"

type webhook struct {
	Key *expr.Program `form:"key" title:"Once for each" example:"item.call_id" help:"An expression over the item. An item whose key was there before is left out."`
	For time.Duration `form:"for" title:"Remembered for" default:"7d" help:"How long a key is remembered, as 7d."`
	several
	Verify string `form:"verify" title:"The caller proves itself with" oneof:"bearer|none" default:"bearer" words:"bearer=the secret in the Authorization header; none=whoever knows the address may call"`
}

var webhookKind = New(Info{
	Type: Webhook, Title: "Something calls an address", Called: true, Began: "by a call", By: "its webhook",
	Help: "An address of its own is called with JSON, a form or text. Each call becomes an item, or several where it brings a list.",
}, func(w *webhook) string {
	return "Whenever its address is called" + w.words(w.Key)
}, func(w *webhook) (Start, error) {
	runs, err := w.runs()
	return Start{Key: w.Key, KeyLasts: w.For, Runs: runs, Open: w.Verify == "none"}, err
})
