package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"youngtrellis/api"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/ottermere/ottermeretest"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// caller calls a service as its contract says, and holds every answer to it.
type caller struct {
	*testing.T
	w      *ottermere.World
	router routers.Router
	spec   *openapi3.T
	done   map[string]int // operations by how often they were done well
}

func newCaller(t *testing.T) *caller {
	t.Helper()
	w := ottermeretest.World(t)
	spec, err := api.GetSpec()
	require.NoError(t, err)
	spec.Servers = openapi3.Servers{{URL: "/api/v1"}}
	router, err := gorillamux.NewRouter(spec)
	require.NoError(t, err)
	return &caller{T: t, w: w, router: router, spec: spec, done: map[string]int{}}
}

// do makes a call, and wants a status. The answer is read as JSON where it is.
func (c *caller) do(want int, method, path, body string, header ...string) map[string]any {
	c.Helper()
	text := c.text(want, method, path, body, header...)
	var out map[string]any
	_ = json.Unmarshal([]byte(text), &out)
	return out
}

func (c *caller) text(want int, method, path, body string, header ...string) string {
	c.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, c.w.Service.Address+"/api/v1"+path, strings.NewReader(body))
	require.NoError(c, err)
	req.Header.Set("Authorization", "Bearer "+c.w.Token)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(c, err, "%s %s", method, path)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(c, err)
	assert.Equal(c, want, res.StatusCode, "%s %s: %s", method, path, b)
	asked := httptest.NewRequest(method, "/api/v1"+path, nil)
	route, params, err := c.router.FindRoute(asked)
	require.NoError(c, err, "%s %s", method, path)
	if strings.HasPrefix(res.Header.Get("Content-Type"), "application/json") || strings.HasPrefix(res.Header.Get("Content-Type"), "application/problem+json") {
		err = openapi3filter.ValidateResponse(ctx, &openapi3filter.ResponseValidationInput{
			RequestValidationInput: &openapi3filter.RequestValidationInput{Request: asked, PathParams: params, Route: route}, Status: res.StatusCode, Header: res.Header, Body: io.NopCloser(bytes.NewReader(b)),
			Options: &openapi3filter.Options{IncludeResponseStatus: true},
		})
		require.NoError(c, err, "%s %s: %s", method, path, b)
	}
	if res.StatusCode < 300 {
		c.done[route.Operation.OperationID]++
	}
	return string(b)
}

// value is a text in an answer.
func (c *caller) value(answer map[string]any, key string) string {
	c.Helper()
	text, ok := answer[key].(string)
	require.True(c, ok, "%s of %v", key, answer)
	return text
}

// ended waits for a run's end and gives it.
func (c *caller) ended(started map[string]any) (id string, run map[string]any) {
	c.Helper()
	id = c.value(started, "run")
	require.Eventually(c, func() bool {
		run = c.do(200, "GET", "/runs/"+id, "")["run"].(map[string]any)
		return run["ended"] != nil
	}, 30*time.Second, 10*time.Millisecond)
	return id, run
}

