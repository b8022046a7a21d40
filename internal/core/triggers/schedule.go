package triggers

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/lists"
)

// Schedule is the type of what starts by the clock.
const Schedule = "schedule"

// What becomes of times that were missed while nobody could start anything.
const (
	MissedSkip = "skip" // they are let go, and noted
	MissedOnce = "once" // the last of them starts one run
	MissedAll  = "all"  // each starts a run, up to a limit
)

// Timing is how runs start by the clock.
type Timing struct {
	Cadence *cadence.Cadence
	Missed  string   // MissedSkip, MissedOnce or MissedAll
	Most    int      // of missed times that start runs with MissedAll; older ones are let go
	Readers *Readers // whose rows have schedules of their own; nil: there is one schedule
}

// Readers are the rows of a workspace list of which each has a schedule of its own.
type Readers struct {
	List string
	only *expr.Program
	base cadence.Settings
}

// Reads tells whether a row has a schedule at all.
func (r *Readers) Reads(row map[string]any, now time.Time) (bool, error) {
	if r.only == nil {
		return true, nil
	}
	return r.only.Holds(&expr.Scope{Item: row, Now: now})
}

// Rows are those of the list that have a schedule.
func (r *Readers) Rows(table *lists.Table, now time.Time) ([]map[string]any, error) {
	var out []map[string]any
	for _, x := range table.Rows {
		row := x.Item(table.Columns)
		reads, err := r.Reads(row, now)
		if err != nil {
			return nil, fmt.Errorf("of the row %s: %w", x.Key, err)
		}
		if reads {
			out = append(out, row)
		}
	}
	return out, nil
}

// Cadence is that of a row: at the times in its column at, and by the clock of its
// column zone, where these are filled in.
func (r *Readers) Cadence(row map[string]any) (*cadence.Cadence, error) {
	s := r.base
	if at, ok := row["at"].(string); ok && at != "" {
		s.At = at
	}
	if zone, ok := row["zone"].(string); ok && zone != "" {
		s.Zone = zone
	}
	return cadence.New(s)
}

type schedule struct {
	Every   string        `form:"every" title:"Every" part:"In fields" example:"weekday" help:"10 minutes, 2 hours, day, weekday, monday and thursday, 2 weeks, or month."`
	On      string        `form:"on" title:"On" part:"In fields" example:"1 and last" help:"The days of every so many weeks or months: monday; 1, 15, last, first monday, last weekday."`
	At      string        `form:"at" title:"At" part:"In fields" example:"16:30" help:"Times of the day, as 08:00 and 16:30; for hours the minute, as :15."`
	Zone    string        `form:"zone" title:"Zone" hint:"zone" example:"Europe/Lisbon" help:"Whose clock it goes by; UTC unless said otherwise."`
	Cron    string        `form:"cron" title:"Line of cron" part:"In fields" example:"30 16 * * 1-5" help:"Five fields: minute, hour, day of the month, month, day of the week. Instead of all above but the zone."`
	From    string        `form:"from" title:"From" part:"Bounds, and what was missed" example:"2026-12-01" help:"The first day, or the first moment, as 2026-12-01 08:00."`
	Until   string        `form:"until" title:"Until" part:"Bounds, and what was missed" example:"2027-03-31" help:"The last day, or the moment at which it is over."`
	Readers string        `form:"readers" title:"For each row of" part:"For each of several readers" hint:"workspace_list" example:"readers" help:"A workspace list. Each row has a start of its own: at the times in its column at and by the clock of its column zone, where these are filled in. The item has the row as reader."`
	Only    *expr.Program `form:"only" title:"Only rows where" part:"For each of several readers" example:"item.wants" help:"A condition about the row, as item."`
	Jitter  time.Duration `form:"jitter" title:"Spread over" part:"Bounds, and what was missed" example:"5m" help:"Each start is up to so much later than due, so that not everything starts at the full hour."`
	Missed  string        `form:"missed" title:"What was missed" part:"Bounds, and what was missed" oneof:"once|skip|all" default:"once" words:"once=starts once when the service is back; skip=is let go; all=starts each of them"`
	Most    int           `form:"most" title:"At most" part:"Bounds, and what was missed" default:"100" min:"1" max:"1000" help:"So many missed times start runs where all of them do; older ones are let go."`
}

func (s *schedule) settings() cadence.Settings {
	return cadence.Settings{Every: s.Every, On: s.On, At: s.At, Cron: s.Cron, Zone: s.Zone, From: s.From, Until: s.Until, Jitter: s.Jitter}
}

var scheduleKind = New(Info{
	Type: Schedule, Title: "By the clock", Timed: true, Alone: true, Began: "by the clock", By: "its schedule",
	Help: "At times of the day, on days, every so many minutes, or by a line of cron. Each run has one item with the time at which it is due, and the time before.",
}, func(s *schedule) string {
	c, err := cadence.New(s.settings())
	if err != nil {
		return "By the clock"
	}
	text := c.Sentence()
	if s.Readers != "" {
		text += ", for each row of " + s.Readers + " at its own hour"
	}
	return strings.ToUpper(text[:1]) + text[1:]
}, func(s *schedule) (Start, error) {
	c, err := cadence.New(s.settings())
	var placed *cadence.Error
	if errors.As(err, &placed) {
		err = placed.Err
		if errors.Is(err, cadence.ErrUnsaid) {
			err = &form.Gap{Err: err}
		}
		return Start{}, &form.Error{Field: placed.Field, Err: err}
	}
	if err != nil {
		return Start{}, err
	}
	t := &Timing{Cadence: c, Missed: s.Missed, Most: s.Most}
	out := Start{Timing: t, Own: t.Sample}
	if s.Readers != "" {
		t.Readers = &Readers{List: s.Readers, only: s.Only, base: s.settings()}
		out.Lists = []Listed{{Field: "readers", List: s.Readers}}
	} else if s.Only != nil {
		return Start{}, &form.Error{Field: "only", Err: errors.New("it says which rows, but not of which list; fill in “For each row of” too")}
	}
	return out, nil
})

// Item is that with which a run starts by the clock: when it is due, in the zone of
// its cadence, and when it was due before, so that what lies between is looked at
// once, however late the run begins; and how many times between were missed.
func (t *Timing) Item(due, previous time.Time, missed int) map[string]any {
	at := func(x time.Time) string { return x.In(t.Cadence.Zone()).Format(time.RFC3339) }
	return map[string]any{"due": at(due), "previous": at(previous), "missed": int64(missed)}
}

// Sample is the item of a start that somebody makes at a moment, between two times.
func (t *Timing) Sample(now time.Time) map[string]any {
	previous := now.Add(-24 * time.Hour)
	if list := t.Cadence.List(now, t.Cadence.Anchor(now), 2); len(list) == 2 {
		previous = now.Add(-list[1].At.Sub(list[0].At))
	}
	return t.Item(now.Truncate(time.Second), previous.Truncate(time.Second), 0)
}

// SettingsOf gives the settings of a schedule as a document writes them, of what
// somebody has typed as a line.
func SettingsOf(s cadence.Settings) map[string]any {
	out := map[string]any{}
	for name, v := range map[string]string{"every": s.Every, "on": s.On, "at": s.At, "cron": s.Cron, "from": s.From, "until": s.Until} {
		if v != "" {
			out[name] = v
		}
	}
	if s.Zone != "" && s.Zone != "UTC" {
		out["zone"] = s.Zone
	}
	if s.Jitter > 0 {
		out["jitter"] = expr.FormatDuration(s.Jitter)
	}
	return out
}
