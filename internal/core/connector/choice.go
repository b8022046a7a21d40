package connector

import (
	"fmt"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
)

// Option is one choice of a list.
type Option struct {
	ID   any    `json:"id"`
	Name string `json:"name"`
}

// BuildChoice makes the call that loads a choice list.
func (c *Connector) BuildChoice(list string, account, input map[string]any, search string, cursor any) (*call.Call, error) {
	ch, ok := c.Choices[list]
	if !ok {
		return nil, fmt.Errorf("%s has no choice list %q", c.Title, list)
	}
	request, err := c.buildRequest(&ch.Request, map[string]any{"account": account, "input": input, "search": search}, ch.Paging, cursor)
	if err == nil && ch.Search != "" && search != "" {
		q := request.URL.Query()
		q.Set(ch.Search, search)
		request.URL.RawQuery = q.Encode()
	}
	return request, err
}

// FromAddress finds the id in an address that was copied out of a browser, or
// gives what was pasted.
func (c *Choice) FromAddress(pasted string) (string, bool) {
	if c.address == nil {
		return pasted, false
	}
	if m := c.address.FindStringSubmatch(strings.TrimSpace(pasted)); len(m) > 1 {
		return m[1], true
	}
	return pasted, false
}

// ReadChoice reads a page of a choice list.
func (c *Connector) ReadChoice(list string, answer *call.Answer, cursor any) ([]Option, any, error) {
	ch := c.Choices[list]
	p, err := c.read(answer, "auto", nil)
	if err != nil {
		return nil, nil, err
	}
	scope := answerScope(answer, p.value, nil)
	v, err := ch.each.Eval(scope)
	if err != nil {
		return nil, nil, err
	}
	elements, ok := v.([]any)
	if !ok && v != nil && p.xml {
		elements = []any{v}
	}
	options := make([]Option, 0, len(elements))
	for _, e := range elements {
		s := &expr.Scope{Item: AsFields(e), Names: map[string]any{}}
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
	next, err := ch.Paging.next(scope, answer.Header, nil, cursor, len(elements))
	return options, next, err
}
