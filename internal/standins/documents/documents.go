// Package documents is the stand-in for documents in folders. It signs in by
// OAuth 2 with code and PKCE; its tokens expire and its refresh tokens rotate.
package documents

import (
	"fmt"
	"html/template"
	"strings"
	"sync"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/consent"
)

// Document is text under headings.
type Document struct {
	ID     string `json:"id"`
	Title  string `json:"title"`
	Folder string `json:"folder"`
	Text   string `json:"text"`
}

type state struct {
	Documents []*Document `json:"documents"`
	Next      int         `json:"next"`
}

// Ids that the demo's workflows name.
const (
	FiringLog  = "doc_firinglog4kq"
	FaultNotes = "doc_faultnotes7z"
)

// Documents is the stand-in.
type Documents struct {
	*standins.Stand
	Consent *consent.Server

	mu    sync.Mutex
	state state
	base  string
}

// New makes it with Ottermere's documents.
func New(o standins.Setup) (*Documents, error) {
	d := &Documents{}
	saved := o.Saved("documents")
	if !saved.Load(&d.state) {
		d.state = state{Next: 100, Documents: []*Document{
			{FiringLog, "Firing log", "Kiln hall", "# Firing log\n\n## Kiln 2\n\nCone 9, reduction, 11 h. Two shelves warped.\n\n## Memos\n"},
			{FaultNotes, "Glaze faults", "Workshop", "# Glaze faults\n\n## Crawling\n\nThe glaze draws back from an edge. Dust or grease on the biscuit; wash it and let it dry for a day.\n\n## Pinholes\n\nGas leaves too late. Fire the biscuit slower between 700 and 900 degrees.\n\n## Shivering\n\nThe glaze flakes off. It is under too much compression: less silica.\n"},
			{"doc_houserules2", "House rules", "Kiln hall", "# House rules\n\nPieces dry for at least six days before they are fired.\n"},
		}}
	}
	var err error
	d.Consent, err = consent.New("ottermere-documents", o.Key("documents-client"), "Mara Quill, Ottermere Clayworks", saved.Beside("tokens"),
		consent.Scope{Name: "documents.read", Title: "read documents"}, consent.Scope{Name: "documents.write", Title: "create documents and add to them"})
	if err != nil {
		return nil, err
	}
	service := standins.Build(standins.Spec{Name: "Documents", About: "Documents in folders.", Check: d.Consent.Check, Page: d.page,
		Security: map[string]any{"type": "oauth2", "flows": map[string]any{"authorizationCode": map[string]any{"authorizationUrl": "/oauth/authorize", "tokenUrl": "/oauth/token", "scopes": map[string]any{"documents.read": "read documents", "documents.write": "create documents and add to them"}}}},
		Ops: []standins.Op{
			{Method: "GET", Path: "/me", ID: "me", Summary: "Whose account this is", Answer: map[string]any{"name": "Mara Quill", "scopes": "documents.read"}, Handle: func(c *standins.Call) (any, error) {
				return map[string]any{"name": d.Consent.Person, "scopes": c.Scopes}, nil
			}},
			{Method: "GET", Path: "/documents", ID: "list_documents", Summary: "List the documents", Query: []string{"q", "folder"}, Scope: "documents.read", Answer: map[string]any{"documents": []any{map[string]any{"id": FiringLog, "title": "Firing log", "folder": "Kiln hall"}}}, Handle: d.list},
			{Method: "POST", Path: "/documents", ID: "create_document", Summary: "Create a document", Scope: "documents.write", Body: map[string]any{"title": "Notes", "folder": "Workshop", "text": "…"}, Answer: map[string]any{"id": "doc_1", "title": "Notes", "link": ""}, Handle: d.create},
			{Method: "GET", Path: "/documents/:id", ID: "read_document", Summary: "Read a document", Scope: "documents.read", Answer: map[string]any{"id": FiringLog, "title": "Firing log", "text": "…"}, Handle: d.read},
			{Method: "POST", Path: "/documents/:id/append", ID: "append_to_document", Summary: "Add text under a heading", Scope: "documents.write", Body: map[string]any{"text": "…", "heading": "Memos"}, Answer: map[string]any{"id": FiringLog, "characters": 120, "link": ""}, Handle: d.append},
		}})
	d.Consent.Mount(service)
	d.Stand = &standins.Stand{Service: service, Connector: "documents", Values: map[string]string{"client_id": d.Consent.ID, "secret": d.Consent.Secret},
		OnBase: func(base string) { d.base = base; d.Consent.SetBase(base) }, Save: func() error { d.mu.Lock(); defer d.mu.Unlock(); return saved.Save(d.state) }}
	return d, nil
}

