package test

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// arrivals takes down what arrives at an address that the workspace may call.
type arrivals struct {
	mu   sync.Mutex
	seen []string
}

func (c *arrivals) last() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.seen) == 0 {
		return ""
	}
	return c.seen[len(c.seen)-1]
}

func echoed(t *testing.T, w *ottermere.World) (string, *arrivals) {
	c := &arrivals{}
	at := serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		c.mu.Lock()
		c.seen = append(c.seen, fmt.Sprintf("%s %s | %s | %s | %s", r.Method, r.RequestURI, r.Header.Get("X-Api-Key"), r.Header.Get("Authorization"), b))
		c.mu.Unlock()
		rw.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(rw, `{"ok": true}`)
	})
	ctx := within(t, 10*time.Second)
	known, err := ottermere.Answer[struct{ Addresses []string }](w.Client.ListAllowances(ctx))
	require.NoError(t, err)
	_, err = ottermere.Answer[struct{}](w.Client.SetAllowances(ctx, client.SetAllowancesJSONRequestBody{Addresses: append(known.Addresses, host(at))}))
	require.NoError(t, err)
	return at, c
}

// A pasted call is kept as an action with its connection; a second of the same address
// joins it, one of another port does not, and nothing is left where storing fails.
func TestPastedCallsAreKept(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	at, seen := echoed(t, w)
	other, _ := echoed(t, w)
	keep := func(body client.KeepPasted) (client.KeptPasted, error) {
		return ottermere.Answer[client.KeptPasted](w.Client.KeepPasted(ctx, body))
	}
	connectors := func() (own []string) {
		list, err := ottermere.Answer[struct{ Connectors []client.Connector }](w.Client.ListConnectors(ctx))
		require.NoError(t, err)
		for _, c := range list.Connectors {
			if c.Own {
				own = append(own, fmt.Sprintf("%s %d", c.Name, c.Version))
			}
		}
		return own
	}
	fails := func(body client.KeepPasted, want string) {
		t.Helper()
		before := connectors()
		_, err := keep(body)
		var status *ottermere.Status
		require.ErrorAs(t, err, &status)
		require.Contains(t, []int{409, 422}, status.Code)
		require.Contains(t, status.Body, want)
		require.Equal(t, before, connectors(), "nothing is left behind")
	}
	orders := "curl '" + at + "/v1/orders?b=2&a=1' -H 'X-Api-Key: planted-1234567890'"
	fails(client.KeepPasted{Text: orders, Connection: some("Not a name")}, "cannot be the name of a connection")
	fails(client.KeepPasted{Text: orders, Connector: some("tables")}, "comes with Young Trellis")
	fails(client.KeepPasted{Text: orders, Connector: some("Not a name")}, "name")
	fails(client.KeepPasted{Text: "curl " + at + " -H 'X-Api-Key: YOUR_KEY'"}, "X-Api-Key is required and empty")

	k, err := keep(client.KeepPasted{Text: orders, Connector: some("hall-orders"), Title: some("Orders of the hall"), Action: some("list"), Connection: some("hall")})
	require.NoError(t, err)
	require.Equal(t, []any{"hall-orders", 1, "hall-orders.list", false, "hall", true}, []any{k.Connector, k.Version, k.Action, k.Joined, k.Connection.Name, k.Made})
	require.Equal(t, client.ConnectionState("ok"), k.Connection.State, k.Connection.Words)
	require.Equal(t, "GET /v1/orders?b=2&a=1 | planted-1234567890 |  | ", seen.last(), "it is tried with the call itself")

	p, err := ottermere.Answer[client.Pasted](w.Client.PasteCall(ctx, client.Paste{Text: "curl " + at + "/v1/orders -H 'X-Api-Key: planted-1234567890' -d name=Jug"}))
	require.NoError(t, err)
	require.Equal(t, []any{"hall-orders", true, "post_v1_orders"}, []any{p.Connector, *p.Joins, p.Action})
	require.Contains(t, p.Request, "POST /v1/orders HTTP/1.1\nHost: "+host(at)+"\n")
	require.Contains(t, p.Request, "\n\nname=Jug")
	require.NotContains(t, p.Request, "planted-1234567890")

	k, err = keep(client.KeepPasted{Text: "curl " + at + "/v1/orders -H 'X-Api-Key: planted-1234567890' -d name=Jug"})
	require.NoError(t, err)
	require.Equal(t, []any{"hall-orders", 2, "hall-orders.post_v1_orders", true, "hall", false}, []any{k.Connector, k.Version, k.Action, k.Joined, k.Connection.Name, k.Made}, "the same secret is kept already")
	require.NoError(t, tries(ctx, w.Client, "hall", "post_v1_orders", `{}`))
	require.Equal(t, "POST /v1/orders | planted-1234567890 |  | name=Jug", seen.last())
	require.NoError(t, tries(ctx, w.Client, "hall", "post_v1_orders", `{"name": "Tall bowl"}`))
	require.Equal(t, "POST /v1/orders | planted-1234567890 |  | name=Tall+bowl", seen.last())

	k, err = keep(client.KeepPasted{Text: "curl -u mara:YOUR_PASSWORD " + at + "/v1/pieces", Values: &map[string]string{"secret": "kiln pass"}})
	require.NoError(t, err)
	require.Equal(t, []any{"hall-orders", 3, true, "hall-orders", true}, []any{k.Connector, k.Version, k.Joined, k.Connection.Name, k.Made}, "another sign-in is another connection")
	require.NoError(t, tries(ctx, w.Client, k.Connection.Name, "get_v1_pieces", `{}`))
	require.Contains(t, seen.last(), "GET /v1/pieces |  | Basic bWFyYTpraWxuIHBhc3M=")
	require.NoError(t, tries(ctx, w.Client, "hall", "list", `{}`), "the connection that was there goes on with the newer version")

	fails(client.KeepPasted{Text: "curl " + at + "/v1/more -H 'X-Api-Key: another-1234567890'", Connection: some("hall")}, "has another secret")
	fails(client.KeepPasted{Text: "curl " + other + "/v1/orders", Connector: some("hall-orders")}, "give it a connector of its own")
	k, err = keep(client.KeepPasted{Text: "curl " + other + "/v1/orders -H 'X-Api-Key: planted-1234567890'"})
	require.NoError(t, err)
	require.False(t, k.Joined)
	require.Equal(t, "at-127-0-0-1-"+host(other)[len("127.0.0.1:"):], k.Connector)

	// Two at once: one of them is told, and both are kept in the end.
	var group sync.WaitGroup
	for i := range 6 {
		group.Go(func() {
			for {
				_, err := keep(client.KeepPasted{Text: fmt.Sprintf("curl %s/v2/at-once/x%d -H 'X-Api-Key: planted-1234567890'", at, i), Action: some(fmt.Sprintf("once_%d", i))})
				if err == nil || !strings.Contains(err.Error(), "at the same moment") {
					if err != nil {
						t.Error(err)
					}
					return
				}
			}
		})
	}
	group.Wait()
	c, err := ottermere.Answer[client.Connector](w.Client.GetConnector(ctx, "hall-orders"))
	require.NoError(t, err)
	once := 0
	for _, a := range c.Actions {
		if strings.HasPrefix(a.Name, "once_") {
			once++
		}
	}
	require.Equal(t, 6, once, "%d actions of version %d", len(c.Actions), c.Version)
}

