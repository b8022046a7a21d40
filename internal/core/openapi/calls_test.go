package openapi

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
)

// sent calls an imported action for real, and gives what arrived: method, target, the
// headers that matter and the body.
func sent(t *testing.T, im *Imported, action, input string, values map[string]string) string {
	t.Helper()
	var got string
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		got = r.Method + " " + r.RequestURI
		for _, name := range []string{"Content-Type", "Authorization", "X-Api-Key", "X-Tags", "Cookie"} {
			if v := r.Header.Get(name); v != "" {
				got += " | " + name + ": " + v
			}
		}
		if len(b) > 0 {
			got += " | " + string(b)
		}
	}))
	defer s.Close()
	a, err := im.Connector.Action(action)
	require.NoError(t, err)
	var fields map[string]any
	require.NoError(t, json.Unmarshal([]byte(input), &fields))
	c, err := a.Build(map[string]any{}, fields, nil)
	require.NoError(t, err, action)
	require.Equal(t, "api.ottermere.example", c.URL.Host)
	u := *c.URL
	signed := &connector.Signed{Method: c.Method, URL: &u, Header: c.Header, Body: c.Body, Now: time.Now()}
	if len(im.Connector.SignIn) > 0 && values != nil {
		require.NoError(t, im.Connector.SignIn[0].Apply(signed, &connector.Credentials{Values: values}))
	}
	at, err := url.Parse(s.URL)
	require.NoError(t, err)
	u.Scheme, u.Host = at.Scheme, at.Host
	req, err := http.NewRequest(c.Method, u.String(), strings.NewReader(string(signed.Body)))
	require.NoError(t, err)
	req.Header = signed.Header
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	res.Body.Close()
	return got
}

func imported(t *testing.T, text string) *Imported {
	t.Helper()
	im, err := Import(context.Background(), []byte(text), Options{})
	require.NoError(t, err)
	return im
}

func leftOut(im *Imported) string {
	var out []string
	for _, l := range im.LeftOut {
		out = append(out, l.What+": "+l.Why)
	}
	return strings.Join(out, "\n")
}

const opening = "openapi: 3.1.0\ninfo: {title: Kiln hall}\n"

// Lists and objects are written in the style that the document says.
func TestParametersAreWrittenInTheirStyle(t *testing.T) {
	t.Parallel()
	im := imported(t, opening+`servers: [{url: "https://api.ottermere.example/v1"}]
paths:
  /pieces/{ids}:
    get:
      operationId: find
      parameters:
        - {name: ids, in: path, required: true, schema: {type: array, items: {type: string}}}
        - {name: each, in: query, schema: {type: array, items: {type: string}}}
        - {name: commas, in: query, explode: false, schema: {type: array, items: {type: string}}}
        - {name: blanks, in: query, style: spaceDelimited, schema: {type: array, items: {type: string}}}
        - {name: pipes, in: query, style: pipeDelimited, explode: false, schema: {type: array, items: {type: integer}}}
        - {name: filter, in: query, style: deepObject, schema: {type: object, required: [glaze], properties: {glaze: {type: string}, cone: {type: integer}, deep: {type: object}}}}
        - {name: page, in: query, schema: {type: object, properties: {size: {type: integer}, from: {type: string}}}}
        - {name: X-Tags, in: header, schema: {type: array, items: {type: string}}}
        - {name: cookie, in: cookie, schema: {type: string}}
  /matrix/{id}:
    get:
      operationId: matrix
      parameters: [{name: id, in: path, required: true, style: matrix, schema: {type: string}}]
`)
	require.Equal(t, "GET /v1/pieces/a,b?blanks=a+b&commas=a%2Cb&each=a&each=b&filter%5Bcone%5D=9&filter%5Bglaze%5D=matt&from=x&pipes=1%7C2&size=5 | X-Tags: m,n | Cookie: cookie=a+b",
		strings.ReplaceAll(sent(t, im, "find", `{"ids": ["a", "b"], "each": ["a", "b"], "commas": ["a", "b"], "blanks": ["a", "b"], "pipes": [1, 2], "filter_glaze": "matt", "filter_cone": 9, "page_size": 5, "page_from": "x", "x_tags": ["m", "n"], "cookie": "a b"}`, nil), "a%2Cb?", "a,b?"))
	require.Equal(t, "GET /v1/pieces/a", sent(t, im, "find", `{"ids": ["a"]}`, nil), "what is not given is not sent")
	require.Contains(t, leftOut(im), "the parameter filter of GET /pieces/{ids}, line 14, deep: it is an object within an object")
	require.Contains(t, leftOut(im), "GET /matrix/{id}, line 20: its parameter id is written in the style matrix")
}

