package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

const oneByOne = `format: young-trellis/1
name: loads-of-people
trigger: {type: webhook, settings: {key: '[item.person, item.n]', verify: none}}
limits: {one_at_a_time_by: trigger.person}
steps:
  - name: told
    type: http
    settings: {method: POST, url: "%s/", repeat: keyed, json: {person: (= item.person ), n: (= item.n )}}
  - name: rest
    type: wait
    settings: {for: 10ms}
  - name: again
    type: http
    settings: {method: POST, url: "%s/", repeat: keyed, json: {person: (= trigger.person ), n: (= trigger.n )}}
`

// hall hears of calls, and who is there at the same time.
type hall struct {
	mu      sync.Mutex
	here    map[string]map[int]int // by person and event: how many calls
	order   map[string][]int       // events as they came first
	clashes []string
	most    int // people at once
}

func (h *hall) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var e struct {
		Person string
		N      int
	}
	if err := json.NewDecoder(r.Body).Decode(&e); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	h.mu.Lock()
	if h.here[e.Person] == nil {
		h.here[e.Person] = map[int]int{}
	}
	h.here[e.Person][e.N]++
	if len(h.here[e.Person]) > 1 {
		h.clashes = append(h.clashes, fmt.Sprint(e.Person, h.here[e.Person]))
	}
	if o := h.order[e.Person]; len(o) == 0 || o[len(o)-1] != e.N {
		h.order[e.Person] = append(o, e.N)
	}
	h.most = max(h.most, len(h.here))
	h.mu.Unlock()
	select { // as long as the call is on its way
	case <-r.Context().Done():
	case <-time.After(time.Duration(rand.IntN(8)) * time.Millisecond):
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.here[e.Person][e.N]--; h.here[e.Person][e.N] == 0 {
		delete(h.here[e.Person], e.N)
	}
	if len(h.here[e.Person]) == 0 {
		delete(h.here, e.Person)
	}
	_, _ = w.Write([]byte("{}"))
}

// A thousand events of fifty people come to three processes, of which one is killed in
// the middle: each person's are carried out in order, no two of one person at once, and
// different people side by side.
func TestLanesHoldOverThreeProcessesOfWhichOneDies(t *testing.T) {
	t.Parallel()
	const people, each = 50, 20
	ctx := within(t, 3*time.Minute)
	h := &hall{here: map[string]map[int]int{}, order: map[string][]int{}}
	side := serveFunc(t, h.ServeHTTP)
	database, folder := clustertest.Database(t), clustertest.Folder(t)
	node := func(name string) string { return folder + "/" + name }
	nodes := []*process{serve(t, database, node("one"), "--lease", "3s")}
	sameVault(t, node("one"), node("two"))
	sameVault(t, node("one"), node("three"))
	nodes = append(nodes, serve(t, database, node("two"), "--lease", "3s"), serve(t, database, node("three"), "--lease", "3s"))
	s, err := store.Open(ctx, database, "")
	require.NoError(t, err)
	t.Cleanup(s.Close)
	sc, err := s.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to test")
	require.NoError(t, err)
	token, _, err := s.CreateToken(ctx, sc, store.NewToken{Name: "test", Role: store.Owner})
	require.NoError(t, err)
	require.NoError(t, s.Allow(ctx, sc, strings.TrimPrefix(side, "http://")))
	client := clientOf(t, nodes[0].address, token)
	_, err = ottermere.Answer[api.Workflow](client.CreateWorkflow(ctx, api.Document{Document: fmt.Sprintf(oneByOne, side, side)}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](client.GoLive(ctx, "loads-of-people", &api.GoLiveParams{}))
	require.NoError(t, err)
	sheet, err := ottermere.Answer[api.CallSheet](client.CallSheet(ctx, "loads-of-people"))
	require.NoError(t, err)
	hook := sheet.Address[strings.Index(sheet.Address, "/hooks/"):]

	var all sync.WaitGroup
	sent := make(chan struct{}, people*each)
	for p := range people {
		all.Go(func() {
			for n := range each {
				body := fmt.Appendf(nil, `{"person": "person %d", "n": %d}`, p, n)
				for try := 0; ; try++ { // to whichever node answers; a repeat is known by its key
					res, err := http.Post(nodes[(p+n+try)%3].address+hook, "application/json", bytes.NewReader(body))
					if err == nil {
						res.Body.Close()
						if res.StatusCode == http.StatusAccepted {
							break
						}
					}
					if ctx.Err() != nil || try > 100 {
						t.Errorf("person %d, event %d was not taken: %v", p, n, err)
						return
					}
				}
				sent <- struct{}{}
			}
		})
	}
	for range people * each / 2 {
		<-sent
	}
	require.NoError(t, nodes[2].Process.Kill())
	_ = nodes[2].Wait()
	all.Wait()
	require.False(t, t.Failed())
	eventually(t, "every run is over", 90*time.Second, func() bool {
		n, err := s.Queued(context.Background(), sc.Workspace(), 1)
		require.NoError(t, err)
		h.mu.Lock()
		defer h.mu.Unlock()
		done := n == 0 && len(h.here) == 0 && len(h.order) == people
		for _, o := range h.order {
			done = done && o[len(o)-1] == each-1
		}
		return done
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	require.Empty(t, h.clashes)
	want := make([]int, each)
	for n := range each {
		want[n] = n
	}
	for p, o := range h.order {
		require.Equal(t, want, o, p)
	}
	require.Greater(t, h.most, 3, "different people go side by side")
	t.Logf("%d people at once at most", h.most)
}

const fewAtOnce = `format: young-trellis/1
name: few-at-once
trigger: {type: manual}
limits: {parallel_runs: 2}
steps:
  - name: told
    type: http
    settings: {method: POST, url: "%s/", repeat: keyed, json: {n: (= item.n )}}
`

// No more runs than may are on their way at once, and one in line says why it waits.
func TestOnlySoManyRunsOfAWorkflowAtOnce(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	var mu sync.Mutex
	here, most, came := 0, 0, 0
	open := make(chan struct{})
	side := serveFunc(t, func(http.ResponseWriter, *http.Request) {
		mu.Lock()
		here++
		most, came = max(most, here), came+1
		mu.Unlock()
		<-open
		mu.Lock()
		here--
		mu.Unlock()
	})
	status, answer := request(t, "PUT", w.Service.Address+"/api/v1/allowances", w.Token, []byte(`{"addresses": ["`+strings.TrimPrefix(side, "http://")+`"]}`))
	require.Equal(t, 200, status, answer)
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: fmt.Sprintf(fewAtOnce, side)}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "few-at-once", &api.GoLiveParams{}))
	require.NoError(t, err)
	var runs []api.Started
	for n := range 7 {
		r, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, "few-at-once", api.Items{Items: &[]api.Fields{api.Fields(fmt.Sprintf(`{"n": %d}`, n))}}))
		require.NoError(t, err)
		runs = append(runs, r)
	}
	eventually(t, "two are on their way", 20*time.Second, func() bool { mu.Lock(); defer mu.Unlock(); return here == 2 })
	out, code := said(t, w, "", "run", "show", runs[6].Run.String())
	require.Zero(t, code, out)
	require.Contains(t, out, "in line for a place")
	close(open)
	for _, r := range runs {
		done, err := w.Wait(ctx, r.Run)
		require.NoError(t, err)
		require.Equal(t, api.RunStateSucceeded, done.Run.State)
	}
	require.Equal(t, 7, came)
	require.Equal(t, 2, most)
}
