package openapi

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
)

const head = "openapi: 3.1.0\ninfo: {title: Kiln Hall, version: '2'}\nservers: [{url: https://hall.example/api}]\n"

// What each document gives: actions, how it signs in, where calls go, and what
// is left out.
func TestDocumentsAndWhatTheyGive(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, document string
		actions        []string
		methods        []string
		servers        []string
		leftOut        []string
	}{
		{"one read", head + "paths:\n  /me: {get: {operationId: whoAmI, responses: {'200': {description: ok}}}}\n", []string{"who_am_i"}, []string{"none"}, []string{"https://hall.example/api"}, nil},
		{"without ids", head + "paths:\n  /pieces/{id}: {get: {responses: {}}, delete: {responses: {}}}\n", []string{"delete_pieces_id", "get_pieces_id"}, []string{"none"}, nil, nil},
		{"the same id twice", head + "paths:\n  /a: {get: {operationId: list}}\n  /b: {get: {operationId: list}}\n", []string{"list", "list_2"}, []string{"none"}, nil, nil},
		{"every sign-in", head + "components:\n  securitySchemes:\n    k: {type: apiKey, in: header, name: X-Key}\n    b: {type: http, scheme: basic}\n    t: {type: http, scheme: bearer}\n    o: {type: oauth2, flows: {authorizationCode: {authorizationUrl: https://auth.example/a, tokenUrl: https://auth.example/t, scopes: {read: Read}}}}\n    d: {type: http, scheme: digest}\n    i: {type: openIdConnect, openIdConnectUrl: https://auth.example}\n    m: {type: oauth2, flows: {implicit: {authorizationUrl: https://auth.example/a, scopes: {}}}}\npaths: {/me: {get: {operationId: me}}}\n", []string{"me"}, []string{"api_key", "basic", "bearer", "oauth2"}, nil, []string{"the sign-in d", "the sign-in i", "the sign-in m"}},
		{"two keys at once", head + "security: [{a: [], b: []}]\ncomponents: {securitySchemes: {a: {type: apiKey, in: header, name: X-App}, b: {type: apiKey, in: query, name: key}}}\npaths: {/me: {get: {operationId: me}}}\n", []string{"me"}, []string{"api_key"}, nil, nil},
		{"server with variables", "openapi: 3.0.3\ninfo: {title: Kiln Hall}\nservers: [{url: 'https://{desk}.hall.example/{version}', variables: {desk: {default: demo}, version: {default: v1}}}, {url: https://test.hall.example}]\npaths: {/me: {get: {operationId: me}}}\n", []string{"me"}, []string{"none"}, []string{"https://{desk}.hall.example/{version}"}, []string{"the server https://test.hall.example"}},
		{"no server", "openapi: 3.0.0\ninfo: {title: Kiln Hall}\npaths: {/me: {get: {operationId: me}}}\n", []string{"me"}, []string{"none"}, nil, nil},
		{"references out of the document", head + "paths:\n  /a: {$ref: 'https://elsewhere.example/x.yaml'}\n  /b: {get: {operationId: b, parameters: [{$ref: './p.yaml#/q'}]}}\n  /c: {get: {operationId: c}}\n  /d: {post: {operationId: d, requestBody: {content: {application/json: {schema: {$ref: 'file:///etc/passwd'}}}}}}\n", []string{"c", "d"}, []string{"none"}, nil, []string{"/a", "GET /b, line 6", "a schema"}},
		{"references that go round", head + "paths:\n  /a: {get: {operationId: a, parameters: [{$ref: '#/components/parameters/x'}]}}\n  /b: {get: {operationId: b}}\ncomponents: {parameters: {x: {$ref: '#/components/parameters/y'}, y: {$ref: '#/components/parameters/x'}}}\n", []string{"b"}, []string{"none"}, nil, []string{"GET /a, line 5"}},
		{"what cannot be written", head + "paths:\n  /a: {get: {operationId: a, parameters: [{name: f, in: query, style: deepObject, schema: {type: object}}, {name: s, in: cookie, schema: {type: string}}]}, trace: {operationId: t}}\n  /b: {post: {operationId: b, requestBody: {required: true, content: {application/protobuf: {}}}}}\nwebhooks: {fired: {post: {}}}\n", []string{"a"}, []string{"none"}, nil, []string{"TRACE /a", "the parameter f of GET /a, line 5", "POST /b, line 6", "the webhook fired"}},
	} {
		im, err := Import(t.Context(), []byte(c.document), Options{})
		require.NoError(t, err, c.name)
		require.ElementsMatch(t, c.actions, im.Connector.Order, c.name)
		var methods []string
		for _, s := range im.Connector.SignIn {
			methods = append(methods, s.Method)
		}
		require.ElementsMatch(t, c.methods, methods, c.name)
		if c.servers != nil {
			require.Equal(t, c.servers, im.Servers, c.name)
		}
		var left []string
		for _, l := range im.LeftOut {
			left = append(left, l.What)
			require.NotEmpty(t, l.Why)
		}
		for _, want := range c.leftOut {
			require.True(t, slices.ContainsFunc(left, func(what string) bool { return what == want || strings.HasPrefix(what, want+", line ") }), "%s: %s is not among %v", c.name, want, left)
		}
		require.LessOrEqual(t, len(left), len(c.leftOut)+1, "%s: %v", c.name, left)
	}
}

