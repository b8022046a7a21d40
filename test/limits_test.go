package test

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins"
)

// own adds a connector to a world, and a connection to it.
func own(t *testing.T, w *ottermere.World, name, address, more string) {
	t.Helper()
	ctx := context.Background()
	known, err := ottermere.Answer[struct{ Addresses []string }](w.Client.ListAllowances(ctx))
	require.NoError(t, err)
	_, err = ottermere.Answer[struct{}](w.Client.SetAllowances(ctx, client.SetAllowancesJSONRequestBody{Addresses: append(known.Addresses, address)}))
	require.NoError(t, err)
	document := fmt.Sprintf("format: young-trellis-connector/1\nname: %s\ntitle: Own\nversion: 1\nbase: http://%s\nsign_in: [{method: bearer, title: Token}]\ncheck: {request: {method: GET, path: /check}, says: own, any_answer: true}\n%s", name, address, more)
	_, err = ottermere.Answer[client.Connector](w.Client.AddConnector(ctx, client.ConnectorDocument{Document: document}))
	require.NoError(t, err)
	c, err := ottermere.Answer[client.Connection](w.Client.AddConnection(ctx, client.NewConnection{Name: name, Connector: name, Account: client.Fields(`{}`), Secret: some("planted-own-secret")}))
	require.NoError(t, err)
	require.Equal(t, client.ConnectionState("ok"), c.State, c.Words)
}

// Two processes share a connection that takes five calls a second.
func TestTwoProcessesKeepToOneLimit(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	var mu sync.Mutex
	var times []time.Time
	at := serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/call" {
			mu.Lock()
			times = append(times, time.Now())
			mu.Unlock()
		}
		_, _ = rw.Write([]byte("{}"))
	})
	own(t, w, "limited", host(at), "limits: {calls: 5, per: 1s, parallel: 3}\nactions:\n  call: {title: Call, sentence: Call it, effect: read, fields: {type: object}, request: {method: GET, path: /call}, sample: {}}\n")
	second := another(t, w)
	const lasts = 14 * time.Second
	end := time.Now().Add(lasts)
	var wait sync.WaitGroup
	for i := range 8 {
		wait.Go(func() {
			for time.Now().Before(end) && ctx.Err() == nil {
				if err := tries(ctx, []*client.Client{w.Client, second}[i%2], "limited", "call", `{}`); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	wait.Wait()
	slices.SortFunc(times, func(a, b time.Time) int { return a.Compare(b) })
	for i := range times {
		n := 0
		for _, later := range times[i:] {
			if later.Sub(times[i]) < 10*time.Second {
				n++
			}
		}
		require.LessOrEqual(t, n, 50, "never more than fifty in any ten seconds")
	}
	took := times[len(times)-1].Sub(times[0])
	require.GreaterOrEqual(t, float64(len(times)-1)/took.Seconds(), 4.5, "nine tenths of the limit are used: %d in %s", len(times), took)
}

// The other side asks to wait eleven minutes, in words only. The run parks, the
// connection is held for every other run, and both wake once.
func TestAWaitInWordsHoldsTheConnection(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	w.Tables.SetFaults(standins.Faults{Wait: 660, WaitInText: true})
	var runs []client.Started
	for i := range 3 {
		r, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "kiln-list", client.Items{}))
		require.NoError(t, err)
		runs = append(runs, r)
		run, err := w.Wait(ctx, r.Run)
		require.NoError(t, err)
		require.Equal(t, client.RunState("waiting"), run.Run.State)
		require.Equal(t, "told_to_wait", run.Run.Reason)
		require.WithinDuration(t, time.Now().Add(11*time.Minute), *run.Run.Wake, 10*time.Second)
		require.Contains(t, run.Run.Message, "Try again in 11 minutes")
		require.Equal(t, 1, w.Tables.Calls(), "run %d: only the first asked; the others found the connection held", i+1)
	}
	c := connectionOf(t, w, "tables")
	require.NotNil(t, c.HeldUntil)
	require.Contains(t, c.Words, "asked to wait until")

	w.Tables.SetFaults(standins.Faults{})
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	sc, err := w.Service.Store.ScopeOfToken(ctx, w.Token)
	require.NoError(t, err)
	// Eleven minutes later. A run that woke sooner than the hold is over would wait
	// for another eleven.
	_, err = conn.Exec(ctx, "UPDATE connection_gate SET held = now()")
	require.NoError(t, err)
	w.Service.Connections.Forget(sc.Workspace(), "tables")
	_, err = conn.Exec(ctx, "UPDATE live SET wake = now() WHERE state = 'waiting'")
	require.NoError(t, err)
	for _, r := range runs {
		eventually(t, "the run wakes and ends", 15*time.Second, func() bool {
			run, err := w.Wait(ctx, r.Run)
			return err == nil && run.Run.State == "succeeded"
		})
		run, err := w.Wait(ctx, r.Run)
		require.NoError(t, err)
		require.Equal(t, 9, run.Run.Counts.Calls, "one read and eight writes: it woke once")
	}
}

func TestAGrantIsNeededToBuildWithAConnection(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	made, err := ottermere.Answer[client.MadeToken](w.Client.CreateToken(ctx, client.NewToken{Name: "a builder", Role: some(client.Role("builder"))}))
	require.NoError(t, err)
	builder, err := w.NewClient(made.Secret)
	require.NoError(t, err)
	input := `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`
	require.NoError(t, tries(ctx, builder, "tables", "rows", input))
	shape := func(grants []client.Grant) {
		_, err := ottermere.Answer[client.Connection](w.Client.ShapeConnection(ctx, "tables", client.ConnectionSettings{Everyone: false, Grants: &grants}))
		require.NoError(t, err)
	}
	shape([]client.Grant{})
	require.ErrorContains(t, tries(ctx, builder, "tables", "rows", input), "You may not use the connection tables")
	checked, err := ottermere.Answer[client.Workflow](builder.GetWorkflow(ctx, "kiln-list"))
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(checked.Problems), "You may not use the connection")
	_, err = ottermere.Answer[client.Workflow](builder.GoLive(ctx, "kiln-list", &client.GoLiveParams{}))
	require.Error(t, err)
	_, err = ottermere.Answer[client.Workflow](builder.GoBack(ctx, "kiln-list", 1, nil))
	require.ErrorContains(t, err, "Revision 1 has errors by now", "an earlier revision names it, too")
	_, err = ottermere.Answer[client.Rehearsal](builder.Rehearse(ctx, "kiln-list", client.Rehearse{}))
	require.Error(t, err, "a rehearsal uses it too")
	shape([]client.Grant{{Email: w.Email, Actions: &[]string{"rows"}}})
	require.NoError(t, tries(ctx, builder, "tables", "rows", input))
	require.ErrorContains(t, tries(ctx, builder, "tables", "append", `{"workbook": "w", "tab": "t", "values": {"a": 1}}`), "You may not use")
	_, err = ottermere.Answer[client.Connection](w.Client.RemoveConnection(ctx, "tables"))
	require.ErrorContains(t, err, "It is used by counter-calls, kiln-list")
}

func host(address string) string { return strings.TrimPrefix(address, "http://") }
