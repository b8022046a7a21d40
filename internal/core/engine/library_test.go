package engine

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

var write = flag.Bool("write", false, "write the journal of the present library anew; only before it is released")

// journey is a run as one release carried it out, with its journal.
type journey struct {
	Steps   string           `json:"steps"`
	Items   []map[string]any `json:"items"`
	Picture []string         `json:"picture"`
	Entries []journeyEntry   `json:"entries"`
}

type journeyEntry struct {
	Step    uint16  `json:"step"`
	Rounds  []byte  `json:"rounds,omitempty"`
	Address []byte  `json:"address,omitempty"`
	Part    int     `json:"part"`
	First   uint32  `json:"first,omitempty"`
	Outcome Outcome `json:"outcome"`
	Result  []byte  `json:"result,omitempty"`
	Hash    []byte  `json:"hash,omitempty"`
	Started string  `json:"started"`
	Ended   string  `json:"ended"`

	Failure *call.Failure `json:"failure,omitempty"`
}

// journeyed goes through steps of every base, with functions of every group,
// among them those of which others decide.
const journeyed = `
  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 3, pages: 2}, output: under piece}
  - {name: worked, type: shape, settings: {set: {n: "(= item.piece.n )", who: "(= left(item.who, 2) )", page: "(= html_text(item.page) )", day: "(= format(add(item.at, 1, \"day\", \"Europe/Lisbon\"), \"EEE d MMM HH:mm\") )", price: "(= money(item.piece.n * 12.5, \"EUR\", \"de\") )", phone: "(= phone(item.phone, \"GB\") )", slug: "(= slug(item.who) )", share: "(= round(item.piece.n / 3, 2) )", sum: "(= sum([0.1, 0.2, item.piece.n]) )", like: "(= similarity(item.who, \"Mara\") )"}}}
  - {name: some, type: filter, settings: {where: len(item.who) < 3 or item.n % 2 == 1}}
  - name: way
    type: branch
    settings: {cases: [{name: odd, when: item.n % 2 == len("👨‍👩‍👧"), steps: [{name: sent, type: hall.send, connection: hall, input: {n: "(= item.n * len(characters(item.who)) )"}, output: under answer}]}], else: [{name: none, type: shape, settings: {set: {x: 1}}}]}
  - {name: round, type: loop, settings: {by: tokens(item.page) % 2, steps: [{name: one, type: shape, settings: {set: {round: "(= round.number )"}}}]}}
  - {name: sorted, type: sort, settings: {by: [{of: item.price, order: descending}, {of: item.n}]}}
  - {name: once, type: distinct, settings: {by: "item.slug + \"/\" + text(item.n % 3)"}}
  - {name: lots, type: batch, settings: {size: 2, by: upper(item.who), as: list}}
  - {name: told, type: hall.send, connection: hall, input: {n: "(= len(item.list) )"}, output: under answer}
  - {name: all, type: gather, settings: {fields: {n: {how: count}, lists: {how: list, of: item.list}}}}
`

func journeying(t *testing.T, n int) (string, *journey, *Memory) {
	t.Helper()
	path := fmt.Sprintf("testdata/library-%d.json", n)
	if *write && n == expr.Library {
		k := &journey{Steps: journeyed, Items: []map[string]any{
			{"who": "né👨‍👩‍👧 Quill", "page": "<h1>Cone 9</h1><p>Slow &amp; steady</p>", "at": "2026-03-28T12:00:00Z", "phone": "01632 960142"},
			{"who": "Mara", "page": "<p>Ash</p>", "at": "2026-10-24T12:00:00Z", "phone": "+44 1632 960961"},
		}}
		r, m := newRun(k.Items, newWorld(), Pass{Number: 1, Plan: plan(t, k.Steps)})
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, Succeeded, res.State, res.Reason)
		k.Picture = strings.Split(told(m), "\n")
		for _, e := range m.All() {
			k.Entries = append(k.Entries, journeyEntry{e.Step, []byte(e.Rounds), []byte(e.Address), e.Part, e.First, e.Outcome, e.Result, e.InputHash, e.Started.Format(time.RFC3339Nano), e.Ended.Format(time.RFC3339Nano), e.Failure})
		}
		slices.SortFunc(k.Entries, func(a, b journeyEntry) int {
			return strings.Compare(fmt.Sprintf("%5d%q%q%5d", a.Step, a.Rounds, a.Address, a.Part), fmt.Sprintf("%5d%q%q%5d", b.Step, b.Rounds, b.Address, b.Part))
		})
		b, err := json.MarshalIndent(k, "", " ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, append(b, '\n'), 0o644))
	}
	b, err := os.ReadFile(path)
	require.NoError(t, err, "every library has a journal")
	var k journey
	require.NoError(t, json.Unmarshal(b, &k))
	m := &Memory{}
	for _, fields := range k.Items {
		plain, err := item.Encode(fields)
		require.NoError(t, err)
		o, err := item.DecodeObject(plain)
		require.NoError(t, err)
		m.Items = append(m.Items, o)
	}
	for _, e := range k.Entries {
		started, err := time.Parse(time.RFC3339Nano, e.Started)
		require.NoError(t, err)
		ended, err := time.Parse(time.RFC3339Nano, e.Ended)
		require.NoError(t, err)
		_, err = MemoryJournal{m}.Append(context.Background(), &Entry{Key: Key{Pass: 1, Step: e.Step, Rounds: item.Rounds(e.Rounds), Address: item.Address(e.Address), Part: e.Part},
			First: e.First, Outcome: e.Outcome, Result: e.Result, InputHash: e.Hash, Started: started, Ended: ended, Failure: e.Failure})
		require.NoError(t, err)
	}
	return k.Steps, &k, m
}

// told is the picture of a run with the fields of its items.
func told(m *Memory) string {
	var out []string
	for _, r := range m.Seen {
		b, _ := item.Encode(r.Item.Fields)
		out = append(out, strings.TrimSpace(picture([]Row{r}))+" "+string(b))
	}
	return strings.Join(out, "\n")
}

// A run that an earlier release began gives the same in this one: its journal has
// all that was done outside and all that others decided, and the functions of its
// library still give what they gave.
func TestJournalsOfEveryLibraryAreReplayed(t *testing.T) {
	t.Parallel()
	for n := 1; n <= expr.Library; n++ {
		steps, k, m := journeying(t, n)
		before := len(m.All())
		w := newWorld()
		w.meet = func(string) error { return fmt.Errorf("nothing is sent again") }
		r, _ := newRun(m.Items, w, Pass{Number: 1, Plan: plan(t, steps)})
		r.Journal, r.Source, r.Lattice = MemoryJournal{m}, MemorySource{m}, m
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, Succeeded, res.State, res.Reason)
		require.Equal(t, strings.Join(k.Picture, "\n"), told(m))
		require.Len(t, m.All(), before, "all was known")
		require.NotEmpty(t, decisionsOf(m))
	}
}
