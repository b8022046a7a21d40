package connector

import (
	"reflect"
	"slices"
	"strings"
	"youngtrellis/internal/core/call"
)

// words of the document whose values are one of a few.
var oneOf = map[string][]any{
	"SignIn.method": {None, APIKey, Basic, Bearer, HMAC, OAuth2, Login}, "Action.effect": {call.Read, call.Write}, "Action.repeat": {call.Safe, call.Keyed, call.Unsafe},
	"Action.answer": {"auto", "json", "text", "file"}, "OAuth.grant": {AuthorizationCode, ClientCredentials}, "OAuth.client": {"basic", "body"},
	"Signing.algorithm": {"sha256", "sha512", "sha1"}, "Signing.encoding": {"hex", "base64"}, "Signing.time_form": {"unix", "rfc3339", "http"},
	"Wait.unit": {"ms", "s", "m", "h", "at"}, "Polling.order": {"newest_first", "oldest_first", "none"},
}

// DocumentSchema is the JSON Schema (2020-12) of connector documents, for
// editors. It is made of the types that the documents are read into.
func DocumentSchema() map[string]any {
	defs := map[string]any{}
	root := structSchema(reflect.TypeFor[Connector](), defs)
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "Young Trellis connector"
	root["$defs"] = defs
	root["properties"].(map[string]any)["format"] = map[string]any{"const": Format}
	root["properties"].(map[string]any)["name"] = map[string]any{"type": "string", "pattern": nameForm.String()}
	return root
}

func structSchema(t reflect.Type, defs map[string]any) map[string]any {
	properties, required := map[string]any{}, []any{}
	for i := range t.NumField() {
		name, option, _ := strings.Cut(t.Field(i).Tag.Get("doc"), ",")
		if name == "" {
			continue
		}
		if values, ok := oneOf[t.Name()+"."+name]; ok {
			properties[name] = map[string]any{"enum": slices.Clone(values)}
		} else {
			properties[name] = typeSchema(t.Field(i).Type, defs)
		}
		if option == "required" {
			required = append(required, name)
		}
	}
	return map[string]any{"type": "object", "additionalProperties": false, "properties": properties, "required": required}
}

func typeSchema(t reflect.Type, defs map[string]any) map[string]any {
	switch t.Kind() {
	case reflect.Pointer:
		return typeSchema(t.Elem(), defs)
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": typeSchema(t.Elem(), defs)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": typeSchema(t.Elem(), defs)}
	case reflect.Struct:
		if _, ok := defs[t.Name()]; !ok {
			defs[t.Name()] = true // a type may hold itself
			defs[t.Name()] = structSchema(t, defs)
		}
		return map[string]any{"$ref": "#/$defs/" + t.Name()}
	}
	return map[string]any{}
}
