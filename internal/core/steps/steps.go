// Package steps holds the built-in step kinds. Each kind is one file with one
// line of registration in kinds. Most compute: an operation takes one item and
// says what goes on. Those that reach outside give an action instead.
package steps

import (
	"fmt"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
)

// Kind describes a built-in step kind.
type Kind struct {
	Type     string
	Title    string
	Help     string
	Schema   map[string]any // JSON Schema of the settings
	Sentence func(settings map[string]any) string
	Compile  func(settings map[string]any) (Operation, error)
	// Call makes the action of a kind that reaches outside, and the tree of
	// values that is its input. Such a kind has no Compile.
	Call func(settings map[string]any) (*connector.Action, map[string]any, error)
	// Connects tells whether a step of this kind can use a connection; Needs
	// names the protocol of one that it cannot do without.
	Connects bool
	Needs    string

	properties []connector.Property
}

// Operation is a compiled step.
type Operation interface {
	// Apply gives what the step makes of the item in scope.
	Apply(*expr.Scope) (Result, error)
	// Refs lists the paths that each setting reads.
	Refs() map[string][]expr.Ref
}

// Result of an operation on one item.
type Result struct {
	Fields map[string]any // nil: the item goes on as it is
	Held   bool           // it does not go on
	Text   string         // for the cell: why it was held, or what was made
}

var kinds = []*Kind{filterKind, shapeKind, httpKind, sqlKind}

// Find returns the kind of this type.
func Find(kind string) (*Kind, bool) {
	for _, k := range kinds {
		if k.Type == kind {
			return k, true
		}
	}
	return nil, false
}

// Kinds lists the kinds in the order in which they are offered.
func Kinds() []*Kind { return kinds }

// Types lists the types of all kinds.
func Types() []string {
	out := make([]string, len(kinds))
	for i, k := range kinds {
		out[i] = k.Type
	}
	return out
}

// Check finds every fault in the settings, one error for each.
func (k *Kind) Check(settings map[string]any) []error {
	schema, err := connector.CompileSchema(k.Schema)
	if err != nil {
		return []error{err}
	}
	if settings == nil {
		settings = map[string]any{}
	}
	if err := connector.ValidateInput(schema, k.Properties(), settings); err != nil {
		ie, ok := err.(*connector.InputError)
		if !ok {
			return []error{err}
		}
		var errs []error
		for _, f := range ie.Fields {
			errs = append(errs, &SettingError{f.Field, fmt.Errorf("%s", f.Message)})
		}
		return errs
	}
	if k.Call != nil {
		var tree map[string]any
		if _, tree, err = k.Call(settings); err == nil {
			_, err = expr.CompileValue(tree)
		}
	} else {
		_, err = k.Compile(settings)
	}
	if err != nil {
		return []error{err}
	}
	return nil
}

// Properties lists the settings in the order in which a form shows them.
func (k *Kind) Properties() []connector.Property { return k.properties }

// SettingError places an error in a setting.
type SettingError struct {
	Setting string
	Err     error
}

func (e *SettingError) Error() string { return e.Err.Error() }
func (e *SettingError) Unwrap() error { return e.Err }

func property(name string, required bool, schema map[string]any) connector.Property {
	return connector.Property{Name: name, Required: required, Schema: schema}
}

// settingsSchema makes the JSON Schema of an object from its properties.
func settingsSchema(properties []connector.Property) map[string]any {
	all, required := map[string]any{}, []any{}
	for _, p := range properties {
		all[p.Name] = p.Schema
		if p.Required {
			required = append(required, p.Name)
		}
	}
	return map[string]any{"type": "object", "additionalProperties": false, "properties": all, "required": required}
}
