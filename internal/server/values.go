package server

import (
	"encoding/json"

	"youngtrellis/internal/core/item"
)

func raw(v any) json.RawMessage {
	if m, ok := v.(map[string]any); ok && m == nil {
		return json.RawMessage("{}")
	}
	b, err := item.Encode(v)
	if err != nil {
		return json.RawMessage("null")
	}
	return b
}

func optionalRaw(m map[string]any) *json.RawMessage {
	if m == nil {
		return nil
	}
	return some(raw(m))
}
