package server

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/oapi-codegen/runtime/types"

	"youngtrellis/api"
	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

// mostSchedules is how many schedules are listed; those that are due first.
const mostSchedules = 2000

// GetSchedule implements api.StrictServerInterface.
func (s *Server) GetSchedule(ctx context.Context, r api.GetScheduleRequestObject) (api.GetScheduleResponseObject, error) {
	sc, only := scopeOf(ctx), uuid.Nil
	if name := or(r.Params.Workflow, ""); name != "" {
		w, err := s.Store.Workflow(ctx, sc, name)
		if err != nil {
			return nil, err
		}
		only = w.ID
	}
	list, now, err := s.Store.ScheduleList(ctx, sc, only, mostSchedules)
	if err != nil {
		return nil, err
	}
	missed, err := s.Store.Missed(ctx, sc, only, 100)
	if err != nil {
		return nil, err
	}
	a := workflows.MakeAgenda(list, now, now.Add(time.Duration(or(r.Params.Hours, 72))*time.Hour), or(r.Params.Most, 50))
	out := api.GetSchedule200JSONResponse{Now: a.Now, Until: a.Until}
	for _, e := range a.Entries {
		zone, _, _ := cadence.Zone(e.Zone)
		x := api.ScheduleEntry{Workflow: e.Name, Title: e.Title, State: api.ScheduleEntryState(e.State), Reader: readerSeen(sc, e.Reader), Cadence: e.Cadence, Zone: e.Zone, Previous: some(e.Previous), Trouble: given(troubleSeen(sc, e.Scheduled)), Times: dueTimes(e.Times, zone, now), More: e.More}
		if !e.Next.IsZero() {
			x.Next = some(e.Next)
		}
		out.Entries = append(out.Entries, x)
	}
	for _, t := range a.Together {
		out.Together = append(out.Together, api.Together{At: t.At, Workflows: t.Workflows})
	}
	for _, m := range missed {
		out.Missed = append(out.Missed, api.MissedTimes{Workflow: m.Name, Title: m.Title, Reader: readerSeen(sc, m.Reader), Noted: m.Noted, First: m.First, Last: m.Last, Times: m.Times, Started: m.Started})
	}
	return out, nil
}

// dueTimes words due times by the clock of a zone; the year is left out where it is
// that of now.
func dueTimes(list []cadence.Due, zone *time.Location, now time.Time) []api.DueTime {
	if zone == nil {
		zone = time.UTC
	}
	out := make([]api.DueTime, 0, len(list))
	for _, d := range list {
		layout := "Monday 2 January"
		if d.At.In(zone).Year() != now.In(zone).Year() {
			layout += " 2006"
		}
		if layout += ", 15:04"; d.At.Second() != 0 {
			layout += ":05"
		}
		wall := d.At.In(zone).Format(layout)
		out = append(out, api.DueTime{At: d.At, Wall: wall, Note: given(d.Note)})
	}
	return out
}

// ReadCadence implements api.StrictServerInterface.
func (s *Server) ReadCadence(ctx context.Context, r api.ReadCadenceRequestObject) (api.ReadCadenceResponseObject, error) {
	c, err := readCadence(r.Body)
	if err != nil {
		return nil, cadenceFault(err)
	}
	now := time.Now().UTC()
	anchor := c.Anchor(now)
	if name := or(r.Body.Workflow, ""); name != "" {
		w, err := s.Store.Workflow(ctx, scopeOf(ctx), name)
		if err != nil {
			return nil, err
		}
		known, _, err := s.Store.Schedules(ctx, scopeOf(ctx), w.ID)
		if err != nil {
			return nil, err
		}
		for _, k := range known {
			if k.Reader == "" && k.Cadence == c.Sentence() {
				anchor = k.Anchor
			}
		}
	}
	return api.ReadCadence200JSONResponse(wording(c, now, anchor, or(r.Body.Count, 10))), nil
}

// daysShown is on how many of the coming days it is told whether something is due.
const daysShown = 10

// wording says what a cadence is, and when it is due next.
func wording(c *cadence.Cadence, now, anchor time.Time, count int) api.Cadence {
	week, _ := c.Between(now, now.AddDate(0, 0, 7), anchor, 0)
	out := api.Cadence{Sentence: c.Sentence(), Zone: c.Zone().String(), Settings: raw(triggers.SettingsOf(c.Settings())), AWeek: week, Clocks: given(c.Clocks(now)), Times: dueTimes(c.List(now, anchor, count), c.Zone(), now)}
	for _, d := range c.Days(now, anchor, daysShown) {
		out.Days = append(out.Days, api.DueDay{Date: types.Date{Time: d.Date.In(c.Zone())}, Due: d.Due})
	}
	return out
}

// timesAhead is how many of the next times are told before going live.
const timesAhead = 10