// An operation is called where it is served, or listed where that is another host.
func TestOperationsAreCalledWhereTheyAreServed(t *testing.T) {
	t.Parallel()
	im := imported(t, opening+`servers: [{url: "https://api.ottermere.example/v1"}]
paths:
  /a: {get: {operationId: a}}
  /b: {servers: [{url: "https://api.ottermere.example/v2/"}], get: {operationId: b}}
  /c: {get: {operationId: c, servers: [{url: /beta}]}}
  /d: {get: {operationId: d, servers: [{url: "https://other.ottermere.example/v1"}]}}
  /e: {get: {operationId: e, servers: [{url: "https://{region}.ottermere.example"}]}}
  nopath: {get: {operationId: f}}
`)
	for action, want := range map[string]string{"a": "GET /v1/a", "b": "GET /v2/b", "c": "GET /beta/c"} {
		require.Equal(t, want, sent(t, im, action, `{}`, nil))
	}
	require.Len(t, im.Connector.Actions, 3)
	require.Contains(t, leftOut(im), "GET /d, line 8: it is served at https://other.ottermere.example, another host than https://api.ottermere.example")
	require.Contains(t, leftOut(im), "GET /e, line 9: it has a server of its own, https://{region}.ottermere.example, with variables")
	require.Contains(t, leftOut(im), "nopath, line 10: a path begins with /")
	require.Equal(t, []string{"https://api.ottermere.example/v1"}, im.Servers)
}

// A variable may stand in the place of the scheme, or be all of the address.
func TestServersWithVariables(t *testing.T) {
	t.Parallel()
	for server, want := range map[string]string{
		`{url: "{scheme}://api.ottermere.example/v1", variables: {scheme: {default: http, enum: [http, https]}}}`: "https://api.ottermere.example/v1",
		`{url: "{scheme}://api.ottermere.example", variables: {scheme: {default: http, enum: [http]}}}`:           "http://api.ottermere.example",
		`{url: "{base}/v1", variables: {base: {default: "https://api.ottermere.example"}}}`:                       "https://api.ottermere.example/v1",
	} {
		im := imported(t, opening+"servers: ["+server+"]\npaths: {/a: {get: {operationId: a}}}\n")
		require.Equal(t, want, im.Connector.Base, server)
	}
	im := imported(t, opening+`servers: [{url: "https://{shop}.ottermere.example", variables: {shop: {default: hall}}}]
paths: {/a: {get: {operationId: a}}}
`)
	require.Equal(t, "https://(= account.shop ).ottermere.example", im.Connector.Base)
}

// A body goes out with the type that the document says, and without what only answers hold.
func TestBodiesAreSentAsTheDocumentSays(t *testing.T) {
	t.Parallel()
	im := imported(t, opening+`servers: [{url: "https://api.ottermere.example"}]
paths:
  /pieces:
    post:
      operationId: add
      requestBody: {required: true, content: {application/vnd.api+json: {schema: {$ref: "#/components/schemas/Piece"}}}}
      responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/Piece"}}}}}
  /kilns:
    post:
      operationId: build
      requestBody: {required: true, content: {application/json: {schema: {oneOf: [{$ref: "#/components/schemas/Gas"}, {$ref: "#/components/schemas/Wood"}], discriminator: {propertyName: kind}}}}}
components:
  schemas:
    Known: {type: object, required: [id, made], properties: {id: {type: string, readOnly: true}, made: {type: string, readOnly: true}}}
    Piece:
      allOf:
        - {$ref: "#/components/schemas/Known"}
        - {type: object, required: [name], properties: {name: {type: string}, pin: {type: string, writeOnly: true}}}
    Gas: {type: object, required: [id, kind], properties: {id: {type: string, readOnly: true}, kind: {const: gas}, jets: {type: integer}}}
    Wood: {type: object, required: [id, kind], properties: {id: {type: string, readOnly: true}, kind: {const: wood}}}
`)
	require.Equal(t, `POST /pieces | Content-Type: application/vnd.api+json | {"name":"Jug"}`, sent(t, im, "add", `{"name": "Jug"}`, nil))
	require.Equal(t, `POST /kilns | Content-Type: application/json | {"jets":4,"kind":"gas"}`, sent(t, im, "build", `{"body": {"kind": "gas", "jets": 4}}`, nil))
	sample, err := json.Marshal(im.Connector.Actions["add"].Sample)
	require.NoError(t, err)
	require.NotContains(t, string(sample), "pin", "no answer holds what is only written")
	require.Contains(t, string(sample), "made")
}

