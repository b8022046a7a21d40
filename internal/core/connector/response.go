package connector

import (
	"fmt"
	"mime"
	"net/http"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// Refusal is an answer that says no.
type Refusal struct {
	Status  int
	Message string // the other side's own words
}

func (r *Refusal) Error() string {
	if r.Message == "" {
		return fmt.Sprintf("answered %d %s", r.Status, http.StatusText(r.Status))
	}
	return r.Message
}

// Unreadable is an answer that should be JSON and is not.
type Unreadable struct {
	Status int
	Err    error
}

func (u *Unreadable) Error() string {
	return fmt.Sprintf("answered %d, but what it sent cannot be read: %v", u.Status, u.Err)
}

// read parses the body by its content type and turns a failure, by status or
// within the body, into a Refusal.
func (c *Connector) read(a *Answer) (any, error) {
	var body any
	var unreadable error
	kind, _, _ := mime.ParseMediaType(a.Header.Get("Content-Type"))
	switch {
	case len(a.Body) == 0:
	case kind == "application/json" || strings.HasSuffix(kind, "+json") || kind == "" && (a.Body[0] == '{' || a.Body[0] == '['):
		body, unreadable = item.Decode(a.Body)
	default:
		body = string(a.Body)
	}
	if a.Status < 200 || a.Status > 299 {
		return nil, &Refusal{a.Status, c.message(a, body)}
	}
	if unreadable != nil {
		return nil, &Unreadable{a.Status, unreadable}
	}
	if c.Failure.when != nil {
		failed, err := c.Failure.when.Holds(responseScope(body, body))
		if err == nil && failed {
			return nil, &Refusal{a.Status, c.message(a, body)}
		}
	}
	return body, nil
}

func (c *Connector) message(a *Answer, body any) string {
	if c.Failure.message != nil {
		if v, err := c.Failure.message.Eval(responseScope(body, body)); err == nil {
			if s := strings.TrimSpace(expr.Text(v)); s != "" {
				return s
			}
		}
	}
	if s, ok := body.(string); ok && len(s) < 300 && !strings.Contains(s, "<") {
		return strings.TrimSpace(s)
	}
	return ""
}

// Page is what one call of an action gave.
type Page struct {
	Output any              // of an action with a single result
	Items  []map[string]any // of an action that gives a list
	Next   any              // token of the next page; nil at the end
}

// Read turns the answer to an action's call into its result. The error is a
// *Refusal, an *Unreadable, or says what in the answer was not as declared.
func (a *Action) Read(answer *Answer) (*Page, error) {
	body, err := a.connector.read(answer)
	if err != nil {
		return nil, err
	}
	scope := responseScope(body, body)
	page := &Page{Output: body}
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
		return nil, &Unreadable{answer.Status, fmt.Errorf("%s should be a list and is %s", a.Each, item.Kind(v))}
	}
	for _, e := range list {
		page.Items = append(page.Items, AsFields(e))
	}
	if a.Paging != nil {
		next, err := a.Paging.cursor.Eval(scope)
		if err != nil {
			return nil, &Unreadable{answer.Status, err}
		}
		if next != "" {
			page.Next = next
		}
	}
	return page, nil
}

// AsFields makes an item's fields of any JSON value: an object as it is,
// anything else under "value".
func AsFields(v any) map[string]any {
	if m, ok := v.(map[string]any); ok {
		return m
	}
	return map[string]any{"value": v}
}

// Summarise words a result for a cell, in one line.
func (a *Action) Summarise(output any) string {
	if a.summary == nil {
		return ""
	}
	v, err := a.summary.Eval(responseScope(output, output))
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
	v, err := a.link.Eval(responseScope(output, output))
	if s := expr.Text(v); err == nil && (strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")) {
		return s
	}
	return ""
}

// Option is one choice of a list.
type Option struct {
	ID   any    `json:"id"`
	Name string `json:"name"`
}

// BuildChoice makes the call that loads a choice list.
func (c *Connector) BuildChoice(list string, account, input map[string]any, cursor any) (*Call, error) {
	ch, ok := c.Choices[list]
	if !ok {
		return nil, fmt.Errorf("%s has no choice list %q", c.Title, list)
	}
	return c.buildRequest(&ch.Request, account, input, ch.Paging, cursor)
}

// ReadChoice reads a page of a choice list.
func (c *Connector) ReadChoice(list string, answer *Answer) ([]Option, any, error) {
	ch := c.Choices[list]
	body, err := c.read(answer)
	if err != nil {
		return nil, nil, err
	}
	v, err := ch.each.Eval(responseScope(body, body))
	if err != nil {
		return nil, nil, err
	}
	elements, _ := v.([]any)
	options := make([]Option, 0, len(elements))
	for _, e := range elements {
		s := &expr.Scope{Item: AsFields(e)}
		id, err := ch.value.Eval(s)
		if err != nil {
			return nil, nil, err
		}
		label, err := ch.label.Eval(s)
		if err != nil {
			return nil, nil, err
		}
		options = append(options, Option{id, expr.Text(label)})
	}
	if ch.Paging == nil {
		return options, nil, nil
	}
	next, err := ch.Paging.cursor.Eval(responseScope(body, body))
	return options, next, err
}
