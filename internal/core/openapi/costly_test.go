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
	docs := map[string]string{}
	var b strings.Builder
	b.WriteString("openapi: 3.1.0\ninfo: {title: Deep}\nservers: [{url: 'https://a.example'}]\npaths:\n  /a:\n    get: {operationId: a, responses: {'200': {content: {application/json: {schema: {$ref: '#/components/schemas/l0'}}}}}}\ncomponents:\n  schemas:\n")
	for i := range 12 {
		fmt.Fprintf(&b, "    l%d: {type: object, properties: {", i)
		for j := range 10 {
			fmt.Fprintf(&b, "p%d: {$ref: '#/components/schemas/l%d'}, ", j, i+1)
		}
		b.WriteString("}}\n")
	}
	b.WriteString("    l12: {type: string}\n")
	docs["12 levels of 10"] = b.String()
	b.Reset()
	b.WriteString("openapi: 3.1.0\ninfo: {title: Many}\nservers: [{url: 'https://a.example'}]\npaths:\n")
	for i := range 20000 {
		fmt.Fprintf(&b, "  /a%d: {get: {operationId: a%d, responses: {}}}\n", i, i)
	}
	docs["20,000 operations"] = b.String()
	b.Reset()
	b.WriteString("openapi: 3.1.0\ninfo: {title: Wide}\nservers: [{url: 'https://a.example'}]\npaths:\n")
	for i := range 9000 {
		fmt.Fprintf(&b, "  /a%d: {post: {operationId: a%d, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/w'}}}}, responses: {}}}\n", i, i)
	}
	b.WriteString("components:\n  schemas:\n    w:\n      type: object\n      properties:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "        p%d: {type: string, description: 'what it is about %d'}\n", i, i)
	}
	docs["9,000 operations of 300"] = b.String()
	b.Reset()
	b.WriteString("{\"openapi\": \"3.1.0\", \"info\": {\"title\": \"Keys\"}, \"paths\": {\"/a\": {\"get\": {\"operationId\": \"a\", \"parameters\": [")
	for i := range 100000 {
		fmt.Fprintf(&b, "{\"name\": \"p%d\", \"in\": \"query\", \"schema\": {\"type\": \"string\"}},", i)
	}
	b.WriteString("{\"name\": \"q\", \"in\": \"query\"}]}}}}")
	docs["100,000 parameters"] = b.String()
	docs["deep lists"] = "openapi: 3.1.0\ninfo: {title: X}\npaths: {/a: {get: {x: " + strings.Repeat("[", 5000) + strings.Repeat("]", 5000) + "}}}"
	b.Reset()
	b.WriteString("openapi: 3.1.0\ninfo: {title: One}\nservers: [{url: 'https://a.example'}]\npaths:\n  /a: {post: {operationId: a, requestBody: {content: {application/json: {schema: {oneOf: [")
	for i := range 5000 {
		fmt.Fprintf(&b, "{$ref: '#/components/schemas/s%d'}, ", i)
	}
	b.WriteString("]}}}}}}\ncomponents: {schemas: {")
	for i := range 5000 {
		fmt.Fprintf(&b, "s%d: {allOf: [{$ref: '#/components/schemas/s%d'}, {$ref: '#/components/schemas/s%d'}]}, ", i, (i+1)%5000, (i*7+3)%5000)
	}
	b.WriteString("}}")
	docs["5,000 alternatives in circles"] = b.String()
	b.Reset()
	b.WriteString("openapi: 3.1.0\ninfo: {title: Chain}\nservers: [{url: 'https://a.example'}]\npaths:\n  /a: {post: {operationId: a, requestBody: {$ref: '#/components/requestBodies/b0'}}}\ncomponents: {requestBodies: {")
	for i := range 20000 {
		fmt.Fprintf(&b, "b%d: {$ref: '#/components/requestBodies/b%d'}, ", i, i+1)
	}
	b.WriteString("}}")
	docs["20,000 references in a chain"] = b.String()
	docs["a long text"] = "openapi: 3.1.0\ninfo: {title: X, description: '" + strings.Repeat("a", 3<<20) + "'}\npaths: {/a: {get: {operationId: a}}}"
	b.Reset()
	b.WriteString("openapi: 3.1.0\ninfo: {title: Enum}\nservers: [{url: 'https://a.example'}]\npaths:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "  /a%d: {post: {operationId: a%d, requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/e'}}}}}}\n", i, i)
	}
	b.WriteString("components: {schemas: {e: {type: object, properties: {k: {type: string, enum: [")
	for i := range 50000 {
		fmt.Fprintf(&b, "v%d, ", i)
	}
	b.WriteString("]}}}}}\n")
	docs["an enumeration of 50,000 in 300 operations"] = b.String()
	b.Reset()
	b.WriteString("openapi: 3.1.0\ninfo: {title: Unknown}\npaths: {/a: {get: {operationId: a}}}\n")
	for i := range 60000 {
		fmt.Fprintf(&b, "x%d: 1\n", i)
	}
	docs["60,000 keys that nobody knows"] = b.String()
	b.Reset()
	b.WriteString("openapi: 3.1.0\ninfo: {title: Examples}\nservers: [{url: 'https://a.example'}]\npaths:\n")
	for i := range 2000 {
		fmt.Fprintf(&b, "  /a%d: {get: {operationId: a%d, responses: {'200': {content: {application/json: {example: {$ref: '#/x'}, schema: {$ref: '#/components/schemas/e'}}}}}}}\n", i, i)
	}
	fmt.Fprintf(&b, "components: {schemas: {e: {type: object, example: {t: '%s'}, properties: {a: {type: string, description: '%s'}}}}}\n", strings.Repeat("x", 1<<20), strings.Repeat("y", 1<<20))
	docs["an example of a mebibyte in 2,000 answers"] = b.String()
	return docs
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
