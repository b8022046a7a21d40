// Package search is the stand-in for a search of the web: results for a phrase,
// and the outline of a page as blocks. Billed by the call.
package search

import (
	"fmt"
	"html/template"
	"strings"
	"sync"

	"youngtrellis/internal/standins"
)

// Search is the stand-in.
type Search struct {
	*standins.Stand
	mu    sync.Mutex
	calls int
}

var known = []struct{ title, address, text string }{
	{"Fernhill Glazes, prices", "clean", "Celadon 48.00, Tenmoku 52.50, Shino 61.00 for ten litres. Deliveries on Tuesdays."},
	{"Saltgrass Clay & More", "cluttered", "White stoneware 14.20, black stoneware 16.80 for a bag of 12.5 kg."},
	{"The whole catalogue", "long", "Four thousand glazes by the kilogram, shelf by shelf."},
	{"Cones and temperatures", "cones", "Cone 04 is 1060 degrees, cone 6 is 1222, cone 9 is 1280."},
	{"Keeping kilns", "kilns", "Relining, elements, dampers: how a kiln is kept for years."},
}

// New makes it.
func New(o standins.Setup) *Search {
	s := &Search{}
	password := o.Key("search")
	service := standins.Build(standins.Spec{Name: "Search", About: "Finds pages and gives their outline. Each call is billed.", Check: standins.Password("ottermere", password), Page: s.page,
		Security: map[string]any{"type": "http", "scheme": "basic"},
		Ops: []standins.Op{
			{Method: "GET", Path: "/account", ID: "account", Summary: "Whose account this is", Answer: map[string]any{"name": "Ottermere Clayworks", "calls_left": 990}, Handle: func(*standins.Call) (any, error) {
				s.mu.Lock()
				defer s.mu.Unlock()
				return map[string]any{"name": "Ottermere Clayworks", "calls_left": 1000 - s.calls}, nil
			}},
			{Method: "GET", Path: "/results", ID: "search", Summary: "Results for a phrase", Query: []string{"q!", "limit"}, Answer: map[string]any{"results": []any{map[string]any{"title": "…", "address": "https://…", "excerpt": "…"}}}, Handle: s.results},
			{Method: "GET", Path: "/outline", ID: "outline", Summary: "The outline of a page as blocks", Query: []string{"address!"}, Answer: map[string]any{"blocks": []any{map[string]any{"kind": "heading", "text": "…"}}}, Handle: s.outline},
		}})
	s.Stand = &standins.Stand{Service: service, Connector: "search", Values: map[string]string{"user": "ottermere", "secret": password}}
	return s
}

func (s *Search) count() {
	s.mu.Lock()
	s.calls++
	s.mu.Unlock()
}

func (s *Search) results(c *standins.Call) (any, error) {
	s.count()
	out := []any{}
	for _, k := range known {
		for _, w := range strings.Fields(strings.ToLower(c.Query("q"))) {
			if strings.Contains(strings.ToLower(k.title+" "+k.text), w) {
				out = append(out, map[string]any{"title": k.title, "address": "https://" + k.address + ".example/", "excerpt": k.text})
				break
			}
		}
	}
	return map[string]any{"results": out, "billed": 1}, nil
}

func (s *Search) outline(c *standins.Call) (any, error) {
	s.count()
	for _, k := range known {
		if strings.Contains(c.Query("address"), k.address) {
			return map[string]any{"blocks": []any{map[string]any{"kind": "heading", "text": k.title}, map[string]any{"kind": "paragraph", "text": k.text}}, "billed": 1}, nil
		}
	}
	return nil, &standins.No{Status: 404, Message: "there is no page at " + c.Query("address")}
}

func (s *Search) page() template.HTML {
	s.mu.Lock()
	defer s.mu.Unlock()
	return template.HTML(fmt.Sprintf("<p>%d calls billed.</p>", s.calls))
}
