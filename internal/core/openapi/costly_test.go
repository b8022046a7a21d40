package openapi

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// costly are documents that say little and would write out much, or that are slow to
// read where it is done in the obvious way.
func costly() map[string]string {
	head := func(title string) string {
		return "openapi: 3.1.0\ninfo: {title: " + title + "}\nservers: [{url: 'https://a.example'}]\npaths:\n"
	}
	get := func(schema string) string {
		return "get: {operationId: a%[1]d, responses: {'200': {content: {application/json: {schema: {$ref: '#/components/schemas/" + schema + "'}}}}}}}\n"
	}
	post := func(schema string) string {
		return "  /a%[1]d: {post: {operationId: a%[1]d, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/" + schema + "'}}}}, responses: {}}}\n"
	}
	deep := repeated(head("Deep"), 1, "  /a%[1]d: {"+get("l0"), "components:\n  schemas:\n    l12: {type: string}\n")
	for i := range 12 {
		deep = repeated(deep+fmt.Sprintf("    l%d: {type: object, properties: {", i), 10, fmt.Sprintf("p%%d: {$ref: '#/components/schemas/l%d'}, ", i+1), "}}\n")
	}
	circles := repeated(head("One")+"  /a: {post: {operationId: a, requestBody: {content: {application/json: {schema: {oneOf: [", 5000, "{$ref: '#/components/schemas/s%d'}, ", "]}}}}}}\ncomponents: {schemas: {") +
		numbered(5000, func(i int) string {
			return fmt.Sprintf("s%d: {allOf: [{$ref: '#/components/schemas/s%d'}, {$ref: '#/components/schemas/s%d'}]}, ", i, (i+1)%5000, (i*7+3)%5000)
		})
	wide := repeated(head("Wide"), 9000, post("w"), "components:\n  schemas:\n    w:\n      type: object\n      properties:\n")
	choices := repeated(head("Enum"), 300, post("e"), "components: {schemas: {e: {type: object, properties: {k: {type: string, enum: [")
	return map[string]string{
		"12 levels of 10":               deep,
		"20,000 operations":             repeated(head("Many"), 20_000, "  /a%[1]d: {get: {operationId: a%[1]d, responses: {}}}\n", ""),
		"9,000 operations of 300":       repeated(wide, 300, "        p%[1]d: {type: string, description: 'what it is about %[1]d'}\n", ""),
		"100,000 parameters":            repeated(`{"openapi": "3.1.0", "info": {"title": "Keys"}, "paths": {"/a": {"get": {"operationId": "a", "parameters": [`, 100_000, `{"name": "p%d", "in": "query", "schema": {"type": "string"}},`, `{"name": "q", "in": "query"}]}}}}`),
		"deep lists":                    "openapi: 3.1.0\ninfo: {title: X}\npaths: {/a: {get: {x: " + strings.Repeat("[", 5000) + strings.Repeat("]", 5000) + "}}}",
		"5,000 alternatives in circles": circles + "}}",
		"20,000 references in a chain": head("Chain") + "  /a: {post: {operationId: a, requestBody: {$ref: '#/components/requestBodies/b0'}}}\ncomponents: {requestBodies: {" +
			numbered(20_000, func(i int) string { return fmt.Sprintf("b%d: {$ref: '#/components/requestBodies/b%d'}, ", i, i+1) }) + "}}",
		"a long text": "openapi: 3.1.0\ninfo: {title: X, description: '" + strings.Repeat("a", 3<<20) + "'}\npaths: {/a: {get: {operationId: a}}}",
		"an enumeration of 50,000 in 300 operations": repeated(choices, 50_000, "v%d, ", "]}}}}}\n"),
		"60,000 keys that nobody knows":              repeated("openapi: 3.1.0\ninfo: {title: Unknown}\npaths: {/a: {get: {operationId: a}}}\n", 60_000, "x%d: 1\n", ""),
		"an example of a mebibyte in 2,000 answers":  repeated(head("Examples"), 2000, "  /a%[1]d: {"+get("e"), "components: {schemas: {e: {type: object, example: {t: '"+strings.Repeat("x", 1<<20)+"'}, properties: {a: {type: string, description: '"+strings.Repeat("y", 1<<20)+"'}}}}}\n"),
	}
}

// numbered joins a text for every number below n.
func numbered(n int, text func(i int) string) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(text(i))
	}
	return b.String()
}

// repeated puts so many of a line, numbered, between a head and an end.
func repeated(head string, n int, line, end string) string {
	return head + numbered(n, func(i int) string { return fmt.Sprintf(line, i) }) + end
}

// What is done is counted in what is taken of memory on the way, which does not hang
// on how busy the machine is; it was 16 and 50 GiB for two of these. Here less may be
// written out than in earnest: what is read and made goes with that.
func TestCostlyDocumentsAreTakenWithinBoundsOrRefused(t *testing.T) {
	const most = 256 << 10
	for name, text := range costly() {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		im, err := Import(context.Background(), []byte(text), Options{Address: "https://a.example/x.json", most: most})
		runtime.ReadMemStats(&after)
		require.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(700), "%s, MiB", name)
		if err != nil {
			require.Less(t, len(err.Error()), 500, name)
			continue
		}
		require.Less(t, len(im.Document), 2*most, name)
		require.LessOrEqual(t, len(im.LeftOut), mostLeftOut, name)
		require.NotEmpty(t, im.Connector.Actions, name)
	}
}

func TestAnImportEndsWithItsCaller(t *testing.T) {
	t.Parallel()
	left := errors.New("the caller left")
	ctx, stop := context.WithCancelCause(context.Background())
	stop(left)
	for name, text := range map[string]string{"YAML": costly()["20,000 operations"], "JSON": `{"openapi": "3.1.0", "info": {"title": "A"}, "paths": {"/a": {"get": {"operationId": "a"}}}}`} {
		_, err := Import(ctx, []byte(text), Options{Address: "https://a.example/x.json"})
		require.ErrorIs(t, err, left, name)
	}
}

// What is not taken is told also where the document was written out a second time,
// less deep.
func TestWhatIsLeftOutIsToldOfADocumentThatIsTooLarge(t *testing.T) {
	t.Parallel()
	for _, most := range []int{MaxWritten, 64 << 10} {
		im, err := Import(t.Context(), []byte(costly()["an enumeration of 50,000 in 300 operations"]), Options{Address: "https://a.example/x.json", most: most})
		require.NoError(t, err)
		require.Contains(t, fmt.Sprint(im.LeftOut), "50000 values", most)
	}
}
