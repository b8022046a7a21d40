package openapi

import (
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

var usualLists = []string{"data", "items", "results", "entries", "records", "values", "list", "rows", "elements", "objects"}

// listIn finds where the list stands in an answer: at the top, under a usual
// name, or as the only list of objects.
func listIn(s map[string]any) string {
	if s["type"] == "array" {
		return "response"
	}
	p, _ := s["properties"].(map[string]any)
	isList := func(v any) bool {
		m, _ := v.(map[string]any)
		inner, _ := m["items"].(map[string]any)
		return m["type"] == "array" && inner != nil && inner["type"] != "string"
	}
	for _, name := range usualLists {
		if isList(p[name]) {
			return "response." + name
		}
	}
	only := ""
	for name, v := range p {
		if isList(v) {
			if only != "" {
				return ""
			}
			only = name
		}
	}
	if only == "" || !regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`).MatchString(only) {
		return ""
	}
	return "response." + only
}

func within(sample any, list string) any {
	name, ok := strings.CutPrefix(list, "response.")
	if !ok {
		return sample
	}
	m, _ := sample.(map[string]any)
	if m[name] == nil {
		return []any{}
	}
	return m[name]
}

// paging tells how further pages are asked for, where that can be told: by the
// Link header, a cursor that the answer holds, page number or offset. The field
// that is then filled by us is taken away.
func (im *importer) paging(f *found, o *node, answer map[string]any) map[string]any {
	link := false
	each(at(o, "responses"), func(status string, r *node) {
		r, _, err := im.resolve(r)
		if err == nil && strings.HasPrefix(status, "2") && (at(at(r, "headers"), "Link") != nil || at(at(r, "headers"), "link") != nil) {
			link = true
		}
	})
	if link {
		return map[string]any{"link": "next"}
	}
	fields, _ := answer["properties"].(map[string]any)
	for _, p := range cursorParameters {
		if f.queries[p] == "" {
			continue
		}
		for _, c := range cursorFields {
			if fields[c] != nil {
				im.takeAway(f, p)
				return map[string]any{"cursor": "response." + c, "query": p}
			}
		}
		for _, outer := range []string{"meta", "paging", "pagination", "page", "links"} {
			m, _ := fields[outer].(map[string]any)
			inner, _ := m["properties"].(map[string]any)
			for _, c := range cursorFields {
				if inner[c] != nil {
					im.takeAway(f, p)
					return map[string]any{"cursor": "response." + outer + "." + c, "query": p}
				}
			}
		}
	}
	for _, way := range []string{"page", "offset"} {
		for _, size := range sizeParameters {
			if f.queries[way] == "" || f.queries[size] == "" {
				continue
			}
			n := im.pageSize(f, size)
			im.takeAway(f, way)
			im.takeAway(f, size)
			set(f.query, size, n)
			return map[string]any{way: true, "query": way, "size": n}
		}
	}
	return nil
}

// pageSize is the largest page that is allowed, or a usual one.
func (im *importer) pageSize(f *found, parameter string) int {
	s, _ := plain(at(f.fields, f.queries[parameter])).(map[string]any)
	for _, k := range []string{"maximum", "default"} {
		if n, ok := s[k].(int); ok && n > 0 {
			return min(n, 200)
		}
	}
	return 50
}

func (im *importer) takeAway(f *found, parameter string) {
	field := f.queries[parameter]
	for _, pair := range []struct {
		n   *yaml.Node
		key string
	}{{f.fields, field}, {f.query, parameter}} {
		for i := 0; i+1 < len(pair.n.Content); i += 2 {
			if pair.n.Content[i].Value == pair.key {
				pair.n.Content = slices.Delete(pair.n.Content, i, i+2)
				break
			}
		}
	}
	f.required = slices.DeleteFunc(f.required, func(v any) bool { return v == field })
}

var (
	cursorParameters = []string{"cursor", "page_token", "pageToken", "next_token", "nextToken", "after", "starting_after", "continuation", "start_cursor"}
	cursorFields     = []string{"next_cursor", "nextCursor", "next_page_token", "nextPageToken", "next_token", "nextToken", "next", "cursor", "continuation", "end_cursor"}
	sizeParameters   = []string{"per_page", "perPage", "page_size", "pageSize", "limit", "size", "count"}
)
