package workflow

import (
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

// TriggerKind describes what can start a workflow.
type TriggerKind struct {
	Type  string
	Title string
	Help  string
	Form  *form.Form
}

type triggerSettings struct {
	Key    *expr.Program `form:"key" title:"Once for each" example:"item.call_id" help:"An expression over the item. The same key starts nothing again."`
	For    time.Duration `form:"for" title:"Remembered for" default:"7d" help:"How long a key is remembered, as 7d."`
	Verify string        `form:"verify" title:"The caller proves itself with" oneof:"bearer|none" default:"bearer" help:"bearer: the secret in the Authorization header. none: whoever knows the address may call."`
}

// TriggerKinds are all of them by type.
var TriggerKinds = map[string]*TriggerKind{
	"webhook": {"webhook", "Something calls an address", "An address of its own is called with JSON, a form or text. Each call becomes one item and starts one run.", form.Of[triggerSettings]()},
	"manual":  {"manual", "Somebody starts it", "Started in the console, by command or over the API, with or without items.", form.Of[struct{}]()},
}
