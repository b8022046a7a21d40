package test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins"
	"youngtrellis/internal/store"
)

// another starts a second service in a process of its own, on the same database
// and with the same vault key.
func another(t *testing.T, w *ottermere.World) *client.Client {
	t.Helper()
	data := clustertest.Folder(t)
	key, err := os.ReadFile(filepath.Join(w.Data, "service", "vault.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(data, "vault.key"), key, 0o600))
	return clientOf(t, serve(t, w.DatabaseURL, data).address, w.Token)
}

func connectionOf(t *testing.T, w *ottermere.World, name string) client.Connection {
	t.Helper()
	c, err := ottermere.Answer[client.Connection](w.Client.GetConnection(context.Background(), name))
	require.NoError(t, err)
	return c
}

// tries makes one call of an action and tells how it ended.
func tries(ctx context.Context, cl *client.Client, connection, action, input string) error {
	tried, err := ottermere.Answer[client.Tried](cl.TryAction(ctx, client.Try{Connection: &connection, Action: action, Input: client.Fields(input), Send: some(true)}))
	if err == nil && tried.Why != nil {
		err = errors.New(*tried.Why)
	}
	return err
}

func TestConsentAndWhatCanGoWrongWithIt(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	documents := w.Stand("documents")
	refused := func(back client.Returned, want string) {
		t.Helper()
		_, err := ottermere.Answer[client.Connection](w.Client.FinishConsent(ctx, back))
		var status *ottermere.Status
		require.ErrorAs(t, err, &status)
		require.Contains(t, status.Title, want)
		require.NoError(t, tries(ctx, w.Client, "documents", "list", `{}`), "what was there before is as good as before")
	}
	// refused by the person
	back, err := w.Decide(ctx, "documents", "refuse")
	require.NoError(t, err)
	refused(back, "consent was refused")
	// a state that was not begun here, and one that was used already
	refused(client.Returned{State: "made-up", Code: some("x")}, "not begun here")
	refused(back, "used already")
	// a code that was used already, under a fresh state
	first, err := w.Decide(ctx, "documents", "allow")
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Connection](w.Client.FinishConsent(ctx, first))
	require.NoError(t, err)
	require.Equal(t, client.ConnectionState("confirm"), connectionOf(t, w, "documents").State)
	require.ErrorContains(t, tries(ctx, w.Client, "documents", "list", `{}`), "to be confirmed", "nothing uses it before a person has confirmed whose it is")
	_, err = ottermere.Answer[client.Connection](w.Client.ConfirmConnection(ctx, "documents"))
	require.NoError(t, err)
	second, err := w.Decide(ctx, "documents", "refuse")
	require.NoError(t, err)
	second.Error, second.Code = nil, first.Code
	refused(second, "the code was refused")
	// another server than the one that was asked
	documents.SetFaults(standins.Faults{Issuer: true})
	back, err = w.Decide(ctx, "documents", "allow")
	require.NoError(t, err)
	documents.SetFaults(standins.Faults{})
	refused(back, "signs in at another server")
	// somebody else's state
	back, err = w.Decide(ctx, "documents", "allow")
	require.NoError(t, err)
	other, err := w.Service.Store.CreateOwner(ctx, "Another workspace", "oauth@ottermere.example", "Somebody Else", "another password")
	require.NoError(t, err)
	token, _, err := w.Service.Store.CreateToken(ctx, other, store.NewToken{Name: "stranger", Role: store.Owner})
	require.NoError(t, err)
	stranger, err := w.NewClient(token)
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Connection](stranger.FinishConsent(ctx, back))
	require.ErrorContains(t, err, "not begun here")
}

func TestTokensAreRenewedAndWithdrawnConsentParks(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	as := w.Others.Documents.Consent
	as.Lasts(time.Second)
	require.NoError(t, w.Consent(ctx, "documents", "allow"))
	_, err := ottermere.Answer[client.Connection](w.Client.ConfirmConnection(ctx, "documents"))
	require.NoError(t, err)
	before := as.Refreshed()
	eventually(t, "tokens of a second are renewed three times, and each rotated one kept", 10*time.Second, func() bool {
		require.NoError(t, tries(ctx, w.Client, "documents", "list", `{}`))
		return as.Refreshed() >= before+3
	})
	calls, err := ottermere.Answer[struct{ Calls []client.Called }](w.Client.ListCalls(ctx, "documents"))
	require.NoError(t, err)
	for _, c := range calls.Calls {
		require.NotEqual(t, 401, c.Status, "no call was made with a token that had ended")
	}
	as.Lasts(time.Hour)

	_, err = ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: "format: young-trellis/1\nname: noted\ntrigger: {type: manual}\nsteps:\n  - {name: noted, type: documents.append, connection: documents, input: {document: doc_houserules2, text: (= item.text )}}\n"}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "noted", &client.GoLiveParams{}))
	require.NoError(t, err)
	w.Stand("documents").SetFaults(standins.Faults{Revoked: true})
	var runs []client.Started
	for range 3 {
		started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "noted", client.Items{Items: &[]client.Fields{client.Fields(`{"text": "No glaze on the shelves."}`)}}))
		require.NoError(t, err)
		runs = append(runs, started)
	}
	for _, r := range runs {
		run, err := w.Wait(ctx, r.Run)
		require.NoError(t, err)
		require.Equal(t, client.RunState("waiting"), run.Run.State, run.Run.Message)
		require.Equal(t, "connection_broken", run.Run.Reason)
	}
	c := connectionOf(t, w, "documents")
	require.Equal(t, client.ConnectionState("broken"), c.State)
	require.Contains(t, c.Words, "consent was withdrawn or has expired; sign in again")
	require.Equal(t, 3, *c.Waiting)

	w.Stand("documents").SetFaults(standins.Faults{})
	require.NoError(t, w.Consent(ctx, "documents", "allow"))
	_, err = ottermere.Answer[client.Connection](w.Client.ConfirmConnection(ctx, "documents"))
	require.NoError(t, err)
	for _, r := range runs {
		eventually(t, "the run goes on", 10*time.Second, func() bool {
			run, err := w.Wait(ctx, r.Run)
			return err == nil && run.Run.State == "succeeded"
		})
	}
}

// Two processes find an ended token at the same moment, a hundred times over.
// Each refresh token is good once: losing one would end the connection.
func TestTwoProcessesNeverLoseARotatedToken(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, 2*time.Minute)
	second := another(t, w)
	as := w.Others.Documents.Consent
	before := as.Refreshed()
	for i := range 100 {
		as.Expire()
		var wait sync.WaitGroup
		errs := make([]error, 4)
		for j, cl := range []*client.Client{w.Client, second, w.Client, second} {
			wait.Go(func() { errs[j] = tries(ctx, cl, "documents", "list", `{}`) })
		}
		wait.Wait()
		for _, err := range errs {
			require.NoError(t, err, "round %d", i)
		}
	}
	require.Equal(t, 100, as.Refreshed()-before, "once each time, for both")
	require.Equal(t, client.ConnectionState("ok"), connectionOf(t, w, "documents").State)
}
