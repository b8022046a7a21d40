package test

import (
	"fmt"
	"net/http"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/vault"
)

// The other side says that its work is done, and the run that was parked for an
// hour looks at once. Nobody else's word does that.
func TestACallbackWakesTheRun(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	var done, early atomic.Bool
	callback := make(chan string, 1)
	at := serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		rw.Header().Set("Content-Type", "application/json")
		switch {
		case r.Method == http.MethodPost:
			_ = r.ParseForm()
			if early.Load() { // before the run even has its answer
				res, err := http.Post(r.PostForm.Get("callback"), "", nil)
				if err == nil {
					res.Body.Close()
				}
			} else {
				callback <- r.PostForm.Get("callback")
			}
			_, _ = rw.Write([]byte(`{"job": "j1"}`))
		case r.URL.Path == "/jobs/j1":
			_, _ = fmt.Fprintf(rw, `{"done": %t, "text": "ready"}`, done.Load())
		default:
			_, _ = rw.Write([]byte(`{}`))
		}
	})
	own(t, w, "long", host(at), "actions:\n  work: {title: Work, sentence: Work, effect: write, fields: {type: object}, request: {method: POST, path: /jobs, form: {callback: (= input.callback )}}, sample: {},\n    job: {check: {method: GET, path: /jobs/(= submitted.job )}, every: 1h, done: response.done, callback: callback}}\n")
	live(t, w, "longwork", "  - {name: worked, type: long.work, connection: long, input: {}}\n")
	started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "longwork", client.Items{}))
	require.NoError(t, err)
	run, err := w.Wait(ctx, started.Run)
	require.NoError(t, err)
	require.Equal(t, client.RunState("waiting"), run.Run.State, run.Run.Message)
	require.Equal(t, "job_running", run.Run.Reason)
	require.WithinDuration(t, time.Now().Add(time.Hour), *run.Run.Wake, time.Minute)
	address := <-callback
	done.Store(true)
	for _, made := range []string{w.Service.Address + "/callbacks/made-up", address} {
		res, err := http.Post(made, "application/json", nil)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, 202, res.StatusCode, "an unknown address is answered like a known one")
		if made != address {
			run, err = w.Wait(ctx, started.Run)
			require.NoError(t, err)
			require.Equal(t, client.RunState("waiting"), run.Run.State)
		}
	}
	eventually(t, "the run ends", 10*time.Second, func() bool {
		run, err := w.Wait(ctx, started.Run)
		return err == nil && run.Run.State == "succeeded"
	})
	early.Store(true)
	started, err = ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "longwork", client.Items{}))
	require.NoError(t, err)
	eventually(t, "a call that comes too early is not lost", 10*time.Second, func() bool {
		run, err := w.Wait(ctx, started.Run)
		return err == nil && run.Run.State == "succeeded"
	})
}

// live makes a workflow started by hand and puts it live.
func live(t *testing.T, w *ottermere.World, name, steps string) {
	t.Helper()
	ctx := within(t, 20*time.Second)
	_, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: "format: young-trellis/1\nname: " + name + "\ntrigger: {type: manual}\nsteps:\n" + steps}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, name, &client.GoLiveParams{}))
	require.NoError(t, err)
}

