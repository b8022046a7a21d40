package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/item"
)

// spools are places apart from memory that are in memory.
type spools struct {
	mu         sync.Mutex
	open, made int
	broken     error
}

func (s *spools) Spool() (Spool, error) {
	if s.broken != nil {
		return nil, s.broken
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open++
	s.made++
	return &spool{of: s}, nil
}

type spool struct {
	of   *spools
	text []byte
}

func (s *spool) Append(b []byte) (int64, error) {
	at := len(s.text)
	s.text = append(s.text, b...)
	return int64(at), nil
}

func (s *spool) Read(at int64, n int) ([]byte, error) { return s.text[at : int(at)+n], nil }

func (s *spool) Close() error {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	s.of.open--
	return nil
}

// What lies in a spool is the same when it comes back.
func TestAFlowComesBackFromASpoolAsItWas(t *testing.T) {
	t.Parallel()
	at := time.Unix(1_800_000_000, 5000).UTC()
	root := item.New(3, map[string]any{"n": int64(3), "deep": map[string]any{"list": []any{nil, true, 1.5, "é", int64(-9)}}, "none": nil}, at)
	rounds := item.Rounds("").Add(item.Round{Edition: 1, N: 300})
	child := root.Child(4, rounds, 70000, map[string]any{"piece": "bowl"}, at.Add(time.Second))
	group := &item.Item{Address: item.Group(5, "", 2, 9), Fields: map[string]any{}, At: at, Step: 5, Members: []item.Address{root.Address, child.Address}, Trigger: root}
	kept := group.Derive(6, rounds, group.Fields, at)
	f := &flow{it: kept, at: 6, rounds: rounds, entering: true, met: true, generation: 3, former: []byte{1, 2}, due: at, bytes: 77, wrote: []uint16{2, 700},
		source: &reading{page: 4, cursor: map[string]any{"after": "x"}, ordinal: 9}, turns: &turn{up: &turn{loop: 1, n: 2}, loop: 2, rounds: rounds, n: 5},
		order: order{"a\xff", 2}, place: &place{&place{nil, 7}, -3}, stood: &stood{&stood{nil, "a"}, "b\x00"}}
	f.passed(4, rounds, Cell{Step: 4, Fate: Passed, Text: "so"}, 1)
	f.passed(5, "", Cell{Step: 5, Fate: Written}, 2)

	x := newTestExecution(&ByteAccount{})
	p := newPile(x)
	n, err := p.add(f)
	require.NoError(t, err)
	require.Nil(t, p.flows[n])
	back, err := p.get(n)
	require.NoError(t, err)
	require.Equal(t, f, back)
	require.Equal(t, f.cells(func(int) bool { return false }), back.cells(func(int) bool { return false }))

	for cut := range x.Spools.(*spools).made {
		_ = cut
		text := p.spool.(*spool).text
		for n := range text {
			_, err := readFlow(text[:n])
			require.Error(t, err, "what is torn is never taken for whole, cut at %d of %d", n, len(text))
		}
	}
}

func newTestExecution(a *ByteAccount) *execution {
	return &execution{Run: &Run{World: World{Spools: &spools{}, Account: a}}}
}

func TestWhatIsHeldIsBoundedByTheAccount(t *testing.T) {
	t.Parallel()
	a := &ByteAccount{Limit: 10_000}
	x := newTestExecution(a)
	p := newPile(x)
	for i := range 100 {
		_, err := p.add(&flow{it: item.New(uint32(i), map[string]any{"n": int64(i)}, time.Time{}), bytes: 10})
		require.NoError(t, err)
	}
	require.LessOrEqual(t, a.Used(), a.Limit)
	require.True(t, a.tight())
	require.Equal(t, 1, x.Spools.(*spools).made)
	for i := range 50 {
		f, err := p.release(i)
		require.NoError(t, err)
		require.EqualValues(t, i, f.it.Fields["n"])
	}
	x.close()
	require.Zero(t, a.Used(), "what an execution leaves behind is given back")
	require.Zero(t, x.Spools.(*spools).open)
}

// A run that is cut while it holds a list gives back what that took.
func TestACutRunLeavesNothingInTheAccount(t *testing.T) {
	t.Parallel()
	a := &ByteAccount{Limit: 1 << 20}
	w := newWorld()
	r, _ := newRun(numberedItems(500), w, Pass{Number: 1, Plan: plan(t, `
  - {name: all, type: batch, settings: {by: item.n % 50, as: list}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.list[0].n )"}}`)})
	r.Account, r.Spools = a, &spools{}
	ctx, cancel := context.WithCancelCause(context.Background())
	calls := 0
	w.meet = func(string) error {
		if calls++; calls == 10 {
			cancel(ErrDropped)
		}
		return nil
	}
	_, err := r.Execute(ctx, nil)
	require.ErrorIs(t, err, ErrDropped, "wherever the cut was met")
	require.Zero(t, a.Used())
}

func TestNoRoomForWhatIsHeldIsOurFault(t *testing.T) {
	t.Parallel()
	r, _ := newRun(numberedItems(5), newWorld(), Pass{Number: 1, Plan: plan(t, `  - {name: all, type: gather, settings: {fields: {n: {how: count}}}}`)})
	r.Account, r.Spools = &ByteAccount{}, &spools{broken: errors.New("the disk is full")}
	_, err := r.Execute(context.Background(), nil)
	require.EqualError(t, err, "no room for what a step holds: the disk is full", fmt.Sprint(err))
}
