package openapi

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
)

// hundreds is a document of 400 operations.
func hundreds() string {
	var b strings.Builder
	b.WriteString("openapi: 3.0.3\ninfo: {title: Hundreds, version: '1'}\nservers: [{url: 'https://api.ottermere.example/v1'}]\npaths:\n")
	for i := range 200 {
		fmt.Fprintf(&b, "  /part%d/{id}:\n    get: {operationId: get%d, parameters: [{name: id, in: path, required: true, schema: {type: integer}}], responses: {'200': {description: ok}}}\n    post: {operationId: post%d, parameters: [{name: id, in: path, required: true, schema: {type: integer}}], requestBody: {required: true, content: {application/json: {schema: {type: object, required: [n], properties: {n: {type: number}}}}}}, responses: {'200': {description: ok}}}\n", i, i, i)
	}
	return b.String()
}

const (
	info     = "info: {title: Kiln hall, version: '1'}\nservers: [{url: 'https://api.ottermere.example/v1'}]\n"
	answered = "responses: {'200': {description: ok}}"
	v30      = "openapi: 3.0.3\n" + info
	v31      = "openapi: 3.1.0\n" + info
	pieces   = "paths:\n  /pieces:\n    "
)

// documents are of all sorts: each imported action is called for real against a server
// made of the document, which takes only what the document allows.
var documents = map[string]struct {
	text    string
	actions int
}{
	"plain":            {v30 + pieces + "get: {operationId: list, " + answered + "}\n", 1},
	"path parameters":  {v30 + "paths:\n  /studios/{studio}/pieces/{piece}:\n    parameters: [{name: studio, in: path, required: true, schema: {type: string}}, {name: piece, in: path, required: true, schema: {type: integer, minimum: 1}}]\n    get: {operationId: one, " + answered + "}\n    delete: {operationId: drop, " + answered + "}\n", 2},
	"query styles":     {v30 + pieces + "get: {operationId: list, parameters: [{name: a, in: query, required: true, schema: {type: array, items: {type: string}}}, {name: b, in: query, explode: false, required: true, schema: {type: array, items: {type: integer}}}, {name: c, in: query, style: pipeDelimited, explode: false, required: true, schema: {type: array, items: {type: string}}}, {name: d, in: query, style: spaceDelimited, explode: false, required: true, schema: {type: array, items: {type: string}}}], " + answered + "}\n", 1},
	"deep objects":     {v30 + pieces + "get: {operationId: list, parameters: [{name: filter, in: query, style: deepObject, explode: true, required: true, schema: {type: object, required: [glaze], properties: {glaze: {type: string}, cone: {type: integer}}}}], " + answered + "}\n", 1},
	"headers, cookies": {v30 + pieces + "get: {operationId: list, parameters: [{name: X-Shop, in: header, required: true, schema: {type: string, enum: [hall, yard]}}, {name: place, in: cookie, required: true, schema: {type: string}}], " + answered + "}\n", 1},
	"JSON bodies":      {v30 + pieces + "post: {operationId: add, requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Piece'}}}}, " + answered + "}\ncomponents: {schemas: {Piece: {type: object, required: [id, name, tags], additionalProperties: false, properties: {id: {type: string, readOnly: true}, name: {type: string, maxLength: 20}, tags: {type: array, minItems: 1, items: {type: string}}, size: {type: object, required: [cm], properties: {cm: {type: number}}}, done: {type: boolean}, at: {type: string, format: date-time}}}}}\n", 1},
	"typed JSON":       {v30 + pieces + "patch: {operationId: change, requestBody: {required: true, content: {application/merge-patch+json: {schema: {type: object, required: [name], properties: {name: {type: string}}}}}}, " + answered + "}\n", 1},
	"combined":         {v30 + pieces + "post: {operationId: add, requestBody: {required: true, content: {application/json: {schema: {allOf: [{$ref: '#/components/schemas/Known'}, {type: object, required: [name], properties: {name: {type: string}}}]}}}}, " + answered + "}\ncomponents: {schemas: {Known: {type: object, required: [id, made], properties: {id: {type: string, readOnly: true}, made: {type: string, format: date, readOnly: true}}}}}\n", 1},
	"alternatives":     {v30 + pieces + "post: {operationId: add, requestBody: {required: true, content: {application/json: {schema: {oneOf: [{$ref: '#/components/schemas/Gas'}, {$ref: '#/components/schemas/Wood'}], discriminator: {propertyName: kind, mapping: {gas: '#/components/schemas/Gas', wood: '#/components/schemas/Wood'}}}}}}, " + answered + "}\ncomponents: {schemas: {Gas: {type: object, required: [kind, jets], properties: {kind: {type: string, enum: [gas]}, jets: {type: integer}}}, Wood: {type: object, required: [kind], properties: {kind: {type: string, enum: [wood]}}}}}\n", 1},
	"forms":            {v30 + pieces + "post: {operationId: add, requestBody: {required: true, content: {application/x-www-form-urlencoded: {schema: {type: object, required: [name], properties: {name: {type: string}, count: {type: integer}}}}}}, " + answered + "}\n", 1},
	"circular":         {v30 + pieces + "post: {operationId: add, requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Box'}}}}, " + answered + "}\ncomponents: {schemas: {Box: {type: object, required: [name], properties: {name: {type: string}, within: {$ref: '#/components/schemas/Box'}, beside: {type: array, items: {$ref: '#/components/schemas/Box'}}}}}}\n", 1},
	"own servers":      {v30 + "paths:\n  /a: {get: {operationId: a, " + answered + "}}\n  /b: {servers: [{url: 'https://api.ottermere.example/v2'}], get: {operationId: b, " + answered + "}}\n", 2},
	"references":       {v30 + pieces + "get: {operationId: list, parameters: [{$ref: '#/components/parameters/Cone'}], " + answered + "}\n    post: {operationId: add, requestBody: {$ref: '#/components/requestBodies/Piece'}, " + answered + "}\ncomponents:\n  parameters: {Cone: {name: cone, in: query, required: true, schema: {$ref: '#/components/schemas/Cone'}}}\n  requestBodies: {Piece: {required: true, content: {application/json: {schema: {type: object, required: [cone], properties: {cone: {$ref: '#/components/schemas/Cone'}}}}}}}\n  schemas: {Cone: {type: integer, minimum: 1, maximum: 14}}\n", 2},
	"3.1 types":        {v31 + pieces + "post: {operationId: add, requestBody: {required: true, content: {application/json: {schema: {type: object, required: [name, cone], properties: {name: {type: string}, cone: {type: integer, minimum: 1}, note: {type: string}}}}}}, " + answered + "}\n", 1},
	"odd names":        {v30 + "paths:\n  /a-b/{some.id}/c:verb:\n    post: {operationId: 'Odd Name!', parameters: [{name: some.id, in: path, required: true, schema: {type: string}}, {name: 'x[y]', in: query, required: true, schema: {type: string}}, {name: '$top', in: query, schema: {type: integer}}], " + answered + "}\n    get: {parameters: [{name: some.id, in: path, required: true, schema: {type: string}}], " + answered + "}\n", 2},
	"hundreds":         {hundreds(), 400},
}

