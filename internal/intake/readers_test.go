package intake

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

func readers(t require.TestingT, lines ...string) *lists.Table {
	out, err := lists.ReadCSV([]byte("address,at,zone,wants\n"+strings.Join(lines, "\n")), nil)
	require.NoError(t, err)
	return out
}

var toReaders = map[string]any{"every": "day", "at": "07:00", "zone": "Europe/Lisbon", "readers": "readers", "only": "item.wants"}

func timing(t require.TestingT, settings map[string]any) *triggers.Timing {
	k, _ := triggers.Find(triggers.Schedule)
	start, errs := k.Start(settings)
	require.Empty(t, errs)
	require.Equal(t, []triggers.Listed{{Field: "readers", List: "readers"}}, start.Lists)
	return start.Timing
}

// dues are the readers with their due times, by UTC.
func dues(list []store.Scheduled) (out []string) {
	for _, s := range list {
		out = append(out, strings.TrimSpace(s.Reader+" "+s.Due.UTC().Format("02T15:04")))
	}
	return out
}

func TestEachReaderIsDueAtAnHourOfTheirOwn(t *testing.T) {
	t.Parallel()
	x, workflow, now := timing(t, toReaders), uuid.New(), at(t, "2026-11-27T06:00:00")
	live := Times(x)(workflow, nil, now)
	require.Len(t, live, 1)
	require.True(t, live[0].Due.IsZero(), "the workflow itself is never due")
	require.Equal(t, store.NoVersion, live[0].ListVersion)

	table := readers(t, "mara,06:30,,yes", "orders,08:15,Asia/Kolkata,yes", "tam,,,yes", "wren,05:00,,no")
	first := ReaderTimes(x, workflow, table, 3, live, now)
	require.Equal(t, []string{"01T00:00", "mara 27T06:30", "orders 28T02:45", "tam 27T07:00"}, dues(first))
	require.Equal(t, 3, first[0].ListVersion)
	require.Empty(t, first[0].Trouble)

	// Whoever stays goes on, also with what is due meanwhile; whoever comes anew is due
	// from now on, and whoever has another hour from now on at that.
	later := at(t, "2026-11-27T06:45:00")
	next := ReaderTimes(x, workflow, readers(t, "mara,06:30,,yes", "tam,09:00,,yes", "wren,05:00,,yes"), 4, first, later)
	require.Equal(t, []string{"01T00:00", "mara 27T06:30", "tam 27T09:00", "wren 28T05:00"}, dues(next))
	require.Equal(t, stamp(now), next[2].Previous, "what lies between is looked at all the same")

	wrong := ReaderTimes(x, workflow, readers(t, "mara,half past six,,yes", "tam,,Nowhere/Town,yes", "wren,05:00,,yes"), 5, next, later)
	require.Equal(t, []string{"01T00:00", "wren 28T05:00"}, dues(wrong))
	require.Contains(t, wrong[0].Trouble, "2 rows of readers cannot be read as an hour, and nobody is due for it. mara: ")
	require.Contains(t, ReaderTimes(x, workflow, readers(t, "wren,05:00,,no"), 6, nil, now)[0].Trouble, "No row of readers is to be read")
	require.Contains(t, ReaderTimes(x, workflow, nil, 0, nil, now)[0].Trouble, `There is no list "readers" any more`)

	again := Times(x)(workflow, first, later)
	require.Equal(t, store.NoVersion, again[0].ListVersion, "a new revision makes them anew")
	require.Equal(t, dues(first), dues(again))
	plain := daily2(t)
	require.Len(t, Times(plain)(workflow, first, later), 1, "a revision without readers has none")
}

func daily2(t require.TestingT) *triggers.Timing {
	k, _ := triggers.Find(triggers.Schedule)
	start, errs := k.Start(map[string]any{"every": "day", "at": "07:00"})
	require.Empty(t, errs)
	return start.Timing
}

func TestWhichRowsWithoutAListIsAnError(t *testing.T) {
	t.Parallel()
	k, _ := triggers.Find(triggers.Schedule)
	_, errs := k.Start(map[string]any{"every": "day", "at": "07:00", "only": "item.wants"})
	require.Len(t, errs, 1)
	require.ErrorContains(t, errs[0], "not of which list")
}

