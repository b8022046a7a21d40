package triggers

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

// MaxAsked is how many fields a start can ask for.
const MaxAsked = 100

// Asked are the fields that whoever starts a run is asked for, in the order in
// which they are asked. In a document each is a JSON Schema (2020-12) of its
// value, with its name and whether it is required:
//
//	fields:
//	  - {name: glaze, title: Glaze, type: string, required: true}
//	  - {name: cone, title: Cone, enum: ["6", "9"]}
//	  - {name: who, title: Who, from_list: duty}
//
// The value of the last is what a row of that workspace list is known by.
type Asked struct {
	Properties []form.Property
	compiled   *jsonschema.Schema
}

var (
	askedName  = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,59}$`)
	valueTypes = []string{"string", "number", "integer", "boolean", "array", "object"}
)

// FormSchema implements form.Custom.
func (Asked) FormSchema() map[string]any {
	return map[string]any{
		"type": "array", "hint": "asked", "maxItems": int64(MaxAsked),
		"items": map[string]any{
			"type": "object", "required": []any{"name"},
			"properties": map[string]any{
				"name":     map[string]any{"type": "string", "title": "Name"},
				"required": map[string]any{"type": "boolean", "title": "Required"},
			},
		},
	}
}

// ReadForm implements form.Custom.
func (a *Asked) ReadForm(v any) error {
	list, _ := v.([]any)
	seen := map[string]bool{}
	for i, e := range list {
		of, _ := e.(map[string]any)
		p, err := asked(of)
		if err == nil && seen[p.Name] {
			err = &expr.PathError{Path: "name", Err: fmt.Errorf("the field %q is asked for twice", p.Name)}
		}
		if err != nil {
			place := fmt.Sprintf("[%d]", i)
			var within *expr.PathError
			if errors.As(err, &within) {
				return &expr.PathError{Path: place + "." + within.Path, Err: within.Err}
			}
			return &expr.PathError{Path: place, Err: err}
		}
		seen[p.Name] = true
		a.Properties = append(a.Properties, p)
	}
	var err error
	a.compiled, err = form.Compile(a.Schema())
	return err
}

// asked reads one field.
func asked(of map[string]any) (form.Property, error) {
	name, _ := of["name"].(string)
	if !askedName.MatchString(name) {
		return form.Property{}, &expr.PathError{Path: "name", Err: fmt.Errorf("a field's name begins with a letter and has letters, digits and _ (at most 60), as studio_name, and this is %q", name)}
	}
	schema := maps.Clone(of)
	delete(schema, "name")
	delete(schema, "required")
	if t, ok := schema["type"].(string); ok && !slices.Contains(valueTypes, t) {
		return form.Property{}, &expr.PathError{Path: "type", Err: fmt.Errorf("%q is no type; there are %s.%s", t, words.And(valueTypes...), near.Hint(t, valueTypes))}
	}
	if list, ok := schema[fromList]; ok {
		name, _ := list.(string)
		if err := lists.CheckName(name); err != nil {
			return form.Property{}, &expr.PathError{Path: fromList, Err: fmt.Errorf("which list it is one of is not said: %w", err)}
		}
		if t, ok := schema["type"]; ok && t != "string" {
			return form.Property{}, &expr.PathError{Path: "type", Err: errors.New("what is one of a list is text: what its row is known by")}
		}
		schema["type"] = "string"
	}
	if _, err := form.Compile(schema); err != nil {
		return form.Property{}, fmt.Errorf("what %s takes is not a JSON Schema: %w", name, err)
	}
	required, _ := of["required"].(bool)
	if required && schema["type"] == "string" && schema["minLength"] == nil {
		schema["minLength"] = int64(1) // an empty text is not filled in
	}
	return form.Property{Name: name, Required: required, Schema: schema}, nil
}

// fromList names the workspace list of which a field's value is one.
const fromList = "from_list"

// Lists are the workspace lists of which values are, by where they stand.
func (a *Asked) Lists() (out []Listed) {
	for i, p := range a.Properties {
		if list := ListOf(p); list != "" {
			out = append(out, Listed{Field: fmt.Sprintf("fields[%d].%s", i, fromList), List: list})
		}
	}
	return out
}

// ListOf is the workspace list of which a field's value is one; "" for none.
func ListOf(p form.Property) string {
	list, _ := p.Schema[fromList].(string)
	return list
}

// Schema is the JSON Schema of an item that a run starts with. An item may hold
// more than what is asked for.
func (a *Asked) Schema() map[string]any {
	names, required := map[string]any{}, []any{}
	for _, p := range a.Properties {
		names[p.Name] = p.Schema
		if p.Required {
			required = append(required, p.Name)
		}
	}
	return map[string]any{"type": "object", "properties": names, "required": required}
}

// Complete gives an item the defaults of fields that it lacks, and checks it. The
// error is a *form.InputError with every problem.
func (a *Asked) Complete(fields map[string]any) (map[string]any, error) {
	if len(a.Properties) == 0 {
		return fields, nil
	}
	out := maps.Clone(fields)
	if out == nil {
		out = map[string]any{}
	}
	for _, p := range a.Properties {
		if preset, ok := p.Schema["default"]; ok && out[p.Name] == nil {
			out[p.Name] = preset
		}
	}
	return out, form.Validate(a.compiled, a.Properties, out)
}

// Value reads a field's value from what somebody typed: text as it is, numbers,
// yes and no, lists with commas between, and everything else as JSON.
func Value(p form.Property, typed string) (any, error) {
	title, _ := p.Schema["title"].(string)
	if title == "" {
		title = p.Name
	}
	trimmed := strings.TrimSpace(typed)
	wanted := func(what string) error { return fmt.Errorf("%s should be %s, and this is %q", title, what, typed) }
	switch t, _ := p.Schema["type"].(string); t {
	case "integer", "number":
		v, err := item.Decode([]byte(trimmed))
		if err == nil && (item.Kind(v) == "a number") {
			return v, nil
		}
		return nil, wanted("a number, as 12")
	case "boolean":
		switch strings.ToLower(trimmed) {
		case "yes", "y", "true", "1":
			return true, nil
		case "no", "n", "false", "0":
			return false, nil
		}
		return nil, wanted("yes or no")
	case "array":
		if strings.HasPrefix(trimmed, "[") {
			break
		}
		list := []any{}
		items, _ := p.Schema["items"].(map[string]any)
		for _, part := range strings.Split(typed, ",") {
			if part = strings.TrimSpace(part); part == "" {
				continue
			}
			v, err := Value(form.Property{Name: p.Name, Schema: items}, part)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		return list, nil
	case "object":
	case "":
		return among(p.Schema["enum"], typed), nil
	default:
		return typed, nil
	}
	v, err := item.Decode([]byte(trimmed))
	if err != nil {
		return nil, fmt.Errorf("%s is written as JSON: %w", title, err)
	}
	return v, nil
}

// Fits checks a value of one field by itself.
func Fits(p form.Property, v any) error {
	one := Asked{Properties: []form.Property{p}}
	var err error
	if one.compiled, err = form.Compile(one.Schema()); err != nil {
		return err
	}
	_, err = one.Complete(map[string]any{p.Name: v})
	return err
}

// among finds what was typed among the values that can stand there, of which
// some are no texts.
func among(can any, typed string) any {
	list, _ := can.([]any)
	for _, v := range list {
		if expr.Text(v) == typed {
			return v
		}
	}
	return typed
}

// words names the fields in a sentence: "glaze and cone".
func (a *Asked) words() string {
	var names []string
	for _, p := range a.Properties {
		title, _ := p.Schema["title"].(string)
		if title == "" {
			title = strings.ReplaceAll(p.Name, "_", " ")
		}
		names = append(names, strings.ToLower(title[:1])+title[1:])
	}
	if len(names) > 4 {
		names = append(names[:3], strconv.Itoa(len(names)-3)+" more")
	}
	return words.And(names...)
}
