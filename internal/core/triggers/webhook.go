package triggers

// Webhook is the type of what something calls.
const Webhook = "webhook"

type webhook struct {
	several
	Verify string `form:"verify" title:"The caller proves itself with" oneof:"bearer|none" default:"bearer" words:"bearer=the secret in the Authorization header; none=whoever knows the address may call"`
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
