package form

import (
	"fmt"
	"math/big"
	"sort"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

type refuseLoader struct{}

func (refuseLoader) Load(url string) (any, error) {
	return nil, fmt.Errorf("a schema refers to %s; only references within the document are followed", url)
}

// Compile compiles a JSON Schema (2020-12). References never leave it.
func Compile(schema map[string]any) (*jsonschema.Schema, error) {
	c := jsonschema.NewCompiler()
	c.UseLoader(refuseLoader{})
	c.AssertFormat()
	raw, err := plainJSON(schema)
	if err != nil {
		return nil, err
	}
	if err := c.AddResource("mem:schema", raw); err != nil {
		return nil, err
	}
	return c.Compile("mem:schema")
}

// plainJSON gives the numbers the form that the schema library expects.
func plainJSON(v any) (any, error) {
	b, err := item.Encode(v)
	if err != nil {
		return nil, err
	}
	return jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
}

// FieldError is a problem with one field.
type FieldError struct {
	Field   string `json:"field"`
	Message string `json:"message"`
	Gap     bool   `json:"-"` // nobody has filled it in yet
}

// InputError lists everything wrong with what was filled in.
type InputError struct{ Fields []FieldError }

func (e *InputError) Error() string {
	parts := make([]string, len(e.Fields))
	for i, f := range e.Fields {
		parts[i] = f.Message
	}
	return strings.Join(parts, "; ")
}

// Validate checks values against a schema and words what is wrong. The error is
// an *InputError with every problem.
func Validate(schema *jsonschema.Schema, properties []Property, input map[string]any) error {
	clean := make(map[string]any, len(input))
	for k, v := range input {
		if v != nil {
			clean[k] = v
		}
	}
	raw, err := plainJSON(clean)
	if err != nil {
		return err
	}
	err = schema.Validate(raw)
	ve, ok := err.(*jsonschema.ValidationError)
	if !ok {
		return err
	}
	c := &complaints{properties: map[string]any{}, input: clean, at: map[string]string{}}
	for _, p := range properties {
		c.properties[p.Name] = p.Schema
	}
	c.collect(ve)
	sort.SliceStable(c.fields, func(i, j int) bool { return c.fields[i].Field < c.fields[j].Field })
	return &InputError{c.fields}
}

// complaints words what a schema finds wrong.
type complaints struct {
	properties map[string]any // schemas by name
	input      map[string]any
	at         map[string]string // texts by their place
	fields     []FieldError
}

func (c *complaints) add(field, format string, args ...any) {
	c.fields = append(c.fields, FieldError{Field: field, Message: fmt.Sprintf(format, args...)})
}

// find follows a location: to its place as it is written, as cases[1].when, to
// what the schema says of it, and to what stands there.
func (c *complaints) find(location []string) (place string, schema map[string]any, at any) {
	schema = map[string]any{"properties": c.properties}
	at = c.input
	for _, step := range location {
		switch v := at.(type) {
		case []any:
			n, _ := strconv.Atoi(step)
			at = v[n]
			place = join(place, "["+step+"]")
			schema, _ = schema["items"].(map[string]any)
		case map[string]any:
			at = v[step]
			place = join(place, step)
			names, _ := schema["properties"].(map[string]any)
			schema, _ = names[step].(map[string]any)
		}
	}
	return place, schema, at
}

// named is what a field is called for people.
func named(name string, schema map[string]any) string {
	if title, _ := schema["title"].(string); title != "" {
		return title
	}
	return name
}

func (c *complaints) collect(e *jsonschema.ValidationError) {
	place, schema, at := c.find(e.InstanceLocation)
	if text, ok := at.(string); ok {
		c.at[place] = text
	}
	switch e.ErrorKind.(type) {
	case *kind.OneOf, *kind.AnyOf: // none of several ways, so what lacks in each says nothing
		c.add(place, "%s is nothing of what can stand here", named(place, schema))
		return
	}
	if len(e.Causes) > 0 {
		for _, cause := range e.Causes {
			c.collect(cause)
		}
		return
	}
	c.word(e.ErrorKind, place, schema)
}

// word says what is wrong at a place.
func (c *complaints) word(what jsonschema.ErrorKind, place string, schema map[string]any) {
	name := named(place, schema)
	names, _ := schema["properties"].(map[string]any)
	switch k := what.(type) {
	case *kind.Required:
		for _, m := range k.Missing {
			of, _ := names[m].(map[string]any)
			c.add(join(place, m), "%s is required and empty", named(m, of))
			c.fields[len(c.fields)-1].Gap = true
		}
	case *kind.AdditionalProperties:
		for _, p := range k.Properties {
			c.add(join(place, p), "%s is not a field here.%s", p, near.Hint(p, item.Keys(names)))
		}
	case *kind.Type:
		c.add(place, "%s should be %s and is %s", name, wordKinds(k.Want), wordKind(k.Got))
	case *kind.MaxLength:
		c.add(place, "%s has %d characters; at most %d are taken%s", name, k.Got, k.Want, c.cut(place, k.Want))
	case *kind.MinLength:
		c.add(place, "%s is empty", name)
	case *kind.Minimum:
		c.add(place, "%s is %s; the least is %s", name, number(k.Got), number(k.Want))
	case *kind.Maximum:
		c.add(place, "%s is %s; the most is %s", name, number(k.Got), number(k.Want))
	case *kind.ExclusiveMinimum:
		c.add(place, "%s is %s; it must be more than %s", name, number(k.Got), number(k.Want))
	case *kind.ExclusiveMaximum:
		c.add(place, "%s is %s; it must be less than %s", name, number(k.Got), number(k.Want))
	case *kind.MinItems:
		c.add(place, "%s has %d of them; at least %d are needed", name, k.Got, k.Want)
	case *kind.MaxItems:
		c.add(place, "%s has %d of them; at most %d are taken", name, k.Got, k.Want)
	case *kind.MinProperties:
		c.add(place, "%s has %d of them; at least %d are needed", name, k.Got, k.Want)
	case *kind.Enum:
		can := make([]string, len(k.Want))
		for i, w := range k.Want {
			can[i] = said(w)
		}
		hint := near.Hint(said(k.Got), can)
		if hint != "" {
			hint = "." + hint
		}
		c.add(place, "%s is %s; it can be %s%s", name, said(k.Got), strings.Join(can, ", "), hint)
	case *kind.Pattern:
		like := ""
		if list, ok := schema["examples"].([]any); ok && len(list) > 0 {
			like = "; it is written as " + said(list[0])
		} else if text, ok := schema["description"].(string); ok {
			like = ", which is not in the form expected: " + strings.TrimSuffix(text, ".")
		} else {
			like = ", which is not in the form expected (" + k.Want + ")"
		}
		c.add(place, "%s is “%s”%s", name, k.Got, like)
	case *kind.Format:
		c.add(place, "%s is %v, which is not a valid %s", name, k.Got, k.Want)
	default:
		c.add(place, "%s: %s", name, what.LocalizedString(message.NewPrinter(language.English)))
	}
}

// number writes a number as people do.
func number(r *big.Rat) string {
	if r.IsInt() {
		return r.RatString()
	}
	f, _ := r.Float64()
	return item.FormatFloat(f)
}

// said writes a value of a schema.
func said(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case float64:
		return item.FormatFloat(v)
	}
	if b, err := item.Plain(v); err == nil {
		return string(b)
	}
	return fmt.Sprint(v)
}

// cut says what of a text is too much.
func (c *complaints) cut(place string, most int) string {
	text, ok := c.at[place]
	if !ok {
		return ""
	}
	r := []rune(text)
	if len(r) <= most {
		return ""
	}
	return fmt.Sprintf("; “%s” would be cut", words.Short(string(r[most:]), 40))
}

func wordKind(t string) string {
	switch t {
	case "string":
		return "text"
	case "object":
		return "an object"
	case "array":
		return "a list"
	case "null":
		return "nothing"
	case "boolean":
		return "true or false"
	case "integer":
		return "a whole number"
	}
	return "a number"
}

func wordKinds(types []string) string {
	words := []string{}
	for _, t := range types {
		words = append(words, wordKind(t))
	}
	return strings.Join(words, " or ")
}
