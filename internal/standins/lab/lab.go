// Package lab is the stand-in for the laboratory that tests glazes: a sample is
// submitted, runs for a while, and passes or fails.
package lab

import (
	"fmt"
	"html/template"
	"strings"
	"sync"
	"time"

	"youngtrellis/internal/standins"
)

type test struct {
	ID, Glaze, State string
	Lead             float64
	Ready            time.Time
}

// Lab is the stand-in.
type Lab struct {
	*standins.Stand
	// Takes is how long a test takes.
	Takes time.Duration
	mu    sync.Mutex
	tests []*test
	base  string
}

// New makes it.
func New(o standins.Setup) *Lab {
	l := &Lab{Takes: 3 * time.Second}
	key := o.Key("lab")
	state := map[string]any{"test": "LT-1", "state": "passed", "lead_mg_l": 0.2, "certificate": "https://…"}
	service := standins.Build(standins.Spec{Name: "Lab", About: "Tests glazes for food safety. A test takes a while.", Check: standins.Header("X-Lab-Key", "", key), Page: l.page,
		Security: map[string]any{"type": "apiKey", "in": "header", "name": "X-Lab-Key"},
		Ops: []standins.Op{
			{Method: "GET", Path: "/customer", ID: "customer", Summary: "Whose key this is", Answer: map[string]any{"name": "Ottermere Clayworks"}, Handle: func(*standins.Call) (any, error) { return map[string]any{"name": "Ottermere Clayworks"}, nil }},
			{Method: "POST", Path: "/tests", ID: "submit", Summary: "Submit a sample", Body: map[string]any{"glaze": "Celadon 4", "cone": "9"}, Answer: map[string]any{"test": "LT-1", "state": "submitted"}, Handle: l.submit},
			{Method: "GET", Path: "/tests/:id", ID: "test", Summary: "How a test does", Answer: state, Handle: l.one},
		}})
	l.Stand = &standins.Stand{Service: service, Connector: "lab", Values: map[string]string{"secret": key}, OnBase: func(b string) { l.base = b }}
	return l
}

func (l *Lab) submit(c *standins.Call) (any, error) {
	var in struct{ Glaze, Cone string }
	if err := c.In(&in); err != nil {
		return nil, err
	}
	if strings.TrimSpace(in.Glaze) == "" {
		return nil, standins.Invalid("glaze", "the glaze needs a name")
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	t := &test{ID: fmt.Sprintf("LT-%04d", 2001+len(l.tests)), Glaze: in.Glaze, Ready: time.Now().Add(l.Takes), Lead: float64(len(in.Glaze)%7) / 10, State: "passed"}
	if strings.Contains(strings.ToLower(in.Glaze), "lead") || strings.Contains(strings.ToLower(in.Glaze), "barium") {
		t.State, t.Lead = "failed", 2.4
	}
	l.tests = append(l.tests, t)
	return standins.Made{Body: map[string]any{"test": t.ID, "state": "submitted"}}, nil
}

func (l *Lab) view(t *test) map[string]any {
	switch left := time.Until(t.Ready); {
	case left > l.Takes/2:
		return map[string]any{"test": t.ID, "state": "submitted"}
	case left > 0:
		return map[string]any{"test": t.ID, "state": "running"}
	case t.State == "failed":
		return map[string]any{"test": t.ID, "glaze": t.Glaze, "state": "failed", "lead_mg_l": t.Lead, "reason": fmt.Sprintf("%s releases %.1f mg of lead a litre; at most 0.5 is safe", t.Glaze, t.Lead)}
	}
	return map[string]any{"test": t.ID, "glaze": t.Glaze, "state": "passed", "lead_mg_l": t.Lead, "certificate": l.base + "/#" + t.ID}
}

func (l *Lab) one(c *standins.Call) (any, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, t := range l.tests {
		if t.ID == c.Param("id") {
			return l.view(t), nil
		}
	}
	return nil, standins.Missing("test", c.Param("id"))
}

// Submitted counts the samples that were handed in.
func (l *Lab) Submitted() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.tests)
}

func (l *Lab) page() template.HTML {
	l.mu.Lock()
	defer l.mu.Unlock()
	rows := [][]string{}
	for _, t := range l.tests {
		rows = append(rows, []string{t.ID, t.Glaze, fmt.Sprint(l.view(t)["state"])})
	}
	return "<h2>Tests</h2>" + standins.Table([]string{"test", "glaze", "state"}, rows)
}
