package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

// planted has what the forms of a secret differ by.
const planted = `planted/echo+secret "&<of> ä the~hall?`

// parrot is the other side that sends back, in every form, what it was sent as
// proof: as values, as names, in lists, in refusals short and long, in headers.
func parrot(rw http.ResponseWriter, r *http.Request) {
	proof := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
	forms := call.Forms(proof)
	rw.Header().Set("Content-Type", "application/json")
	rw.Header().Set("X-Echo", url.QueryEscape(proof))
	answer := func(status int, v any) {
		rw.WriteHeader(status)
		_ = json.NewEncoder(rw).Encode(v)
	}
	switch r.URL.Path {
	case "/check":
		answer(http.StatusOK, map[string]any{"name": "hall of " + proof})
	case "/list":
		page, _ := strconv.Atoi(r.URL.Query().Get("page"))
		next := any(page + 1)
		if page == 1 {
			next = nil
		}
		var things []any
		for i, f := range forms {
			things = append(things, map[string]any{"id": fmt.Sprintf("%d-%d", page, i), "name": f, "in": "text before " + f + " and after"})
		}
		answer(http.StatusOK, map[string]any{"things": things, "next": next})
	case "/once":
		names := map[string]any{}
		for i, f := range forms {
			names[f] = i
		}
		answer(http.StatusOK, map[string]any{"plain": proof, "forms": forms, "names": names, "deep": []any{map[string]any{"x": []any{strings.Join(forms, " | ")}}}})
	case "/refuse":
		answer(http.StatusUnprocessableEntity, map[string]any{"message": "we do not know " + strings.Join(forms, ", nor ")})
	case "/long":
		answer(http.StatusBadRequest, map[string]any{"message": strings.Repeat("so long a refusal ", 9) + proof})
	case "/page":
		rw.Header().Set("Content-Type", "text/html")
		rw.WriteHeader(http.StatusInternalServerError)
		_, _ = fmt.Fprintf(rw, "<html><body><h1>Broken</h1><pre>%s</pre></body></html>", strings.Join(forms, "\n"))
	case "/cut":
		_, _ = io.WriteString(rw, `{"said": "`+forms[1]+`", "unfinished`)
	}
}

const parrotDocument = `format: young-trellis-connector/1
name: parrot
title: Parrot
version: 1
base: http://HOST
sign_in: [{method: bearer, title: Token}]
check: {request: {method: GET, path: /check}, says: (= output.name )}
failure: {message: (= response.message )}
choices:
  things: {request: {method: GET, path: /list, query: {page: "1"}}, each: response.things, value: item.id, label: item.name}
actions:
  list: {title: List, sentence: List, effect: read, fields: {type: object}, request: {method: GET, path: /list, query: {page: "0"}}, each: response.things, paging: {cursor: response.next, query: page}, sample: [{id: x, name: y, in: z}]}
  once: {title: Once, sentence: Once, effect: write, repeat: keyed, fields: {type: object, properties: {thing: {type: string, title: Thing, choices: things}}}, request: {method: POST, path: /once, json: {}}, sample: {}}
  refuse: {title: Refuse, sentence: Refuse, effect: write, repeat: keyed, fields: {type: object}, request: {method: POST, path: /refuse, json: {}}, sample: {}}
  long: {title: Long, sentence: Long, effect: write, repeat: keyed, fields: {type: object}, request: {method: POST, path: /long, json: {}}, sample: {}}
  page: {title: Page, sentence: Page, effect: read, fields: {type: object}, request: {method: GET, path: /page}, sample: {}}
  cut: {title: Cut, sentence: Cut, effect: read, fields: {type: object}, request: {method: GET, path: /cut}, sample: {}}
`

