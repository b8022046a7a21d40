package store

import (
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
)

func TestAConnectionThatWorksAgainWakesItsRuns(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	b.gated(ctx, t)
	other := b.another(t)
	other.gated(ctx, t)
	park := func(b *bench) uuid.UUID {
		s, err := b.begin(ctx, b.claimed(""))
		require.NoError(t, err)
		require.True(t, b.end(t, &End{Run: s.Run, Claim: 1, State: engine.WaitingOn, Reason: call.ReasonConnection, Connection: "kiln", Message: "The key is not good any more.", Total: -1}))
		return s.Run
	}
	mine, theirs := park(b), park(other)
	waiting, err := b.WaitingFor(ctx, b.sc)
	require.NoError(t, err)
	require.Equal(t, map[string]int{"kiln": 1}, waiting)

	took := 37
	require.NoError(t, b.MarkConnection(ctx, b.sc.workspace, "kiln", Health{State: ConnectionBroken, Said: "The other side says: no", Missing: []string{"write"}, TookMS: &took}))
	state, _, _ := b.state(t, mine)
	require.Equal(t, "waiting", state)
	c, err := b.Connection(ctx, b.sc, "kiln")
	require.NoError(t, err)
	require.Equal(t, ConnectionBroken, c.State)
	require.Equal(t, []string{"write"}, c.Missing)
	require.Equal(t, 37, *c.TookMS)
	require.NotNil(t, c.Checked)

	require.NoError(t, b.MarkConnection(ctx, b.sc.workspace, "kiln", Health{State: ConnectionOK, Scopes: []string{"read"}}))
	state, _, _ = b.state(t, mine)
	require.Equal(t, "queued", state)
	state, _, _ = other.state(t, theirs)
	require.Equal(t, "waiting", state, "another workspace's connection of that name is another")
	c, err = b.Connection(ctx, b.sc, "kiln")
	require.NoError(t, err)
	require.Equal(t, []string{"read"}, c.Scopes)
	require.Equal(t, 37, *c.TookMS, "what is not known anew stays")
	require.ErrorIs(t, b.ConfirmConnection(ctx, b.sc, "kiln"), ErrConflict, "there is nothing to confirm")
}

// An account that somebody has to confirm wakes its runs only then.
func TestAnAccountIsConfirmedBeforeItIsUsed(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	id := b.gated(ctx, t)
	_, err := b.node.Exec(ctx, "UPDATE connection SET state = 'confirm' WHERE id = $1", id)
	require.NoError(t, err)
	require.NoError(t, b.ConfirmConnection(ctx, b.sc, "kiln"))
	c, err := b.Connection(ctx, b.sc, "kiln")
	require.NoError(t, err)
	require.Equal(t, ConnectionOK, c.State)
}

func TestWhoMayUseAConnection(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	id := b.gated(ctx, t)
	c, err := b.Connection(ctx, b.sc, "kiln")
	require.NoError(t, err)
	c.Everyone, c.Limits = false, &Limits{Calls: 3, Seconds: 2, Parallel: 1}
	require.NoError(t, b.ShapeConnection(ctx, b.sc, c, []Grant{{Person: b.sc.person, Actions: []string{"append"}}}))
	grants, err := b.Grants(ctx, b.sc)
	require.NoError(t, err)
	require.Len(t, grants, 1)
	require.Equal(t, id, grants[0].Connection)
	require.Equal(t, "mara@ottermere.example", grants[0].Email)
	c, err = b.Connection(ctx, b.sc, "kiln")
	require.NoError(t, err)
	require.Equal(t, &Limits{Calls: 3, Seconds: 2, Parallel: 1}, c.Limits)
	may, actions := b.sc.Use(c, grants)
	require.True(t, may)
	require.Nil(t, actions, "an owner may everything")
	builder := b.sc
	builder.role = Builder
	may, actions = builder.Use(c, grants)
	require.True(t, may)
	require.Equal(t, []string{"append"}, actions)
	builder.person = NewID()
	may, _ = builder.Use(c, grants)
	require.False(t, may)
	c.Everyone = true
	may, actions = builder.Use(c, grants)
	require.True(t, may)
	require.Nil(t, actions)
}

