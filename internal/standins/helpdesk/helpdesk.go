// Package helpdesk is the stand-in for a helpdesk: knowledge search and tickets
// with priorities. An account has a desk of its own and signs in by API key or
// by user and password; what is wrong with a ticket is named by its field.
package helpdesk

import (
	"fmt"
	"html/template"
	"sort"
	"strings"
	"sync"

	"youngtrellis/internal/standins"
)

// Ticket that was raised.
type Ticket struct {
	Number   int    `json:"number"`
	Subject  string `json:"subject"`
	Text     string `json:"text"`
	Priority int    `json:"priority"`
	Name     string `json:"name"`
	Email    string `json:"email"`
	State    string `json:"state"`
}

type article struct{ ID, Title, Text string }

var articles = []article{
	{"kb_1", "Crawling glaze", "The glaze draws back from edges. Wash the biscuit, let it dry for a day, and thin the glaze a little."},
	{"kb_2", "Pinholes", "Gas leaves too late. Fire the biscuit slower between 700 and 900 degrees, and soak for twenty minutes at the top."},
	{"kb_3", "Shivering", "The glaze flakes off rims. It is under compression; use less silica or another clay."},
	{"kb_4", "Booking kiln time", "Kiln time is booked with the hall by the week. Pieces dry for at least six days."},
	{"kb_5", "Returning clay", "Unopened bags of clay are taken back within thirty days."},
}

// Desk is the stand-in.
type Desk struct {
	*standins.Stand
	mu      sync.Mutex
	tickets []Ticket
	base    string
}

// New makes it.
func New(o standins.Setup) *Desk {
	d := &Desk{}
	saved := o.Saved("helpdesk")
	if !saved.Load(&d.tickets) {
		d.tickets = []Ticket{{1041, "Bag of stoneware torn", "Two of ten bags arrived torn.", 2, "Tern & Tide", "tide@example.org", "open"}, {1042, "Kiln 1 damper", "The damper does not close.", 3, "Kiln hall", "hall@ottermere.example", "open"}}
	}
	key := o.Key("helpdesk")
	ticket := map[string]any{"number": 1043, "subject": "…", "priority": 2, "state": "open", "link": ""}
	service := standins.Build(standins.Spec{Name: "Helpdesk", About: "Knowledge and tickets. Calls go to the desk that is a part of the address.", Page: d.page,
		Security: map[string]any{"type": "apiKey", "in": "header", "name": "X-Desk-Key"},
		Check: func(c *standins.Call) (bool, string) {
			if c.Param("desk") != "ottermere" {
				return false, "there is no desk " + c.Param("desk")
			}
			u, p, basic := c.Request.BasicAuth()
			return c.GetHeader("X-Desk-Key") == key || basic && u == "desk@ottermere.example" && p == key, "the key is not known at this desk"
		},
		Ops: []standins.Op{
			{Method: "GET", Path: "/desks/:desk/me", ID: "me", Summary: "Whose key this is", Answer: map[string]any{"name": "Ottermere helpdesk", "plan": "team"}, Handle: func(*standins.Call) (any, error) {
				return map[string]any{"name": "Ottermere helpdesk", "plan": "team", "includes_api": true}, nil
			}},
			{Method: "GET", Path: "/desks/:desk/articles", ID: "search_articles", Summary: "Search the knowledge", Query: []string{"q!", "limit"}, Answer: map[string]any{"articles": []any{map[string]any{"id": "kb_1", "title": "Crawling glaze", "text": "…", "score": 0.8}}}, Handle: d.search},
			{Method: "GET", Path: "/desks/:desk/tickets", ID: "list_tickets", Summary: "List the tickets", Query: []string{"page", "per_page", "state"}, Answer: map[string]any{"tickets": []any{ticket}, "pages": 1}, Handle: d.list},
			{Method: "GET", Path: "/desks/:desk/tickets/:number", ID: "ticket", Summary: "Read a ticket", Answer: ticket, Handle: d.one},
			{Method: "POST", Path: "/desks/:desk/tickets", ID: "raise_ticket", Summary: "Raise a ticket", Body: map[string]any{"subject": "…", "text": "…", "priority": 2, "name": "…", "email": "…"}, Answer: ticket, Handle: d.raise},
			{Method: "DELETE", Path: "/desks/:desk/tickets/:number", ID: "close_ticket", Summary: "Close a ticket", Answer: ticket, Handle: d.close},
		}})
	d.Stand = &standins.Stand{Service: service, Connector: "helpdesk", Account: map[string]string{"desk": "ottermere"}, Method: "api_key", Values: map[string]string{"secret": key}, OnBase: func(base string) { d.base = base },
		Save: func() error { d.mu.Lock(); defer d.mu.Unlock(); return saved.Save(d.tickets) }}
	return d
}

