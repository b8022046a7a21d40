package workflow

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatWritesOutsideAndWhatIsNewInIt(t *testing.T) {
	t.Parallel()
	read := func(steps string) *Workflow {
		w, _, problems := Read([]byte("format: young-trellis/1\nname: x\ntrigger: {type: manual}\nsteps:\n" + steps))
		require.Empty(t, problems)
		return w
	}
	const rows, added = "  - {name: rows, type: tables.rows, connection: tables}\n", "  - {name: added, type: tables.append, connection: tables}\n"
	const call, seen = "  - {name: call, type: http, settings: {method: POST, url: https://clay.example/a}}\n", "  - {name: seen, type: http, settings: {url: https://clay.example/a}}\n"
	of := func(before, after *Workflow) map[string]bool {
		out := map[string]bool{}
		for _, w := range Writes(before, after, shipped(t)) {
			out[w.Number+" "+w.Step.Name] = w.New
		}
		return out
	}
	all := read(rows + added + call + seen)
	require.Equal(t, map[string]bool{"2 added": true, "3 call": true}, of(nil, all), "what reads is none")
	require.Equal(t, map[string]bool{"2 added": false, "3 call": true}, of(read(added), all))
	require.Equal(t, map[string]bool{"1 again": false}, of(all, read("  - {name: again, type: tables.append, connection: tables, note: elsewhere}\n")), "by another name it is the same way")
	require.Equal(t, map[string]bool{"1 again": true}, of(all, read("  - {name: again, type: tables.append, connection: others}\n")), "as somebody else")
	require.Equal(t, map[string]bool{"1 call": true}, of(all, read("  - {name: call, type: http, settings: {method: POST, url: https://clay.example/b}}\n")))
	require.Equal(t, map[string]bool{"1 call": true}, of(read("  - {name: call, type: http, off: true, settings: {method: POST, url: https://clay.example/a}}\n"), read(call)), "what was off wrote nothing")
	loop := func(more string) string {
		return "  - {name: loop, " + more + "type: loop, settings: {size: 1, steps: [{name: in, type: tables.append, connection: tables}]}}\n"
	}
	require.Equal(t, map[string]bool{"1.1 in": true}, of(nil, read(loop(""))))
	require.Empty(t, of(nil, read(loop("off: true, "))), "nor does what stands in it")

	first := func(text string) string {
		l, found := FirstWrite(read(text), shipped(t))
		if !found {
			return ""
		}
		return l.Number + " " + l.Step.Name
	}
	require.Equal(t, "2 added", first(rows+added+call))
	require.Equal(t, "2 loop", first(rows+loop("")+call), "the step in which it stands")
	require.Equal(t, "3 call", first(rows+loop("off: true, ")+call))
	require.Empty(t, first(rows+seen))
	require.Empty(t, first(rows+"on_failure:\n"+call), "what is done when a run fails is no part of its way")
}
