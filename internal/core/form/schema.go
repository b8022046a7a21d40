package form

import (
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
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
	titles := map[string]string{}
	known := []string{}
	for _, p := range properties {
		titles[p.Name], _ = p.Schema["title"].(string)
		known = append(known, p.Name)
	}
	out := &InputError{}
	collect(ve, titles, known, clean, out)
	sort.SliceStable(out.Fields, func(i, j int) bool { return out.Fields[i].Field < out.Fields[j].Field })
	return out
}

func collect(e *jsonschema.ValidationError, titles map[string]string, known []string, input map[string]any, out *InputError) {
	if len(e.Causes) > 0 {
		for _, c := range e.Causes {
			collect(c, titles, known, input, out)
		}
		return
	}
	field := strings.Join(e.InstanceLocation, ".")
	name := field
	if t := titles[field]; t != "" {
		name = t
	}
	add := func(f, format string, args ...any) {
		out.Fields = append(out.Fields, FieldError{f, fmt.Sprintf(format, args...)})
	}
	switch k := e.ErrorKind.(type) {
	case *kind.Required:
		for _, m := range k.Missing {
			label := titles[m]
			if label == "" {
				label = m
			}
			add(m, "%s is required and empty", label)
		}
	case *kind.AdditionalProperties:
		for _, p := range k.Properties {
			add(p, "%s is not a field here.%s", p, near.Hint(p, known))
		}
	case *kind.Type:
		add(field, "%s should be %s and is %s", name, wordKinds(k.Want), wordKind(k.Got))
	case *kind.MaxLength:
		add(field, "%s has %d characters; at most %d are taken", name, k.Got, k.Want)
	case *kind.MinLength:
		add(field, "%s is empty", name)
	case *kind.Enum:
		words := make([]string, len(k.Want))
		for i, w := range k.Want {
			words[i] = fmt.Sprint(w)
		}
		add(field, "%s is %v; it can be %s", name, k.Got, strings.Join(words, ", "))
	case *kind.Pattern:
		add(field, "%s is %q, which is not in the form expected (%s)", name, k.Got, k.Want)
	case *kind.Format:
		add(field, "%s is %v, which is not a valid %s", name, k.Got, k.Want)
	default:
		b, _ := json.Marshal(e.InstanceLocation)
		add(field, "%s: %s at %s", name, e.Error(), b)
	}
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
