// Package statistics is the stand-in for open figures: nested arrays, no schema,
// no sign-in.
package statistics

import (
	"fmt"
	"math"
	"time"

	"youngtrellis/internal/standins"
)

// Price of gas on a day, in cents for a kilowatt-hour; the same at every start.
func Price(day time.Time) float64 {
	n := float64(day.Unix() / 86400)
	return math.Round((7.4+1.3*math.Sin(n/17)+0.4*math.Sin(n/3))*1000) / 1000
}

// New makes it.
func New(o standins.Setup) *standins.Stand {
	s := standins.Build(standins.Spec{Name: "Statistics", About: "Open figures in nested arrays.", Ops: []standins.Op{
		{Method: "GET", Path: "/series/:name", ID: "series", Summary: "A series of figures", Query: []string{"days"}, Handle: func(c *standins.Call) (any, error) {
			if c.Param("name") != "gas" {
				return nil, standins.Missing("series", c.Param("name"))
			}
			days := 30
			_, _ = fmt.Sscan(c.Query("days"), &days)
			days = max(1, min(days, 3650))
			list := []any{}
			for i := days - 1; i >= 0; i-- {
				d := o.Day.AddDate(0, 0, -i)
				list = append(list, []any{d.Format("2006-01-02"), []any{Price(d), nil}})
			}
			return []any{map[string]any{"meta": []any{"gas", "ct/kWh", []any{"price", "revised"}}, "data": []any{list}}}, nil
		}},
	}})
	return &standins.Stand{Service: s, Connector: "statistics"}
}