const parrotWorkflow = `format: young-trellis/1
name: echoes
label: item.name
trigger: {type: manual}
steps:
  - {name: listed, type: parrot.list, connection: parrot, input: {}}
  - {name: once, type: parrot.once, connection: parrot, input: {}, output: under got}
  - {name: used, type: shape, settings: {set: {said: "(= 'it said ' + item.got.plain )", long: "(= len(item.got.plain) )"}}}
  - {name: some, type: filter, settings: {where: "item.id == '0-0' or item.name != item.got.plain"}}
  - {name: told, type: http, settings: {method: POST, url: "http://OTHER/told", repeat: keyed, json: {id: "(= item.id )", said: "(= item.said )"}}, output: keep}
  - {name: refused, type: parrot.ACTION, connection: parrot, input: {}, on_error: ONERROR, output: keep, retry: {attempts: 2, first: 10ms}}
`

// What another side sends back of a credential is seen by the steps alone: it
// is stored sealed, and found in no other place and no form.
func TestEchoedSecretsAreFoundNowhereButSealed(t *testing.T) {
	t.Parallel()
	var log lockedBuffer
	w := world(t, func(o *ottermere.Options) {
		o.Log = slog.New(slog.NewTextHandler(&log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	})
	ctx := within(t, 2*time.Minute)
	echo := host(serveFunc(t, parrot))
	var mu sync.Mutex
	told := map[string]string{}
	other := host(serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		var in struct{ ID, Said string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		mu.Lock()
		defer mu.Unlock()
		told[in.ID] = in.Said
		_ = json.NewEncoder(rw).Encode(in)
	}))
	known, err := ottermere.Answer[struct{ Addresses []string }](w.Client.ListAllowances(ctx))
	require.NoError(t, err)
	_, err = ottermere.Answer[struct{}](w.Client.SetAllowances(ctx, client.SetAllowancesJSONRequestBody{Addresses: append(known.Addresses, echo, other)}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Connector](w.Client.AddConnector(ctx, client.ConnectorDocument{Document: strings.ReplaceAll(parrotDocument, "HOST", echo)}))
	require.NoError(t, err)

	var seen strings.Builder // all that anybody was shown
	look := func(method, path, body string) string {
		t.Helper()
		var b []byte
		if body != "" {
			b = []byte(body)
		}
		_, answer := request(t, method, w.Service.Address+"/api/v1"+path, w.Token, b)
		seen.WriteString(method + " " + path + "\n" + answer + "\n")
		return answer
	}
	added := look("POST", "/connections", fmt.Sprintf(`{"name": "parrot", "connector": "parrot", "account": {}, "secret": %q}`, planted))
	require.Contains(t, added, `"state":"ok"`)
	look("POST", "/connections/parrot/check", "")
	require.Contains(t, look("POST", "/connections/parrot/choices/things", `{"input": {}}`), call.Masked)
	for _, action := range []string{"list", "once", "refuse", "long", "page", "cut"} {
		for _, send := range []string{"true", "false"} {
			look("POST", "/try", fmt.Sprintf(`{"connection": "parrot", "action": %q, "input": {}, "send": %s}`, action, send))
		}
		out, _ := command(t, w, "", "connector", "try", action, "--connection", "parrot", "--input", "{}", "--send")
		seen.WriteString(out)
	}
	runs := 0
	for _, action := range []string{"refuse", "long", "page", "cut"} {
		for _, onError := range []string{"set_aside", "stop"} {
			name := "echoes-" + action + "-" + strings.ReplaceAll(onError, "_", "-")
			document := strings.NewReplacer("name: echoes", "name: "+name, "ACTION", action, "ONERROR", onError, "OTHER", other).Replace(parrotWorkflow)
			_, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: document}))
			require.NoError(t, err)
			require.Contains(t, look("POST", "/workflows/"+name+"/rehearsal", `{}`), call.Masked)
			look("GET", "/workflows/"+name+"/rehearsal", "")
			_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, name, &client.GoLiveParams{}))
			require.NoError(t, err)
			run := starts(t, w, name).Run
			runs++
			require.NotEqual(t, client.RunState("succeeded"), run.State, "%s: %s", name, run.Message)
			at := "/runs/" + run.Id.String()
			look("GET", at, "")
			lattice := look("GET", at+"/lattice?rows=100", "")
			var shown struct{ Rows []struct{ Address string } }
			require.NoError(t, json.Unmarshal([]byte(lattice), &shown))
			require.Greater(t, len(shown.Rows), 10)
			for _, row := range []struct{ Address string }{shown.Rows[0], shown.Rows[len(shown.Rows)/2], shown.Rows[len(shown.Rows)-1]} {
				for _, step := range []string{"trigger", "listed", "once", "used", "some", "told", "refused"} {
					look("GET", at+"/cells/"+row.Address+"/"+step, "")
				}
			}
			for _, args := range [][]string{{"run", "show", run.Id.String()}, {"run", "item", run.Id.String(), "row1", "-"}, {"workflow", "show", name}} {
				out, _ := command(t, w, "", args...)
				seen.WriteString(out)
			}
			if action == "long" { // and again, by a person's decision
				look("POST", at+"/retry", `{}`)
			}
		}
	}
	require.Positive(t, runs)
	require.Equal(t, "it said "+planted, told["0-0"], "the steps themselves see what came")
	for _, path := range []string{"/runs", "/connections", "/connections/parrot", "/connections/parrot/calls", "/connectors/parrot", "/workflows"} {
		look("GET", path, "")
	}
	for _, args := range [][]string{{"run", "list"}, {"connection", "list"}, {"connection", "show", "parrot"}, {"connection", "calls", "parrot"}} {
		out, _ := command(t, w, "", args...)
		seen.WriteString(out)
	}
	page := console(t, w)
	for _, path := range []string{"/runs", "/connections?connection=parrot", "/workflows/echoes-refuse-set-aside"} {
		var html string
		do(t, page, chromedp.Navigate(w.Service.Address+path), browser.Wait("main"), browser.Settle(), chromedp.Evaluate(`document.documentElement.outerHTML`, &html))
		seen.WriteString(html)
	}
	seen.WriteString(log.String())
	out, err := exec.Command(dumper(t), w.DatabaseURL).Output()
	require.NoError(t, err)
	seen.Write(out)
	stored, sealed := everythingStored(t, ctx, w.DatabaseURL)
	require.Positive(t, sealed, "what held secrets is kept whole, and sealed")
	seen.Write(stored)

	all := seen.String()
	require.Contains(t, all, "we do not know "+call.Masked, "the search looks at the right things")
	require.Contains(t, all, "it said "+call.Masked)
	for _, form := range call.Forms(planted) {
		i := strings.Index(all, form)
		require.Negative(t, i, "%q is in: %s", form, all[max(0, i-200):min(len(all), max(0, i)+200)])
	}
}

