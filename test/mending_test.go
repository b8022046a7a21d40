package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// counter is an other side that can be closed, and counts what has its effect.
type counter struct {
	*httptest.Server
	mu     sync.Mutex // protects the following fields
	closed func(n int) string
	cut    func(n int) bool // after the effect, before the answer
	calls  int
	done   map[int]int
	at     func(calls int) // called with every effect
}

func newCounter(t *testing.T) *counter {
	c := &counter{done: map[int]int{}}
	c.Server = httptest.NewServer(c)
	t.Cleanup(func() { c.CloseClientConnections(); c.Close() })
	return c
}

// ServeHTTP implements http.Handler.
func (c *counter) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var in struct{ N int }
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed != nil {
		if why := c.closed(in.N); why != "" {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusUnprocessableEntity)
			_ = json.NewEncoder(w).Encode(map[string]string{"error": why})
			return
		}
	}
	c.calls++
	c.done[in.N]++
	if c.at != nil {
		c.at(c.calls)
	}
	if c.cut != nil && c.cut(in.N) {
		panic(http.ErrAbortHandler)
	}
	_, _ = fmt.Fprintf(w, `{"n": %d}`, in.N)
}

func (c *counter) set(closed func(int) string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = closed
}

func (c *counter) count() (calls, twice int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, n := range c.done {
		if n > 1 {
			twice++
		}
	}
	return c.calls, twice
}

// pieces makes items numbered from one number on.
func pieces(from, many int) []string {
	out := make([]string, many)
	for i := range out {
		out[i] = fmt.Sprintf(`{"n": %d, "name": "Piece %d"}`, from+i, from+i)
	}
	return out
}

func counted(t *testing.T, w *ottermere.World, name string, c *counter, repeat string) {
	t.Helper()
	ctx := within(t, 10*time.Second)
	known, err := ottermere.Answer[struct{ Addresses []string }](w.Client.ListAllowances(ctx))
	require.NoError(t, err)
	_, err = ottermere.Answer[struct{}](w.Client.SetAllowances(ctx, api.SetAllowancesJSONRequestBody{Addresses: append(known.Addresses, strings.TrimPrefix(c.URL, "http://"))}))
	require.NoError(t, err)
	live(t, w, name, fmt.Sprintf(`  - {name: sent, type: http, parallel: 4, on_error: set_aside, retry: {attempts: 1}, output: keep, settings: {method: POST, url: %q, repeat: %s, json: {n: "(= item.n )"}}}
`, c.URL+"/pieces", repeat))
}

func mending(t *testing.T, w *ottermere.World, id uuid.UUID) api.Mending {
	t.Helper()
	m, err := ottermere.Answer[api.Mending](w.Client.GetMending(within(t, 10*time.Second), id))
	require.NoError(t, err)
	return m
}

// settled waits until a mending is over.
func settled(t *testing.T, w *ottermere.World, id uuid.UUID) api.Mending {
	t.Helper()
	var m api.Mending
	eventually(t, "the mending is over", time.Minute, func() bool {
		m = mending(t, w, id)
		return m.State == api.MendingStateEnded || m.State == api.MendingStateCancelled
	})
	return m
}

