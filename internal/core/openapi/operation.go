package openapi

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

var methodNames = []string{"get", "post", "put", "patch", "delete", "head", "options"}

// found is an operation on its way to an action.
type found struct {
	method, path string
	prefix       string // of the path, where the operation has a server of its own on the same host
	title        string
	fields       *node // properties in order
	required     []any
	taken        map[string]bool
	query        *node
	header       *node
	cookie       *node
	body         *node             // of the request: one key, json, form, multipart or file
	names        map[string]string // name in the document to the field's
	joined       []string          // path parameters that are lists
	queries      map[string]string // query parameter to field
}

// mostParameters is how many an operation has at most to be taken.
const mostParameters = 200

// perAction is about how many bytes an action is written out with, besides its
// fields and its answer.
const perAction = 200

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
			im.leaveOut(path+placed(p), err.Error())
			return
		}
		if !strings.HasPrefix(path, "/") {
			if !strings.HasPrefix(path, "x-") {
				im.leaveOut(short(path, 200)+placed(p), "a path begins with /")
			}
			return
		}
		each(item, func(method string, o *node) {
			if !slices.Contains(methodNames, method) {
				if method == "trace" {
					im.leaveOut("TRACE "+path+placed(o), "this method is not called")
				}
				return
			}
			if n++; n > MaxOperations {
				if n == MaxOperations+1 {
					im.leaveOut("operations after the first 10,000", "that is as many as are read")
				}
				return
			}
			if im.ctx.Err() != nil {
				return
			}
			if im.budget <= 0 {
				if im.deepest == 1 {
					im.leaveOut(strings.ToUpper(method)+" "+short(path, 200)+placed(o), "the connector would be larger than 1.5 MiB")
				}
				return
			}
			im.budget -= perAction
			f := &found{method: strings.ToUpper(method), path: path, fields: object(), taken: map[string]bool{}, query: object(), header: object(), cookie: object(), names: map[string]string{}, queries: map[string]string{}}
			prefix, err := im.served(item, o)
			var action *node
			if err == nil {
				f.prefix = prefix
				action, err = im.action(f, item, o)
			}
			if err != nil {
				im.leaveOut(f.method+" "+path+placed(o), err.Error())
				return
			}
			name := snake(text(o, "operationId"))
			if name == "" {
				name = snake(method + " " + path)
			}
			name = im.unique(name, taken)
			im.places[name] = f.method + " " + path + placed(o)
			set(out, name, action)
			if f.method == "GET" && len(f.required) == 0 {
				c := &candidate{rank: rank(path), call: map[string]any{"method": "GET", "path": f.prefix + path}, says: im.owner(o)}
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
	if len(f.cookie.Content) > 0 {
		set(request, "cookie", f.cookie)
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
	return f.prefix + variable.ReplaceAllStringFunc(f.path, func(m string) string {
		name := strings.Trim(m, "{}")
		if field, ok := f.names["path "+name]; ok {
			if slices.Contains(f.joined, name) {
				return joinedBy(field, ",")
			}
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
		if len(seen) == mostParameters {
			return fmt.Errorf("it has more than %d parameters", mostParameters)
		}
		p, _, err := im.resolve(p)
		if err != nil {
			return fmt.Errorf("a parameter cannot be read: %w", err)
		}
		name, in := text(p, "name"), text(p, "in")
		if seen[in+" "+name] {
			continue
		}
		seen[in+" "+name] = true
		where := fmt.Sprintf("the parameter %s of %s %s", name, f.method, f.path) + placed(p)
		if at(p, "content") != nil {
			if yes(p, "required") {
				return fmt.Errorf("its parameter %s is written as a document of its own", name)
			}
			im.leaveOut(where, "it is written as a document of its own")
			continue
		}
		im.budget -= 60 + 2*len(name)
		schema := im.schema(at(p, "schema"), 1, nil)
		if d := sentenceOf(short(text(p, "description"), 20*mostText), 300); d != "" {
			schema["description"] = d
			im.budget -= len(d)
		}
		if e := at(p, "example"); e != nil && size(e) <= mostText {
			schema["examples"] = []any{plain(e)}
		}
		required := yes(p, "required")
		switch in {
		case "path":
			if style := text(p, "style"); style != "" && style != "simple" {
				return fmt.Errorf("its parameter %s is written in the style %s, which is not known here", name, style)
			}
			f.names["path "+name] = im.field(f, name, schema, true)
			if schema["type"] == "array" {
				f.joined = append(f.joined, name)
			}
		case "query":
			if text(p, "style") == "deepObject" || schema["type"] == "object" {
				im.inQuery(f, p, name, where, schema, required)
				continue
			}
			field := im.field(f, name, schema, required)
			value := "(= input." + field + " )"
			if mark := separator(p); schema["type"] == "array" && mark != "" {
				value = joinedBy(field, mark)
			}
			f.queries[name] = field
			set(f.query, name, value)
		case "header":
			if strings.EqualFold(name, "authorization") || strings.EqualFold(name, "accept") || strings.EqualFold(name, "content-type") || strings.EqualFold(name, "idempotency-key") {
				continue // set by the sign-in, by what is sent, or by us
			}
			field := im.field(f, name, schema, required)
			if schema["type"] == "array" {
				set(f.header, name, joinedBy(field, ","))
				continue
			}
			set(f.header, name, "(= input."+field+" )")
		case "cookie":
			if schema["type"] == "object" || schema["type"] == "array" {
				im.leaveOut(where, "it is a cookie of several values")
				continue
			}
			field := im.field(f, name, schema, required)
			set(f.cookie, name, "(= input."+field+" )")
		}
	}
	for _, m := range variable.FindAllStringSubmatch(f.path, -1) {
		if f.names["path "+m[1]] == "" {
			f.names["path "+m[1]] = im.field(f, m[1], map[string]any{"type": "string"}, true)
		}
	}
	return nil
}

// separator is what stands between the values of a list in a query; nothing where each
// has a parameter of its own (OpenAPI 3.1, 4.8.12.3).
func separator(p *node) string {
	style, explode := text(p, "style"), text(p, "explode")
	if explode == "" {
		explode = strconv.FormatBool(style == "" || style == "form")
	}
	switch {
	case explode == "true":
		return ""
	case style == "spaceDelimited":
		return " "
	case style == "pipeDelimited":
		return "|"
	}
	return ","
}

// joinedBy puts a list together; nothing stays nothing.
func joinedBy(field, mark string) string {
	return fmt.Sprintf(`(= input.%s == nil ? nil : join(input.%s, %q) )`, field, field, mark)
}

// inQuery takes an object apart whose properties are parameters of their own: by their
// names, or as NAME[PROPERTY] in the style deepObject.
func (im *importer) inQuery(f *found, p *node, name, where string, schema map[string]any, required bool) {
	style, explode := text(p, "style"), text(p, "explode")
	properties, _ := schema["properties"].(map[string]any)
	if len(properties) == 0 || style != "deepObject" && (style != "" && style != "form" || explode == "false") {
		im.leaveOut(where, "it is an object that is not written by its properties")
		return
	}
	needed, _ := schema["required"].([]any)
	order, _ := schema["\x00order"].([]string)
	for _, k := range order {
		m, _ := properties[k].(map[string]any)
		if kind := m["type"]; m == nil || kind == "object" {
			im.leaveOut(where+", "+k, "it is an object within an object")
			continue
		}
		written := k
		if style == "deepObject" {
			written = name + "[" + k + "]"
		}
		field := im.field(f, name+"_"+k, m, required && slices.Contains(needed, any(k)))
		f.queries[written] = field
		set(f.query, written, "(= input."+field+" )")
	}
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
