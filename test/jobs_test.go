package test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/documents"
	"youngtrellis/internal/standins/tables"
	"youngtrellis/internal/standins/teamchat"
)

// starts runs a workflow to its end with items.
func starts(t *testing.T, w *ottermere.World, name string, items ...string) client.Run {
	t.Helper()
	ctx := within(t, time.Minute)
	list := []client.Fields{}
	for _, i := range items {
		list = append(list, client.Fields(i))
	}
	body := client.Items{}
	if len(list) > 0 {
		body.Items = &list
	}
	started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, name, body))
	require.NoError(t, err)
	run, err := w.Wait(ctx, started.Run)
	require.NoError(t, err)
	return run
}

// Each shipped workflow is run, and what arrived at the other side is looked at.
func TestTheJobsOfOttermere(t *testing.T) {
	t.Parallel()
	w := world(t, everything)

	run := starts(t, w, "memo-once", `{"name": "kiln-2-morning.wav"}`, `{"name": "long-walk.wav"}`)
	require.Equal(t, client.RunState("partial"), run.Run.State, run.Run.Message)
	log := w.Others.Documents.Text(documents.FiringLog)
	require.Contains(t, log, "## Memos\n\nkiln-2-morning.wav: Kiln two came down to ninety degrees at seven.")
	require.Contains(t, log, "before the next cone nine. Osierbed's")
	require.NotContains(t, log, "long-walk", "a memo that is too long is set aside in the other side's words")

	for range 2 {
		run = starts(t, w, "gas-price")
		require.Equal(t, client.RunState("succeeded"), run.Run.State, run.Run.Message)
	}
	gas := w.Tables.Rows(tables.GasTab)
	require.Len(t, gas, 7, "the same day is changed, not doubled")
	require.NotEmpty(t, gas[6].Values["price"])
	// The hall hears of each run of it by the workflow that follows.
	require.Eventually(t, func() bool { return len(w.Others.Chat.Messages(teamchat.HallChannel)) == 2 }, 20*time.Second, 20*time.Millisecond)
	for _, m := range w.Others.Chat.Messages(teamchat.HallChannel) {
		require.Regexp(t, `^Gas on \d{4}-\d\d-\d\d costs \d+\.?\d* ct/kWh, after \d+\.?\d* the day before\.$`, m.Text)
	}

	run = starts(t, w, "firing-card")
	require.Equal(t, client.RunState("succeeded"), run.Run.State, run.Run.Message)
	cards := w.Tables.Rows(tables.CardsTab)
	require.Len(t, cards, 2)
	require.Contains(t, cards[0].Values["text"], "SOAK 20 min at 1280\nout      Thu 19 Nov", "lines and capitals are kept")

	run = starts(t, w, "near-suppliers")
	require.Equal(t, client.RunState("succeeded"), run.Run.State, run.Run.Message)
	near := w.Tables.Rows(tables.NearTab)
	require.Greater(t, len(near), 5)
	require.Contains(t, near[0].Values["phone"], "+44163296")

	run = starts(t, w, "chat-desk")
	require.Equal(t, client.RunState("succeeded"), run.Run.State, run.Run.Message)
	said := w.Others.Chat.Messages("cv_quernlane2")
	require.Equal(t, "us", said[len(said)-1].From)
	require.Contains(t, said[len(said)-1].Text, "Our tiles came out with pinholes")
	require.Len(t, w.Others.Chat.Messages(teamchat.Conversation), 4)

	run = starts(t, w, "glaze-lab", `{"glaze": "Celadon 4", "cone": "9"}`, `{"glaze": "Barium blue", "cone": "6"}`)
	require.Equal(t, client.RunState("partial"), run.Run.State, run.Run.Message)
	require.Contains(t, w.Others.Documents.Text(documents.FiringLog), "Celadon 4: passed")
	l, err := w.Rows(within(t, time.Minute), run.Run.Id, 10)
	require.NoError(t, err)
	require.Contains(t, l.Rows[1].Cells[0].Text+l.Rows[0].Cells[0].Text, "Barium blue releases 2.4 mg of lead")
	require.Equal(t, 2, w.Others.Lab.Submitted(), "each sample was handed in once")
}

// A rehearsal of every shipped workflow sends nothing that writes.
func TestRehearsalsOfTheJobsWriteNothing(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	count := func() map[string]int {
		out := map[string]int{"log": len(w.Others.Documents.Text(documents.FiringLog)), "chat": len(w.Others.Chat.Messages("cv_quernlane2")), "lab": w.Others.Lab.Submitted()}
		for _, tab := range []string{tables.GasTab, tables.NearTab, tables.CardsTab} {
			out[tab] = len(w.Tables.Rows(tab))
		}
		return out
	}
	before := count()
	for _, name := range []string{"memo-once", "gas-price", "gas-told", "firing-card", "near-suppliers", "chat-desk", "glaze-lab"} {
		r, err := ottermere.Answer[client.Rehearsal](w.Client.Rehearse(ctx, name, client.Rehearse{}))
		require.NoError(t, err, name)
		require.Equal(t, client.RunState("succeeded"), r.State, "%s: %v", name, r.Message)
		require.NotZero(t, r.Prepared, name)
	}
	require.Equal(t, before, count())
}