func TestOperationsBecomeActionsThatBuildRightCalls(t *testing.T) {
	t.Parallel()
	im, err := Import(t.Context(), []byte(head+`paths:
  /orders/{order-id}:
    parameters: [{name: order-id, in: path, required: true, schema: {type: integer}}]
    put:
      operationId: changeOrder
      parameters:
        - {name: X-Trace, in: header, schema: {type: string}}
        - {name: tags, in: query, explode: false, schema: {type: array, items: {type: string}}}
        - {name: 'filter[state]', in: query, schema: {type: string, enum: [open, done]}}
      requestBody:
        required: true
        content: {application/json: {schema: {$ref: '#/components/schemas/Order'}}}
      responses: {'200': {description: ok, content: {application/json: {schema: {$ref: '#/components/schemas/Order'}}}}}
  /memos:
    post:
      operationId: addMemo
      requestBody: {content: {multipart/form-data: {schema: {type: object, required: [sound], properties: {sound: {type: string, format: binary}, note: {type: string}}}}}}
      responses: {'201': {description: ok}}
components:
  schemas:
    Base: {type: object, required: [name], properties: {id: {type: integer, readOnly: true}, name: {type: string, maxLength: 20, nullable: true}}}
    Order:
      allOf:
        - {$ref: '#/components/schemas/Base'}
        - {type: object, properties: {kids: {type: array, items: {$ref: '#/components/schemas/Order'}}, cone: {type: number, minimum: 1, exclusiveMinimum: true}}}
`), Options{})
	require.NoError(t, err)
	a, err := im.Connector.Action("change_order")
	require.NoError(t, err)
	call, err := a.Build(nil, map[string]any{"order_id": int64(7), "x_trace": "t", "tags": []any{"a", "b"}, "filter_state": "open", "name": "Jug", "cone": int64(9), "kids": []any{map[string]any{"name": "x"}}}, nil)
	require.NoError(t, err)
	require.Equal(t, "https://hall.example/api/orders/7?filter%5Bstate%5D=open&tags=a%2Cb", call.URL.String())
	require.Equal(t, "t", call.Header.Get("X-Trace"))
	require.JSONEq(t, `{"name": "Jug", "cone": 9, "kids": [{"name": "x"}]}`, string(call.Body))
	_, err = a.Build(nil, map[string]any{"order_id": int64(7), "name": "Jug", "cone": int64(1)}, nil)
	require.ErrorContains(t, err, "Cone")
	_, err = a.Build(nil, map[string]any{"order_id": int64(7)}, nil)
	require.ErrorContains(t, err, "Name is required")
	for _, p := range a.Properties {
		require.NotEqual(t, "id", p.Name, "what is only read is not asked for")
	}
	m, err := im.Connector.Action("add_memo")
	require.NoError(t, err)
	require.Equal(t, "file", m.Properties[0].Schema["hint"])
}

func TestPagingIsFoundWhereItCanBeTold(t *testing.T) {
	t.Parallel()
	list := func(parameters, properties, headers string) *connector.Action {
		im, err := Import(t.Context(), []byte(head+"paths:\n  /orders:\n    get:\n      operationId: orders\n      parameters: ["+parameters+"]\n      responses:\n        '200': {description: ok, "+headers+"content: {application/json: {schema: {type: object, properties: {data: {type: array, items: {type: object}}"+properties+"}}}}}\n"), Options{})
		require.NoError(t, err)
		a, err := im.Connector.Action("orders")
		require.NoError(t, err)
		return a
	}
	q := func(names ...string) string {
		var out []string
		for _, n := range names {
			out = append(out, "{name: "+n+", in: query, schema: {type: integer, maximum: 80}}")
		}
		return strings.Join(out, ", ")
	}
	require.Equal(t, "response.next_cursor", list(q("cursor", "limit"), ", next_cursor: {type: string}", "").Paging.Cursor)
	require.Equal(t, "response.meta.next", list(q("after"), ", meta: {type: object, properties: {next: {type: string}}}", "").Paging.Cursor)
	require.True(t, list(q("page", "per_page"), "", "").Paging.Page)
	require.Equal(t, 80, list(q("offset", "limit"), "", "").Paging.Size)
	require.Equal(t, "next", list("", "", "headers: {Link: {schema: {type: string}}}, ").Paging.Link)
	require.Nil(t, list(q("page"), "", "").Paging, "without a size nothing tells the last page")
	require.Equal(t, "response.data", list("", "", "").Each)
}

