// Package demo holds Ottermere Clayworks: its workflows, lists and samples.
package demo

import "embed"

// Files holds the workflow documents, and the lists.
//
//go:embed workflows/*.yaml lists/*.csv
var Files embed.FS

// List is what a workspace list is called, and what it is for.
type List struct{ Title, About string }

// Lists are the workspace lists, by the names of their files.
var Lists = map[string]List{
	"duty":       {"On duty", "Who of the technicians is called when the hall needs somebody. One is on duty at a time."},
	"words":      {"The house’s words", "How words are spelled that are heard wrongly in memos."},
	"hall_hours": {"The hall’s hours", "When the kiln hall is open, by the day of the week."},
	"readers":    {"Readers of the day’s plan", "Who gets the plan of the day, at which hour and by whose clock."},
}

// Samples of trigger items by workflow, as JSON.
var Samples = map[string][]string{
	"memo-once": {`{"name": "kiln-2-morning.wav"}`, `{"name": "kiln-1-evening.wav"}`, `{"name": "long-walk.wav"}`},
	"glaze-order": {
		`{"order": "O-217", "studio": "Hollowbank Pottery", "lines": [{"glaze": "Celadon 4", "litres": 25}, {"glaze": "Barium blue", "litres": 4}, {"glaze": "Tenmoku", "litres": 0.5}]}`,
		`{"order": "O-218", "studio": "Fernhill Pots", "lines": [{"glaze": "Ash white", "litres": 12}]}`,
	},
	"chat-desk": {
		`{"conversation": "cv_quernlane2", "message": {"id": "m_4", "from": "customer", "text": "Our tiles came out with pinholes. What can we do?", "at": "2026-11-23T09:10:00Z"}}`,
		`{"conversation": "cv_hollowbank1", "message": {"id": "m_2", "from": "us", "text": "It is, up to cone 9. Shall I send the certificate?", "at": "2026-11-23T09:01:00Z"}}`,
		`{"conversation": "cv_hollowbank1", "message": {"id": "m_7", "from": "customer", "text": " ", "at": "2026-11-23T09:12:00Z"}}`,
	},
	"hall-hours": {
		`{"who": "Ada Fen", "day": "2026-12-04", "hour": "18:30", "length": "2 hours"}`,
		`{"who": "Oren Tide", "day": "2026-12-06", "hour": "10:00", "length": "3 hours"}`,
	},
	"glaze-lab": {`{"glaze": "Celadon 4", "cone": "9"}`, `{"glaze": "Barium blue", "cone": "6"}`},
	"counter-calls": {
		`{"call_id": "call-sample-1", "direction": "in", "number": "+441632960141", "caller": "Hollowbank Pottery", "line": "counter", "duration_s": 184, "said": "They need two bags of stoneware and one of porcelain by Thursday. They will collect it.", "started": "2026-11-20T13:09:00Z", "ended": "2026-11-20T13:12:04Z"}`,
		`{"call_id": "call-sample-2", "direction": "in", "number": "+441632960158", "line": "counter", "duration_s": 4, "started": "2026-11-20T13:24:00Z", "ended": "2026-11-20T13:24:04Z"}`,
		`{"call_id": "call-sample-3", "direction": "in", "shown_number": "+441632960171", "caller": "Fernhill Pots", "line": "counter", "duration_s": 241, "started": "2026-11-20T13:33:00Z", "ended": "2026-11-20T13:37:01Z"}`,
		`{"call_id": "call-sample-4", "direction": "in", "number": "+44 1632", "caller": "Saltgrass Studio", "line": "counter", "duration_s": 97, "started": "2026-11-20T14:01:00Z", "ended": "2026-11-20T14:02:37Z"}`,
	},
}
