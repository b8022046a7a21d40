package connector

import (
	"bytes"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/net/html/charset"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

func (u *Unreadable) Error() string {
	return fmt.Sprintf("answered %d, but what it sent cannot be read: %v", u.Status, u.Err)
}

// Binary tells whether an answer of this kind is kept as a file unless
// something else was asked for.
func Binary(h http.Header) bool {
	kind, _, _ := mime.ParseMediaType(h.Get("Content-Type"))
	disposition, _, _ := mime.ParseMediaType(h.Get("Content-Disposition"))
	group, _, _ := strings.Cut(kind, "/")
	switch {
	case group == "image" && kind != "image/svg+xml", group == "audio", group == "video", group == "font":
		return true
	case kind == "application/octet-stream", kind == "application/pdf", kind == "application/zip", kind == "application/gzip",
		strings.HasPrefix(kind, "application/vnd.") && !strings.HasSuffix(kind, "+json") && !strings.HasSuffix(kind, "+xml"):
		return true
	}
	return disposition == "attachment"
}

// parsed is a body as a value.
type parsed struct {
	value any
	xml   bool
	err   error
}

// parse reads a body by its content type. JSON that goes by another name is
// known by its first character.
func parse(a *call.Answer, want string) parsed {
	if a.File != nil {
		return parsed{value: a.File.Value()}
	}
	body := bytes.TrimPrefix(a.Body, []byte("\xef\xbb\xbf"))
	trimmed := bytes.TrimSpace(body)
	if len(trimmed) == 0 {
		return parsed{}
	}
	kind, params, _ := mime.ParseMediaType(a.Header.Get("Content-Type"))
	if set := params["charset"]; set != "" && !strings.EqualFold(set, "utf-8") && want != "json" {
		if e, _ := charset.Lookup(set); e != nil {
			if b, err := e.NewDecoder().Bytes(body); err == nil {
				body, trimmed = b, bytes.TrimSpace(b)
			}
		}
	}
	text := func() parsed { return parsed{value: strings.ToValidUTF8(string(body), "\ufffd")} }
	looksJSON := trimmed[0] == '{' || trimmed[0] == '['
	switch {
	case want == "text":
		return text()
	case want == "json", kind == "application/json", strings.HasSuffix(kind, "+json"):
		v, err := item.Decode(body)
		return parsed{value: v, err: err}
	case kind == "application/x-ndjson", kind == "application/jsonl":
		list := []any{}
		for _, line := range bytes.Split(trimmed, []byte("\n")) {
			if len(bytes.TrimSpace(line)) == 0 {
				continue
			}
			v, err := item.Decode(line)
			if err != nil {
				return parsed{err: err}
			}
			list = append(list, v)
		}
		return parsed{value: list}
	case kind == "application/xml", kind == "text/xml", strings.HasSuffix(kind, "+xml") && kind != "image/svg+xml" && kind != "application/xhtml+xml":
		v, err := decodeXML(body)
		return parsed{v, true, err}
	case kind == "application/x-www-form-urlencoded":
		q, err := url.ParseQuery(string(trimmed))
		out := map[string]any{}
		for name, values := range q {
			out[name] = values[0]
		}
		return parsed{value: out, err: err}
	case looksJSON && (kind == "" || kind == "text/plain" || kind == "text/javascript" || kind == "application/octet-stream"):
		if v, err := item.Decode(body); err == nil {
			return parsed{value: v}
		}
	}
	if kind == "" && !utf8.Valid(body) {
		return parsed{err: fmt.Errorf("it is neither text nor JSON (%d bytes)", len(body))}
	}
	return text()
}

// headerFields are the headers as expressions see them: names in small letters.
func headerFields(h http.Header) map[string]any {
	out := map[string]any{}
	for name, values := range h {
		out[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	return out
}

func answerScope(a *call.Answer, value any, input map[string]any) *expr.Scope {
	return &expr.Scope{Names: map[string]any{
		"response": value, "output": value, "status": int64(a.Status),
		"header": expr.Lazy(func() (any, error) { return headerFields(a.Header), nil }),
		"input":  expr.Lazy(func() (any, error) { return input, nil }),
	}}
}

// Success says which answers are good: without it, every 2xx.
type Success struct {
	Status []int
	When   string
	when   *expr.Program
}

func (s *Success) fits(status int) bool {
	if s == nil || len(s.Status) == 0 {
		return status >= 200 && status <= 299
	}
	return slices.Contains(s.Status, status)
}

// read parses the body by its content type and turns a failure, by status or
// within the body, into a Refusal.
func (c *Connector) read(a *call.Answer, want string, success *Success) (parsed, error) {
	p := parse(a, want)
	scope := answerScope(a, p.value, nil)
	if !success.fits(a.Status) {
		return p, c.refusal(a, p.value, scope)
	}
	if p.err != nil {
		return p, &Unreadable{a.Status, p.err}
	}
	if c.Failure.when != nil {
		if failed, err := c.Failure.when.Holds(scope); err == nil && failed {
			return p, c.refusal(a, p.value, scope)
		}
	}
	if success != nil && success.when != nil {
		if good, err := success.when.Holds(scope); err != nil || !good {
			r := c.refusal(a, p.value, scope)
			if r.Message == "" {
				r.Message = fmt.Sprintf("answered %d, and %s does not hold: %s", a.Status, success.When, success.when.Why(scope))
			}
			return p, r
		}
	}
	return p, nil
}

// Page is what one call of an action gave.
type Page struct {
	Output any              // of an action with a single result
	Items  []map[string]any // of an action that gives a list
	Next   any              // token of the next page; nil at the end
	Units  float64          // billed
	Left   string           // what is left of the plan, in words
}

// Asked is what an answer answers: the call, and the cursor it asked for.
type Asked struct {
	Call   *call.Call
	Input  map[string]any
	Cursor any
	Now    time.Time
}

// Read turns the answer to an action's call into its result. The error is a
// *Refusal, an *Unreadable, or says what in the answer was not as declared.
func (a *Action) Read(answer *call.Answer, asked Asked) (*Page, error) {
	p, err := a.connector.read(answer, a.Answer, a.success)
	if err != nil {
		if r, ok := err.(*Refusal); ok {
			r.Wait = a.connector.Wait(answer, asked.Now)
		}
		return nil, err
	}
	for _, path := range a.leaveOut {
		p.value = without(p.value, path)
	}
	scope := answerScope(answer, p.value, asked.Input)
	page := &Page{Output: p.value, Units: a.fixedUnits, Left: a.connector.leftOver(scope)}
	if answer.File != nil && a.output == nil {
		page.Output = map[string]any{"file": p.value}
	}
	if a.units != nil {
		v, err := a.units.Eval(scope)
		if err != nil {
			return nil, &Unreadable{answer.Status, err}
		}
		switch n := v.(type) {
		case int64:
			page.Units = float64(n)
		case float64:
			page.Units = n
		}
	}
	if a.output != nil {
		if page.Output, err = a.output.Eval(scope); err != nil {
			return nil, &Unreadable{answer.Status, err}
		}
	}
	if a.each == nil {
		return page, nil
	}
	v, err := a.each.Eval(scope)
	if err != nil {
		return nil, &Unreadable{answer.Status, err}
	}
	list, ok := v.([]any)
	if !ok && v != nil {
		if !p.xml { // in XML, one element looks like none of many
			return nil, &Unreadable{answer.Status, fmt.Errorf("%s should be a list and is %s", a.Each, item.Kind(v))}
		}
		list = []any{v}
	}
	for _, e := range list {
		page.Items = append(page.Items, AsFields(e))
	}
	var address *url.URL
	if asked.Call != nil {
		address = asked.Call.URL
	}
	page.Next, err = a.Paging.next(scope, answer.Header, address, asked.Cursor, len(list))
	if err != nil {
		return nil, &Unreadable{answer.Status, err}
	}
	return page, nil
}

// leftOver words what is left of the plan.
func (c *Connector) leftOver(scope *expr.Scope) string {
	if c.left == nil {
		return ""
	}
	for _, r := range c.left.Refs() { // not every answer says it
		v := scope.Names[r.Path[0]]
		if lazy, ok := v.(expr.Lazy); ok {
			v, _ = lazy()
		}
		for _, name := range r.Path[1:] {
			m, _ := v.(map[string]any)
			v = m[name]
		}
		if v == nil {
			return ""
		}
	}
	v, err := c.left.Eval(scope)
	if err != nil {
		return ""
	}
	return expr.Text(v)
}

// without copies a value but for what lies at a path; lists are gone through.
func without(v any, path []string) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = without(e, path)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, e := range v {
			if k != path[0] {
				out[k] = e
			} else if len(path) > 1 {
				out[k] = without(e, path[1:])
			}
		}
		return out
	}
	return v
}

// AsFields makes an item's fields of any JSON value: an object as it is,
// anything else under "value".
func AsFields(v any) map[string]any {
	if m, ok := v.(map[string]any); ok {
		return m
	}
	return map[string]any{"value": v}
}

func outputScope(output any) *expr.Scope {
	return &expr.Scope{Names: map[string]any{"response": output, "output": output, "input": expr.Lazy(func() (any, error) { return nil, nil })}}
}

// Summarise words a result for a cell, in one line.
func (a *Action) Summarise(output any) string {
	if a.summary == nil {
		if m, ok := output.(map[string]any); ok {
			if f, ok := item.AsFile(m["file"]); ok {
				return f.Name + ", " + item.Bytes(f.Size)
			}
		}
		return ""
	}
	v, err := a.summary.Eval(outputScope(output))
	if err != nil {
		return ""
	}
	return expr.Text(v)
}

// RecordLink is the address of the real record, or "".
func (a *Action) RecordLink(output any) string {
	if a.link == nil {
		return ""
	}
	v, err := a.link.Eval(outputScope(output))
	if s := expr.Text(v); err == nil && SafeLink(s) {
		return s
	}
	return ""
}

// Checked is what a check call found.
type Checked struct {
	Said    string   // whose account it is
	Missing []string // what the plan lacks, in words
	Scopes  []string
	Left    string
}

// ReadCheck says whose account it is, from the check's answer.
func (c *Connector) ReadCheck(a *call.Answer) (Checked, error) {
	if c.Check.says == nil {
		return Checked{}, &Refusal{Status: a.Status}
	}
	p, err := c.read(a, "auto", nil)
	if err != nil && !(c.Check.Any && a.Status != http.StatusUnauthorized && a.Status != http.StatusForbidden) {
		return Checked{}, err
	}
	scope := answerScope(a, p.value, nil)
	v, err := c.Check.says.Eval(scope)
	out := Checked{Said: expr.Text(v), Left: c.leftOver(scope)}
	for _, n := range c.Check.Needs {
		if met, err := n.when.Holds(scope); err == nil && !met {
			out.Missing = append(out.Missing, n.Says)
		}
	}
	if c.Check.scopes != nil {
		if v, err := c.Check.scopes.Eval(scope); err == nil {
			switch v := v.(type) {
			case []any:
				for _, e := range v {
					out.Scopes = append(out.Scopes, expr.Text(e))
				}
			case string:
				out.Scopes = strings.Fields(strings.ReplaceAll(v, ",", " "))
			}
		}
	}
	return out, err
}
