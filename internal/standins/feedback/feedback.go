// Package feedback is the stand-in for customers' marks, with or without words,
// and replies to them. The shop must be chosen, an answered one must not be
// overwritten, and the smallest plan has no replies.
package feedback

import (
	"fmt"
	"html/template"
	"sync"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/consent"
)

// Mark that a customer gave.
type Mark struct {
	ID    string `json:"id"`
	Shop  string `json:"shop"`
	Stars int    `json:"stars"`
	Words string `json:"words"`
	By    string `json:"by"`
	Reply string `json:"reply"`
}

// Feedback is the stand-in.
type Feedback struct {
	*standins.Stand
	Consent *consent.Server
	mu      sync.Mutex
	marks   []*Mark
	base    string
}

// New makes it.
func New(o standins.Setup) (*Feedback, error) {
	f := &Feedback{}
	saved := o.Saved("feedback")
	if !saved.Load(&f.marks) {
		for i, m := range []Mark{{Stars: 5, Words: "The celadon came a day early, and well packed.", By: "Tern & Tide"}, {Stars: 5, By: "Quern Lane"}, {Stars: 2, Words: "Two bags were torn.", By: "Osierbed Ceramics"}, {Stars: 4, Words: "Good advice on the telephone.", By: "Hollowbank Pottery", Reply: "Thank you!"}, {Stars: 5, Words: "The kiln hall is a pleasure.", By: "Mudlark Yard"}} {
			m.ID, m.Shop = fmt.Sprintf("fb_%03d", i+1), []string{"sh_counter", "sh_hall"}[i/4]
			f.marks = append(f.marks, &m)
		}
	}
	var err error
	f.Consent, err = consent.New("ottermere-feedback", o.Key("feedback-client"), "Ottermere Clayworks, owner", saved.Beside("tokens"), consent.Scope{Name: "marks.read", Title: "read marks"}, consent.Scope{Name: "replies.write", Title: "reply to marks"})
	if err != nil {
		return nil, err
	}
	mark := map[string]any{"id": "fb_001", "stars": 5, "words": "…", "by": "…", "reply": ""}
	service := standins.Build(standins.Spec{Name: "Feedback", About: "Marks that customers gave, and replies.", Check: f.Consent.Check, Page: f.page,
		Security: map[string]any{"type": "oauth2", "flows": map[string]any{"authorizationCode": map[string]any{"authorizationUrl": "/oauth/authorize", "tokenUrl": "/oauth/token", "scopes": map[string]any{"marks.read": "read", "replies.write": "reply"}}}},
		Ops: []standins.Op{
			{Method: "GET", Path: "/me", ID: "me", Summary: "Whose account this is", Answer: map[string]any{"name": "…", "plan": "shop", "replies": true}, Handle: func(c *standins.Call) (any, error) {
				return map[string]any{"name": f.Consent.Person, "plan": "shop", "replies": true, "scopes": c.Scopes}, nil
			}},
			{Method: "GET", Path: "/shops", ID: "list_shops", Summary: "List the shops", Scope: "marks.read", Answer: map[string]any{"shops": []any{map[string]any{"id": "sh_counter", "title": "Counter"}}}, Handle: func(*standins.Call) (any, error) {
				return map[string]any{"shops": []any{map[string]any{"id": "sh_counter", "title": "Counter"}, map[string]any{"id": "sh_hall", "title": "Kiln hall"}}}, nil
			}},
			{Method: "GET", Path: "/shops/:shop/marks", ID: "list_marks", Summary: "List a shop's marks", Scope: "marks.read", Query: []string{"answered"}, Answer: map[string]any{"marks": []any{mark}}, Handle: f.list},
			{Method: "POST", Path: "/marks/:id/reply", ID: "reply", Summary: "Reply to a mark", Scope: "replies.write", Body: map[string]any{"text": "…"}, Answer: mark, Handle: f.reply},
		}})
	f.Consent.Mount(service)
	f.Stand = &standins.Stand{Service: service, Connector: "feedback", Values: map[string]string{"client_id": f.Consent.ID, "secret": f.Consent.Secret}, OnBase: func(b string) { f.base = b; f.Consent.SetBase(b) },
		Save: func() error { f.mu.Lock(); defer f.mu.Unlock(); return saved.Save(f.marks) }}
	return f, nil
}

func (f *Feedback) view(m *Mark) map[string]any {
	return map[string]any{"id": m.ID, "stars": m.Stars, "words": m.Words, "by": m.By, "reply": m.Reply, "link": f.base + "/#" + m.ID}
}

func (f *Feedback) list(c *standins.Call) (any, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	out, there := []any{}, false
	for _, m := range f.marks {
		if m.Shop != c.Param("shop") {
			continue
		}
		there = true
		if a := c.Query("answered"); a == "" || a == fmt.Sprint(m.Reply != "") {
			out = append(out, f.view(m))
		}
	}
	if !there {
		return nil, standins.Missing("shop", c.Param("shop"))
	}
	return map[string]any{"marks": out}, nil
}

func (f *Feedback) reply(c *standins.Call) (any, error) {
	var in struct{ Text string }
	if err := c.In(&in); err != nil {
		return nil, err
	}
	if in.Text == "" {
		return nil, standins.Invalid("text", "a reply has words")
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, m := range f.marks {
		if m.ID != c.Param("id") {
			continue
		}
		if m.Reply != "" {
			return nil, &standins.No{Status: 409, Field: "id", Message: "it was answered already"}
		}
		m.Reply = in.Text
		return f.view(m), nil
	}
	return nil, standins.Missing("mark", c.Param("id"))
}

func (f *Feedback) page() template.HTML {
	f.mu.Lock()
	defer f.mu.Unlock()
	rows := [][]string{}
	for _, m := range f.marks {
		rows = append(rows, []string{m.ID, m.Shop, fmt.Sprint(m.Stars), m.Words, m.By, m.Reply})
	}
	return "<h2>Marks</h2>" + standins.Table([]string{"id", "shop", "stars", "words", "by", "reply"}, rows)
}