// due is a wall on which a schedule of a reader is due.
func dueFor(t *testing.T, table *lists.Table, key string) (*wall, *Schedules) {
	plan, err := workflow.Compile(&workflow.Workflow{Name: "plan", Trigger: workflow.Trigger{Type: "schedule", Settings: toReaders}}, &workflow.Catalog{})
	require.NoError(t, err)
	d := &door{plan: plan, keys: map[string]uuid.UUID{}, drafts: map[string]string{}, table: table}
	d.Intake = New(d, d, d, d)
	w := &wall{door: d, now: at(t, "2026-11-27T06:00:00")}
	for _, s := range ReaderTimes(plan.Start.Timing, uuid.New(), readers(t, "mara,06:30,,yes"), 1, nil, w.now) {
		if s.Reader == key {
			w.row = s
		}
	}
	w.row.Workspace = uuid.New()
	return w, &Schedules{Intake: d.Intake, Store: w, Log: slog.New(slog.DiscardHandler)}
}

func TestARunForAReaderHasTheirRow(t *testing.T) {
	t.Parallel()
	table := readers(t, "mara,06:30,,yes")
	w, s := dueFor(t, table, "mara")
	w.look(t, s, "2026-11-27T06:30:00")
	require.Len(t, w.started, 1)
	require.Equal(t, "due 2026-11-27T06:30 for mara", w.started[0].Key)
	list, err := item.Decode(w.started[0].Items[0])
	require.NoError(t, err)
	it := list.([]any)[0].(map[string]any)
	require.Equal(t, map[string]any{"address": "mara", "at": "06:30", "zone": nil, "wants": true}, it["reader"])
	require.Equal(t, "2026-11-27T06:30:00Z", it["due"])
	require.Equal(t, "28T06:30", w.row.Due.UTC().Format("02T15:04"), "by their own hour")

	// Whoever was taken out, or does not want it any more, gets nothing.
	for _, now := range []*lists.Table{readers(t, "tam,06:30,,yes"), readers(t, "mara,06:30,,no"), nil} {
		w, s := dueFor(t, now, "mara")
		w.look(t, s, "2026-11-27T06:30:00")
		require.Empty(t, w.started)
		require.Equal(t, "28T06:30", w.row.Due.UTC().Format("02T15:04"))
	}
}

func TestWhyNobodyIsDueIsTold(t *testing.T) {
	t.Parallel()
	w, s := dueFor(t, readers(t, "mara,06:30,,yes"), "mara")
	settings := map[string]any{"every": "day", "at": "07:00", "readers": "readers", "only": "item.wants > 3"}
	w.plan.Start.Timing = timing(t, settings)
	w.look(t, s, "2026-11-27T06:30:00")
	require.Empty(t, w.started)
	require.Contains(t, w.row.Trouble, "Whether mara is due cannot be told: ")
	require.Equal(t, "28T06:30", w.row.Due.UTC().Format("02T15:04"), "it is looked at anew")
}

func TestAStartByHandIsForAllReaders(t *testing.T) {
	t.Parallel()
	_, s := dueFor(t, readers(t, "mara,06:30,,yes", "wren,,,no", "tam,,,yes"), "mara")
	x := timing(t, toReaders)
	items, err := s.read(context.Background(), uuid.New(), x, at(t, "2026-11-27T06:00:00"), at(t, "2026-11-26T06:00:00"))
	require.NoError(t, err)
	var who []string
	for _, it := range items {
		who = append(who, fmt.Sprint(it["reader"].(map[string]any)["address"]))
	}
	require.Equal(t, []string{"mara", "tam"}, who)
	for _, table := range []*lists.Table{nil, readers(t, "wren,,,no")} {
		_, s := dueFor(t, table, "mara")
		var refused *Refused
		_, err := s.read(context.Background(), uuid.New(), x, time.Now(), time.Now())
		require.ErrorAs(t, err, &refused)
	}
}

func TestAValueOfAListIsOneOfIt(t *testing.T) {
	t.Parallel()
	k, _ := triggers.Find(triggers.Manual)
	start, errs := k.Start(map[string]any{"fields": []any{map[string]any{"name": "who", "from_list": "duty"}}})
	require.Empty(t, errs)
	d := &door{table: readers(t, "mara,,,", "tam,,,")}
	in := New(d, d, d, d)
	check := func(who ...any) error {
		var items []map[string]any
		for _, x := range who {
			items = append(items, map[string]any{"who": x})
		}
		return in.ofLists(context.Background(), uuid.New(), start.Asks, items)
	}
	require.NoError(t, check("mara", "tam", nil, ""))
	var wrong *form.InputError
	require.ErrorAs(t, check("tom"), &wrong)
	require.Equal(t, []form.FieldError{{Field: "who", Message: `"tom" is not in the list duty. Did you mean tam?`}}, wrong.Fields)
	require.ErrorAs(t, check("mara", "tom"), &wrong)
	require.Equal(t, "items[1].who", wrong.Fields[0].Field)
	d.table = nil
	var refused *Refused
	require.ErrorAs(t, check("mara"), &refused)
	require.Contains(t, refused.Message, `There is no list "duty" any more`)
}
