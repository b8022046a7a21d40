package intake

import (
	"errors"
	"fmt"
	"mime"
	"net/url"
	"strings"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// Parse reads a delivery's body by its content type: JSON (an object, or a
// list of them), a form, or text, which becomes the field "body".
func Parse(contentType string, query url.Values, body []byte) ([]map[string]any, error) {
	return parse(contentType, query, body, MaxItems)
}

func (in *Intake) parse(contentType string, query url.Values, body []byte) ([]map[string]any, error) {
	return parse(contentType, query, body, in.Most())
}

func parseJSON(body []byte, most int) ([]map[string]any, error) {
	v, err := item.Decode(body)
	if err != nil {
		return nil, err
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	if len(list) == 0 {
		return nil, errors.New("the list is empty")
	}
	if len(list) > most {
		return nil, fmt.Errorf("the list has %s items; at most %s start with one call (--event-items of the service)", words.Number(len(list)), words.Number(most))
	}
	out := make([]map[string]any, len(list))
	for i, e := range list {
		m, ok := e.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("an item is a JSON object with fields, and this is %s", item.Kind(e))
		}
		out[i] = m
	}
	return out, nil
}

func formFields(values url.Values) ([]map[string]any, error) {
	out := map[string]any{}
	for k, v := range values {
		list := make([]any, len(v))
		for i, s := range v {
			if err := item.CheckText(s); err != nil {
				return nil, fmt.Errorf("the field %q: %w", item.StorableText(k), err)
			}
			list[i] = s
		}
		if err := item.CheckText(k); err != nil {
			return nil, fmt.Errorf("the name of a field: %w", err)
		}
		if out[k] = any(list); len(list) == 1 {
			out[k] = list[0]
		}
	}
	return []map[string]any{out}, nil
}

func parse(contentType string, query url.Values, body []byte, most int) ([]map[string]any, error) {
	kind, _, err := mime.ParseMediaType(contentType)
	if err != nil && contentType != "" {
		return nil, fmt.Errorf("the Content-Type %q cannot be read", contentType)
	}
	switch {
	case kind == "application/json" || strings.HasSuffix(kind, "+json") || kind == "" && len(body) > 0 && (body[0] == '{' || body[0] == '['):
		if err := item.CheckJSON(body); err != nil {
			return nil, err
		}
		return parseJSON(body, most)
	case kind == "application/x-www-form-urlencoded":
		values, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, fmt.Errorf("the form cannot be read: %w", err)
		}
		return formFields(values)
	case len(body) == 0:
		return formFields(query)
	case strings.HasPrefix(kind, "text/") || kind == "":
		if err := item.CheckText(string(body)); err != nil {
			return nil, err
		}
		return []map[string]any{{"body": string(body)}}, nil
	}
	return nil, fmt.Errorf("the content type %s is not taken here; send JSON, a form or text", kind)
}