func quoted(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

// document is the body that holds a document.
func document(text string) string { return `{"document": ` + quoted(text) + `}` }

// Every operation of the contract is done on the demo, with answers as the contract
// says; one that is new must be done here too. What a caller gets wrong is refused as
// the contract says as well.
func TestEveryOperationKeepsTheContract(t *testing.T) {
	t.Parallel()
	c := newCaller(t)
	c.people()
	c.workflows()
	c.samples()
	c.runs()
	c.mending()
	c.connections()
	c.connectors()
	c.files()
	c.lists()
	for _, path := range []string{"/schema/connector", "/schema/workflow", "/kinds", "/functions", "/node"} {
		c.do(200, "GET", path, "")
	}
	var missing []string
	for _, item := range c.spec.Paths.Map() {
		for _, o := range item.Operations() {
			if c.done[o.OperationID] == 0 {
				missing = append(missing, o.OperationID)
			}
		}
	}
	slices.Sort(missing)
	require.Empty(t, missing, "operations that were not done")
}

func (c *caller) lists() {
	c.Helper()
	c.do(201, "POST", "/lists", `{"name": "on-duty", "columns": [{"name": "short", "type": "text"}, {"name": "phone", "title": "Phone", "type": "text"}, {"name": "floor", "type": "number"}]}`)
	require.Equal(c, "On duty", c.do(200, "GET", "/lists/on-duty", "")["title"])
	c.do(409, "POST", "/lists", `{"name": "on-duty", "csv": "short\nwren"}`)
	require.Contains(c, fmt.Sprint(c.do(422, "POST", "/lists", `{"name": "On duty", "csv": "short"}`)), "cannot be the name of a list")
	require.Contains(c, fmt.Sprint(c.do(422, "POST", "/lists", `{"name": "x"}`)), "It is empty. Its first line names the columns.")
	require.Contains(c, fmt.Sprint(c.do(422, "POST", "/lists", `{"name": "x", "columns": []}`)), "at least one column")
	c.do(400, "POST", "/lists", `{"name": "x", "columns": [{"name": "a", "type": "date"}]}`)
	words := c.do(201, "POST", "/lists", `{"name": "spellings", "csv": "Word;Seen\nceladon;4"}`)
	require.EqualValues(c, 1, words["rows"])

	made := c.do(200, "POST", "/lists/on-duty/rows", `{"edits": [{"fields": {"short": "wren", "floor": "2"}}, {"fields": {"short": "tam", "phone": 77}}, {"fields": {"short": "ash"}}]}`)
	require.Equal(c, "3 rows added.", made["sentence"])
	wrong := c.do(422, "POST", "/lists/on-duty/rows", `{"edits": [{"fields": {"short": "wren"}}, {"key": "tam", "fields": {"floor": "high"}}]}`)
	require.Contains(c, fmt.Sprint(wrong["fields"]), `There is a row "wren" already.`)
	require.Contains(c, fmt.Sprint(wrong["fields"]), "row 2, floor")
	c.do(422, "POST", "/lists/on-duty/rows", `{"edits": [{"key": "tam", "fields": []}]}`)
	c.do(404, "POST", "/lists/nothing/rows", `{"edits": [{"key": "tam", "remove": true}]}`)
	rows := c.do(200, "GET", "/lists/on-duty/rows?limit=1&from=1", "")
	require.EqualValues(c, 3, rows["total"])
	require.Equal(c, []any{map[string]any{"key": "tam", "fields": map[string]any{"short": "tam", "phone": "77"}}}, rows["rows"])
	require.EqualValues(c, 1, c.do(200, "GET", "/lists/on-duty/rows?find=WREN", "")["total"])

	c.do(200, "POST", "/lists/on-duty/rows", `{"edits": [{"key": "tam", "fields": {"phone": "78"}}]}`)
	c.do(412, "POST", "/lists/on-duty/rows", `{"edits": [{"key": "tam", "remove": true}]}`, "If-Match", `"2"`)
	c.do(200, "POST", "/lists/on-duty/rows", `{"edits": [{"key": "wren", "fields": {"phone": "1"}}]}`, "If-Match", `"2"`) // nobody has touched it
	c.do(412, "PATCH", "/lists/on-duty", `{"title": "Who"}`, "If-Match", `"2"`)
	shaped := c.do(200, "PATCH", "/lists/on-duty", `{"title": "Who is on duty", "about": "By week", "columns": [{"name": "name", "type": "text", "was": "short"}, {"name": "phone", "type": "text"}, {"name": "floor", "type": "text"}]}`)
	require.Equal(c, "3 rows changed.", shaped["sentence"])
	require.Contains(c, fmt.Sprint(c.do(422, "PATCH", "/lists/on-duty", `{"columns": [{"name": "k", "type": "text", "was": "shirt"}]}`)), "It was never called")

	tried := c.do(200, "POST", "/lists/on-duty/csv", `{"csv": "name,phone\nelm,5\ntam,78", "how": "replace", "try": true}`)
	require.Equal(c, "1 row added and 2 rows removed.", tried["sentence"])
	require.Equal(c, "1 row added.", c.do(200, "POST", "/lists/on-duty/csv", `{"csv": "name,phone\nelm,5\ntam,78"}`)["sentence"])
	require.Equal(c, "Nothing changed.", c.do(200, "POST", "/lists/on-duty/csv", `{"csv": "name,phone\nelm,5\ntam,78"}`)["sentence"])
	c.do(412, "POST", "/lists/on-duty/csv", `{"csv": "name,phone\nelm,5"}`, "If-Match", `"2"`)
	require.Contains(c, fmt.Sprint(c.do(422, "POST", "/lists/on-duty/csv", `{"csv": "name,fone\nelm,5"}`)), "Did you mean phone?")
	require.Equal(c, "name,phone,floor\r\nwren,1,2\r\ntam,78,\r\nash,,\r\nelm,5,\r\n", c.text(200, "GET", "/lists/on-duty/csv", ""))

	changes, _ := c.do(200, "GET", "/lists/on-duty/changes?limit=3", "")["changes"].([]any)
	require.Len(c, changes, 3)
	require.Contains(c, fmt.Sprint(changes[0]), "taken in from CSV: 1 row added")
	require.Contains(c, fmt.Sprint(changes[1]), "the title changed, what it is for changed and the columns changed")
	third := c.do(200, "GET", "/lists/on-duty/changes/3", "")
	require.Contains(c, fmt.Sprint(third["changed"]), "phone:77")
	require.Contains(c, fmt.Sprint(third["changed"]), "phone:78")
	require.Len(c, c.do(200, "GET", "/lists/on-duty/changes/1", "")["added"], 0)
	c.do(404, "GET", "/lists/on-duty/changes/99", "")
	c.do(200, "POST", "/lists/on-duty/changes/2/back", "")
	c.do(404, "POST", "/lists/on-duty/changes/99/back", "")
	require.Equal(c, "short,phone,floor\r\nwren,,2\r\ntam,77,\r\nash,,\r\n", c.text(200, "GET", "/lists/on-duty/csv", ""))

	reads := "format: young-trellis/1\nname: pages\ntrigger: {type: manual}\nsteps:\n  - {name: made, type: shape, settings: {set: {n: (= len(list('on-duty')) )}}}\n"
	c.do(201, "POST", "/workflows", document(reads))
	require.Empty(c, c.do(200, "GET", "/workflows/pages", "")["problems"])
	require.Contains(c, fmt.Sprint(c.do(200, "POST", "/check", document(strings.ReplaceAll(reads, "on-duty", "in-duty")))["problems"]), `There is no list "in-duty". Did you mean on-duty?`)
	require.Contains(c, fmt.Sprint(c.do(409, "DELETE", "/lists/on-duty", "")), "It is read by pages.")
	require.Contains(c, fmt.Sprint(c.do(200, "GET", "/lists", "")["lists"]), "pages")
	c.do(204, "DELETE", "/lists/spellings", "")
	c.do(404, "DELETE", "/lists/spellings", "")
	viewer := c.value(c.do(201, "POST", "/tokens", `{"name": "looks", "role": "viewer"}`), "secret")
	c.do(200, "GET", "/lists/on-duty", "", "Authorization", "Bearer "+viewer)
	for _, path := range []string{"rows", "csv", "changes/2"} {
		c.do(403, "GET", "/lists/on-duty/"+path, "", "Authorization", "Bearer "+viewer)
	}
}

func (c *caller) people() {
	c.Helper()
	c.do(200, "GET", "/session", "")
	c.do(401, "GET", "/session", "", "Authorization", "Bearer made-up")
	c.do(401, "POST", "/session", `{"email": "mara@ottermere.example", "password": "wrong"}`, "Authorization", "", "Origin", c.w.Service.Address)
	c.do(200, "POST", "/session", fmt.Sprintf(`{"email": %q, "password": %q}`, c.w.Email, c.w.Password), "Authorization", "", "Origin", c.w.Service.Address)
	made := c.do(201, "POST", "/tokens", `{"name": "for a while", "role": "viewer", "items": true}`)
	c.do(200, "GET", "/session", "", "Authorization", "Bearer "+c.value(made, "secret"))
	require.Contains(c, c.text(200, "GET", "/tokens", ""), "for a while")
	c.do(403, "POST", "/tokens", `{"name": "x"}`, "Authorization", "Bearer "+c.value(made, "secret"))
	c.do(400, "POST", "/tokens", `{"name": ""}`)
	c.do(204, "DELETE", "/tokens/"+c.value(made["token"].(map[string]any), "id"), "")
	c.do(404, "DELETE", "/tokens/"+c.value(made["token"].(map[string]any), "id"), "")
	c.do(204, "DELETE", "/session", "")
}

const loads = "format: young-trellis/1\nname: loads\ntitle: Loads\ntrigger: {type: manual}\nlimits: {parallel_runs: 3}\nsteps:\n  - {name: dry, type: filter, settings: {where: item.n > 1}}\n  - {name: rest, type: shape, settings: {keep: [n]}}\n"

func (c *caller) workflows() {
	c.Helper()
	c.do(201, "POST", "/workflows", document(loads))
	c.do(409, "POST", "/workflows", document(loads))
	c.do(422, "POST", "/workflows", document("name: A B\n"))
	list := c.do(200, "GET", "/workflows?limit=1", "")
	require.Len(c, list["workflows"], 1)
	c.do(200, "GET", "/workflows?limit=1&after="+c.value(list, "next"), "")
	got := c.do(200, "GET", "/workflows/loads", "")
	require.Equal(c, []any{"At most 3 runs at once"}, got["limit_sentences"])
	c.do(404, "GET", "/workflows/nothing", "")
	require.NotEmpty(c, c.do(200, "POST", "/check", document("format: young-trellis/1\nname: x\ntrigger: {type: manual}\nsteps: [{name: a, type: shap}]\n"))["problems"])
	c.do(200, "POST", "/check", document("{"))
	c.do(409, "POST", "/workflows/loads/pause", "")
	c.do(200, "POST", "/workflows/loads/live", "")
	c.do(200, "POST", "/workflows/loads/draft/plan", `{"edits": [{"op": "rename", "step": "dry", "value": "drier"}]}`)
	c.do(200, "POST", "/workflows/loads/draft", `{"edits": [{"op": "set", "step": "dry", "key": "note", "value": "It cracks."}, {"op": "set", "key": "limits.deadline", "value": "2h"}]}`)
	c.do(422, "POST", "/workflows/loads/draft", `{"edits": [{"op": "remove", "step": "nothing"}]}`)
	require.Len(c, c.do(200, "GET", "/workflows/loads/diff", "")["changes"], 2)
	c.do(200, "GET", "/workflows/loads/diff?revision=1", "")
	c.do(404, "GET", "/workflows/loads/diff?revision=7", "")
	version := fmt.Sprintf(`"%v"`, c.do(200, "GET", "/workflows/loads", "")["version"])
	c.do(200, "PUT", "/workflows/loads/draft", document(loads+"# changed\n"), "If-Match", version)
	c.do(412, "PUT", "/workflows/loads/draft", document(loads), "If-Match", version)
	c.do(422, "PUT", "/workflows/loads/draft", document(strings.Replace(loads, "name: loads", "name: others", 1)))
	c.do(200, "POST", "/workflows/loads/live", "")
	require.Len(c, c.do(200, "GET", "/workflows/loads/revisions", "")["revisions"], 2)
	require.Contains(c, c.do(200, "POST", "/workflows/loads/pause", "")["standing"], "words")
	c.do(200, "POST", "/workflows/loads/unpause", "")
	c.do(404, "POST", "/workflows/nothing/unpause", "")
	c.do(404, "POST", "/workflows/loads/revisions/7/live", "")
	require.EqualValues(c, 1, c.do(200, "POST", "/workflows/loads/revisions/1/live", "")["live"])
	c.do(200, "POST", "/workflows/loads/live", "")
	c.do(200, "PUT", "/workflows/loads/draft", document("format: young-trellis/1\nname: loads\ntrigger: {type: manual}\nsteps: [{name: a, type: shap}]\n"))
	c.do(422, "POST", "/workflows/loads/live", "")
	c.do(200, "PUT", "/workflows/loads/draft", document(loads))
	c.timed()
	c.do(201, "POST", "/workflows", document(strings.ReplaceAll(loads, "loads", "to-go")))
	c.do(204, "DELETE", "/workflows/to-go", "")
	c.do(404, "DELETE", "/workflows/to-go", "")
}

// timed does what starts by the clock.
func (c *caller) timed() {
	c.Helper()
	c.do(201, "POST", "/workflows", document(strings.Replace(strings.ReplaceAll(loads, "name: loads", "name: timed"), "{type: manual}", `{type: schedule, settings: {every: weekday, at: "16:30"}}`, 1)))
	ahead := c.do(200, "GET", "/workflows/timed/ahead", "")
	require.Len(c, ahead["cadence"].(map[string]any)["times"], 10)
	require.Contains(c, fmt.Sprint(ahead["beside"]), "kiln-loads", "starts at the same minute")
	require.NotContains(c, ahead, "from")
	c.do(409, "POST", "/workflows/timed/unpause", "")
	live := c.do(200, "POST", "/workflows/timed/live", "")
	require.Equal(c, "Next", live["standing"].(map[string]any)["words"])
	require.Equal(c, true, live["timed"])
	c.do(404, "GET", "/workflows/nothing/ahead", "")
	require.EqualValues(c, 1, c.do(200, "GET", "/workflows/timed/ahead", "")["from"])
	schedule := c.do(200, "GET", "/schedule?hours=168", "")
	require.Len(c, schedule["entries"], 3, "with those of the demo")
	require.NotEmpty(c, schedule["together"])
	one := c.do(200, "GET", "/schedule?workflow=timed&most=2&hours=744", "")
	require.Len(c, one["entries"].([]any)[0].(map[string]any)["times"], 2)
	c.do(404, "GET", "/schedule?workflow=nothing", "")
	c.do(400, "GET", "/schedule?hours=0", "")
	c.do(200, "POST", "/workflows/timed/pause", "")
	require.Equal(c, "paused", c.do(200, "GET", "/schedule?workflow=timed", "")["entries"].([]any)[0].(map[string]any)["state"])
	require.Equal(c, "Next", c.do(200, "POST", "/workflows/timed/unpause", "")["standing"].(map[string]any)["words"])

	read := c.do(200, "POST", "/cadence", `{"phrase": "every working day at 8", "zone": "Europe/Lisbon", "count": 3}`)
	require.Equal(c, "every weekday at 08:00 in Europe/Lisbon", read["sentence"])
	require.Len(c, read["times"], 3)
	require.EqualValues(c, 5, read["a_week"])
	require.Equal(c, "UTC", c.do(200, "POST", "/cadence", `{"phrase": "every day at 8 in UTC", "zone": "Europe/Lisbon"}`)["zone"])
	c.do(200, "POST", "/cadence", `{"settings": {"every": "7 hours"}, "workflow": "timed"}`)
	for body, field := range map[string]string{`{"phrase": "every wekday"}`: "every", `{}`: "every", `{"settings": {"every": "day"}}`: "at", `{"settings": {"cron": "1 2"}}`: "cron", `{"settings": {}}`: "every", `{"phrase": "every day at 8 in Nowhere"}`: "zone"} {
		require.Equal(c, field, c.do(422, "POST", "/cadence", body)["fields"].([]any)[0].(map[string]any)["field"], body)
	}
	c.do(400, "POST", "/cadence", `{"phrase": "a\u0000b"}`)
	c.do(404, "POST", "/cadence", `{"settings": {"every": "7 hours"}, "workflow": "nothing"}`)
	c.do(204, "DELETE", "/workflows/timed", "")
}

func (c *caller) samples() {
	c.Helper()
	for _, n := range []string{"1", "2", "3"} {
		c.do(201, "POST", "/workflows/loads/samples", `{"fields": {"n": `+n+`, "piece": "Tall jug"}}`)
	}
	list := c.do(200, "GET", "/workflows/loads/samples", "")["samples"].([]any)
	require.Len(c, list, 3)
	at := "/workflows/loads/samples/" + list[0].(map[string]any)["id"].(string)
	c.do(200, "PUT", at, `{"fields": {"n": 7, "piece": "Ash bowl"}}`)
	c.do(200, "PUT", at+"/expected", `{"fate": "passed", "fields": {"n": 7}}`)
	c.do(422, "PUT", at+"/expected", `{"fate": "nonsense"}`)
	c.do(200, "GET", "/workflows/loads/profile", "")
	rehearsed := c.do(200, "POST", "/workflows/loads/rehearsal", "{}")
	require.NotEmpty(c, rehearsed["rows"])
	c.do(200, "GET", "/workflows/loads/rehearsal", "")
	c.do(200, "POST", "/workflows/loads/rehearsal", `{"items": [{"n": 2}], "to": "dry"}`)
	c.do(200, "POST", "/workflows/loads/rehearsal/follow", `{"edits": [{"op": "set", "step": "dry", "key": "settings.where", "value": "item.n > 2"}]}`)
	c.do(202, "POST", "/workflows/counter-calls/samples/take", "")
	given := c.do(201, "POST", "/workflows/counter-calls/hook", `{"secret": "one of theirs"}`)
	require.Nil(c, given["secret"], "what was given is not told again")
	c.do(409, "POST", "/workflows/counter-calls/hook", "")
	require.Len(c, c.do(200, "GET", "/workflows/counter-calls/hook", "")["secrets"], 2)
	require.EqualValues(c, 202, c.do(200, "POST", "/workflows/counter-calls/hook/test", `{"fields": {"call_id": "tested", "duration_s": 3}}`)["status"])
	c.do(404, "POST", "/workflows/counter-calls/hook/test", `{"sample": "`+uuid.NewString()+`"}`)
	secret := given["id"].(string)
	c.do(204, "DELETE", "/workflows/counter-calls/hook/secrets/"+secret, "")
	require.NotEmpty(c, c.do(201, "POST", "/workflows/counter-calls/hook", "")["secret"])
	c.do(404, "DELETE", "/workflows/counter-calls/hook/secrets/"+secret, "")
	c.do(204, "DELETE", at, "")
	c.do(404, "DELETE", at, "")
	c.do(200, "POST", "/evaluate", `{"source": "item.n + 1", "item": {"n": 2}}`)
	c.do(200, "POST", "/evaluate", `{"source": "item.n +", "item": {"n": 2}}`)
	c.do(200, "POST", "/evaluate", `{"source": "It is (= item.n ).", "template": true, "item": {"n": 2}}`)
}

func (c *caller) runs() {
	c.Helper()
	c.do(200, "GET", "/workflows/loads/start", "")
	id, run := c.ended(c.do(202, "POST", "/workflows/loads/start", `{"items": [{"n": 1}, {"n": 2}, {"n": 3}]}`))
	require.Equal(c, "succeeded", run["state"])
	require.Contains(c, c.text(200, "GET", "/runs/"+id+"/events", ""), "event: run")
	rows := c.do(200, "GET", "/runs/"+id+"/lattice", "")["rows"].([]any)
	require.Len(c, rows, 3)
	for _, query := range []string{"?fate=held_back", "?from=1&count=1", "?around=1", "?band=-"} {
		c.do(200, "GET", "/runs/"+id+"/lattice"+query, "")
	}
	c.do(400, "GET", "/runs/"+id+"/lattice?within=dry/1", "")
	c.do(200, "GET", "/runs/"+id+"/lattice/shape", "")
	c.do(200, "GET", "/runs/"+id+"/lattice/shape?fate=passed", "")
	for _, step := range []string{"dry", "rest"} {
		c.do(200, "GET", "/runs/"+id+"/cells/1/"+step, "")
	}
	c.do(404, "GET", "/runs/"+id+"/cells/9/dry", "")
	c.do(404, "GET", "/runs/"+id+"/cells/1/nothing", "")
	c.do(200, "GET", "/runs/"+id+"/items/1/history", "")
	c.do(200, "GET", "/runs/"+id+"/plan", "")
	c.do(404, "GET", "/runs/00000000-0000-0000-0000-000000000000", "")
	list := c.do(200, "GET", "/runs?limit=1", "")
	require.Len(c, list["runs"], 1)
	for _, query := range []string{"workflow=loads", "state=succeeded", "fate=held_back", "from=2020-01-01T00:00:00Z&to=2099-01-01T00:00:00Z", "workflow=loads&state=failed", "before=" + id} {
		c.do(200, "GET", "/runs?"+query, "")
	}
	c.do(404, "GET", "/runs?workflow=nothing", "")
	c.do(202, "POST", "/workflows/loads/start", `{"again": "`+id+`"}`)
	c.do(404, "POST", "/workflows/nothing/start", `{}`)
	c.do(409, "POST", "/runs/"+id+"/resume", "{}")
	c.do(409, "POST", "/runs/"+id+"/cancel", "")
}

func (c *caller) mending() {
	c.Helper()
	var well atomic.Bool
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !well.Load() {
			w.WriteHeader(http.StatusUnprocessableEntity)
		}
		_, _ = w.Write([]byte(`{"message": "the shelf is full"}`))
	}))
	c.Cleanup(other.Close)
	known := c.do(200, "GET", "/allowances", "")["addresses"].([]any)
	all, _ := json.Marshal(append(known, strings.TrimPrefix(other.URL, "http://")))
	c.do(200, "PUT", "/allowances", `{"addresses": `+string(all)+`}`)
	c.do(422, "PUT", "/allowances", `{"addresses": ["10.0.0.0/8"]}`)
	failing := func(name, onError string) string {
		c.do(201, "POST", "/workflows", document("format: young-trellis/1\nname: "+name+"\nfind_by: [item.n]\ntrigger: {type: manual}\nsteps:\n  - {name: told, type: http, on_error: "+onError+", settings: {method: POST, url: \""+other.URL+"/\", repeat: keyed, json: {n: (= item.n )}}}\n"))
		c.do(200, "POST", "/workflows/"+name+"/live", "")
		id, _ := c.ended(c.do(202, "POST", "/workflows/"+name+"/start", `{"items": [{"n": 1}, {"n": 2}, {"n": 3}]}`))
		return id
	}
	aside, stopped := failing("aside", "set_aside"), failing("stopped", "stop")
	items := c.do(200, "GET", "/items?run="+aside+"&limit=2", "")
	require.Len(c, items["items"], 2)
	c.do(200, "GET", "/items?workflow=aside&step=told&kind=set_aside&label=n&after="+c.value(items, "next"), "")
	c.do(200, "GET", "/items/groups", "")
	c.do(200, "GET", "/items/groups?workflow=aside", "")
	require.NotEmpty(c, c.text(200, "GET", "/runs/"+aside+"/items/1/history", ""))
	one := `{"items": [{"run": "` + aside + `", "address": "0"}]}`
	c.do(200, "POST", "/items/dismiss", one)
	c.do(200, "POST", "/items/dismiss", strings.Replace(one, `"items"`, `"restore": true, "items"`, 1))
	c.do(200, "GET", "/runs/"+stopped+"/plan?newest=true", "")
	c.do(200, "GET", "/runs/"+aside+"/plan", "")
	well.Store(true)
	c.do(202, "POST", "/runs/"+stopped+"/resume", `{}`)
	_, run := c.ended(map[string]any{"run": stopped})
	require.Equal(c, "succeeded", run["state"])
	c.do(202, "POST", "/runs/"+aside+"/retry", `{"items": ["0"]}`)
	c.ended(map[string]any{"run": aside})
	wish := `{"what": "retry", "where": {"workflow": "aside"}}`
	require.EqualValues(c, 2, c.do(200, "POST", "/mendings/plan", wish)["items"])
	mending := c.value(c.do(202, "POST", "/mendings", wish), "id")
	require.Eventually(c, func() bool { return c.do(200, "GET", "/mendings/"+mending, "")["state"] == "ended" }, 30*time.Second, 10*time.Millisecond)
	c.do(200, "GET", "/mendings", "")
	require.Equal(c, "ended", c.do(202, "POST", "/mendings/"+mending+"/cancel", "")["state"], "what has ended stays so")
	c.do(404, "POST", "/mendings/00000000-0000-0000-0000-000000000000/cancel", "")
	c.do(409, "POST", "/mendings", `{"what": "retry", "where": {"workflow": "aside"}}`)
	c.do(404, "GET", "/mendings/00000000-0000-0000-0000-000000000000", "")

	c.do(201, "POST", "/workflows", document("format: young-trellis/1\nname: long\ntrigger: {type: manual}\nsteps:\n  - {name: rest, type: wait, settings: {for: 30d}}\n"))
	c.do(200, "POST", "/workflows/long/live", "")
	id := c.value(c.do(202, "POST", "/workflows/long/start", `{}`), "run")
	require.Eventually(c, func() bool {
		return c.do(200, "GET", "/runs/"+id, "")["run"].(map[string]any)["state"] == "waiting"
	}, 30*time.Second, 10*time.Millisecond)
	c.do(202, "POST", "/runs/"+id+"/cancel", "")
	_, run = c.ended(map[string]any{"run": id})
	require.Equal(c, "cancelled", run["state"])
}