// Five thousand items that one error set aside are tried again, with a word on
// how far it is, ended half-way, and gone on with: none is sent twice.
func TestFiveThousandItemsAreTriedAgain(t *testing.T) {
	t.Parallel()
	w, c := world(t), newCounter(t)
	ctx := within(t, 3*time.Minute)
	counted(t, w, "many", c, "keyed")
	c.set(func(n int) string { return fmt.Sprintf("the shelf %d is closed", n) })
	for _, many := range []int{4000, 600, 400} {
		r := starts(t, w, "many", pieces(10_000*many, many)...)
		require.Equal(t, many, r.Run.Counts.SetAside)
	}
	groups, err := ottermere.Answer[api.ItemGroups](w.Client.ListItemGroups(ctx, &api.ListItemGroupsParams{}))
	require.NoError(t, err)
	require.Equal(t, 5000, groups.Total)
	require.Len(t, groups.Groups, 1, "one error, whatever the shelf")
	g := groups.Groups[0]
	require.Equal(t, []any{"many", "sent", 5000, 3, 0}, []any{g.Workflow, g.Step, g.Items, g.Runs, g.Busy})

	c.set(nil)
	half := make(chan struct{})
	c.mu.Lock()
	c.at = func(calls int) {
		if calls == 1500 {
			close(half)
		}
	}
	c.mu.Unlock()
	wish := api.MendingWish{What: api.MendingWishWhatRetry, Where: &api.ItemWhere{Workflow: &g.Workflow, Step: &g.Step, Alike: &g.Alike}}
	p, err := ottermere.Answer[api.MendingPlan](w.Client.PlanMending(ctx, wish))
	require.NoError(t, err)
	require.Equal(t, []any{5000, 3, 3}, []any{p.Items, p.Runs, p.Looked})
	require.True(t, p.Steps[0].Writes)
	m, err := ottermere.Answer[api.Mending](w.Client.BeginMending(ctx, wish))
	require.NoError(t, err)
	<-half
	begun := 0
	eventually(t, "it is said how far it is", 20*time.Second, func() bool {
		begun = mending(t, w, m.Id).Begun
		return begun > 0
	})
	_, err = ottermere.Answer[api.Mending](w.Client.CancelMending(ctx, m.Id))
	require.NoError(t, err)
	over := settled(t, w, m.Id)
	require.Equal(t, api.MendingStateCancelled, over.State)
	calls, twice := c.count()
	require.Zero(t, twice)
	require.Equal(t, calls, over.Done, "what was begun is at its end")
	left, err := ottermere.Answer[api.ItemPage](w.Client.ListItems(ctx, &api.ListItemsParams{}))
	require.NoError(t, err)
	require.Equal(t, 5000-calls, left.Total)
	require.Positive(t, left.Total, "it was ended half-way")

	m, err = ottermere.Answer[api.Mending](w.Client.BeginMending(ctx, wish))
	require.NoError(t, err)
	over = settled(t, w, m.Id)
	require.Equal(t, api.MendingStateEnded, over.State)
	require.Empty(t, over.Refused)
	calls, twice = c.count()
	require.Equal(t, []int{5000, 0}, []int{calls, twice})
	left, err = ottermere.Answer[api.ItemPage](w.Client.ListItems(ctx, &api.ListItemsParams{}))
	require.NoError(t, err)
	require.Zero(t, left.Total)
}

