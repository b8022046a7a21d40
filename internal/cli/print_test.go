package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
)

func cell(f api.Fate, text string) api.Cell { return api.Cell{Fate: f, Text: text} }

func TestTheLatticeIsDrawnWithStems(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	a := &app{out: &out}
	a.lattice([]api.Column{{Name: "read", Kind: "read", In: 1, Out: 2}, {Name: "dry", Kind: "filter", In: 2, Out: 1}, {Name: "sent", Kind: "write", In: 1, Out: 0}}, []api.Row{
		{Row: 1, Label: "Tall jug", Cells: []api.Cell{cell("read", "Tall jug"), cell("passed", "8 days"), cell("set_aside", "no free slot")}},
		{Row: 2, Label: "Large platter", Cells: []api.Cell{cell("read", "Large platter"), cell("held_back", "3 days, needs 6 days"), cell("not_reached", "")}},
	}, 60)
	require.Equal(t, strings.Join([]string{
		"                     read              dry                      sent",
		"                     read 1 → 2        filter 2 → 1             write 1 → 0",
		"    1  Tall jug      ○─ Tall jug ──────●─ 8 days ───────────────▲  no free slot",
		"    2  Large platter ○─ Large platter ─┃  3 days, needs 6 days",
		"",
		"       ○ read outside   ● passed   ┃ held back   ▲ set aside",
		"",
	}, "\n"), tidy(out.String()))
}

// tidy puts the legend in an order that does not hang on the table's.
func tidy(s string) string {
	return strings.Replace(s, "● passed   ○ read outside", "○ read outside   ● passed", 1)
}

func TestTextOfOthersCannotMoveTheCursor(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	(&app{out: &out}).grid([]string{"name"}, [][]string{{"jug\x1b[31m\u202etxt\a"}})
	require.NotContains(t, out.String(), "\x1b")
	require.NotContains(t, out.String(), "\u202e")
	require.Contains(t, out.String(), "jug␛[31m")
}

func TestColourOnlyWhereAsked(t *testing.T) {
	t.Parallel()
	require.Equal(t, "x", (&app{}).paint(red, "x"))
	require.Equal(t, "\x1b[31mx\x1b[0m", (&app{color: true}).paint(red, "x"))
	require.Empty(t, (&app{color: true}).paint(red, ""))
}

func TestItemsComeAsAListOrLineByLine(t *testing.T) {
	t.Parallel()
	a := &app{in: strings.NewReader("{\"a\": 1}\n\n{\"a\": 2}\n")}
	items, err := a.items("-")
	require.NoError(t, err)
	require.Len(t, items, 2)
	a.in = strings.NewReader(`[{"a": 12345678901234567890}]`)
	items, err = a.items("-")
	require.NoError(t, err)
	require.JSONEq(t, `{"a": 12345678901234567890}`, string(items[0]))
	a.in = strings.NewReader("{\"a\": 1}\n{\"a\": \n")
	_, err = a.items("-")
	require.ErrorContains(t, err, "-, line 2")
}

func TestSignInIsKeptInAFileOfOnesOwn(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "deep", "config.json")
	a := &app{config: path}
	_, err := a.settings()
	require.ErrorContains(t, err, "trellis login")
	require.NoError(t, a.save(path, settings{Address: "http://x", Token: "t"}))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	s, err := a.settings()
	require.NoError(t, err)
	require.Equal(t, "t", s.Token)
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	_, err = a.settings()
	require.ErrorContains(t, err, "cannot be read")
}