func (c *caller) connections() {
	c.Helper()
	c.do(200, "GET", "/connections", "")
	body := fmt.Sprintf(`{"name": "second", "connector": "tables", "account": {"address": %q}, "secret": %q}`, c.w.TablesBase, c.w.TablesKey)
	require.Equal(c, "ok", c.do(201, "POST", "/connections", body)["state"])
	c.do(409, "POST", "/connections", body)
	c.do(422, "POST", "/connections", strings.Replace(body, `"tables"`, `"tabels"`, 1))
	c.do(422, "POST", "/connections", strings.Replace(body, `"second"`, `"A B"`, 1))
	c.do(200, "GET", "/connections/second", "")
	c.do(404, "GET", "/connections/nothing", "")
	require.Equal(c, "broken", c.do(200, "PUT", "/connections/second", `{"secret": "wrong", "account": {"address": "`+c.w.TablesBase+`"}}`)["state"])
	require.Equal(c, "ok", c.do(200, "PUT", "/connections/second", fmt.Sprintf(`{"secret": %q, "account": {"address": %q}}`, c.w.TablesKey, c.w.TablesBase))["state"])
	c.do(200, "POST", "/connections/second/check", "")
	c.do(200, "PUT", "/connections/second/settings", `{"everyone": true, "limits": {"calls": 5, "seconds": 1}}`)
	c.do(200, "PUT", "/connections/second/settings", fmt.Sprintf(`{"everyone": false, "grants": [{"email": %q, "actions": ["rows"]}]}`, c.w.Email))
	c.do(422, "PUT", "/connections/second/settings", `{"everyone": false, "grants": [{"email": "nobody@ottermere.example"}]}`)
	c.do(200, "POST", "/connections/tables/choices/workbooks", `{"input": {}}`)
	c.do(200, "POST", "/connections/tables/choices/tabs", `{"input": {"workbook": "wb_p91zsu"}, "search": "pie"}`)
	c.do(404, "POST", "/connections/tables/choices/nothing", `{"input": {}}`)
	c.do(200, "GET", "/connections/tables/calls", "")
	rows := `{"connection": "tables", "action": "rows", "input": {"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}, "send": `
	c.do(200, "POST", "/try", rows+"false}")
	c.do(200, "POST", "/try", rows+"true}")
	c.do(422, "POST", "/try", `{"connection": "tables", "action": "rows", "input": {}, "send": true}`)
	c.do(200, "POST", "/try", `{"action": "http", "input": {"url": "`+c.w.TablesBase+`/v1/nothing"}, "send": true}`)
	c.do(204, "DELETE", "/connections/second", "")
	c.do(404, "DELETE", "/connections/second", "")
	c.do(409, "DELETE", "/connections/tables", "")

	back, err := c.w.Decide(context.Background(), "documents", "allow")
	require.NoError(c, err)
	c.do(200, "POST", "/connections/documents/consent", `{"loopback": 9}`)
	b, err := json.Marshal(back)
	require.NoError(c, err)
	c.do(200, "POST", "/consent", string(b))
	c.do(200, "POST", "/connections/documents/confirm", "")
	c.do(409, "POST", "/connections/documents/confirm", "")
	c.do(409, "POST", "/consent", string(b))
	c.do(422, "POST", "/connections/tables/consent", `{}`)
}