// A live revision keeps the connector version that it was made with, until it
// goes live again.
func TestARevisionKeepsItsConnectorVersion(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	var mu sync.Mutex
	var paths []string
	at := serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/check" {
			mu.Lock()
			paths = append(paths, r.URL.Path)
			mu.Unlock()
		}
		_, _ = rw.Write([]byte(`{}`))
	})
	action := func(path string) string {
		return "actions:\n  call: {title: Call, sentence: Call it, effect: read, fields: {type: object}, request: {method: GET, path: " + path + "}, sample: {}}\n"
	}
	own(t, w, "kept", host(at), action("/one"))
	live(t, w, "keeps", "  - {name: called, type: kept.call, connection: kept, input: {}}\n")
	starts(t, w, "keeps", `{}`)
	second := fmt.Sprintf("format: young-trellis-connector/1\nname: kept\ntitle: Own\nversion: 2\nbase: http://%s\nsign_in: [{method: bearer, title: Token}]\ncheck: {request: {method: GET, path: /check}, says: own, any_answer: true}\n%s", host(at), action("/two"))
	changed := fmt.Sprintf("format: young-trellis-connector/1\nname: kept\ntitle: Own\nversion: 1\nbase: http://%s\nsign_in: [{method: bearer, title: Token}]\ncheck: {request: {method: GET, path: /check}, says: own, any_answer: true}\n%s", host(at), action("/two"))
	_, err := ottermere.Answer[client.Connector](w.Client.AddConnector(ctx, client.ConnectorDocument{Document: changed}))
	require.ErrorContains(t, err, "409", "a version is never changed")
	_, err = ottermere.Answer[client.Connector](w.Client.AddConnector(ctx, client.ConnectorDocument{Document: second}))
	require.NoError(t, err)
	starts(t, w, "keeps", `{}`)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "keeps", &client.GoLiveParams{}))
	require.NoError(t, err)
	starts(t, w, "keeps", `{}`)
	require.Equal(t, []string{"/one", "/one", "/two"}, paths)
}

// A job that is begun again, since nobody heard that it was begun, is begun with
// the same key and the same address to call back, by another node and with other
// keys in the vault too.
func TestTheAddressToCallBackIsTheSameAtEveryAttempt(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	var mu sync.Mutex
	var told [][2]string // key and address, by attempt
	at := serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		rw.Header().Set("Content-Type", "application/json")
		switch {
		case r.Method == http.MethodPost:
			_ = r.ParseForm()
			mu.Lock()
			defer mu.Unlock()
			told = append(told, [2]string{r.Header.Get("Idempotency-Key"), r.PostForm.Get("callback")})
			switch len(told) {
			case 1: // begun, and nobody hears of it; meanwhile the keys change
				if _, err := vault.Rotate(ctx, w.Service.Store, filepath.Join(w.Data, "service", "vault.key")); err != nil {
					t.Error(err)
				}
				panic(http.ErrAbortHandler)
			case 2:
				http.Error(rw, `{}`, http.StatusBadGateway)
			default:
				_, _ = rw.Write([]byte(`{"job": "j1"}`))
			}
		case r.URL.Path == "/jobs/j1":
			_, _ = rw.Write([]byte(`{"done": true}`))
		default:
			_, _ = rw.Write([]byte(`{}`))
		}
	})
	own(t, w, "long", host(at), "actions:\n  work: {title: Work, sentence: Work, effect: write, repeat: keyed, fields: {type: object, additionalProperties: false}, request: {method: POST, path: /jobs, form: {callback: (= input.callback )}}, sample: {},\n    job: {check: {method: GET, path: /jobs/(= submitted.job )}, every: 1s, done: response.done, callback: callback}}\n")
	live(t, w, "longwork", "  - {name: worked, type: long.work, connection: long, input: {}, retry: {attempts: 5, first: 20ms}}\n")
	begun := starts(t, w, "longwork", `{}`, `{}`).Run
	eventually(t, "the run ends", 30*time.Second, func() bool {
		run, err := w.Wait(ctx, begun.Id)
		return err == nil && run.Run.State == "succeeded"
	})
	mu.Lock()
	defer mu.Unlock()
	require.Len(t, told, 4)
	byKey := map[string]map[string]int{}
	for _, a := range told {
		require.Contains(t, a[1], "/callbacks/")
		if byKey[a[0]] == nil {
			byKey[a[0]] = map[string]int{}
		}
		byKey[a[0]][a[1]]++
	}
	require.Len(t, byKey, 2, "one key for each item")
	for key, addresses := range byKey {
		require.Len(t, addresses, 1, "one address for %s", key)
	}
}
