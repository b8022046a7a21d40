package main

import (
	"context"
	"maps"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
)

// The short form: each kind of fault comes once, on one node and on three.
func TestWhateverWasAcceptedIsCarriedOutOnce(t *testing.T) {
	t.Parallel()
	binary := filepath.Join(t.TempDir(), "trellis")
	out, err := exec.Command("go", "build", "-o", binary, "youngtrellis/cmd/trellis").CombinedOutput()
	require.NoError(t, err, string(out))
	for _, nodes := range []int{1, 3} {
		t.Run(map[int]string{1: "on one node", 3: "on three"}[nodes], func(t *testing.T) {
			t.Parallel()
			ctx, cancel := context.WithTimeout(context.Background(), 8*time.Minute)
			defer cancel()
			seed := rand.Uint64N(1_000_000)
			r, err := soak(ctx, settings{nodes: nodes, faults: 12, seed: seed, trees: 3, wait: 2 * time.Second, binary: binary, fast: true, say: t.Logf})
			require.NoError(t, err)
			r.print(t.Output())
			require.Empty(t, r.wrong, "seed %d", seed)
			require.NotEmpty(t, r.held)
		})
	}
}

func TestEveryKindOfFaultComesOnceFirst(t *testing.T) {
	t.Parallel()
	w := &world{}
	all := w.faults(context.Background(), nil)
	names := map[string]int{}
	for _, f := range planned(all, len(all), rand.New(rand.NewPCG(1, 1))) {
		names[f.name]++
	}
	require.Len(t, names, len(all))
	require.Len(t, planned(all, 100, rand.New(rand.NewPCG(1, 1))), 100)
}

// The judge sees whatever is not as it should be.
func TestTheJudgeSeesWhatIsWrong(t *testing.T) {
	t.Parallel()
	keyed, once := event{name: "e0", workflow: "keyed", items: 1}, event{name: "e2", workflow: "once", items: 1}
	happens := func(times map[string]int) *side { return &side{effects: times} }
	whole := outcome{State: "succeeded", Rows: map[string][]cell{"0": {{"passed", ""}, {"read", ""}, {"written", ""}, {"written", ""}}}}
	both := outcome{State: "succeeded", Rows: map[string][]cell{"0": {{"written", ""}, {"written", ""}}}}
	doubt := outcome{State: "partial", Rows: map[string][]cell{"0": {{inDoubt, ""}, {"not_reached", ""}}}}
	for name, c := range map[string]struct {
		e         event
		got, want outcome
		times     map[string]int
		wrong     func(*judgement) []string
	}{
		"a write that is known by its key happened twice": {keyed, whole, whole, map[string]int{"/keyed/first e0-0": 2, "/keyed/second e0-0": 1}, func(j *judgement) []string { return j.keyed }},
		"a write is said and did not happen":              {keyed, whole, whole, map[string]int{"/keyed/first e0-0": 1}, func(j *judgement) []string { return j.keyed }},
		"a write happened twice that nobody knows again":  {once, both, both, map[string]int{"/once/poke e2-0": 2, "/keyed/after e2-0": 1}, func(j *judgement) []string { return j.once }},
		"what is in doubt happened twice":                 {once, doubt, both, map[string]int{"/once/poke e2-0": 2}, func(j *judgement) []string { return j.doubt }},
		"something happened of which nothing is said":     {once, doubt, both, map[string]int{"/once/poke e2-0": 1, "/keyed/after e2-0": 1}, func(j *judgement) []string { return j.keyed }},
		"a run ended otherwise":                           {once, outcome{State: "failed", Rows: both.Rows}, both, map[string]int{"/once/poke e2-0": 1, "/keyed/after e2-0": 1}, func(j *judgement) []string { return j.ends }},
		"a run in doubt is said to have succeeded":        {once, outcome{State: "succeeded", Rows: doubt.Rows}, both, nil, func(j *judgement) []string { return j.ends }},
		"an item is missing":                              {once, outcome{State: "succeeded", Rows: nil}, both, nil, func(j *judgement) []string { return j.differ }},
		"an item did otherwise":                           {once, outcome{State: "succeeded", Rows: map[string][]cell{"0": {{"written", ""}, {"set_aside", "no"}}}}, both, map[string]int{"/once/poke e2-0": 1}, func(j *judgement) []string { return j.differ }},
	} {
		j := &judgement{world: &world{side: happens(c.times)}}
		j.compare(c.e, uuid.Nil, &c.got, &c.want)
		require.NotEmpty(t, c.wrong(j), name)
	}
	j := &judgement{world: &world{side: happens(map[string]int{"/keyed/first e0-0": 1, "/keyed/second e0-0": 1})}}
	j.compare(keyed, uuid.Nil, &whole, &whole)
	j.side = happens(map[string]int{"/once/poke e2-0": 1})
	j.compare(once, uuid.Nil, &doubt, &both)
	require.Empty(t, append(append(append(append(j.ends, j.differ...), j.keyed...), j.once...), j.doubt...), "and nothing else")
}

// The twin gives the same at every time, and knows what becomes of every item.
func TestTheTwinIsTheSameAtEveryTime(t *testing.T) {
	t.Parallel()
	docs := documents("http://side.example")
	maps.Copy(docs, forest(4, "http://side.example", 7))
	for n := range 120 {
		e := nth(n, 4, time.Unix(1_800_000_000, 0))
		first, err := twin(context.Background(), e, docs[e.workflow])
		require.NoError(t, err)
		again, err := twin(context.Background(), e, docs[e.workflow])
		require.NoError(t, err)
		require.Equal(t, first, again)
		if !strings.HasPrefix(e.workflow, "tree") {
			require.Len(t, first.Rows, e.items)
		}
		require.Contains(t, []string{"succeeded", "partial"}, first.State)
	}
}