// everythingStored gives all that the database holds, unpacked where it is
// packed, and how much of it is sealed results.
func everythingStored(t *testing.T, ctx context.Context, database string) (all []byte, sealed int) {
	t.Helper()
	pool, err := pgxpool.New(ctx, database)
	require.NoError(t, err)
	defer pool.Close()
	rows, err := pool.Query(ctx, `SELECT c.table_name, c.column_name FROM information_schema.columns c JOIN information_schema.tables USING (table_schema, table_name)
		WHERE table_schema = 'public' AND table_type = 'BASE TABLE' AND data_type = 'bytea' ORDER BY 1, 2`)
	require.NoError(t, err)
	var columns [][2]string
	for rows.Next() {
		var c [2]string
		require.NoError(t, rows.Scan(&c[0], &c[1]))
		columns = append(columns, c)
	}
	require.NoError(t, rows.Err())
	var out bytes.Buffer
	for _, c := range columns {
		values, err := pool.Query(ctx, fmt.Sprintf("SELECT %q FROM %q WHERE %q IS NOT NULL", c[1], c[0], c[1]))
		require.NoError(t, err)
		for values.Next() {
			var b []byte
			require.NoError(t, values.Scan(&b))
			out.Write(b)
			if text, err := store.Unpack(b); err == nil {
				out.Write(text)
			}
			if c[1] == "sealed" {
				sealed++
			}
		}
		require.NoError(t, values.Err())
	}
	return out.Bytes(), sealed
}
