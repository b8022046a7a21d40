package openapi

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

var methodNames = []string{"get", "post", "put", "patch", "delete", "head", "options"}

// found is an operation on its way to an action.
type found struct {
	method, path string
	title        string
	fields       *node // properties in order
	required     []any
	taken        map[string]bool
	query        *node
	header       *node
	body         *node             // of the request: one key, json, form, multipart or file
	names        map[string]string // name in the document to the field's
	queries      map[string]string // query parameter to field
}

// actions makes one of each operation, and finds the call that checks an account.
func (im *importer) actions() (out, check *node) {
	out = object()
	taken := map[string]bool{}
	type candidate struct {
		rank int
		call map[string]any
		says string
		any  bool
	}
	var best *candidate
	n := 0
	each(at(im.root, "paths"), func(path string, p *node) {
		item, _, err := im.resolve(p)
		if err != nil {
			im.leaveOut(path, err.Error())
			return
		}
		each(item, func(method string, o *node) {
			if !slices.Contains(methodNames, method) {
				if method == "trace" {
					im.leaveOut("TRACE "+path, "this method is not called")
				}
				return
			}
			if n++; n > MaxOperations {
				if n == MaxOperations+1 {
					im.leaveOut("operations after the first 10,000", "that is as many as are read")
				}
				return
			}
			f := &found{method: strings.ToUpper(method), path: path, fields: object(), taken: map[string]bool{}, query: object(), header: object(), names: map[string]string{}, queries: map[string]string{}}
			action, err := im.action(f, item, o)
			if err != nil {
				im.leaveOut(f.method+" "+path, err.Error())
				return
			}
			name := snake(text(o, "operationId"))
			if name == "" {
				name = snake(method + " " + path)
			}
			set(out, im.unique(name, taken), action)
			if f.method == "GET" && len(f.required) == 0 {
				c := &candidate{rank: rank(path), call: map[string]any{"method": "GET", "path": path}, says: im.owner(o)}
				if best == nil || c.rank > best.rank {
					best = c
				}
			}
		})
	})
	check = object()
	title := sentenceOf(text(im.root, "info", "title"), 80)
	if best == nil {
		best = &candidate{call: map[string]any{"method": "GET", "path": "/"}, any: true}
	}
	if best.says == "" {
		best.says = title
	}
	set(check, "request", best.call)
	set(check, "says", best.says)
	if best.any {
		set(check, "any_answer", true)
	}
	return out, check
}

var accountPath = regexp.MustCompile(`(?i)/(me|account|accounts/me|users?/me|whoami|self|profile|current[-_]?user)/?$`)
var plainPath = regexp.MustCompile(`(?i)/(status|ping|health|version|info)/?$`)

// rank tells how well a call without parameters says whose account it is.
func rank(path string) int {
	switch {
	case accountPath.MatchString(path):
		return 3
	case plainPath.MatchString(path):
		return 1
	}
	return 2
}

// owner words whose account it is, from what a call answers.
func (im *importer) owner(o *node) string {
	s := im.answer(o)
	p, _ := s["properties"].(map[string]any)
	for _, name := range []string{"name", "owner", "email", "login", "username", "title"} {
		if f, ok := p[name].(map[string]any); ok && f["type"] == "string" {
			return "(= output." + name + " )"
		}
	}
	return ""
}

func (im *importer) action(f *found, item, o *node) (*node, error) {
	f.title = sentenceOf(text(o, "summary"), 100)
	if f.title == "" {
		f.title = sentenceOf(text(o, "operationId"), 100)
	}
	if f.title == "" {
		f.title = f.method + " " + f.path
	}
	if err := im.parameters(f, item, o); err != nil {
		return nil, err
	}
	if err := im.requestBody(f, o); err != nil {
		return nil, err
	}
	effect := "write"
	if f.method == "GET" || f.method == "HEAD" || f.method == "OPTIONS" {
		effect = "read"
		im.out.Reads++
	} else {
		im.out.Writes++
	}
	answer := im.answer(o)
	a := object()
	set(a, "title", f.title)
	set(a, "sentence", sentence(f.title))
	if help := sentenceOf(text(o, "description"), 400); help != "" && help != f.title {
		set(a, "help", help)
	}
	set(a, "effect", effect)
	fields := object()
	set(fields, "type", "object")
	set(fields, "additionalProperties", false)
	if len(f.required) > 0 {
		set(fields, "required", f.required)
	}
	set(fields, "properties", f.fields)
	set(a, "fields", fields)
	request := object()
	set(request, "method", f.method)
	set(request, "path", im.pathOf(f))
	if len(f.query.Content) > 0 {
		set(request, "query", f.query)
	}
	if len(f.header.Content) > 0 {
		set(request, "header", f.header)
	}
	if f.body != nil {
		request.Content = append(request.Content, f.body.Content...)
	}
	set(a, "request", request)
	list := ""
	if effect == "read" {
		list = listIn(answer)
	}
	if list != "" {
		set(a, "each", list)
		if p := im.paging(f, o, answer); p != nil {
			set(a, "paging", p)
		}
	}
	sample := im.declared(o)
	if sample == nil {
		sample = im.sample(answer, "value", 0)
	}
	if list != "" {
		sample = within(sample, list)
	}
	if sample == nil {
		sample = map[string]any{}
	}
	set(a, "sample", sample)
	return a, nil
}

