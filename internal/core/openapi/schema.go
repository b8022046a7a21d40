package openapi

import (
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

func unescape(s string) string {
	if u, err := url.PathUnescape(s); err == nil {
		return u
	}
	return s
}

// deepest is how far schemas are written out; what lies deeper takes anything.
const deepest = 5

// Bounds of what is written out, in bytes and in values.
const (
	// MaxWritten is how large a connector an import makes at most: as much as is read
	// and checked within a second or so. A larger document is written out less deep;
	// then operations are left out.
	MaxWritten = 3 << 19

	mostUnder  = 32      // schemas within each other, merged ones too
	mostText   = 2 << 10 // of a default, a constant, an example
	mostValues = 400     // of an enumeration
)

// most is how many properties of an object are written out.
const most = 120

// kept are the keywords that mean the same in a field's schema.
var kept = []string{"type", "title", "description", "enum", "const", "default", "maxLength", "minLength", "maximum", "minimum", "multipleOf", "maxItems", "minItems", "uniqueItems", "format", "deprecated"}

// schema writes a schema out: references followed, circles cut, allOf merged,
// the words of version 3.0 put into those of 2020-12.
func (im *importer) schema(n *node, depth int, under []*node) map[string]any {
	given := n
	n, name, err := im.resolve(n)
	if err != nil || n == nil || n.Kind != yaml.MappingNode {
		if err != nil {
			im.leaveOut("a schema"+placed(given), err.Error())
		}
		return map[string]any{}
	}
	if im.budget <= 0 || im.ctx.Err() != nil {
		return map[string]any{}
	}
	if slices.Contains(under, n) || depth > im.deepest || len(under) > mostUnder {
		out := map[string]any{}
		if t := text(n, "type"); t != "" {
			out["type"] = t
		}
		if name != "" {
			out["description"] = "A " + short(name, 100) + "."
		}
		im.budget -= 60
		return out
	}
	under = append(slices.Clone(under), n)
	out := maps.Clone(im.leaf(n))
	im.budget -= 40 + out["\x00size"].(int)
	im.object(n, out, depth, under)
	if e := at(n, "items"); e != nil {
		out["items"] = im.schema(e, depth+1, under)
	}
	im.combined(n, out, depth, under)
	im.older(n, out)
	return out
}

// leaf is what a schema says by itself, without what lies within it: read once,
// however often it is referred to.
func (im *importer) leaf(n *node) map[string]any {
	if known, ok := im.leaves[n]; ok {
		return known
	}
	out := map[string]any{}
	for _, k := range kept {
		if v := at(n, k); v != nil {
			im.keep(out, k, v)
		}
	}
	im.pattern(n, out)
	if e := at(n, "example"); e != nil && size(e) <= mostText {
		out["examples"] = []any{plain(e)}
	} else if e := at(n, "examples"); e != nil && e.Kind == yaml.SequenceNode && len(e.Content) > 0 && size(e.Content[0]) <= mostText {
		out["examples"] = []any{plain(e.Content[0])}
	}
	bytes := 0
	for k, v := range out {
		bytes += len(k) + weight(v)
	}
	out["\x00size"] = bytes
	im.leaves[n] = out
	return out
}

// keep takes what a keyword says, unless that is too long to be of use.
func (im *importer) keep(out map[string]any, key string, v *node) {
	switch {
	case key == "description":
		out[key] = sentenceOf(short(v.Value, 20*mostText), 300)
	case key == "title":
		out[key] = sentenceOf(short(v.Value, mostText), 200)
	case key == "enum" && len(v.Content) > mostValues:
		im.leaveOut("a list of "+strconv.Itoa(len(v.Content))+" values to choose from"+placed(v), "it is longer than "+strconv.Itoa(mostValues)+"; any value is taken")
	case key == "enum" || size(v) <= mostText:
		out[key] = plain(v)
	}
}

// size is how much text a value holds, in bytes, up to a little more than mostText.
func size(n *node) int {
	sum := len(n.Value) + 2
	for _, k := range n.Content {
		if sum > mostText {
			break
		}
		sum += size(k)
	}
	return sum
}

// weight is about how many bytes a value is written out with.
func weight(v any) int {
	switch v := v.(type) {
	case string:
		return len(v) + 4
	case []any:
		sum := 2
		for _, e := range v {
			sum += weight(e) + 4
		}
		return sum
	case map[string]any:
		sum := 2
		for k, e := range v {
			sum += len(k) + weight(e) + 4
		}
		return sum
	}
	return 8
}

// short cuts a text that is longer than anybody reads, in bytes.
func short(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "")
}