// filled makes a value for a field, as its schema wants it.
func filled(s map[string]any) any {
	if e, ok := s["examples"].([]any); ok && len(e) > 0 {
		return e[0]
	}
	if e, ok := s["enum"].([]any); ok && len(e) > 0 {
		return e[0]
	}
	if list, ok := s["anyOf"].([]any); ok && len(list) > 0 {
		return filled(list[0].(map[string]any))
	}
	switch s["type"] {
	case "integer", "number":
		return int64(3)
	case "boolean":
		return true
	case "array":
		items, _ := s["items"].(map[string]any)
		return []any{filled(items), filled(items)}
	case "object":
		out := map[string]any{}
		required, _ := s["required"].([]any)
		properties, _ := s["properties"].(map[string]any)
		for _, name := range required {
			if p, ok := properties[name.(string)].(map[string]any); ok {
				out[name.(string)] = filled(p)
			}
		}
		return out
	}
	switch s["format"] {
	case "date-time":
		return "2026-11-23T08:00:00Z"
	case "date":
		return "2026-11-23"
	}
	return "a b/ü"
}

func TestEveryImportedActionIsTakenByAServerMadeOfItsDocument(t *testing.T) {
	t.Parallel()
	require.GreaterOrEqual(t, len(documents), 15)
	for name, d := range documents {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			im, err := Import(context.Background(), []byte(d.text), Options{})
			require.NoError(t, err)
			require.Empty(t, im.LeftOut)
			require.Len(t, im.Connector.Actions, d.actions)
			spec, err := openapi3.NewLoader().LoadFromData([]byte(d.text))
			require.NoError(t, err)
			var wrong error
			router, err := gorillamux.NewRouter(spec)
			require.NoError(t, err)
			served := ""
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				r.URL.Scheme, r.URL.Host, r.Host = "https", "api.ottermere.example", "api.ottermere.example"
				route, params, err := router.FindRoute(r)
				if err != nil {
					wrong = fmt.Errorf("%s %s: %w", r.Method, r.URL, err)
					return
				}
				served = route.Operation.OperationID
				wrong = openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route, Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}})
			}))
			t.Cleanup(s.Close)
			at, err := url.Parse(s.URL)
			require.NoError(t, err)
			for _, action := range im.Connector.Order {
				a := im.Connector.Actions[action]
				input := map[string]any{}
				for _, p := range a.Properties {
					if v := filled(p.Schema); p.Required || !strings.Contains(fmt.Sprint(v), "map[]") { // cut where it goes round
						input[p.Name] = v
					}
				}
				call(t, a, input, at)
				require.NoError(t, wrong, "%s: %v", action, input)
				if name != "odd names" {
					require.Equal(t, action, snake(served))
				}
				for _, p := range a.Properties { // and with nothing that is not required
					if !p.Required {
						delete(input, p.Name)
					}
				}
				call(t, a, input, at)
				require.NoError(t, wrong, "%s: %v", action, input)
			}
		})
	}
}

func call(t *testing.T, a *connector.Action, input map[string]any, at *url.URL) {
	c, err := a.Build(map[string]any{}, input, nil)
	require.NoError(t, err, "%s: %v", a.Name, input)
	u := *c.URL
	u.Scheme, u.Host = at.Scheme, at.Host
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, c.Method, u.String(), bytes.NewReader(c.Body))
	require.NoError(t, err)
	req.Header = c.Header
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	res.Body.Close()
}