// One item is edited and tried again alone; one that may have been sent is
// confirmed, another sent again; a third is dismissed and taken back.
func TestSingleItemsAreMended(t *testing.T) {
	t.Parallel()
	w, c := world(t), newCounter(t)
	ctx := within(t, 2*time.Minute)
	counted(t, w, "single", c, "unsafe")
	c.set(func(n int) string {
		if n == 2 || n == 3 {
			return "too small"
		}
		return ""
	})
	c.cut = func(n int) bool { return n == 4 || n == 5 }
	r := starts(t, w, "single", pieces(0, 6)...)
	require.Equal(t, []int{2, 2}, []int{r.Run.Counts.SetAside, r.Run.Counts.MayHaveBeenSent})
	c.cut = nil
	items := func() map[string]api.WaitingItem {
		page, err := ottermere.Answer[api.ItemPage](w.Client.ListItems(ctx, &api.ListItemsParams{Run: &r.Run.Id}))
		require.NoError(t, err)
		out := map[string]api.WaitingItem{}
		for _, x := range page.Items {
			out[x.Label] = x
		}
		return out
	}
	waiting := items()
	require.Len(t, waiting, 4)
	do := func(what api.MendingWishWhat, label, fields string) api.Mending {
		ref := api.ItemRef{Run: r.Run.Id, Address: waiting[label].Address}
		if fields != "" {
			f := api.Fields(fields)
			ref.Fields = &f
		}
		m, err := ottermere.Answer[api.Mending](w.Client.BeginMending(ctx, api.MendingWish{What: what, Items: &[]api.ItemRef{ref}}))
		require.NoError(t, err)
		return settled(t, w, m.Id)
	}
	before, _ := c.count()
	require.Equal(t, 1, do(api.MendingWishWhatConfirm, "Piece 4", "").Done)
	calls, _ := c.count()
	require.Equal(t, before, calls, "nothing is sent of what was done")
	require.Equal(t, 1, do(api.MendingWishWhatRetry, "Piece 5", "").Done)
	require.Equal(t, 1, do(api.MendingWishWhatRetry, "Piece 2", `{"n": 20, "name": "Piece 2"}`).Done)
	require.Equal(t, map[int]int{0: 1, 1: 1, 4: 1, 5: 2, 20: 1}, c.done)
	o, err := ottermere.Answer[api.OpenedCell](w.Client.OpenCell(ctx, r.Run.Id, waiting["Piece 2"].Address, "sent"))
	require.NoError(t, err)
	require.NotNil(t, o.EditedBy)
	require.JSONEq(t, `{"n": 20, "name": "Piece 2"}`, string(o.Before))

	require.Equal(t, 1, do(api.MendingWishWhatRetry, "Piece 3", "").Again, "it is refused again")
	ref := []api.ItemRef{{Run: r.Run.Id, Address: waiting["Piece 3"].Address}}
	d, err := ottermere.Answer[api.Dismissed](w.Client.DismissItems(ctx, api.Dismissal{Items: &ref}))
	require.NoError(t, err)
	require.Equal(t, 1, d.Items)
	require.Empty(t, items())
	_, err = ottermere.Answer[api.Mending](w.Client.BeginMending(ctx, api.MendingWish{What: api.MendingWishWhatRetry, Items: &ref}))
	require.ErrorContains(t, err, "waits for nobody")
	_, err = ottermere.Answer[api.Dismissed](w.Client.DismissItems(ctx, api.Dismissal{Items: &ref, Restore: some(true)}))
	require.NoError(t, err)
	require.Len(t, items(), 1)
	_, err = ottermere.Answer[api.Mending](w.Client.BeginMending(ctx, api.MendingWish{What: api.MendingWishWhatConfirm, Items: &ref}))
	require.ErrorContains(t, err, "nothing of it was sent that could be confirmed")
	_, err = ottermere.Answer[api.Mending](w.Client.BeginMending(ctx, api.MendingWish{What: api.MendingWishWhatRetry}))
	require.ErrorContains(t, err, "Say which items are meant")

	// The same by command.
	command := func(args ...string) string {
		out, err := run(t, append([]string{"--config", w.ConfigPath()}, args...)...)
		require.NoError(t, err, out)
		return out
	}
	require.Contains(t, command("item", "list"), "too small")
	require.Contains(t, command("item", "list", "--like", "too small"), "Piece 3")
	shown := command("item", "show", r.Run.Id.String(), "@"+waiting["Piece 3"].Address)
	require.Contains(t, shown, "trellis item edit")
	out, err := run(t, "--config", w.ConfigPath(), "item", "edit", r.Run.Id.String(), "@"+waiting["Piece 3"].Address, "--set", "n=30")
	require.Error(t, err)
	require.Contains(t, out, "say --yes")
	out = command("item", "edit", r.Run.Id.String(), "@"+waiting["Piece 3"].Address, "--set", "n=30", "--yes")
	require.Contains(t, out, "n: 30, was 3")
	require.Contains(t, out, "1 item went on")
	require.Equal(t, 1, c.done[30])
	require.Contains(t, command("item", "list"), "Nothing waits for anybody.")
	require.Equal(t, "succeeded", string(ended(t, ctx, w, r.Run.Id).Run.State))
}

// Several people may press the same button: each item is tried again once.
func TestARunIsMendedByOneAtATime(t *testing.T) {
	t.Parallel()
	w, c := world(t), newCounter(t)
	ctx := within(t, time.Minute)
	counted(t, w, "one", c, "keyed")
	c.set(func(int) string { return "closed" })
	r := starts(t, w, "one", pieces(0, 40)...)
	c.set(nil)
	wish := api.MendingWish{What: api.MendingWishWhatRetry, Where: &api.ItemWhere{Run: &r.Run.Id}}
	var ids []uuid.UUID
	var group sync.WaitGroup
	var mu sync.Mutex
	for range 4 {
		group.Go(func() {
			m, err := ottermere.Answer[api.Mending](w.Client.BeginMending(context.WithoutCancel(ctx), wish))
			if err == nil {
				mu.Lock()
				ids = append(ids, m.Id)
				mu.Unlock()
			}
		})
	}
	group.Wait()
	done := 0
	for _, id := range ids {
		done += settled(t, w, id).Done
	}
	calls, twice := c.count()
	require.Equal(t, []int{40, 0}, []int{calls, twice})
	require.Equal(t, 40, done)
}
