package test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins"
)

// repeated are inputs for every write that a shipped connector has. FIRST is
// what the action named by it lists first.
var repeated = map[string]struct {
	input string
	first string // connection.action that lists what FIRST is the id of
	ask   string // its input
	id    string // the id's field
	steps string // that come before
}{
	"tables.append":           {input: `{workbook: wb_p91zsu, tab: tb_e5j3vy, values: {piece: Bowl}}`},
	"tables.add_or_change":    {input: `{workbook: wb_p91zsu, tab: tb_e5j3vy, key: piece, values: {piece: Lid}}`},
	"tables.change":           {input: `{workbook: wb_p91zsu, tab: tb_c0w8rn, row: FIRST, values: {studio: Hall}}`, first: "rows", ask: `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`, id: "row_id"},
	"tables.delete":           {input: `{workbook: wb_p91zsu, tab: tb_c0w8rn, row: FIRST}`, first: "rows", ask: `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`, id: "row_id"},
	"tables.replace":          {input: `{workbook: wb_p91zsu, tab: tb_e5j3vy, rows: [{piece: Bowl}]}`},
	"contacts.find_or_make":   {input: `{phone: "+441632960777", name: Sallow Yard}`},
	"contacts.note":           {input: `{studio: FIRST, text: Came by.}`, first: "find", ask: `{"phone": "+441632960141"}`, id: "id"},
	"contacts.merge":          {input: `{studio: st_20, other: FIRST}`, first: "find", ask: `{"phone": "+441632960777"}`, id: "id"},
	"documents.append":        {input: `{document: doc_firinglog4kq, heading: Memos, text: Turned the shelves.}`},
	"documents.create":        {input: `{title: Cone plan}`},
	"team-chat.post":          {input: `{channel: ch_hall29, text: Kiln 2 is cold.}`},
	"team-chat.reply":         {input: `{conversation: FIRST, text: It is ready.}`, first: "conversations", ask: `{}`, id: "id"},
	"sms.send":                {input: `{from: Ottermere, to: "+447700900123", text: Load at nine.}`},
	"mail.send":               {input: `{to: mara@ottermere.example, subject: Asked again, text: Cone 9 at eight.}`},
	"helpdesk.raise":          {input: `{subject: Damper, text: Stuck., priority: 3, email: hall@ottermere.example}`},
	"helpdesk.close":          {input: `{number: 1041}`},
	"calendar.book":           {input: `{title: Firing, starts: "2031-01-06T08:00:00Z", ends: "2031-01-06T09:00:00Z"}`},
	"calendar.cancel":         {input: `{event: FIRST}`, first: "events", ask: `{}`, id: "id"},
	"text-model.summarise":    {input: `{text: Kiln two is cold. Two shelves warped., sentences: 1}`},
	"text-model.write":        {input: `{instructions: Write a note., text: Kiln two is cold.}`},
	"text-model.classify":     {input: `{text: Kiln two is cold., classes: [kiln, glaze]}`},
	"text-model.extract":      {input: `{text: Kiln two is cold., fields: [kiln]}`},
	"text-model.read_picture": {input: `{picture: (= item.file )}`, steps: "  - {name: card, type: files.download, connection: files, input: {folder: cards, name: card-0417.png}}\n"},
	"speech.transcribe":       {input: `{sound: (= item.file )}`, steps: memo},
	"speech.transcribe_long":  {input: `{sound: (= item.file )}`, steps: memo},
	"forum.comment":           {input: `{post: FIRST, text: Try cone 8.}`, first: "posts", ask: `{}`, id: "id"},
	"feedback.reply":          {input: `{mark: FIRST, text: Thank you.}`, first: "marks", ask: `{"shop": "sh_counter", "answered": false}`, id: "id"},
	"lab.test":                {input: `{glaze: Celadon 4}`},
	"files.upload":            {input: `{folder: uploads, name: again.wav, file: (= item.file )}`, steps: memo},
	"files.remove":            {input: `{folder: memos, name: kiln-1-evening.wav}`},
}

const memo = "  - {name: memo, type: files.download, connection: files, input: {folder: memos, name: kiln-2-morning.wav}}\n"

// Each write of each shipped connector takes effect while its answer is lost.
// What its document says of repeats holds at its other side: made again under
// the same key it is known, and what needs no key may be made again.
func TestWhatShippedConnectorsSayOfRepeatsHolds(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, 2*time.Minute)
	tried := 0
	for _, side := range w.Stands {
		connector, err := ottermere.Answer[client.Connector](w.Client.GetConnector(ctx, side.Connector))
		require.NoError(t, err)
		for _, a := range connector.Actions {
			if a.Effect == "read" {
				continue
			}
			full := side.Connector + "." + a.Name
			r, ok := repeated[full]
			require.True(t, ok, "%s is not among the repeated", full)
			tried++
			input := r.input
			if r.first != "" {
				got, err := ottermere.Answer[client.Tried](w.Client.TryAction(ctx, client.Try{Connection: &side.Connector, Action: r.first, Input: client.Fields(r.ask), Send: some(true)}))
				require.NoError(t, err)
				require.Nil(t, got.Why, full)
				require.NotEmpty(t, *got.Items, full)
				var fields map[string]any
				require.NoError(t, json.Unmarshal((*got.Items)[0], &fields))
				input = strings.ReplaceAll(input, "FIRST", fmt.Sprint(fields[r.id]))
			}
			name := "again-" + strings.NewReplacer(".", "-", "_", "-").Replace(full)
			live(t, w, name, r.steps+fmt.Sprintf("  - {name: done, type: %s, connection: %s, input: %s, retry: {attempts: 4, first: 20ms}}\n", full, side.Connector, input))
			side.SetFaults(standins.Faults{CutWrites: 1})
			repeats, effects, clashes := side.Repeats(), side.Effects(), side.Clashes()
			run := starts(t, w, name, `{}`)
			require.Equal(t, client.RunState("succeeded"), run.Run.State, "%s, %s: %s", full, a.Repeat, run.Run.Message)
			require.GreaterOrEqual(t, side.Calls(), 2, "%s was made again", full)
			switch {
			case side.Connector == "mail":
				require.Equal(t, 2, side.Calls())
				letters := 0
				for _, l := range w.Others.Mail.Letters() {
					if l.Subject == "Asked again" {
						letters++
					}
				}
				require.Equal(t, 1, letters)
			case a.Repeat == "keyed":
				require.Equal(t, []int{1, 1, 0}, []int{side.Repeats() - repeats, side.Effects() - effects, side.Clashes() - clashes}, "repeats, effects and clashes of %s", full)
			default:
				require.Equal(t, "safe", a.Repeat, full)
			}
			side.SetFaults(standins.Faults{})
		}
	}
	require.Equal(t, len(repeated), tried)
}