func (d *Documents) find(id string) (*Document, error) {
	for _, x := range d.state.Documents {
		if x.ID == id {
			return x, nil
		}
	}
	return nil, standins.Missing("document", id)
}

func (d *Documents) link(id string) string { return d.base + "/#" + id }

func (d *Documents) list(c *standins.Call) (any, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := []any{}
	for _, x := range d.state.Documents {
		if strings.Contains(strings.ToLower(x.Title), strings.ToLower(c.Query("q"))) && (c.Query("folder") == "" || c.Query("folder") == x.Folder) {
			out = append(out, map[string]any{"id": x.ID, "title": x.Title, "folder": x.Folder})
		}
	}
	return map[string]any{"documents": out}, nil
}

func (d *Documents) create(c *standins.Call) (any, error) {
	var in struct{ Title, Folder, Text string }
	if err := c.In(&in); err != nil {
		return nil, err
	}
	if strings.TrimSpace(in.Title) == "" {
		return nil, standins.Invalid("title", "a document needs a title")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.state.Next++
	x := &Document{fmt.Sprintf("doc_%06x", d.state.Next*7919), in.Title, in.Folder, in.Text}
	d.state.Documents = append(d.state.Documents, x)
	return standins.Made{Body: map[string]any{"id": x.ID, "title": x.Title, "link": d.link(x.ID)}}, nil
}

func (d *Documents) read(c *standins.Call) (any, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	x, err := d.find(c.Param("id"))
	if err != nil {
		return nil, err
	}
	return map[string]any{"id": x.ID, "title": x.Title, "folder": x.Folder, "text": x.Text, "link": d.link(x.ID)}, nil
}

func (d *Documents) append(c *standins.Call) (any, error) {
	var in struct{ Text, Heading string }
	if err := c.In(&in); err != nil {
		return nil, err
	}
	if strings.TrimSpace(in.Text) == "" {
		return nil, standins.Invalid("text", "there is nothing to add")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	x, err := d.find(c.Param("id"))
	if err != nil {
		return nil, err
	}
	if in.Heading == "" {
		x.Text = strings.TrimRight(x.Text, "\n") + "\n\n" + in.Text + "\n"
	} else {
		at := strings.Index(x.Text, "## "+in.Heading+"\n")
		if at < 0 {
			x.Text = strings.TrimRight(x.Text, "\n") + "\n\n## " + in.Heading + "\n"
			at = strings.Index(x.Text, "## "+in.Heading+"\n")
		}
		end := len(x.Text)
		if next := strings.Index(x.Text[at+3:], "\n## "); next >= 0 {
			end = at + 3 + next
		}
		x.Text = strings.TrimRight(x.Text[:end], "\n") + "\n\n" + in.Text + "\n" + x.Text[end:]
	}
	return map[string]any{"id": x.ID, "title": x.Title, "characters": len([]rune(x.Text)), "link": d.link(x.ID)}, nil
}

// Text gives a document's text.
func (d *Documents) Text(id string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	x, err := d.find(id)
	if err != nil {
		return ""
	}
	return x.Text
}

func (d *Documents) page() template.HTML {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := template.HTML("")
	for _, x := range d.state.Documents {
		out += template.HTML(fmt.Sprintf("<h2 id=%q>%s <span class=note>%s</span></h2><pre>%s</pre>", x.ID, template.HTMLEscapeString(x.Title), template.HTMLEscapeString(x.Folder), template.HTMLEscapeString(x.Text)))
	}
	return out
}