// The same from the command line.
func TestPastedCallsAreKeptByCommand(t *testing.T) {
	t.Parallel()
	w := world(t)
	at, _ := echoed(t, w)
	call := "curl " + at + "/v1/orders/{order} -H 'X-Api-Key: planted-1234567890' --json '{\"name\": \"Jug\"}'"
	for _, c := range []struct {
		in   string
		args []string
		want []string
		code int
	}{
		{call, nil, []string{"It goes out as\n  POST /v1/orders/%7Border%7D HTTP/1.1", `{"name":"Jug"}`, "secret taken out: the header X-Api-Key ••••7890", "to fill in: {order} in the address", "note: The body goes out with the same values", "Nothing is kept yet. With --keep it becomes the action post_v1_orders of a new connector"}, 0},
		{call, []string{"--connector", "hall", "--connection", "hall", "--action", "change"}, []string{"connection: hall", "made the connector hall, version 1: the call is its action hall.change", "stored the connection hall: Works"}, 0},
		{call, []string{"--keep"}, []string{"joined the connector hall, version 1", "the secret is that of the connection hall"}, 0},
		{call, []string{"--connection", "Not a name"}, []string{"cannot be the name"}, 2},
		{"curl " + at + "/x -H 'X-Api-Key: YOUR_KEY'", nil, []string{"to enter: YOUR_KEY in the header X-Api-Key"}, 0},
		{"curl " + at + "/x -H 'X-Api-Key: YOUR_KEY'", []string{"--keep"}, []string{"holds YOUR_KEY: put its value into a file", "--values-file"}, 2},
		{"nothing", nil, []string{"neither a curl command"}, 2},
	} {
		out, code := said(t, w, c.in, append([]string{"connector", "paste", "-"}, c.args...)...)
		require.Equal(t, c.code, code, out)
		require.NotContains(t, out, "planted-1234567890")
		for _, want := range c.want {
			require.Contains(t, out, want)
		}
	}
}