// However many refresh at once, each sees what the one before has stored, and
// what was not stored was not used.
func TestTokensAreChangedByOneAtATime(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	id := b.gated(ctx, t)
	var wait sync.WaitGroup
	var mu sync.Mutex
	seen := map[string]bool{}
	for range 8 {
		wait.Go(func() {
			err := b.Exclusively(ctx, b.sc.workspace, id, func(c Connection) (*Connection, error) {
				mu.Lock()
				defer mu.Unlock()
				require.False(t, seen[string(c.Token)], "nobody else has had this token in hand")
				seen[string(c.Token)] = true
				c.Token = fmt.Appendf(nil, "token %d", c.TokenVersion+1)
				return &c, nil
			})
			require.NoError(t, err)
		})
	}
	wait.Wait()
	c, err := b.Connection(ctx, b.sc, "kiln")
	require.NoError(t, err)
	require.Equal(t, 8, c.TokenVersion)
	require.Equal(t, "token 8", string(c.Token))
	refused := errors.New("the other side said no")
	require.ErrorIs(t, b.Exclusively(ctx, b.sc.workspace, id, func(Connection) (*Connection, error) { return nil, refused }), refused)
	require.NoError(t, b.Exclusively(ctx, b.sc.workspace, id, func(Connection) (*Connection, error) { return nil, nil }))
	c.Secret, c.Hint, c.Pin = []byte("{}"), "…9f", "https://kiln.example"
	require.NoError(t, b.ReplaceSecret(ctx, b.sc, c))
	after, err := b.Connection(ctx, b.sc, "kiln")
	require.NoError(t, err)
	require.Nil(t, after.Token, "tokens of the former secret are gone")
	require.Equal(t, 9, after.TokenVersion)
	require.NoError(t, b.RemoveConnection(ctx, b.sc, "kiln"))
	require.ErrorIs(t, b.RemoveConnection(ctx, b.sc, "kiln"), ErrNotFound)
	require.ErrorIs(t, b.Exclusively(ctx, b.sc.workspace, id, nil), ErrNotFound)
}

func TestTheLastCallsAreKept(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	id := b.gated(ctx, t)
	var calls []Called
	for i := range KeptCalls + 20 {
		calls = append(calls, Called{Workspace: b.sc.workspace, Connection: id, ID: NewID(), Method: "GET", Address: fmt.Sprintf("/%d", i), Status: 200})
	}
	gone := Called{Workspace: b.sc.workspace, Connection: NewID(), ID: NewID(), Method: "GET"}
	require.NoError(t, b.RecordCalls(ctx, append(calls, gone)))
	require.NoError(t, b.RecordCalls(ctx, calls[:3]), "a repeat of unknown fate changes nothing")
	list, err := b.Calls(ctx, b.sc, id)
	require.NoError(t, err)
	require.Len(t, list, KeptCalls)
	require.Equal(t, fmt.Sprintf("/%d", KeptCalls+19), list[0].Address)
	require.Equal(t, KeptCalls, b.count(t, "SELECT count(*) FROM connection_call"))
}

// A consent belongs to the person and the browser that began it, and is used
// up by the first who comes with it.
// Whose connection is removed at that moment loses their calls, and nobody else theirs.
func TestTheCallsOfAConnectionThatIsBeingRemovedCostNoOthersTheirs(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	stays := b.gated(ctx, t)
	goes := Connection{ID: NewID(), Name: "goes", Connector: "http", Method: "key", Secret: []byte("{}"), State: "unchecked"}
	require.NoError(t, b.AddConnection(ctx, b.sc, goes))
	owner := admin(t, b.node.Config().ConnString())
	tx, err := owner.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "DELETE FROM connection WHERE id = $1", goes.ID)
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() {
		done <- b.RecordCalls(ctx, []Called{{Workspace: b.sc.workspace, Connection: goes.ID, ID: NewID(), Method: "GET", Address: "/a"}, {Workspace: b.sc.workspace, Connection: stays, ID: NewID(), Method: "GET", Address: "/b"}})
	}()
	require.Eventually(t, func() bool {
		var waits bool
		require.NoError(t, tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_stat_activity WHERE pg_backend_pid() = ANY(pg_blocking_pids(pid)))").Scan(&waits))
		return waits
	}, 20*time.Second, 5*time.Millisecond, "the calls wait for the removal")
	require.NoError(t, tx.Commit(ctx))
	require.NoError(t, <-done)
	calls, err := b.Calls(ctx, b.sc, stays)
	require.NoError(t, err)
	require.Len(t, calls, 1)
}

