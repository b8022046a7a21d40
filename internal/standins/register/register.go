// Package register is the stand-in for a register of studios and suppliers. It
// has a query language of its own, answers 404 where there is nothing, gives
// several hits with scores, and allows five calls a second.
package register

import (
	"fmt"
	"regexp"
	"sort"
	"strings"
	"sync"
	"time"

	"youngtrellis/internal/standins"
)

type entry struct {
	ID, Name, Domain, Town string
	Kilns                  int
}

// Register is the stand-in.
type Register struct {
	*standins.Stand
	entries []entry
	mu      sync.Mutex
	times   []time.Time
}

var towns = []string{"Ottermere", "Hollowbank", "Saltgrass", "Quern", "Fernhill", "Lowlight"}

// New makes it with 240 entries.
func New(o standins.Setup) *Register {
	r := &Register{}
	known := []string{"Hollowbank Pottery", "Osierbed Ceramics", "Tern & Tide", "Saltgrass Studio", "Lowlight Tileworks", "Quern Lane", "Mudlark Yard", "Three Kilns", "Fernhill Pots"}
	kinds := []string{"Pottery", "Ceramics", "Clay Supplies", "Glazes", "Kiln Services"}
	for i := range 240 {
		name := fmt.Sprintf("%s %s %d", towns[i%len(towns)], kinds[i%len(kinds)], i/6+1)
		if i < len(known) {
			name = known[i]
		}
		domain := strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(name), "-"), "-") + ".example"
		r.entries = append(r.entries, entry{fmt.Sprintf("RG-%05d", 10000+i*37), name, domain, towns[i%len(towns)], i % 4})
	}
	key := o.Key("register")
	hit := map[string]any{"id": "RG-10000", "score": 0.9, "entity": map[string]any{"names": []any{map[string]any{"value": "…", "kind": "trading"}}, "addresses": []any{map[string]any{"town": "…"}}}}
	service := standins.Build(standins.Spec{Name: "Register", About: `Studios and suppliers. A query is written as name:"…" AND town:"…"; quotes within quotes are doubled. Five calls a second.`, Check: standins.Header("X-Register-Key", "", key),
		Security: map[string]any{"type": "apiKey", "in": "header", "name": "X-Register-Key"},
		Ops: []standins.Op{
			{Method: "GET", Path: "/quota", ID: "quota", Summary: "Whose key this is, and what is left of the day", Answer: map[string]any{"holder": "Ottermere Clayworks", "left": 4000}, Handle: func(*standins.Call) (any, error) {
				return map[string]any{"holder": "Ottermere Clayworks", "left": 4000}, nil
			}},
			{Method: "GET", Path: "/search", ID: "search", Summary: "Search by the query language", Query: []string{"q!"}, Answer: map[string]any{"hits": []any{hit}}, Handle: r.limited(r.search)},
			{Method: "GET", Path: "/domains/:domain", ID: "by_domain", Summary: "Find by domain", Answer: hit, Handle: r.limited(r.domain)},
			{Method: "GET", Path: "/entities", ID: "list_entities", Summary: "List everything, by offset", Query: []string{"limit", "offset"}, Answer: map[string]any{"entities": []any{hit}, "total": 240}, Handle: r.limited(r.list)},
		}})
	r.Stand = &standins.Stand{Service: service, Connector: "register", Values: map[string]string{"secret": key}}
	return r
}

// limited keeps to five calls in any second; a call too many is told to wait.
func (r *Register) limited(work func(*standins.Call) (any, error)) func(*standins.Call) (any, error) {
	return func(c *standins.Call) (any, error) {
		r.mu.Lock()
		now := time.Now()
		kept := r.times[:0]
		for _, t := range r.times {
			if now.Sub(t) < time.Second {
				kept = append(kept, t)
			}
		}
		r.times = kept
		if len(r.times) >= 5 {
			r.mu.Unlock()
			return nil, &standins.No{Status: 429, Message: "five calls a second are allowed", Wait: 1}
		}
		r.times = append(r.times, now)
		r.mu.Unlock()
		return work(c)
	}
}

func (e entry) view(score float64) map[string]any {
	return map[string]any{"id": e.ID, "score": score, "entity": map[string]any{
		"names":     []any{map[string]any{"value": e.Name, "kind": "trading"}, map[string]any{"value": strings.ToUpper(e.Name), "kind": "registered"}},
		"addresses": []any{map[string]any{"kind": "main", "town": e.Town, "country": "example"}},
		"web":       map[string]any{"domains": []string{e.Domain}},
		"equipment": map[string]any{"kilns": map[string]any{"own": e.Kilns > 0, "count": e.Kilns}},
	}}
}

var term = regexp.MustCompile(`^(name|town):"((?:[^"]|"")*)"$`)

func (r *Register) search(c *standins.Call) (any, error) {
	wanted := map[string]string{}
	for _, t := range strings.Split(c.Query("q"), " AND ") {
		m := term.FindStringSubmatch(strings.TrimSpace(t))
		if m == nil {
			return nil, standins.Invalid("q", "“%s” is not a term such as name:\"Quern Lane\"", t)
		}
		wanted[m[1]] = strings.ToLower(strings.ReplaceAll(m[2], `""`, `"`))
	}
	type hit struct {
		entry
		score float64
	}
	var hits []hit
	for _, e := range r.entries {
		if t, ok := wanted["town"]; ok && strings.ToLower(e.Town) != t {
			continue
		}
		score := 1.0
		if n, ok := wanted["name"]; ok {
			score = likeness(n, strings.ToLower(e.Name))
		}
		if score >= 0.4 {
			hits = append(hits, hit{e, score})
		}
	}
	if len(hits) == 0 {
		return nil, &standins.No{Status: 404, Message: "nothing in the register answers to that"}
	}
	sort.SliceStable(hits, func(i, j int) bool { return hits[i].score > hits[j].score })
	out := []any{}
	for _, h := range hits[:min(len(hits), 5)] {
		out = append(out, h.view(h.score))
	}
	return map[string]any{"hits": out}, nil
}

// likeness is the share of pairs of letters that two names have in common.
func likeness(a, b string) float64 {
	pairs := func(s string) map[string]int {
		m := map[string]int{}
		for i := 0; i+1 < len(s); i++ {
			m[s[i:i+2]]++
		}
		return m
	}
	x, y, both := pairs(a), pairs(b), 0
	for k, n := range x {
		both += min(n, y[k])
	}
	if len(a)+len(b) < 4 {
		return 0
	}
	return float64(2*both) / float64(len(a)+len(b)-2)
}

func (r *Register) domain(c *standins.Call) (any, error) {
	for _, e := range r.entries {
		if e.Domain == c.Param("domain") {
			return e.view(1), nil
		}
	}
	return nil, &standins.No{Status: 404, Message: "no entry has the domain " + c.Param("domain")}
}

func (r *Register) list(c *standins.Call) (any, error) {
	part, _, _ := standins.Page(c, r.entries, 50)
	out := []any{}
	for _, e := range part {
		out = append(out, e.view(1))
	}
	return map[string]any{"entities": out, "total": len(r.entries)}, nil
}
