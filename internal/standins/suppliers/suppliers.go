// Package suppliers is the stand-in for a directory of suppliers: one long
// synchronous call that takes seconds and returns deep records. Its token
// stands in the query.
package suppliers

import (
	"fmt"
	"math"
	"sort"
	"time"

	"youngtrellis/internal/standins"
)

// Suppliers is the stand-in.
type Suppliers struct {
	*standins.Stand
	// Takes is how long a call takes.
	Takes time.Duration
}

// New makes it.
func New(o standins.Setup) *Suppliers {
	s := &Suppliers{Takes: 1500 * time.Millisecond}
	token := o.Key("suppliers")
	record := map[string]any{"supplier": map[string]any{"id": "SU-1", "name": "…", "contact": map[string]any{"phones": []any{map[string]any{"kind": "sales", "number": "…"}}, "town": "…"}}, "distance_km": 3.2, "stock": []any{map[string]any{"group": "clay", "items": []any{"…"}}}}
	service := standins.Build(standins.Spec{Name: "Suppliers", About: "Suppliers within a distance. A call takes seconds.", Security: map[string]any{"type": "apiKey", "in": "query", "name": "token"},
		Check: func(c *standins.Call) (bool, string) {
			return c.Query("token") == token, "the token in the address is not known"
		},
		Ops: []standins.Op{
			{Method: "GET", Path: "/whoami", ID: "whoami", Summary: "Whose token this is", Answer: map[string]any{"name": "Ottermere Clayworks"}, Handle: func(*standins.Call) (any, error) { return map[string]any{"name": "Ottermere Clayworks"}, nil }},
			{Method: "POST", Path: "/near", ID: "near", Summary: "Suppliers within a distance", Body: map[string]any{"place": "Ottermere", "km": 40, "groups": []string{"clay"}}, Answer: map[string]any{"suppliers": []any{record}}, Handle: s.near},
		}})
	s.Stand = &standins.Stand{Service: service, Connector: "suppliers", Values: map[string]string{"secret": token}}
	return s
}

var groups = []string{"clay", "glazes", "kilns", "tools"}

func (s *Suppliers) near(c *standins.Call) (any, error) {
	var in struct {
		Place  string
		KM     float64
		Groups []string
	}
	if err := c.In(&in); err != nil {
		return nil, err
	}
	if in.Place != "Ottermere" {
		return nil, standins.Invalid("place", "the place %q is not known; only Ottermere is", in.Place)
	}
	if in.KM <= 0 || in.KM > 500 {
		return nil, standins.Invalid("km", "the distance lies between 1 and 500 km")
	}
	select {
	case <-time.After(s.Takes):
	case <-c.Request.Context().Done():
		return nil, c.Request.Context().Err()
	}
	type found struct {
		km float64
		v  map[string]any
	}
	var list []found
	for i := range 64 {
		km := math.Round((2.5+float64(i*i%97)*1.9)*10) / 10
		group := groups[i%len(groups)]
		wanted := len(in.Groups) == 0
		for _, g := range in.Groups {
			wanted = wanted || g == group
		}
		if km > in.KM || !wanted {
			continue
		}
		list = append(list, found{km, map[string]any{
			"supplier": map[string]any{"id": fmt.Sprintf("SU-%03d", i+1), "name": fmt.Sprintf("%s & Daughters %d", []string{"Ashdown", "Brookbank", "Clayfield", "Dunmoor"}[i/16], i+1),
				"contact": map[string]any{"phones": []any{map[string]any{"kind": "sales", "number": fmt.Sprintf("+4416329607%02d", i)}}, "town": []string{"Hollowbank", "Saltgrass", "Quern"}[i%3]}},
			"distance_km": km, "stock": []any{map[string]any{"group": group, "items": []any{fmt.Sprintf("%s %d", group, i), fmt.Sprintf("%s %d", group, i+1)}}},
			"history": map[string]any{"orders": i % 5, "notes": []any{}},
		}})
	}
	sort.Slice(list, func(i, j int) bool { return list[i].km < list[j].km })
	out := []any{}
	for _, f := range list {
		out = append(out, f.v)
	}
	return map[string]any{"suppliers": out, "count": len(out)}, nil
}
