package intake

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/store"
)

// ReaderTimes gives the schedules of a workflow whose readers have schedules of their
// own, made of the rows of their list, with its own first. Whoever was there before
// goes on as before. A row that no time can be read of has none, and the first says so.
func ReaderTimes(t *triggers.Timing, workflow uuid.UUID, table *lists.Table, version int, known []store.Scheduled, now time.Time) []store.Scheduled {
	now = stamp(now)
	own := ofReaders(t, workflow, known, now)
	own.ListVersion = version
	if table == nil {
		own.Trouble = fmt.Sprintf("There is no list %q any more, so nobody is due.", t.Readers.List)
		return []store.Scheduled{own}
	}
	was := make(map[string]store.Scheduled, len(known))
	for _, k := range known {
		was[k.Reader] = k
	}
	var list []store.Scheduled
	wrong, first := 0, ""
	for _, r := range table.Rows {
		row := r.Item(table.Columns)
		reads, err := t.Readers.Reads(row, now)
		var c *cadence.Cadence
		if reads && err == nil {
			c, err = t.Readers.Cadence(row)
		}
		switch {
		case err != nil:
			if wrong++; wrong == 1 {
				first = fmt.Sprintf("%s: %s", words.Short(r.Key, 60), words.Sentence(err.Error()))
			}
			continue
		case !reads:
			continue
		}
		var before []store.Scheduled
		if k, ok := was[r.Key]; ok {
			before = append(before, k)
		}
		list = append(list, scheduled(t, c, store.Scheduled{Workflow: workflow, Reader: r.Key}, before, now))
	}
	switch {
	case wrong > 0:
		own.Trouble = fmt.Sprintf("%s of %s cannot be read as an hour, and nobody is due for it. %s", words.Count(wrong, "row"), t.Readers.List, first)
	case len(list) == 0:
		own.Trouble = fmt.Sprintf("No row of %s is to be read, so nobody is due.", t.Readers.List)
	}
	return append([]store.Scheduled{own}, list...)
}

// sync makes the schedules of readers anew whose lists have changed.
func (s *Schedules) sync(ctx context.Context) error {
	for ctx.Err() == nil {
		found, err := s.Store.SyncReaders(ctx, func(now time.Time, r store.Readers) ([]store.Scheduled, error) {
			plan, err := s.Plans.Plan(ctx, r.Workspace, r.Workflow, r.Live)
			if store.IsUnavailable(err) {
				return nil, err
			}
			if err != nil || plan.Start.Timing == nil || plan.Start.Timing.Readers == nil {
				r.Known[0].ListVersion = r.Version // the first is that of the workflow itself
				r.Known[0].Trouble = unreadable
				return r.Known, nil
			}
			t := plan.Start.Timing
			l, table, err := s.Intake.Store.CurrentList(ctx, r.Workspace, t.Readers.List, 0)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return nil, err
			}
			return ReaderTimes(t, r.Workflow, table, l.Version, r.Known, now), nil
		})
		if !found || err != nil {
			return err
		}
	}
	return ctx.Err()
}

// reading is what a reader is due with.
type reading struct {
	timing *triggers.Timing
	row    map[string]any // nil: it is none of a list
	none   bool           // nothing starts: the row is gone, or is not to be read any more
	why    string         // it cannot be told whether it is to be read; "": it can
}

// reading finds what a schedule is due with. The error is one of the database.
func (s *Schedules) reading(ctx context.Context, t *triggers.Timing, d store.DueNow, now time.Time) (reading, error) {
	if d.Reader == "" {
		return reading{timing: t}, nil
	}
	if t.Readers == nil {
		return reading{timing: t, none: true}, nil
	}
	c, err := cadence.Read(d.Cadence, "")
	if err != nil {
		return reading{timing: t, none: true}, nil //nolint:nilerr // every sentence of ours is read back
	}
	own := *t
	own.Cadence = c
	row, err := s.Store.ReaderRow(ctx, d.Workspace, t.Readers.List, d.Reader)
	if errors.Is(err, store.ErrNotFound) {
		return reading{timing: &own, none: true}, nil
	}
	if err != nil {
		return reading{}, err
	}
	reads, err := t.Readers.Reads(row, now)
	if err != nil { // told with the schedule, and looked at anew when it is due next
		return reading{timing: &own, none: true, why: words.Sentence(fmt.Sprintf("whether %s is due cannot be told: %v", words.Short(d.Reader, 60), err))}, nil
	}
	return reading{timing: &own, row: row, none: !reads}, nil
}

// item is that of the run of a reader at a time.
func (r reading) item(due, previous time.Time, missed int) map[string]any {
	out := r.timing.Item(due, previous, missed)
	if r.row != nil {
		out["reader"] = r.row
	}
	return out
}

// read gives the items of a start that somebody makes at a moment: one for each row that
// is to be read.
func (in *Intake) read(ctx context.Context, workspace uuid.UUID, t *triggers.Timing, now, previous time.Time) ([]map[string]any, error) {
	_, table, err := in.Store.CurrentList(ctx, workspace, t.Readers.List, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &Refused{Status: http.StatusConflict, Message: fmt.Sprintf("There is no list %q any more, of whose rows it starts for each.", t.Readers.List)}
	}
	if err != nil {
		return nil, err
	}
	rows, err := t.Readers.Rows(table, now)
	if err != nil {
		return nil, &Refused{Status: http.StatusConflict, Message: words.Sentence(err.Error())}
	}
	if len(rows) == 0 {
		return nil, &Refused{Status: http.StatusConflict, Message: fmt.Sprintf("No row of the list %s is to be read, so it would start for nobody.", t.Readers.List)}
	}
	out := make([]map[string]any, len(rows))
	for i, row := range rows {
		out[i] = reading{timing: t, row: row}.item(now, previous, 0)
	}
	return out, nil
}
