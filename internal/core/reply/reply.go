// Package reply holds what a run answers whoever set it off: to a caller a status,
// headers and a body, to a person a page. What stands in it comes from items, so
// nothing of it may run: headers and types are those of a list, and a page is made of
// words.
package reply

import (
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// Bounds of a reply.
const (
	MaxBody    = 1 << 20 // bytes of the body as it is sent
	MaxHeaders = 20
	MaxHeader  = 2000 // bytes of one
	MaxRows    = 200
	MaxText    = 100_000 // bytes of a page's text
)

// Reply is what a run answers.
type Reply struct {
	Status int               `json:"status"`
	Header map[string]string `json:"header,omitempty"` // by canonical name
	Body   any               `json:"body,omitempty"`   // text, or what is written as JSON; nil for none
	Page   *Page             `json:"page,omitempty"`
}

// Page is what a person reads.
type Page struct {
	Title string `json:"title"`
	Text  string `json:"text,omitempty"` // CommonMark, of which nothing runs
	Rows  []Row  `json:"rows,omitempty"`
	Note  string `json:"note,omitempty"`
}

// Row is a line of a page, which may lead somewhere.
type Row struct {
	Text  string `json:"text"`
	Link  string `json:"link,omitempty"`  // http, https or mailto
	Label string `json:"label,omitempty"` // of the link
}

// Types are the content types that a body may have.
var Types = []string{"application/json", "application/problem+json", "application/xml", "text/calendar", "text/csv", "text/plain", "text/xml"}

// headers are those that a reply may set, beside X-….
var headers = []string{"Cache-Control", "Content-Type", "Location", "Retry-After"}

// CheckHeader holds that a header may be set, and reads it as it is sent.
func CheckHeader(name, value string) (canonical string, err error) {
	canonical = http.CanonicalHeaderKey(strings.TrimSpace(name))
	switch {
	case !httpguts.ValidHeaderFieldName(canonical):
		return "", fmt.Errorf("%q is no name of a header; they are written as X-Order", name)
	case !slices.Contains(headers, canonical) && !strings.HasPrefix(canonical, "X-"):
		return "", fmt.Errorf("the header %s cannot be set; an answer sets %s, and any that begins with X-", canonical, words.And(headers...))
	case !httpguts.ValidHeaderFieldValue(value) || strings.ContainsAny(value, "\r\n"):
		return "", fmt.Errorf("the header %s cannot be %q: it holds a line break or a character that no header has", canonical, value)
	case len(value) > MaxHeader:
		return "", fmt.Errorf("the header %s is %d bytes long; it may be %d", canonical, len(value), MaxHeader)
	case canonical == "Content-Type":
		kind, _, err := mime.ParseMediaType(value)
		if err != nil || !slices.Contains(Types, kind) {
			return "", fmt.Errorf("the content type %q cannot be answered; it is one of %s. What people read is said in page", value, strings.Join(Types, ", "))
		}
	case canonical == "Location" && !Leads(value, "http", "https"):
		return "", fmt.Errorf("the header Location leads to %q; it is an address that begins with http:// or https://", value)
	}
	return canonical, nil
}

// Leads tells whether an address has one of these schemes.
func Leads(address string, schemes ...string) bool {
	u, err := url.Parse(address)
	return err == nil && slices.Contains(schemes, strings.ToLower(u.Scheme)) && (u.Host != "" || u.Scheme == "mailto" && u.Opaque != "")
}

// bodiless are statuses whose answers have no body (RFC 9110, 6.4.1).
func bodiless(status int) bool {
	return status == http.StatusNoContent || status == http.StatusNotModified
}

// Check holds that the reply can be sent.
func (r *Reply) Check() error {
	switch {
	case r.Status < 200 || r.Status > 599:
		return fmt.Errorf("the status %d cannot be answered; it is between 200 and 599", r.Status)
	case bodiless(r.Status) && (r.Body != nil || r.Page != nil):
		return fmt.Errorf("an answer with status %d has no body; leave body and page out, or answer 200", r.Status)
	case r.Status >= 300 && r.Status < 400 && r.Status != http.StatusNotModified && r.Header["Location"] == "":
		return fmt.Errorf("an answer with status %d says where to go on; set the header Location", r.Status)
	case len(r.Header) > MaxHeaders:
		return fmt.Errorf("%d headers are set; there may be %d", len(r.Header), MaxHeaders)
	}
	_, body, err := r.Content()
	if err == nil && len(body) > MaxBody {
		err = fmt.Errorf("the body is %s long; an answer has at most %s", item.Bytes(int64(len(body))), item.Bytes(MaxBody))
	}
	if err == nil && r.Page != nil {
		err = r.Page.check()
	}
	return err
}

func (p *Page) check() error {
	switch {
	case strings.TrimSpace(p.Title) == "":
		return errors.New("the page has no title; say in page what it is headed with")
	case len(p.Text) > MaxText:
		return fmt.Errorf("the text of the page is %s long; it may be %s", item.Bytes(int64(len(p.Text))), item.Bytes(MaxText))
	case len(p.Rows) > MaxRows:
		return fmt.Errorf("the page has %d rows; it may have %d. Take the first ones, as take(item.free, %d)", len(p.Rows), MaxRows, MaxRows)
	}
	for i, row := range p.Rows {
		if row.Link != "" && !Leads(row.Link, "http", "https", "mailto") {
			return fmt.Errorf("the link of row %d of the page leads to %q; an address begins with https:, http: or mailto: there", i+1, row.Link)
		}
	}
	return nil
}

// RowsOf reads the rows of a page: texts, or objects with text, link and label.
func RowsOf(v any) ([]Row, error) {
	if v == nil {
		return nil, nil
	}
	list, ok := v.([]any)
	if !ok {
		return nil, fmt.Errorf("the rows of the page are a list, and this is %s", item.Kind(v))
	}
	out := make([]Row, 0, len(list))
	for i, e := range list {
		switch e := e.(type) {
		case string:
			out = append(out, Row{Text: e})
		case map[string]any:
			row := Row{}
			for name, into := range map[string]*string{"text": &row.Text, "link": &row.Link, "label": &row.Label} {
				text, is := e[name].(string)
				if e[name] != nil && !is {
					return nil, fmt.Errorf("%s of row %d of the page is %s, and should be text", name, i+1, item.Kind(e[name]))
				}
				*into = text
			}
			if row.Text == "" {
				return nil, fmt.Errorf("row %d of the page has no text; a row is text, or {text, link, label}", i+1)
			}
			out = append(out, row)
		default:
			return nil, fmt.Errorf("row %d of the page is %s; a row is text, or {text, link, label}", i+1, item.Kind(e))
		}
	}
	return out, nil
}

// Content is the body as it is sent to a caller, and its type; nil for none.
func (r *Reply) Content() (kind string, body []byte, err error) {
	kind = r.Header["Content-Type"]
	switch v := r.Body.(type) {
	case nil:
		return "", nil, nil
	case string:
		if kind == "" {
			kind = "text/plain; charset=utf-8"
		}
		return kind, []byte(v), nil
	default:
		if kind == "" {
			kind = "application/json"
		}
		body, err = item.Encode(v)
		return kind, body, err
	}
}

// Words are the reply in a line, as it was given, or would be.
func (r *Reply) Words(given bool) string {
	out := fmt.Sprintf("would answer %d", r.Status)
	if given {
		out = fmt.Sprintf("answered %d", r.Status)
	}
	switch _, body, err := r.Content(); {
	case r.Page != nil:
		out += ": " + r.Page.Title
	case err == nil && len(body) > 0:
		out += ": " + string(body)
	case r.Header["Location"] != "":
		out += ": go on at " + r.Header["Location"]
	}
	return out
}

// Encode writes the reply as it is kept.
func (r *Reply) Encode() ([]byte, error) {
	out := map[string]any{"status": int64(r.Status)}
	if len(r.Header) > 0 {
		header := map[string]any{}
		for name, value := range r.Header {
			header[name] = value
		}
		out["header"] = header
	}
	if r.Body != nil {
		out["body"] = r.Body
	}
	if p := r.Page; p != nil {
		rows := make([]any, len(p.Rows))
		for i, row := range p.Rows {
			rows[i] = map[string]any{"text": row.Text, "link": row.Link, "label": row.Label}
		}
		out["page"] = map[string]any{"title": p.Title, "text": p.Text, "rows": rows, "note": p.Note}
	}
	return item.Encode(out)
}

// Decode reads a reply that Encode wrote.
func Decode(text []byte) (*Reply, error) {
	of, err := item.DecodeObject(text)
	if err != nil {
		return nil, err
	}
	status, _ := of["status"].(int64)
	r := &Reply{Status: int(status), Body: of["body"]}
	if header, _ := of["header"].(map[string]any); len(header) > 0 {
		r.Header = map[string]string{}
		for name, value := range header {
			r.Header[name], _ = value.(string)
		}
	}
	if page, _ := of["page"].(map[string]any); page != nil {
		r.Page = &Page{}
		r.Page.Title, _ = page["title"].(string)
		r.Page.Text, _ = page["text"].(string)
		r.Page.Note, _ = page["note"].(string)
		if r.Page.Rows, err = RowsOf(page["rows"]); err != nil {
			return nil, err
		}
	}
	return r, nil
}
