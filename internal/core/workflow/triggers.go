package workflow

import "youngtrellis/internal/core/connector"

// TriggerKind describes what can start a workflow.
type TriggerKind struct {
	Type       string
	Title      string
	Help       string
	Schema     map[string]any
	Properties []connector.Property
}

// TriggerKinds are all of them by type.
var TriggerKinds = map[string]*TriggerKind{
	"webhook": trigger("webhook", "Something calls an address", "An address of its own is called with JSON, a form or text. Each call becomes one item and starts one run.",
		connector.Property{Name: "key", Schema: map[string]any{
			"type": "string", "title": "Once for each", "hint": "condition", "examples": []any{"item.call_id"},
			"description": "An expression over the item. The same key starts nothing again.",
		}},
		connector.Property{Name: "for", Schema: map[string]any{
			"type": "string", "title": "Remembered for", "default": "7d", "description": "How long a key is remembered, as 7d.",
		}},
		connector.Property{Name: "verify", Schema: map[string]any{
			"type": "string", "title": "The caller proves itself with", "enum": []any{"bearer", "none"}, "default": "bearer",
			"description": "bearer: the secret in the Authorization header. none: whoever knows the address may call.",
		}},
	),
	"manual": trigger("manual", "Somebody starts it", "Started in the console, by command or over the API, with or without items."),
}

func trigger(kind, title, help string, properties ...connector.Property) *TriggerKind {
	all := map[string]any{}
	for _, p := range properties {
		all[p.Name] = p.Schema
	}
	return &TriggerKind{kind, title, help, map[string]any{"type": "object", "additionalProperties": false, "properties": all}, properties}
}
