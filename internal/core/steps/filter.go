package steps

import (
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
)

var filterProperties = []connector.Property{
	property("where", true, map[string]any{
		"type": "string", "minLength": 1, "title": "Keep an item where", "hint": "condition",
		"description": "A condition on the item's fields.", "examples": []any{`item.duration_s >= 20`},
	}),
}

var filterKind = &Kind{
	Type: "filter", Title: "Keep only some items",
	Help:       "Holds back every item for which a condition does not hold, and says why.",
	Schema:     settingsSchema(filterProperties),
	properties: filterProperties,
	Sentence: func(settings map[string]any) string {
		where, _ := settings["where"].(string)
		p, err := expr.Compile(where)
		if err != nil {
			return "Keep items where … (to fill in)"
		}
		return "Keep items where " + p.Words()
	},
	Compile: func(settings map[string]any) (Operation, error) {
		where, _ := settings["where"].(string)
		p, err := expr.Compile(where)
		if err != nil {
			return nil, &SettingError{"where", err}
		}
		return filter{p}, nil
	},
}

type filter struct{ where *expr.Program }

func (f filter) Apply(s *expr.Scope) (Result, error) {
	ok, err := f.where.Holds(s)
	if err != nil {
		return Result{}, &SettingError{"where", err}
	}
	if ok {
		return Result{Text: f.where.Met(s)}, nil
	}
	return Result{Held: true, Text: f.where.Why(s)}, nil
}

func (f filter) Refs() map[string][]expr.Ref { return map[string][]expr.Ref{"where": f.where.Refs} }