func TestAConsentIsUsedOnceByWhoeverBeganIt(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	id := b.gated(ctx, t)
	begun := Consent{ID: NewID(), Connection: id, Verifier: []byte("v"), Redirect: "https://console.example/back"}
	require.NoError(t, b.BeginConsent(ctx, b.sc, "state", "a browser", begun))
	stranger := b.another(t)
	for name, take := range map[string]func() error{
		"another browser":   func() error { _, err := b.TakeConsent(ctx, b.sc, "state", "another"); return err },
		"the command line":  func() error { _, err := b.TakeConsent(ctx, b.sc, "state", ""); return err },
		"another workspace": func() error { _, err := b.TakeConsent(ctx, stranger.sc, "state", "a browser"); return err },
		"another state":     func() error { _, err := b.TakeConsent(ctx, b.sc, "stat", "a browser"); return err },
	} {
		require.ErrorIs(t, take(), ErrNotFound, name)
	}
	got, err := b.TakeConsent(ctx, b.sc, "state", "a browser")
	require.NoError(t, err)
	require.Equal(t, "kiln", got.Name)
	require.Equal(t, begun.Redirect, got.Redirect)
	_, err = b.TakeConsent(ctx, b.sc, "state", "a browser")
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, b.BeginConsent(ctx, b.sc, "late", "", begun))
	_, err = b.node.Exec(ctx, "UPDATE consent SET expires = now() - interval '1 second'")
	require.NoError(t, err)
	_, err = b.TakeConsent(ctx, b.sc, "late", "")
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, b.Sweep(ctx))
	require.Zero(t, b.count(t, "SELECT count(*) FROM consent"))
}

func TestAWorkspacesOwnConnectorsAndAllowances(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	other := b.another(t)
	for v := range 3 {
		require.NoError(t, b.AddConnector(ctx, b.sc, ConnectorVersion{Name: "wheel", Version: v + 1, Document: fmt.Sprintf("version %d", v+1), Own: true}))
	}
	require.NoError(t, b.AddConnector(ctx, b.sc, ConnectorVersion{Name: "wheel", Version: 3, Document: "version 3", Own: true}), "the same again")
	require.ErrorIs(t, b.AddConnector(ctx, b.sc, ConnectorVersion{Name: "wheel", Version: 3, Document: "something else", Own: true}), ErrTaken)
	list, err := b.OwnConnectors(ctx, b.sc.workspace)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, 3, list[0].Version)
	v, err := b.ConnectorVersion(ctx, b.sc.workspace, "wheel", 2)
	require.NoError(t, err)
	require.Equal(t, "version 2", v.Document)
	_, err = other.ConnectorVersion(ctx, other.sc.workspace, "wheel", 2)
	require.ErrorIs(t, err, ErrNotFound)
	require.ErrorIs(t, other.RemoveConnector(ctx, other.sc, "wheel"), ErrNotFound)
	require.NoError(t, b.RemoveConnector(ctx, b.sc, "wheel"))

	require.NoError(t, b.Allow(ctx, b.sc, "10.0.0.1:80", "10.0.0.2:80", "10.0.0.1:80"))
	require.NoError(t, b.Disallow(ctx, b.sc, "10.0.0.2:80"))
	mine, err := b.Allowances(ctx, b.sc.workspace)
	require.NoError(t, err)
	require.Equal(t, []string{"10.0.0.1:80"}, mine)
	theirs, err := b.Allowances(ctx, other.sc.workspace)
	require.NoError(t, err)
	require.Empty(t, theirs)
}
