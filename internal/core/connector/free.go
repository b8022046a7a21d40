package connector

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
)

// Free makes an action of the settings of an http step, and the tree of values
// that are its input. An address that begins with / is that of the connection.
func Free(settings map[string]any) (*Action, map[string]any, error) {
	k := &compiler{doc: emptyDocument}
	text := func(name string) string { s, _ := settings[name].(string); return s }
	method := strings.ToUpper(text("method"))
	if method == "" {
		method = "GET"
	}
	if !slices.Contains(methods, method) || method == "SEND" {
		return nil, nil, at("method", fmt.Errorf("%q is not a method", method))
	}
	tree, host, err := freeAddress(text("url"))
	if err != nil {
		return nil, nil, at("url", err)
	}
	tree["method"] = method
	for _, name := range []string{"header", "query", "form"} {
		m, ok := settings[name].(map[string]any)
		if !ok {
			continue
		}
		known, _ := tree[name].(map[string]any)
		if known == nil {
			known = map[string]any{}
		}
		for n, v := range m {
			if name == "header" && (!headerName.MatchString(n) || Reserved(n)) {
				return nil, nil, at("header."+n, fmt.Errorf("the header %q cannot be set here; what proves who we are belongs into a connection", n))
			}
			known[n] = v
		}
		tree[name] = known
	}
	bodies := 0
	for _, name := range []string{"json", "form", "multipart", "raw", "xml", "file"} {
		if v, ok := settings[name]; ok && v != nil {
			bodies++
			tree[name] = v
		}
	}
	if bodies > 1 {
		return nil, nil, at("json", errors.New("a call has one body: json, form, multipart, raw, xml or file"))
	}
	a := &Action{Title: "Call " + host, Effect: call.Write, Answer: text("answer"), Each: text("each"), Sample: settings["sample"], free: true,
		connector: &Connector{Title: host}, fixedUnits: 0}
	if readsByItself(method) {
		a.Effect = call.Read
	}
	a.Repeat = repeatOf(a.Effect, method)
	if r := text("repeat"); slices.Contains(repeats, r) {
		a.Repeat = r
	}
	if !slices.Contains([]string{"", "auto", "json", "text", "file"}, a.Answer) {
		return nil, nil, at("answer", fmt.Errorf("the answer is auto, json, text or file, not %q", a.Answer))
	}
	if a.Each != "" && a.Effect == call.Write {
		return nil, nil, at("each", errors.New("a list is read from a call that reads: use GET, or spread the answer"))
	}
	for name, to := range map[string]**expr.Program{"each": &a.each, "take": &a.output} {
		if s := text(name); s != "" {
			if *to, err = expr.Compile(s); err != nil {
				return nil, nil, at(name, err)
			}
		}
	}
	if list, ok := settings["leave_out"].([]any); ok {
		for _, p := range list {
			a.leaveOut = append(a.leaveOut, strings.Split(expr.Text(p), "."))
		}
	}
	if m, ok := settings["paging"].(map[string]any); ok {
		if a.each == nil {
			return nil, nil, at("paging", errors.New("pages are read of a list; say with each where it stands in the answer"))
		}
		a.Paging = pagingOf(m)
		a.Paging.compile(k, "paging")
	}
	if m, ok := settings["success"].(map[string]any); ok {
		a.success = &Success{}
		a.success.Status, _ = m["status"].([]any)
		a.success.When, _ = m["when"].(string)
		a.success.when = k.program("success.when", a.success.When)
	}
	if m, ok := settings["wait"].(map[string]any); ok {
		w := Wait{}
		w.Header, _ = m["header"].(string)
		w.Field, _ = m["field"].(string)
		w.Text, _ = m["text"].(string)
		w.Unit, _ = m["unit"].(string)
		a.connector.Failure.Wait = []Wait{w}
		a.connector.Failure.compile(k, "wait")
	}
	if len(k.problems) > 0 {
		return nil, nil, at(k.problems[0].Path, errors.New(k.problems[0].Message))
	}
	return a, tree, nil
}

var emptyDocument, _ = document.Parse([]byte("{}"))

func at(setting string, err error) error { return &FreeError{setting, err} }

// FreeError places an error in a setting of an http or sql step.
type FreeError struct {
	Setting string
	Err     error
}

func (e *FreeError) Error() string { return e.Err.Error() }
func (e *FreeError) Unwrap() error { return e.Err }

func pagingOf(m map[string]any) *Paging {
	text := func(name string) string { s, _ := m[name].(string); return s }
	number := func(name string) int { n, _ := m[name].(int64); return int(n) }
	yes := func(name string) bool { b, _ := m[name].(bool); return b }
	return &Paging{Cursor: text("cursor"), Query: text("query"), Link: text("link"), URL: text("address"), More: text("more"), Page: yes("page"), Offset: yes("offset"), First: number("first"), Size: number("size")}
}