// pattern keeps one that runs in linear time.
func (im *importer) pattern(n *node, out map[string]any) {
	p := text(n, "pattern")
	if p == "" {
		return
	}
	if len(p) > mostText {
		im.leaveOut("a pattern of "+strconv.Itoa(len(p))+" characters"+placed(at(n, "pattern")), "it is longer than "+strconv.Itoa(mostText))
		return
	}
	if _, err := regexp.Compile(p); err != nil {
		im.leaveOut("the pattern "+p+placed(at(n, "pattern")), "it is not one that runs in linear time")
		return
	}
	out["pattern"] = p
}

func (im *importer) object(n *node, out map[string]any, depth int, under []*node) {
	if p := at(n, "properties"); p != nil {
		properties := map[string]any{}
		order := []string{}
		each(p, func(k string, v *node) {
			if len(properties) < most && len(k) <= mostText {
				im.budget -= len(k)
				properties[k] = im.schema(v, depth+1, under)
				order = append(order, k)
			}
		})
		out["properties"], out["\x00order"] = properties, order
		if out["type"] == nil {
			out["type"] = "object"
		}
	}
	if r := at(n, "required"); r != nil && r.Kind == yaml.SequenceNode && at(n, "properties") != nil {
		names := []any{}
		for _, e := range r.Content {
			if _, ok := out["properties"].(map[string]any)[e.Value]; ok {
				names = append(names, e.Value)
			}
		}
		if len(names) > 0 {
			out["required"] = names
		}
	}
	if a := at(n, "additionalProperties"); a != nil {
		if a.Kind == yaml.MappingNode {
			out["additionalProperties"] = im.schema(a, depth+1, under)
		} else if a.Value == "false" {
			out["additionalProperties"] = false
		}
	}
}

// combined merges allOf into one, and keeps the alternatives.
func (im *importer) combined(n *node, out map[string]any, depth int, under []*node) {
	for _, e := range items(at(n, "allOf")) {
		part := im.schema(e, depth, under)
		merge(out, part)
	}
	for _, key := range []string{"oneOf", "anyOf"} {
		list := []any{}
		for _, e := range items(at(n, key)) {
			list = append(list, im.schema(e, depth+1, under))
		}
		if len(list) == 1 {
			merge(out, list[0].(map[string]any))
		} else if len(list) > 1 {
			out["anyOf"] = list
		}
	}
	if out["additionalProperties"] == false && at(n, "allOf") != nil {
		delete(out, "additionalProperties") // each part forbade the other's
	}
}

func merge(into, part map[string]any) {
	for k, v := range part {
		switch k {
		case "properties":
			known, _ := into[k].(map[string]any)
			if known == nil {
				known = map[string]any{}
			}
			for name, p := range v.(map[string]any) {
				known[name] = p
			}
			into[k] = known
		case "required", "\x00order":
			into[k] = union(into[k], v)
		default:
			if into[k] == nil {
				into[k] = v
			}
		}
	}
}

func union(a, b any) any {
	switch b := b.(type) {
	case []string:
		known, _ := a.([]string)
		for _, e := range b {
			if !slices.Contains(known, e) {
				known = append(known, e)
			}
		}
		return known
	case []any:
		known, _ := a.([]any)
		for _, e := range b {
			if !slices.Contains(known, e) {
				known = append(known, e)
			}
		}
		return known
	}
	return a
}

// older puts what version 3.0 says in its own words into today's.
func (im *importer) older(n *node, out map[string]any) {
	for word, limit := range map[string]string{"exclusiveMinimum": "minimum", "exclusiveMaximum": "maximum"} {
		v := at(n, word)
		switch {
		case v == nil:
		case v.Tag == "!!bool":
			if v.Value == "true" && out[limit] != nil {
				out[word] = out[limit]
				delete(out, limit)
			}
		default:
			out[word] = plain(v)
		}
	}
	if yes(n, "nullable") {
		if t, ok := out["type"].(string); ok {
			out["type"] = []any{t, "null"}
		}
		if e, ok := out["enum"].([]any); ok && !slices.Contains(e, nil) {
			out["enum"] = append(slices.Clip(e), nil) // the list is shared
		}
	}
	if f := out["format"]; f == "binary" || f == "byte" {
		delete(out, "format")
		out["\x00binary"] = f == "binary"
	}
	if text(n, "contentMediaType") != "" && text(n, "contentEncoding") == "" && out["type"] == "string" {
		out["\x00binary"] = true // as version 3.1 says it
	}
	if yes(n, "readOnly") {
		out["\x00read_only"] = true
	}
	if yes(n, "writeOnly") {
		out["\x00write_only"] = true
	}
	if out["type"] == "string" && (yes(n, "writeOnly") || out["format"] == "password") {
		out["writeOnly"] = true // it is entered and shown as a secret
	}
}

