package test

import (
	"html"
	"net/http"
	"regexp"
	"slices"
	"strings"
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

	run = starts(t, w, "glaze-lab", `{"glaze": "Celadon 4", "cone": "9"}`, `{"glaze": "Barium blue", "cone": "6"}`)
	require.Equal(t, client.RunState("partial"), run.Run.State, run.Run.Message)
	require.Contains(t, w.Others.Documents.Text(documents.FiringLog), "Celadon 4: passed")
	l, err := w.Rows(within(t, time.Minute), run.Run.Id, 10)
	require.NoError(t, err)
	require.Contains(t, l.Rows[1].Cells[0].Text+l.Rows[0].Cells[0].Text, "Barium blue releases 2.4 mg of lead")
	require.Equal(t, 2, w.Others.Lab.Submitted(), "each sample was handed in once")
}

// Customers write in the chat, which calls with a signature: each is answered in the own
// conversation, and the second message of one never overtakes the first.
func TestTheChatDesk(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, everything)
	const quern, hollow = "cv_quernlane2", teamchat.Conversation
	questions := map[string][]string{quern: {"Why did the glaze crawl?", "And what of the pinholes?", "Is it the firing?"}, hollow: {"Our bowls crazed.", "What can we do?"}}
	before := map[string]int{quern: len(w.Others.Chat.Messages(quern)), hollow: len(w.Others.Chat.Messages(hollow))}
	for i := range 3 {
		for conversation, list := range questions {
			if i < len(list) {
				require.NoError(t, w.Others.Chat.Say(conversation, list[i]))
			}
		}
	}
	require.NoError(t, w.Others.Chat.Say(hollow, "  "), "what is empty is asked of nobody")
	for conversation, list := range questions {
		var replies []string
		eventually(t, "the replies", 60*time.Second, func() bool {
			replies = nil
			for _, m := range w.Others.Chat.Messages(conversation)[before[conversation]:] {
				if m.From == "us" {
					replies = append(replies, m.Text)
				}
			}
			return len(replies) >= len(list)
		})
		require.Len(t, replies, len(list), conversation)
		for i, q := range list {
			require.Contains(t, replies[i], "Answer from the notes: "+strings.TrimRight(q, ".!?"), "in their order, each in its conversation")
		}
	}
	name := "chat-desk"
	eventually(t, "the end of all", 30*time.Second, func() bool {
		page, err := ottermere.Answer[client.RunPage](w.Client.ListRuns(ctx, &client.ListRunsParams{Workflow: &name}))
		return err == nil && len(page.Runs) == 6 && !slices.ContainsFunc(page.Runs, func(r client.RunSummary) bool { return r.State != "succeeded" })
	})
	// The same delivery again, and one that somebody else made up.
	sheet, err := ottermere.Answer[client.CallSheet](w.Client.CallSheet(ctx, name))
	require.NoError(t, err)
	for secret, want := range map[string]int{w.ChatSecret: 202, "yth_made-up": 404} {
		body := `{"conversation": "` + quern + `", "message": {"id": "m_501", "from": "customer", "text": "again", "at": "2026-11-28T09:00:00Z"}}`
		headers := teamchat.Sign(secret, []byte(body), time.Now())
		require.Equal(t, want, ask(ctx, t, http.MethodPost, sheet.Address, body, "X-Chat-Time", headers.Get("X-Chat-Time"), "X-Chat-Signature", headers.Get("X-Chat-Signature")).status)
	}
	require.Equal(t, 6, runsOf(ctx, t, w, name), "neither starts anything")
}

// A potter asks for time in the hall on its form: what is free near the wish is worked out
// from the hall's hours and its calendar, and can be booked at once.
func TestTimeInTheKilnHall(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, everything)
	sheet, err := ottermere.Answer[client.CallSheet](w.Client.CallSheet(ctx, "hall-hours"))
	require.NoError(t, err)
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	day := time.Now().In(zone).AddDate(0, 6, 0) // in the other half of the year the clocks may stand differently
	for day.Weekday() != time.Friday {
		day = day.AddDate(0, 0, 1)
	}
	at := func(hour, minute int) time.Time {
		return time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, zone)
	}
	wish := func(who, hour string) string {
		t.Helper()
		sent := sends(ctx, t, sheet.Address, opens(ctx, t, sheet.Address), "who", who, "day", day.Format(time.DateOnly), "hour", hour, "length", "2 hours")
		require.Equal(t, 303, sent.status, sent.body)
		got := ask(ctx, t, http.MethodGet, sent.header.Get("Location"), "", "Accept", "text/html")
		require.Equal(t, 200, got.status, got.body)
		return got.body
	}
	body := wish("Ada Fen", "17:30")
	require.Contains(t, body, "Friday at 17:30 is free")
	require.Contains(t, body, day.Format("Mon 2 Jan, 15:04")[:len(day.Format("Mon 2 Jan"))]+", 17:30")
	link := regexp.MustCompile(`href="([^"]+/book[^"]+)"`).FindStringSubmatch(body)
	require.NotNil(t, link, body)
	booked := ask(ctx, t, http.MethodPost, html.UnescapeString(link[1]), "")
	require.Contains(t, booked.body, "Booked: Ada Fen")
	events := w.Others.Calendar.Events()
	last := events[len(events)-1]
	require.True(t, last.Starts.Equal(at(17, 30)) && last.Ends.Equal(at(19, 30)), "%v: the hour is that of the hall", last.Starts)

	body = wish("Oren Tide", "18:00")
	require.Contains(t, body, "Friday at 18:00 is not free")
	require.Contains(t, body, day.Format("Mon 2 Jan")+", 15:30", "the nearest that is free, before it")
	require.Contains(t, body, day.AddDate(0, 0, 1).Format("Mon 2 Jan")+", 9:00")
	require.NotContains(t, body, day.AddDate(0, 0, 2).Format("Mon 2 Jan"), "the hall is closed on Sundays")
	require.Contains(t, wish("Late", "19:00"), "is not free", "it closes at eight")

	past := sends(ctx, t, sheet.Address, opens(ctx, t, sheet.Address), "who", "Ada", "day", "2020-01-03", "hour", "07:00", "length", "2 hours")
	require.Equal(t, 422, past.status)
	require.Contains(t, past.body, "Hour is 07:00; the earliest is 08:00")
	require.Contains(t, past.body, "Day is 2020-01-03; the earliest is")
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
	for _, name := range []string{"memo-once", "gas-price", "gas-told", "firing-card", "near-suppliers", "chat-desk", "hall-hours", "glaze-lab"} {
		r, err := ottermere.Answer[client.Rehearsal](w.Client.Rehearse(ctx, name, client.Rehearse{}))
		require.NoError(t, err, name)
		require.Equal(t, client.RunState("succeeded"), r.State, "%s: %v", name, r.Message)
		require.NotZero(t, r.Prepared, name)
	}
	require.Equal(t, before, count())
}