// Ways to sign in: of one kind several, none at all where the document allows that, and
// those that nothing asks for or that are not known are listed.
func TestWaysToSignInAreAllThere(t *testing.T) {
	t.Parallel()
	im := imported(t, opening+`servers: [{url: "https://api.ottermere.example/v1"}]
security: [{hall: []}, {shop: []}, {}]
paths: {/a: {get: {operationId: a, security: [{consent: [read]}]}}}
components:
  securitySchemes:
    hall: {type: apiKey, in: header, name: X-Api-Key}
    shop: {type: apiKey, in: query, name: key}
    consent: {type: oauth2, flows: {authorizationCode: {authorizationUrl: /consent, tokenUrl: /token, scopes: {read: Read}}}}
    digest: {type: http, scheme: digest}
    open: {type: openIdConnect, openIdConnectUrl: "https://id.ottermere.example"}
`)
	var ways []string
	for i := range im.Connector.SignIn {
		ways = append(ways, im.Connector.SignIn[i].Called())
	}
	require.Equal(t, []string{"api_key", "shop", "oauth2", "none"}, ways)
	require.Empty(t, im.Connector.Account, "a relative address is that of the server")
	require.Equal(t, []string{"https://api.ottermere.example/token"}, im.TokenServers)
	require.Contains(t, leftOut(im), "the sign-in digest, line 11: no operation asks for it")
	require.Contains(t, leftOut(im), "the sign-in open, line 12: no operation asks for it")
	require.Equal(t, "GET /v1/a | X-Api-Key: k1", sent(t, im, "a", `{}`, map[string]string{"secret": "k1"}))
}

// What is not right as an action is listed with its place, and the rest is taken.
func TestAPartThatCannotBeTakenRefusesNothingElse(t *testing.T) {
	t.Parallel()
	im := imported(t, opening+`servers: [{url: "https://api.ottermere.example"}]
paths:
  /a: {get: {operationId: a}}
  /b:
    get:
      operationId: b
      parameters: [{name: "bad header", in: header, schema: {type: string}}, {name: X-Good, in: header, schema: {type: string}}]
  /c: {get: {operationId: c, parameters: [{name: Host, in: header, schema: {type: string}}]}}
`)
	require.Len(t, im.Connector.Actions, 1)
	require.Equal(t, 1, im.Reads)
	away := imported(t, opening+"servers: [{url: \"https://api.ottermere.example\"}]\npaths:\n  /a:\n    get:\n      operationId: a\n      responses: {\"200\": {content: {application/json: {schema: {$ref: \"other.yaml#/A\"}}}}}\n")
	require.Contains(t, leftOut(away), "a schema, line 8: ")
	require.Contains(t, leftOut(im), "GET /b, line 8:")
	require.Contains(t, leftOut(im), "GET /c, line 10:")
	_, err := Import(context.Background(), []byte(opening+"servers: [{url: \"https://api.ottermere.example\"}]\npaths: {/c: {get: {parameters: [{name: Host, in: header, schema: {type: string}}]}}}\n"), Options{})
	require.Error(t, err)
}

// A password that an action sets is entered and shown as a secret.
func TestWhatIsOnlyWrittenIsASecret(t *testing.T) {
	t.Parallel()
	im := imported(t, opening+`servers: [{url: "https://api.ottermere.example"}]
paths:
  /people: {post: {operationId: add, requestBody: {required: true, content: {application/json: {schema: {type: object, properties: {name: {type: string}, pin: {type: string, writeOnly: true}, word: {type: string, format: password}}}}}}}}
`)
	require.Equal(t, []string{"1234-5678", "kiln"}, im.Connector.Actions["add"].SecretInput(map[string]any{"name": "Mara", "pin": "1234-5678", "word": "kiln"}))
}