// sentence escapes what would be taken for a field's place.
func sentence(title string) string {
	return strings.NewReplacer("{", "(", "}", ")").Replace(title)
}

func (im *importer) pathOf(f *found) string {
	return variable.ReplaceAllStringFunc(f.path, func(m string) string {
		name := strings.Trim(m, "{}")
		if field, ok := f.names["path "+name]; ok {
			return "(= input." + field + " )"
		}
		return m
	})
}

// field adds a field under a name of its own.
func (im *importer) field(f *found, name string, schema map[string]any, required bool) string {
	field := im.unique(snake(name), f.taken)
	if schema["title"] == nil && field != name {
		schema["title"] = name
	}
	if schema["title"] == nil {
		schema["title"] = strings.ToUpper(field[:1]) + strings.ReplaceAll(field[1:], "_", " ")
	}
	set(f.fields, field, schema)
	if required {
		f.required = append(f.required, field)
	}
	return field
}

func (im *importer) parameters(f *found, item, o *node) error {
	seen := map[string]bool{}
	// An operation's own parameter comes before that of its path.
	for _, p := range append(slices.Clone(items(at(o, "parameters"))), items(at(item, "parameters"))...) {
		p, _, err := im.resolve(p)
		if err != nil {
			return fmt.Errorf("a parameter cannot be read: %w", err)
		}
		name, in := text(p, "name"), text(p, "in")
		if seen[in+" "+name] {
			continue
		}
		seen[in+" "+name] = true
		where := fmt.Sprintf("the parameter %s of %s %s", name, f.method, f.path)
		if at(p, "content") != nil {
			if yes(p, "required") {
				return fmt.Errorf("its parameter %s is written as a document of its own", name)
			}
			im.leaveOut(where, "it is written as a document of its own")
			continue
		}
		schema := im.schema(at(p, "schema"), 1, nil)
		if d := sentenceOf(text(p, "description"), 300); d != "" {
			schema["description"] = d
		}
		if e := at(p, "example"); e != nil {
			schema["examples"] = []any{plain(e)}
		}
		required := yes(p, "required")
		switch in {
		case "path":
			f.names["path "+name] = im.field(f, name, schema, true)
		case "query":
			if text(p, "style") == "deepObject" || schema["type"] == "object" {
				im.leaveOut(where, "an object in a query is not written")
				continue
			}
			field := im.field(f, name, schema, required)
			value := "(= input." + field + " )"
			if schema["type"] == "array" && text(p, "explode") == "false" {
				value = `(= join(input.` + field + `, ",") )`
			}
			f.queries[name] = field
			set(f.query, name, value)
		case "header":
			if strings.EqualFold(name, "authorization") || strings.EqualFold(name, "accept") || strings.EqualFold(name, "content-type") || strings.EqualFold(name, "idempotency-key") {
				continue // set by the sign-in, by what is sent, or by us
			}
			field := im.field(f, name, schema, required)
			set(f.header, name, "(= input."+field+" )")
		case "cookie":
			im.leaveOut(where, "cookies are not set by actions")
		}
	}
	for _, m := range variable.FindAllStringSubmatch(f.path, -1) {
		if f.names["path "+m[1]] == "" {
			f.names["path "+m[1]] = im.field(f, m[1], map[string]any{"type": "string"}, true)
		}
	}
	return nil
}