// freeAddress cuts an address into host, path and query, so that what a
// template gives is encoded for its place. Only a whole address may come from
// an expression; a host put together from parts may not.
func freeAddress(s string) (tree map[string]any, host string, err error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return nil, "", errors.New("the address is to be filled in")
	}
	if expr.Whole(s) {
		return map[string]any{"address": s}, "the address", nil
	}
	s, _, _ = cutOutside(s, '#')
	s, query, _ := cutOutside(s, '?')
	tree = map[string]any{}
	if !strings.HasPrefix(s, "/") {
		scheme, rest, ok := strings.Cut(s, "://")
		if !ok || scheme != "http" && scheme != "https" {
			return nil, "", fmt.Errorf("%q is not an address; it begins with https://, or with / for the connection's own", s)
		}
		name, p, _ := cutOutside(rest, '/')
		if expr.IsTemplate(name) {
			return nil, "", errors.New("the host is put together by an expression; write it out, or let one expression give the whole address")
		}
		base, err := ParseBase(scheme + "://" + name)
		if err != nil {
			return nil, "", err
		}
		host, s = base.Hostname(), "/"+p
		tree["base"] = base.String()
	} else {
		host = "the connection"
	}
	tree["path"] = pathParts(s)
	if query != "" {
		q := map[string]any{}
		for _, pair := range expr.Split(query, '&') {
			name, value, _ := cutOutside(pair, '=')
			if expr.IsTemplate(name) {
				return nil, "", errors.New("the name of a query parameter cannot be an expression")
			}
			if n, err := url.QueryUnescape(name); err == nil {
				name = n
			}
			if !expr.IsTemplate(value) {
				if v, err := url.QueryUnescape(value); err == nil {
					value = v
				}
			}
			if name == "" && value == "" {
				continue
			}
			switch known := q[name].(type) {
			case nil:
				q[name] = value
			case []any:
				q[name] = append(known, value)
			default:
				q[name] = []any{known, value}
			}
		}
		tree["query"] = q
	}
	return tree, host, nil
}

func cutOutside(s string, separator byte) (before, after string, found bool) {
	parts := expr.Split(s, separator)
	if len(parts) == 1 {
		return s, "", false
	}
	return parts[0], s[len(parts[0])+1:], true
}

func (a *Action) buildFree(_, input map[string]any, cursor any) (*call.Call, error) {
	base := &url.URL{}
	var err error
	switch {
	case input["address"] != nil:
		s := expr.Text(input["address"])
		u, err := url.Parse(strings.TrimSpace(s))
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
			return nil, fmt.Errorf("the expression for the address gave %q, which is not one: it begins with https:// and holds no password", s)
		}
		base = u
		input = copyOf(input)
		input["path"] = []any{}
	case input["base"] != nil:
		if base, err = ParseBase(expr.Text(input["base"])); err != nil {
			return nil, err
		}
	}
	request, err := assemble(base, input, true)
	if err != nil {
		return nil, err
	}
	if request.URL.Path == "" && base.Host != "" {
		request.URL.Path = "/"
	}
	if err := a.Paging.turn(request, cursor); err != nil {
		return nil, err
	}
	request.Effect, request.Repeat, request.Answer = a.Effect, a.Repeat, a.Answer
	return request, nil
}

func copyOf(m map[string]any) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// Query makes an action of the settings of an sql step. Rows come as items:
// by pages in the order of key, or all at once where there is no key.
func Query(settings map[string]any) (*Action, map[string]any, error) {
	query, _ := settings["query"].(string)
	key, _ := settings["key"].(string)
	switch {
	case strings.TrimSpace(query) == "":
		return nil, nil, at("query", errors.New("the query is to be filled in"))
	case expr.IsTemplate(query):
		return nil, nil, at("query", errors.New("an expression stands in the query; write $1, $2 … there and the expressions under params, so that no value can change what is asked"))
	}
	body := map[string]any{"query": query, "params": []any{}}
	if p, ok := settings["params"].([]any); ok {
		body["params"] = p
	}
	if key != "" {
		body["key"] = key
	}
	each, err := expr.Compile("response.rows")
	if err != nil {
		return nil, nil, err
	}
	a := &Action{Title: "Query", Effect: call.Read, Repeat: call.Safe, Each: "response.rows", each: each, free: true, connector: &Connector{Title: "The database"}, Sample: settings["sample"]}
	if key != "" {
		k := &compiler{doc: emptyDocument}
		a.Paging = &Paging{Cursor: "response.next", Query: "cursor"}
		a.Paging.compile(k, "paging")
	}
	return a, map[string]any{"method": "QUERY", "path": []any{}, "json": body}, nil
}