func (c *caller) connectors() {
	c.Helper()
	c.do(200, "GET", "/connectors", "")
	c.do(200, "GET", "/connectors/tables", "")
	c.do(404, "GET", "/connectors/nothing", "")
	open := quoted(`{"openapi": "3.1.0", "info": {"title": "Shelf"}, "servers": [{"url": "https://shelf.example"}], "paths": {"/a": {"get": {"operationId": "a"}, "post": {"operationId": "b", "requestBody": {"content": {"application/xml": {}}}}}}}`)
	made := c.value(c.do(200, "POST", "/connectors/import", `{"document": `+open+`}`), "document")
	c.do(422, "POST", "/connectors/import", `{"document": "swagger: '2.0'"}`)
	c.do(200, "POST", "/connectors/check", document(made))
	require.NotEmpty(c, c.do(200, "POST", "/connectors/check", document("format: x"))["problems"])
	c.do(201, "POST", "/connectors", document(made))
	c.do(409, "POST", "/connectors", document(strings.Replace(made, "https://shelf.example", "https://other.example", 1)))
	c.do(422, "POST", "/connectors", document(strings.Replace(made, "name: shelf", "name: tables", 1)))
	c.do(204, "DELETE", "/connectors/shelf", "")
	c.do(409, "DELETE", "/connectors/tables", "")
	c.do(200, "POST", "/paste", `{"text": "curl https://api.ottermere.example/v1 -H 'Authorization: Bearer tok_12345678'"}`)
	c.do(422, "POST", "/paste", `{"text": "not a call"}`)
	c.do(201, "POST", "/paste/keep", `{"text": "curl https://api.ottermere.example/v1 -H 'Authorization: Bearer tok_12345678'"}`)
	c.do(422, "POST", "/paste/keep", `{"text": "not a call"}`)
}

func (c *caller) files() {
	c.Helper()
	kept := c.do(201, "POST", "/files?name=glaze.txt&type=text/plain", "Tenmoku", "Content-Type", "application/octet-stream")
	id := c.value(kept, "file")
	require.Equal(c, "Tenmoku", c.text(200, "GET", "/files/"+id+"?name=glaze.txt&type=text/plain", ""))
	c.do(400, "GET", "/files/nothing", "")
	c.do(404, "GET", "/files/sha256-"+strings.Repeat("0", 64)+"?name=x&type=text/plain", "")
}