// requestBody takes the first kind of body that can be written.
func (im *importer) requestBody(f *found, o *node) error {
	b, _, err := im.resolve(at(o, "requestBody"))
	if err != nil {
		return fmt.Errorf("its body cannot be read: %w", err)
	}
	content := at(b, "content")
	if content == nil {
		return nil
	}
	required := yes(b, "required")
	var kinds []string
	each(content, func(k string, _ *node) { kinds = append(kinds, k) })
	for _, want := range []struct{ pattern, key string }{{`^application/(.+\+)?json`, "json"}, {`^application/x-www-form-urlencoded`, "form"}, {`^multipart/form-data`, "multipart"}} {
		p := regexp.MustCompile(want.pattern)
		for _, k := range kinds {
			if p.MatchString(k) {
				im.body(f, want.key, im.schema(at(at(content, k), "schema"), 0, nil), required)
				return nil
			}
		}
	}
	for _, k := range kinds {
		if k == "application/octet-stream" || strings.HasPrefix(k, "image/") || strings.HasPrefix(k, "audio/") || strings.HasPrefix(k, "video/") || k == "application/pdf" || k == "*/*" {
			field := im.field(f, "file", map[string]any{"type": "object", "title": "File", "hint": "file"}, required)
			f.body = object()
			set(f.body, "file", "(= input."+field+" )")
			return nil
		}
		if strings.HasPrefix(k, "text/") {
			field := im.field(f, "text", map[string]any{"type": "string", "title": "Text"}, required)
			f.body = object()
			set(f.body, "raw", map[string]any{"type": k, "text": "(= input." + field + " )"})
			return nil
		}
	}
	if required {
		return fmt.Errorf("its body is %s, which cannot be written here", strings.Join(kinds, " or "))
	}
	im.leaveOut("the body of "+f.method+" "+f.path, strings.Join(kinds, " or ")+" cannot be written here")
	return nil
}

// body makes a field of each property, or one of the whole body where it is no
// object.
func (im *importer) body(f *found, key string, schema map[string]any, required bool) {
	f.body = object()
	properties, _ := schema["properties"].(map[string]any)
	order, _ := schema["\x00order"].([]string)
	if len(properties) == 0 || schema["anyOf"] != nil || key == "json" && schema["type"] != "object" {
		if schema["title"] == nil {
			schema["title"] = "Body"
		}
		field := im.field(f, "body", schema, required)
		set(f.body, key, "(= input."+field+" )")
		return
	}
	needed, _ := schema["required"].([]any)
	values := object()
	for name := range properties {
		if !slices.Contains(order, name) {
			order = append(order, name)
		}
	}
	for _, name := range order {
		p, _ := properties[name].(map[string]any)
		if p == nil || p["\x00read_only"] == true {
			continue
		}
		if key == "multipart" && p["\x00binary"] == true {
			p = map[string]any{"type": "object", "title": strings.ReplaceAll(name, "_", " "), "hint": "file"}
		}
		field := im.field(f, name, p, required && slices.Contains(needed, any(name)))
		set(values, name, "(= input."+field+" )")
	}
	set(f.body, key, values)
}

// answer is the schema of what a good answer holds.
func (im *importer) answer(o *node) map[string]any {
	var out map[string]any
	each(at(o, "responses"), func(status string, r *node) {
		if out != nil || !strings.HasPrefix(status, "2") && status != "default" {
			return
		}
		r, _, err := im.resolve(r)
		if err != nil {
			return
		}
		each(at(r, "content"), func(kind string, c *node) {
			if out == nil && strings.Contains(kind, "json") {
				out = im.schema(at(c, "schema"), 0, nil)
			}
		})
	})
	if out == nil {
		out = map[string]any{}
	}
	return out
}

// declared is an example that the document gives for a good answer.
func (im *importer) declared(o *node) any {
	var out any
	each(at(o, "responses"), func(status string, r *node) {
		r, _, err := im.resolve(r)
		if out != nil || err != nil || !strings.HasPrefix(status, "2") {
			return
		}
		each(at(r, "content"), func(_ string, c *node) {
			if e := at(c, "example"); e != nil && out == nil {
				out = plain(e)
			}
			each(at(c, "examples"), func(_ string, e *node) {
				e, _, err := im.resolve(e)
				if v := at(e, "value"); v != nil && out == nil && err == nil {
					out = plain(v)
				}
			})
		})
	})
	return out
}

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

var (
	cursorParameters = []string{"cursor", "page_token", "pageToken", "next_token", "nextToken", "after", "starting_after", "continuation", "start_cursor"}
	cursorFields     = []string{"next_cursor", "nextCursor", "next_page_token", "nextPageToken", "next_token", "nextToken", "next", "cursor", "continuation", "end_cursor"}
	sizeParameters   = []string{"per_page", "perPage", "page_size", "pageSize", "limit", "size", "count"}
)

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