func TestEveryCommandSaysWhatItIsFor(t *testing.T) {
	t.Parallel()
	root := (&app{}).root()
	for _, c := range root.Commands() {
		require.NotEmpty(t, c.Short, c.Name())
		for _, v := range c.Commands() {
			require.NotEmpty(t, v.Short, c.Name()+" "+v.Name())
		}
	}
	for _, args := range [][]string{{"--help"}, {"run", "--help"}, {"version"}, {"functions", "next", "business", "day"}} {
		var out bytes.Buffer
		require.Zero(t, Run(context.Background(), args, strings.NewReader(""), &out, &out), args)
		require.NotEmpty(t, out.String())
	}
	var said bytes.Buffer
	require.Equal(t, exitNotFound, Run(context.Background(), []string{"functions", "zzzz-qqqq"}, strings.NewReader(""), &said, &said))
	require.Contains(t, said.String(), `no function is about "zzzz-qqqq"`)
	for _, args := range [][]string{{"nonsense"}, {"run", "show"}, {"run", "list", "--nonsense"}, {"login", "http://x"}} {
		var out bytes.Buffer
		require.Equal(t, exitUsage, Run(context.Background(), args, strings.NewReader(""), &out, &out), out.String())
	}
}

func TestTimesOfTodayAreShort(t *testing.T) {
	t.Parallel()
	require.Len(t, when(time.Now()), 8)
	require.Equal(t, "2 Jan", strings.Join(strings.Fields(when(time.Date(2025, 1, 2, 3, 4, 0, 0, time.Local)))[:2], " "))
}

func TestATimeSaysAsMuchAsIsNeeded(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 25, 14, 0, 0, 0, time.UTC)
	for at, want := range map[time.Time]string{
		now.Add(-time.Hour):      "13:00:00",
		now.Add(time.Hour):       "15:00:00",
		now.AddDate(0, -1, 0):    "25 Oct 14:00",
		now.AddDate(0, 0, -1):    "24 Nov 14:00",
		now.AddDate(0, 3, 0):     "25 Feb 2027",
		now.AddDate(-1, 0, 0):    "25 Nov 2025",
		now.Add(-15 * time.Hour): "24 Nov 23:00",
	} {
		require.Equal(t, want, whenSeen(at, now))
	}
}

// A table folds to the terminal: its widest columns are broken into lines, and where that
// is not enough each row is a record of lines.
func TestTablesFoldToTheTerminal(t *testing.T) {
	rows := [][]string{
		{"counter-calls", "Calls at the counter, with notes", "live, revision 3", ""},
		{"kiln-list", "Pieces ready", "live, revision 1", "succeeded, 14:02:11"},
	}
	heads := []string{"name", "title", "state", "last run"}
	for columns, want := range map[string]string{
		"":   "NAME           TITLE                             STATE             LAST RUN\ncounter-calls  Calls at the counter, with notes  live, revision 3\nkiln-list      Pieces ready                      live, revision 1  succeeded, 14:02:11\n",
		"60": "NAME           TITLE          STATE           LAST RUN\ncounter-calls  Calls at the   live, revision\n               counter, with  3\n               notes\nkiln-list      Pieces ready   live, revision  succeeded,\n                              1               14:02:11\n",
		"40": "counter-calls\n  title     Calls at the counter, with\n            notes\n  state     live, revision 3\nkiln-list\n  title     Pieces ready\n  state     live, revision 1\n  last run  succeeded, 14:02:11\n",
	} {
		t.Setenv("COLUMNS", columns)
		var out bytes.Buffer
		(&app{out: &out, raw: &out}).grid(heads, rows)
		require.Equal(t, want, out.String(), columns)
	}
}

// A long line is broken between words on a terminal, and nothing of it is lost.
func TestLongLinesAreBrokenBetweenWords(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"  note: The body goes out with the same values.\nshort\n":    "  note: The body goes out with\n    the same values.\nshort\n",
		"  studio   {\"id\":\"st_24\",\"link\":\"http://127.0.0.1\"}": "  studio   {\"id\":\"st_24\",\"link\":\"http://127.0.0.1\"}",
		"a  b  c": "a  b  c",
		"\x1b[1mnear\x1b[0m suppliers within \x1b[90mforty kilometres\x1b[0m": "\x1b[1mnear\x1b[0m suppliers within \x1b[90mforty\n  kilometres\x1b[0m",
	} {
		require.Equal(t, want, folded(line, 30))
		require.Equal(t, line, folded(line, 0))
	}
}