// big makes a document of many operations whose schemas are deep, merged, and
// go round in circles.
func big(operations int) []byte {
	schemas := map[string]any{}
	for i := range 200 {
		next := fmt.Sprintf("#/components/schemas/S%d", (i+1)%200)
		schemas[fmt.Sprintf("S%d", i)] = map[string]any{"allOf": []any{
			map[string]any{"type": "object", "required": []string{"id"}, "properties": map[string]any{"id": map[string]any{"type": "string"}, "next": map[string]any{"$ref": next}, "list": map[string]any{"type": "array", "items": map[string]any{"$ref": next}}}},
			map[string]any{"type": "object", "properties": map[string]any{"kind": map[string]any{"type": "string", "enum": []string{"a", "b"}}, "either": map[string]any{"oneOf": []any{map[string]any{"$ref": next}, map[string]any{"type": "string"}}}}},
		}}
	}
	paths := map[string]any{}
	for i := range operations {
		ref := map[string]any{"$ref": fmt.Sprintf("#/components/schemas/S%d", i%200)}
		content := map[string]any{"application/json": map[string]any{"schema": ref}}
		paths[fmt.Sprintf("/things/%d/{id}", i)] = map[string]any{"post": map[string]any{"operationId": fmt.Sprintf("thing%d", i), "summary": "Change a thing", "requestBody": map[string]any{"content": content}, "responses": map[string]any{"200": map[string]any{"content": content}}}}
	}
	b, _ := json.Marshal(map[string]any{"openapi": "3.0.3", "info": map[string]any{"title": "Many things"}, "servers": []any{map[string]any{"url": "https://things.example"}}, "paths": paths, "components": map[string]any{"schemas": schemas}})
	return b
}

func TestHundredsOfOperationsWithCircularSchemas(t *testing.T) {
	t.Parallel()
	im, err := Import(t.Context(), big(300), Options{})
	require.NoError(t, err)
	require.Len(t, im.Connector.Actions, 300)
	require.Less(t, len(im.Document), connector.MaxBytes)
	a, err := im.Connector.Action("thing299")
	require.NoError(t, err)
	_, err = a.Build(nil, map[string]any{"id": "1", "kind": "c"}, nil)
	require.ErrorContains(t, err, "it can be a, b")
}

func TestWhatIsNoDocumentIsRefusedInWords(t *testing.T) {
	t.Parallel()
	laughs := "a: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 8 {
		laughs += fmt.Sprintf("%c: &%c [*%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c]\n", 'b'+i, 'b'+i, 'a'+i, 'a'+i, 'a'+i, 'a'+i, 'a'+i, 'a'+i, 'a'+i, 'a'+i, 'a'+i)
	}
	for text, want := range map[string]string{
		"":                 "empty",
		"{":                "ends in the middle",
		"a: [":             "neither JSON nor YAML",
		"swagger: '2.0'":   "before OpenAPI 3",
		"openapi: 4.0.0":   "no OpenAPI document of version",
		"a: 1":             "no OpenAPI document",
		head + "paths: {}": "no operation",
		laughs:             "more than ten times",
		strings.Repeat("[", 100) + strings.Repeat("]", 100): "nested deeper",
	} {
		_, err := Import(t.Context(), []byte(text), Options{})
		require.ErrorContains(t, err, want, "%.40s", text)
	}
	_, err := Import(t.Context(), make([]byte, MaxBytes+1), Options{})
	require.ErrorContains(t, err, "at most")
}

// Generators write JSON with every escape that there is.
func TestJSONWithEscapesIsRead(t *testing.T) {
	t.Parallel()
	im, err := Import(t.Context(), []byte(`{"openapi": "3.0.3", "info": {"title": "\u00d6fen \ud83c\udffa", "version": "1"}, "servers": [{"url": "https:\/\/ottermere.example"}], "paths": {"\/kilns": {"get": {"operationId": "kilns", "responses": {"200": {"description": "ok"}}}}}}`), Options{})
	require.NoError(t, err)
	require.Equal(t, "Öfen 🏺", im.Connector.Title)
	require.Contains(t, im.Document, "/kilns")
}

// What is written part by part is what is written at once.
func TestALongDocumentIsWrittenAsAShortOne(t *testing.T) {
	t.Parallel()
	d := object()
	set(d, "format", "x")
	actions := object()
	for i := range writtenAtOnce/5 + 7 {
		a := object()
		set(a, "title", fmt.Sprintf("Action %d: \"quoted\" — 窯", i))
		set(a, "help", "several lines\n\n  of which one is indented\nand the last ends so\n")
		set(a, "long", strings.Repeat("a word and another ", 20))
		set(a, "fields", map[string]any{"type": "object", "properties": map[string]any{}, "list": []any{"a", 1, nil, true, map[string]any{"x": "# no comment"}}})
		set(actions, fmt.Sprintf("a%d", i), a)
	}
	set(d, "actions", actions)
	set(d, "order", []any{"a1"})
	parts, err := written(d)
	require.NoError(t, err)
	whole, err := document.Encode(d)
	require.NoError(t, err)
	require.Equal(t, string(whole), string(parts))
}
