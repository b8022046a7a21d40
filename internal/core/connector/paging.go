package connector

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// Paging says how the next page is asked for: by a cursor that the answer
// holds, by the Link header (RFC 8288), by an address in the answer, by page
// number, or by offset. Templates see page.cursor, page.number and page.offset.
type Paging struct {
	Cursor string `doc:"cursor"`  // expression over response and header: the token of the next page, or nothing
	Query  string `doc:"query"`   // the query parameter that takes cursor, number or offset
	Link   string `doc:"link"`    // relation in the Link header, as next
	URL    string `doc:"address"` // expression over response: the address of the next page, or nothing
	Page   bool   `doc:"page"`    // by number
	First  int    `doc:"first"`   // number of the first page; 1 unless given
	Offset bool   `doc:"offset"`  // by the count of what came so far
	Size   int    `doc:"size"`    // items of a full page: fewer mean that it was the last
	More   string `doc:"more"`    // expression over response: whether there is another page

	cursor, url, more *expr.Program
	first             int
}

func (p *Paging) compile(k *compiler, path string) {
	if p == nil {
		return
	}
	ways := 0
	for _, there := range []bool{p.Cursor != "", p.Link != "", p.URL != "", p.Page, p.Offset} {
		if there {
			ways++
		}
	}
	if ways != 1 {
		k.add(path, errors.New("paging goes one way: cursor, link, address, page or offset"))
	}
	p.cursor, p.url, p.more = k.program(path+".cursor", p.Cursor, ofAnswer), k.program(path+".address", p.URL, ofAnswer), k.program(path+".more", p.More, ofAnswer)
	p.first = 1
	if p.First != 0 || p.Page && k.doc != nil && k.doc.At(path+".first") != nil {
		p.first = p.First
	}
	if (p.Page || p.Offset) && p.Size < 1 && p.More == "" {
		k.add(path, errors.New("where pages are counted, size or more tells which is the last"))
	}
}

// state is what templates see as page.
func (p *Paging) state(cursor any) map[string]any {
	out := map[string]any{"cursor": cursor, "number": nil, "offset": nil}
	if p == nil {
		return out
	}
	switch {
	case p.Page:
		if out["number"] = cursor; cursor == nil {
			out["number"] = int64(p.first)
		}
	case p.Offset:
		if out["offset"] = cursor; cursor == nil {
			out["offset"] = int64(0)
		}
	}
	return out
}

// turn makes a call ask for the page of a cursor.
func (p *Paging) turn(c *call.Call, cursor any) error {
	if p == nil {
		return nil
	}
	if p.Link != "" || p.URL != "" {
		if cursor == nil {
			return nil
		}
		next, err := c.URL.Parse(expr.Text(cursor))
		if err != nil {
			return fmt.Errorf("the address of the next page cannot be read: %w", err)
		}
		if next.Scheme != c.URL.Scheme || next.Host != c.URL.Host {
			return fmt.Errorf("the next page lies on another host, %s; it was not fetched", next.Host)
		}
		c.URL = next
		return nil
	}
	if p.Page || p.Offset {
		state := p.state(cursor)
		if cursor = state["number"]; p.Offset {
			cursor = state["offset"]
		}
	}
	if p.Query != "" && cursor != nil {
		setInQuery(c.URL, p.Query, expr.Text(cursor))
	}
	return nil
}

// next gives the token of the page after the one that was asked for with
// cursor and gave count items; nil after the last.
func (p *Paging) next(scope *expr.Scope, header http.Header, asked *url.URL, cursor any, count int) (any, error) {
	switch {
	case p == nil:
		return nil, nil
	case p.Link != "":
		return linkOf(header, p.Link), nil
	case p.url != nil:
		v, err := p.url.Eval(scope)
		if v == "" {
			v = nil
		}
		return v, err
	case p.cursor != nil:
		v, err := p.cursor.Eval(scope)
		if err != nil || v == nil || v == "" || v == false {
			return nil, err
		}
		if cursor != nil && expr.Text(v) == expr.Text(cursor) {
			return nil, fmt.Errorf("the other side gave the cursor %s for a second time; reading on would never end", expr.Text(v))
		}
		return v, nil
	}
	if p.more != nil {
		more, err := p.more.Holds(scope)
		if err != nil || !more {
			return nil, err
		}
	} else if count < p.Size {
		return nil, nil
	}
	if count == 0 {
		return nil, nil
	}
	state := p.state(cursor)
	if p.Page {
		return add(state["number"], 1), nil
	}
	return add(state["offset"], count), nil
}

func add(v any, n int) any {
	switch v := v.(type) {
	case int64:
		return v + int64(n)
	case float64:
		return int64(v) + int64(n)
	}
	return item.Number(fmt.Sprint(n))
}

// linkOf finds the target of a relation in Link headers.
func linkOf(h http.Header, rel string) any {
	for _, line := range h.Values("Link") {
		for len(line) > 0 {
			begin, end := strings.IndexByte(line, '<'), strings.IndexByte(line, '>')
			if begin < 0 || end < begin {
				break
			}
			target, rest := line[begin+1:end], line[end+1:]
			parameters := rest
			if i := strings.Index(rest, ",<"); i >= 0 {
				parameters, line = rest[:i], rest[i+1:]
			} else if i := strings.Index(rest, ", <"); i >= 0 {
				parameters, line = rest[:i], rest[i+1:]
			} else {
				line = ""
			}
			for _, p := range strings.Split(parameters, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
				if strings.EqualFold(name, "rel") && strings.EqualFold(strings.Trim(strings.TrimSpace(value), `"`), rel) {
					return target
				}
			}
		}
	}
	return nil
}