// toSend is a schema without what only an answer holds, however deep it stands: nobody
// is asked for it, and nothing requires it.
func toSend(s map[string]any) map[string]any {
	out := maps.Clone(s)
	if p, ok := s["properties"].(map[string]any); ok {
		kept := map[string]any{}
		for name, v := range p {
			m, isMap := v.(map[string]any)
			switch {
			case isMap && m["\x00read_only"] == true:
			case isMap:
				kept[name] = toSend(m)
			default:
				kept[name] = v
			}
		}
		out["properties"] = kept
		if r, ok := s["required"].([]any); ok {
			needed := []any{}
			for _, name := range r {
				if text, _ := name.(string); kept[text] != nil || p[text] == nil {
					needed = append(needed, name)
				}
			}
			if out["required"] = needed; len(needed) == 0 {
				delete(out, "required")
			}
		}
	}
	for _, key := range []string{"items", "additionalProperties"} {
		if m, ok := s[key].(map[string]any); ok {
			out[key] = toSend(m)
		}
	}
	if list, ok := s["anyOf"].([]any); ok {
		sent := make([]any, len(list))
		for i, e := range list {
			sent[i] = e
			if m, ok := e.(map[string]any); ok {
				sent[i] = toSend(m)
			}
		}
		out["anyOf"] = sent
	}
	return out
}

// sample makes up a value for a schema.
func (im *importer) sample(s map[string]any, name string, depth int) any {
	if e, ok := s["examples"].([]any); ok && len(e) > 0 {
		return e[0]
	}
	if v, ok := s["const"]; ok {
		return v
	}
	if v, ok := s["default"]; ok && v != nil {
		return v
	}
	if e, ok := s["enum"].([]any); ok && len(e) > 0 {
		return e[0]
	}
	if list, ok := s["anyOf"].([]any); ok && len(list) > 0 {
		m, _ := list[0].(map[string]any)
		return im.sample(m, name, depth)
	}
	kind, _ := s["type"].(string)
	if list, ok := s["type"].([]any); ok && len(list) > 0 {
		kind, _ = list[0].(string)
	}
	switch kind {
	case "object":
		out := map[string]any{}
		if depth > 3 {
			return out
		}
		p, _ := s["properties"].(map[string]any)
		for k, v := range p {
			if m, _ := v.(map[string]any); m["\x00write_only"] != true { // no answer holds it
				out[k] = im.sample(m, k, depth+1)
			}
		}
		return out
	case "array":
		if depth > 3 {
			return []any{}
		}
		m, _ := s["items"].(map[string]any)
		return []any{im.sample(m, name, depth+1)}
	case "integer", "number":
		return 1
	case "boolean":
		return true
	case "string":
		switch s["format"] {
		case "date-time":
			return "2026-01-05T09:00:00Z"
		case "date":
			return "2026-01-05"
		case "email":
			return "somebody@example.org"
		case "uri":
			return "https://example.org/"
		case "uuid":
			return "7d444840-9dc0-4c3e-8f2d-1b1f0a1c2d3e"
		}
		return name
	}
	return nil
}

// sentenceOf gives the first paragraph, at most so long.
func sentenceOf(s string, most int) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n\n")
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > most {
		s = string(r[:most-1]) + "…"
	}
	return s
}

var notWord = regexp.MustCompile(`[^a-z0-9]+`)
var humps = regexp.MustCompile(`([a-z0-9])([A-Z])`)

// snake makes a name of small letters, digits and _.
func snake(s string) string {
	s = strings.ToLower(humps.ReplaceAllString(s, "${1}_$2"))
	s = strings.Trim(notWord.ReplaceAllString(s, "_"), "_")
	if s == "" {
		return ""
	}
	if s[0] < 'a' {
		s = "n" + s
	}
	if len(s) > 60 {
		s = strings.Trim(s[:60], "_")
	}
	return s
}

func (im *importer) unique(name string, taken map[string]bool) string {
	if name == "" {
		name = "call"
	}
	out := name
	for i := 2; taken[out]; i++ {
		out = fmt.Sprintf("%s_%d", name, i)
	}
	taken[out] = true
	return out
}