func (d *Desk) search(c *standins.Call) (any, error) {
	words := strings.Fields(strings.ToLower(c.Query("q")))
	type hit struct {
		article
		score float64
	}
	var hits []hit
	for _, a := range articles {
		n := 0
		for _, w := range words {
			if strings.Contains(strings.ToLower(a.Title+" "+a.Text), strings.Trim(w, ".,?!")) {
				n++
			}
		}
		if n > 0 {
			hits = append(hits, hit{a, float64(n) / float64(len(words))})
		}
	}
	sort.SliceStable(hits, func(i, j int) bool { return hits[i].score > hits[j].score })
	out := []any{}
	for _, h := range hits {
		out = append(out, map[string]any{"id": h.ID, "title": h.Title, "text": h.Text, "score": h.score})
	}
	return map[string]any{"articles": out}, nil
}

func (d *Desk) view(t Ticket) map[string]any {
	return map[string]any{"number": t.Number, "subject": t.Subject, "text": t.Text, "priority": t.Priority, "name": t.Name, "email": t.Email, "state": t.State, "link": fmt.Sprintf("%s/#%d", d.base, t.Number)}
}

func (d *Desk) list(c *standins.Call) (any, error) {
	page, per := 1, 20
	_, _ = fmt.Sscan(c.Query("page"), &page)
	_, _ = fmt.Sscan(c.Query("per_page"), &per)
	per = max(1, min(per, 100))
	d.mu.Lock()
	defer d.mu.Unlock()
	all := []any{}
	for _, t := range d.tickets {
		if c.Query("state") == "" || c.Query("state") == t.State {
			all = append(all, d.view(t))
		}
	}
	from := min(len(all), max(0, page-1)*per)
	return map[string]any{"tickets": all[from:min(len(all), from+per)], "pages": (len(all) + per - 1) / per}, nil
}

func (d *Desk) at(c *standins.Call) (*Ticket, error) {
	for i := range d.tickets {
		if fmt.Sprint(d.tickets[i].Number) == c.Param("number") {
			return &d.tickets[i], nil
		}
	}
	return nil, standins.Missing("ticket", c.Param("number"))
}

func (d *Desk) one(c *standins.Call) (any, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	t, err := d.at(c)
	if err != nil {
		return nil, err
	}
	return d.view(*t), nil
}

func (d *Desk) close(c *standins.Call) (any, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	t, err := d.at(c)
	if err != nil {
		return nil, err
	}
	t.State = "closed"
	return d.view(*t), nil
}

func (d *Desk) raise(c *standins.Call) (any, error) {
	var in Ticket
	if err := c.In(&in); err != nil {
		return nil, err
	}
	switch {
	case strings.TrimSpace(in.Subject) == "":
		return nil, standins.Invalid("subject", "a ticket needs a subject")
	case in.Priority < 1 || in.Priority > 4:
		return nil, standins.Invalid("priority", "the priority lies between 1 and 4, and is %d", in.Priority)
	case !strings.Contains(in.Email, "@"):
		return nil, standins.Invalid("email", "“%s” is not an address of mail", in.Email)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	in.Number, in.State = 1041+len(d.tickets), "open"
	d.tickets = append(d.tickets, in)
	return standins.Made{Body: d.view(in)}, nil
}

// Tickets lists what was raised.
func (d *Desk) Tickets() []Ticket {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]Ticket{}, d.tickets...)
}

func (d *Desk) page() template.HTML {
	rows := [][]string{}
	for _, t := range d.Tickets() {
		rows = append(rows, []string{fmt.Sprint(t.Number), t.Subject, fmt.Sprint(t.Priority), t.Name, t.State})
	}
	return "<h2>Tickets</h2>" + standins.Table([]string{"number", "subject", "priority", "from", "state"}, rows)
}
