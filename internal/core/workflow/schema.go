package workflow

import (
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
)

// Schema is the JSON Schema (2020-12) of the workflow document, for editors.
func Schema(catalog *Catalog) map[string]any {
	text := func(description string) map[string]any {
		return map[string]any{"type": "string", "description": description}
	}
	oneOf := func(description string, values ...any) map[string]any {
		return map[string]any{"enum": values, "description": description}
	}
	types := []any{}
	conditions := []any{}
	for _, k := range steps.Kinds() {
		types = append(types, k.Type)
		conditions = append(conditions, when("type", k.Type, map[string]any{"properties": map[string]any{"settings": withSteps(k.Form.Schema)}}))
	}
	for _, name := range catalog.connectorNames() {
		c := catalog.Connectors[name]
		for _, a := range c.Order {
			types = append(types, name+"."+a)
			conditions = append(conditions, when("type", name+"."+a, map[string]any{"required": []any{"connection"}, "properties": map[string]any{"input": templated(c.Actions[a].Fields)}}))
		}
	}
	starts, startConditions := []any{}, []any{}
	for _, k := range triggers.Kinds() {
		starts = append(starts, k.Type)
		startConditions = append(startConditions, when("type", k.Type, map[string]any{"properties": map[string]any{"settings": k.Form.Schema}}))
	}
	step := map[string]any{
		"type": "object", "additionalProperties": false, "required": []any{"name", "type"}, "allOf": conditions,
		"properties": map[string]any{
			"name":         map[string]any{"type": "string", "pattern": stepName.String(), "description": "Its name, by which steps.NAME refers to it."},
			"was":          text("Its earlier name, so that runs that wait find it again."),
			"type":         map[string]any{"enum": types, "description": "A built-in kind, or CONNECTOR.ACTION."},
			"connection":   text("The stored account that an action uses."),
			"settings":     map[string]any{"type": "object", "description": "What a built-in kind is told."},
			"input":        map[string]any{"type": "object", "description": "What an action is given. Text may hold (= expressions )."},
			"note":         text("A word to colleagues."),
			"off":          map[string]any{"type": "boolean", "description": "Switched off: items pass as they are."},
			"output":       map[string]any{"type": "string", "pattern": outputForm.String(), "description": "replace, keep, or under NAME."},
			"when_none":    oneOf("For a step that gives no items.", WhenNoneEnd, WhenNonePass, WhenNoneFail),
			"repeat":       oneOf("Whether a call of unknown outcome may be made again.", "safe", "keyed", "unsafe"),
			"when_unknown": oneOf("For a call that may have been sent.", UnknownAsk, UnknownResend, UnknownDone),
			"timeout":      text("The longest that one call may take, as 60s."),
			"parallel":     map[string]any{"type": "integer", "minimum": 1, "maximum": MaxParallel, "description": "Items at once; the order is kept."},
			"on_error":     oneOf("What becomes of an item for which the step failed.", OnErrorStop, OnErrorSetAside, OnErrorContinue, OnErrorFallback),
			"fallback":     map[string]any{"type": "array", "items": map[string]any{"$ref": "#/$defs/step"}, "description": "The steps that an item takes when on_error is fallback, before it rejoins the others. error says why."},
			"late":         oneOf("What becomes of items that meet a list that was closed before.", LateLeave, LateAlone, LateAgain),
			"retry": map[string]any{"type": "object", "additionalProperties": false, "properties": map[string]any{
				"attempts": map[string]any{"type": "integer", "minimum": 1, "maximum": 20},
				"first":    text("Pause before the second attempt, as 1s."),
				"factor":   map[string]any{"type": "number", "minimum": 1, "maximum": 10},
				"max":      text("The longest pause between two attempts, as 1m."),
				"wait":     text("How long the other side may ask to wait, in all, as 24h. Such waits count no attempt."),
			}},
		},
	}
	return map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title":   "Young Trellis workflow",
		"type":    "object", "additionalProperties": false, "required": []any{"format", "name", "trigger"},
		"properties": map[string]any{
			"format":  map[string]any{"const": Format},
			"name":    map[string]any{"type": "string", "pattern": workflowName.String()},
			"title":   text("What people call it."),
			"about":   text("What it is for."),
			"label":   text("Expression: what a row of the lattice is called."),
			"find_by": map[string]any{"type": "array", "items": map[string]any{"type": "string"}, "description": "Expressions by which an item is found again."},
			"limits":  LimitsForm.Schema,
			"vars":    map[string]any{"type": "object", "description": "Values used as vars.NAME."},
			"trigger": map[string]any{"type": "object", "additionalProperties": false, "required": []any{"type"}, "allOf": startConditions,
				"properties": map[string]any{"type": map[string]any{"enum": starts}, "settings": map[string]any{"type": "object"}}},
			"on_failure": map[string]any{"type": "array", "items": map[string]any{"$ref": "#/$defs/step"}, "description": "Steps that are done once when a run fails."},
			"steps":      map[string]any{"type": "array", "maxItems": MaxSteps, "items": map[string]any{"$ref": "#/$defs/step"}},
		},
		"$defs": map[string]any{"step": step},
	}
}

func when(key, value string, then map[string]any) map[string]any {
	return map[string]any{"if": map[string]any{"required": []any{key}, "properties": map[string]any{key: map[string]any{"const": value}}}, "then": then}
}

// templated loosens the fields of an action: each may also be an expression,
// and a picked value is an object with id and name.
func templated(fields map[string]any) map[string]any {
	properties := map[string]any{}
	for name, s := range fields["properties"].(map[string]any) {
		kinds := []any{s, map[string]any{"type": "string", "pattern": `\(=`}}
		m, _ := s.(map[string]any)
		if m["choices"] != nil {
			kinds = append(kinds, map[string]any{"type": "object", "required": []any{"id"}, "properties": map[string]any{"id": true, "name": map[string]any{"type": "string"}}})
		}
		p := map[string]any{"anyOf": kinds}
		for _, key := range []string{"title", "description"} {
			if m[key] != nil {
				p[key] = m[key]
			}
		}
		properties[name] = p
	}
	return map[string]any{"type": "object", "additionalProperties": false, "required": fields["required"], "properties": properties}
}

// withSteps says of every setting that holds steps what a step looks like.
func withSteps(v any) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = withSteps(e)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v)+1)
		for k, e := range v {
			out[k] = withSteps(e)
		}
		if v["hint"] == "steps" {
			out["items"] = map[string]any{"$ref": "#/$defs/step"}
		}
		return out
	}
	return v
}