// readersWording says the same of a workflow that is due for each of several readers
// at an hour of their own, and how often it is due within thirty days. Names tells who
// is due.
func readersWording(t *triggers.Timing, list []store.Scheduled, now time.Time, names bool) (api.Cadence, int) {
	c := t.Cadence
	a := workflows.ReadersAhead(list, now, daysShown, timesAhead)
	out := api.Cadence{Sentence: c.Sentence() + ", for each row of " + t.Readers.List + " at its own hour", Zone: c.Zone().String(), Settings: raw(triggers.SettingsOf(c.Settings())), Clocks: given(c.Clocks(now)), AWeek: a.Week}
	for _, d := range a.Times {
		next := dueTimes([]cadence.Due{{At: d.At}}, c.Zone(), now)[0]
		next.Who = some(whoIsDue(d.Readers, names))
		out.Times = append(out.Times, next)
	}
	for _, d := range a.Days {
		out.Days = append(out.Days, api.DueDay{Date: types.Date{Time: d.Date}, Due: d.Due})
	}
	return out, a.Month
}

// whoIsDue tells who is due at a time: the first of them, or only how many.
func whoIsDue(who []string, names bool) string {
	const most = 3
	switch {
	case !names:
		return words.Count(len(who), "reader")
	case len(who) <= most:
		return words.And(who...)
	}
	return strings.Join(who[:most], ", ") + fmt.Sprintf(" and %d more", len(who)-most)
}

// readCadence reads what somebody asks about.
func readCadence(b *api.AskedCadence) (*cadence.Cadence, error) {
	if b.Settings == nil {
		phrase, zone := or(b.Phrase, ""), or(b.Zone, "")
		if err := item.CheckText(phrase); err != nil {
			return nil, err
		}
		return cadence.Read(phrase, zone)
	}
	values, err := item.DecodeObject(*b.Settings)
	if err != nil {
		return nil, err
	}
	k, _ := triggers.Find(triggers.Schedule)
	start, errs := k.Start(values)
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	return start.Timing.Cadence, nil
}

// cadenceFault says what is wrong with a cadence, and where.
func cadenceFault(err error) error {
	var placed *cadence.Error
	var inForm *form.Error
	switch {
	case errors.As(err, &placed):
		return &form.InputError{Fields: []form.FieldError{{Field: placed.Field, Message: placed.Error(), Gap: errors.Is(err, cadence.ErrUnsaid)}}}
	case errors.As(err, &inForm):
		var gap *form.Gap
		return &form.InputError{Fields: []form.FieldError{{Field: inForm.Field, Message: inForm.Error(), Gap: errors.As(err, &gap)}}}
	}
	return refuse(422, "invalid_input", err.Error())
}

// standing tells how the start of a workflow stands that is live as this.
func (s *Server) standing(ctx context.Context, sc store.Scope, w store.Workflow, live *workflow.Workflow, kept int) (*api.Standing, error) {
	schedules, _, err := s.Store.Schedules(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	last, err := s.Store.LastRuns(ctx, sc, []uuid.UUID{w.ID})
	if err != nil {
		return nil, err
	}
	arrived, err := s.Store.Deliveries(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	seen := workflows.Seen{Kept: kept}
	if r, ok := last[w.ID]; ok {
		seen.Last = some(r.Accepted)
	}
	if i := slices.IndexFunc(arrived, func(d store.Delivery) bool { return d.Verdict == "refused" }); i >= 0 {
		seen.Refused = &arrived[i]
		if !sc.SeesItems() { // why can quote what came
			seen.Refused.Reason = ""
		}
	}
	return standingOf(workflows.StandingOf(w, workflows.WaitsFor(live), schedulesSeen(sc, schedules), seen)), nil
}

// readerSeen is what a row of a list is known by, to whom it may be seen.
func readerSeen(sc store.Scope, key string) *string {
	if !sc.SeesItems() {
		return nil
	}
	return given(key)
}

// troubleSeen is what is wrong with a schedule, as it may be seen: with those of readers
// it quotes the list.
func troubleSeen(sc store.Scope, x store.Scheduled) string {
	if x.Trouble == "" || sc.SeesItems() || x.Reader == "" && x.List == "" {
		return x.Trouble
	}
	return "Some of those for whom it starts are not due; whoever may see the list is told why."
}

func schedulesSeen(sc store.Scope, list []store.Scheduled) []store.Scheduled {
	out := slices.Clone(list)
	for i, x := range out {
		out[i].Trouble = troubleSeen(sc, x)
	}
	return out
}

func standingOf(x *workflows.Standing) *api.Standing {
	if x == nil {
		return nil
	}
	out := &api.Standing{Words: x.Words, Zone: given(x.Zone), Why: given(x.Why), Trouble: x.Trouble}
	if !x.At.IsZero() {
		out.At = some(x.At)
	}
	return out
}
