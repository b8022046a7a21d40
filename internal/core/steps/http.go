package steps

import (
	"errors"
	"net/url"
	"strings"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
)

func object(title, description, hint string) map[string]any {
	return map[string]any{"type": "object", "title": title, "description": description, "hint": hint, "additionalProperties": true}
}

var httpProperties = []connector.Property{
	property("method", false, map[string]any{"enum": []any{"GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS", "PROPFIND", "QUERY"}, "title": "Method", "default": "GET"}),
	property("url", true, map[string]any{"type": "string", "minLength": 1, "title": "Address", "description": "As https://host.example/path, or /path at the connection's own address. Expressions fill in parts of the path and values of the query.", "examples": []any{"/v1/orders/(= item.order )"}}),
	property("query", false, object("Query", "Name to value; a list repeats the name.", "fields")),
	property("header", false, object("Headers", "What proves who we are comes from the connection alone.", "fields")),
	property("json", false, map[string]any{"title": "Body as JSON", "hint": "json"}),
	property("form", false, object("Body as a form", "Name to value.", "fields")),
	property("multipart", false, map[string]any{"title": "Body in parts", "hint": "json", "type": []any{"object", "array"}, "description": "Name to text or file, or a list of {name, value}."}),
	property("raw", false, map[string]any{"type": "object", "title": "Body as text", "hint": "json", "additionalProperties": false, "required": []any{"type", "text"}, "properties": map[string]any{"type": map[string]any{"type": "string"}, "text": map[string]any{"type": "string"}}}),
	property("xml", false, object("Body as XML", "One element: name to value, \"@name\" for attributes.", "json")),
	property("file", false, map[string]any{"type": "string", "title": "Body is a file", "description": "An expression that gives a file."}),
	property("answer", false, map[string]any{"enum": []any{"auto", "json", "text", "file"}, "title": "Read the answer as", "default": "auto", "description": "By its content type unless said otherwise."}),
	property("take", false, map[string]any{"type": "string", "title": "Take of the answer", "hint": "condition", "description": "What of the answer goes on; all of it unless given.", "examples": []any{"response.text"}}),
	property("each", false, map[string]any{"type": "string", "title": "Each becomes an item", "hint": "condition", "description": "Where the list stands in the answer.", "examples": []any{"response.orders"}}),
	property("paging", false, map[string]any{"type": "object", "title": "Further pages", "hint": "json", "additionalProperties": false, "description": "One way: cursor, link, address, page or offset.", "properties": map[string]any{
		"cursor": map[string]any{"type": "string"}, "query": map[string]any{"type": "string"}, "link": map[string]any{"type": "string"}, "address": map[string]any{"type": "string"}, "more": map[string]any{"type": "string"},
		"page": map[string]any{"type": "boolean"}, "offset": map[string]any{"type": "boolean"}, "first": map[string]any{"type": "integer"}, "size": map[string]any{"type": "integer"},
	}}),
	property("leave_out", false, map[string]any{"type": "array", "title": "Leave out of the answer", "hint": "list", "items": map[string]any{"type": "string"}}),
	property("success", false, map[string]any{"type": "object", "title": "Counts as success", "hint": "json", "additionalProperties": false, "properties": map[string]any{"status": map[string]any{"type": "array", "items": map[string]any{"type": "integer"}}, "when": map[string]any{"type": "string"}}}),
	property("wait", false, map[string]any{"type": "object", "title": "Where it says how long to wait", "hint": "json", "additionalProperties": false, "properties": map[string]any{
		"header": map[string]any{"type": "string"}, "field": map[string]any{"type": "string"}, "text": map[string]any{"type": "string"}, "unit": map[string]any{"enum": []any{"ms", "s", "m", "h", "at"}},
	}}),
	property("repeat", false, map[string]any{"enum": []any{"safe", "keyed", "unsafe"}, "title": "If its outcome is unknown",
		"words":       map[string]any{"safe": "make it again, a second time changes nothing", "keyed": "make it again, the other side knows repeats by the Idempotency-Key", "unsafe": "ask me, it would happen twice"},
		"description": "A call can be cut after it was sent. Nobody knows then whether it happened. Reading, PUT and DELETE are safe unless you say otherwise; everything else is unsafe, since only the other side's documentation can tell that it knows repeats."}),
	property("sample", false, map[string]any{"title": "Sample answer", "hint": "json", "description": "What a rehearsal answers with in place of a write."}),
}

var httpKind = &Kind{
	Type: "http", Title: "Call an address", Connects: true,
	Help:       "Makes any HTTP call. The answer is read by its content type; a list becomes items.",
	Schema:     settingsSchema(httpProperties),
	properties: httpProperties,
	Sentence:   httpSentence,
	Call:       located(connector.Free),
}

func httpSentence(settings map[string]any) string {
	method, _ := settings["method"].(string)
	address, _ := settings["url"].(string)
	where := "…"
	if u, err := url.Parse(strings.SplitN(address, "(=", 2)[0]); err == nil && address != "" {
		where = strings.TrimPrefix(u.Path, "/")
		if u.Host != "" {
			where = u.Host + u.Path
		}
		if expr.Whole(address) {
			where = "the address of the item"
		} else if expr.IsTemplate(address) {
			where += "…"
		}
	}
	if method == "" || method == "GET" {
		return "Fetch " + where
	}
	return "Call " + where + " with " + method
}

// located turns an error placed by the connector into one of a setting.
func located(call func(map[string]any) (*connector.Action, map[string]any, error)) func(map[string]any) (*connector.Action, map[string]any, error) {
	return func(settings map[string]any) (*connector.Action, map[string]any, error) {
		a, tree, err := call(settings)
		var fe *connector.FreeError
		if errors.As(err, &fe) {
			err = &SettingError{fe.Setting, fe.Err}
		}
		return a, tree, err
	}
}

var sqlProperties = []connector.Property{
	property("query", true, map[string]any{"type": "string", "minLength": 1, "maxLength": 20000, "title": "Query", "hint": "lines", "description": "Only reads. Values come as $1, $2 … from the parameters, never into the text.", "examples": []any{"select piece, studio from pieces where cone = $1"}}),
	property("params", false, map[string]any{"type": "array", "title": "Parameters", "hint": "list", "description": "Expressions for $1, $2 …"}),
	property("key", false, map[string]any{"type": "string", "title": "Key column", "pattern": `^[A-Za-z_][A-Za-z0-9_]*$`, "description": "A unique column of the result. With it rows are read by pages and a run goes on where it stopped."}),
	property("sample", false, map[string]any{"title": "Sample rows", "hint": "json"}),
}

var sqlKind = &Kind{
	Type: "sql", Title: "Ask a database", Connects: true, Needs: "postgres",
	Help:       "Asks a PostgreSQL database in a read-only transaction. Each row becomes an item.",
	Schema:     settingsSchema(sqlProperties),
	properties: sqlProperties,
	Sentence: func(settings map[string]any) string {
		query, _ := settings["query"].(string)
		fields := strings.Fields(query)
		for i, f := range fields {
			if strings.EqualFold(f, "from") && i+1 < len(fields) {
				return "Read rows of " + strings.Trim(fields[i+1], ",;()") + " from the database"
			}
		}
		return "Ask the database"
	},
	Call: located(connector.Query),
}
