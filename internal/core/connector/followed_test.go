package connector

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

const followed = `
format: young-trellis-connector/1
name: bench
title: The bench
version: 1
base: (= account.address )
account:
  type: object
  required: [address]
  properties:
    address: {type: string, title: Address}
    space: {type: string, title: Space}
sign_in:
  - {method: api_key, title: Key, secret: Key of the bench, header: X-Key}
  - {method: basic, title: Password}
  - method: oauth2
    title: Consent
    oauth:
      authorize: (= account.address )/authorize
      token: (= account.address )/token
      revoke: (= account.address )/revoke
      issuer: (= account.address )
      scopes: [{name: read, title: Read}]
check:
  request: {method: GET, path: /me}
  says: (= output.name ), (= output.house )
  scopes: response.scopes
  needs: [{when: response.plan == "large", says: The account's plan lacks tests.}]
left: (= response.left ) tests left
failure: {message: (= response.message ), field: (= response.field ), when: response.ok == false}
choices:
  benches:
    request: {method: GET, path: /benches, query: {space: (= account.space )}}
    each: response.benches
    value: item.id
    label: item.title
    search: q
    address: "/bench/(b[0-9]+)"
    paging: {cursor: response.next, query: after}
actions:
  test:
    title: Test a glaze
    sentence: Test {glaze} at {bench}, {speed}
    effect: write
    repeat: keyed
    key_lasts: 2h
    fields:
      type: object
      required: [glaze, bench]
      properties:
        glaze: {type: string, title: Glaze}
        bench: {type: string, title: Bench, choices: benches}
        speed: {type: integer, title: Speed, enum: [1, 2], words: {"1": slow, "2": fast}}
        told: {type: string, title: Told at}
    request: {method: POST, path: /tests, json: {glaze: (= input.glaze ), bench: (= input.bench ), told: (= input.told )}}
    units: response.minutes
    unit: minutes
    job:
      check: {method: GET, path: "/tests/(= submitted.id )"}
      every: 2s
      deadline: 1h
      done: response.state == "done"
      failed: response.state == "bad"
      reason: (= response.reason )
      result: {method: GET, path: "/tests/(= submitted.id )/result"}
      callback: told
    summary: "(= output.glaze ), (= output.lead ) mg/l"
    link: https://bench.example/(= output.id )
    read_back: {action: look, input: {id: (= output.id )}}
    undo: {action: drop, input: {id: (= output.id ), glaze: (= input.glaze )}}
    sample: {id: t1, glaze: Celadon, lead: 0.2}
  look:
    title: Look
    sentence: Look at {id}
    effect: read
    fields: {type: object, required: [id], properties: {id: {type: string, title: Id}}}
    request: {method: GET, path: "/tests/(= input.id )"}
    leave_out: [deep.secret, noise]
    units: 2
    sample: {id: t1}
  drop:
    title: Drop
    sentence: Drop {id}
    effect: write
    fields: {type: object, properties: {id: {type: string}, glaze: {type: string}}}
    request: {method: DELETE, path: "/tests/(= input.id )"}
    sample: {}
`

func bench(t *testing.T) (*Connector, map[string]any) {
	t.Helper()
	c, err := Parse([]byte(followed))
	require.NoError(t, err)
	return c, map[string]any{"address": "https://bench.example", "space": "hall"}
}

func does(t *testing.T, c *Connector, name string) *Action {
	t.Helper()
	a, err := c.Action(name)
	require.NoError(t, err)
	return a
}

func said200(body string) *call.Answer { return answer(200, "application/json", body) }

// A job is begun, looked at less and less often, and its result fetched.
func TestAJobIsFollowedToItsEnd(t *testing.T) {
	t.Parallel()
	c, account := bench(t)
	a := does(t, c, "test")
	now := time.Unix(1_800_000_000, 0)
	begun, err := a.Build(account, map[string]any{"glaze": "Celadon", "bench": map[string]any{"id": "b7", "name": "The large one"}, "told": "https://trellis.example/callbacks/x"}, nil)
	require.NoError(t, err)
	require.JSONEq(t, `{"glaze": "Celadon", "bench": "b7", "told": "https://trellis.example/callbacks/x"}`, string(begun.Body))
	require.Equal(t, []string{call.Write, call.Keyed}, []string{begun.Effect, begun.Repeat})
	submitted, err := a.ReadSubmitted(said200(`{"id": "t9"}`), now)
	require.NoError(t, err)

	look, err := a.BuildJob(JobCheck, account, nil, submitted)
	require.NoError(t, err)
	require.Equal(t, "https://bench.example/tests/t9", look.URL.String())
	fetch, err := a.BuildJob(JobResult, account, nil, submitted)
	require.NoError(t, err)
	require.Equal(t, "https://bench.example/tests/t9/result", fetch.URL.String())
	for body, want := range map[string]JobState{
		`{"state": "running"}`:                         {},
		`{"state": "done"}`:                            {Done: true},
		`{"state": "bad"}`:                             {Failed: "it failed"},
		`{"state": "bad", "reason": "it has crawled"}`: {Failed: "it has crawled"},
	} {
		got, err := a.ReadJob(said200(body), submitted, now)
		require.NoError(t, err)
		got.Answer = nil
		require.Equal(t, want, got, body)
	}
	for _, read := range []func(*call.Answer) error{
		func(x *call.Answer) error { _, err := a.ReadJob(x, submitted, now); return err },
		func(x *call.Answer) error { _, err := a.ReadSubmitted(x, now); return err },
	} {
		busy := answer(429, "application/json", `{"ok": false, "message": "not so fast", "field": "glaze"}`)
		busy.Header.Set("Retry-After", "30")
		var r *Refusal
		require.ErrorAs(t, read(busy), &r)
		require.Equal(t, 30*time.Second, r.Wait)
		require.Equal(t, "not so fast", r.Message)
	}
	require.Equal(t, []time.Duration{2 * time.Second, time.Hour}, []time.Duration{a.Job.Pause(0), a.Job.Ends()})
	require.LessOrEqual(t, a.Job.Pause(time.Hour), 20*time.Second)
	require.Greater(t, a.Job.Pause(time.Hour), a.Job.Pause(time.Second))
	require.Equal(t, []time.Duration{2 * time.Hour, 24 * time.Hour}, []time.Duration{a.KeyLasts(), does(t, c, "drop").KeyLasts()})
}

func TestWhatWasWrittenIsShownReadBackAndUndone(t *testing.T) {
	t.Parallel()
	c, account := bench(t)
	a := does(t, c, "test")
	output := map[string]any{"id": "t9", "glaze": "Celadon", "lead": json.Number("0.2")}
	require.Equal(t, "Celadon, 0.2 mg/l", a.Summarise(output))
	require.Equal(t, "https://bench.example/t9", a.RecordLink(output))
	require.Empty(t, does(t, c, "drop").RecordLink(output))
	file := (&item.File{ID: "sha256-" + string(make([]byte, 0)), Name: "memo.wav", Type: "audio/wav", Size: 2048}).Value()
	require.Empty(t, does(t, c, "drop").Summarise("a text"))
	_ = does(t, c, "drop").Summarise(map[string]any{"file": file})
	back, err := a.ReadBack.ProofCall(output, nil)
	require.NoError(t, err)
	require.Equal(t, map[string]any{"id": "t9"}, back)
	undo, err := a.Undo.ProofCall(output, map[string]any{"glaze": "Celadon"})
	require.NoError(t, err)
	require.Equal(t, map[string]any{"id": "t9", "glaze": "Celadon"}, undo)

	look := does(t, c, "look")
	p, err := look.Read(said200(`{"id": "t9", "deep": {"secret": 1, "kept": 2}, "noise": [1]}`), Asked{})
	require.NoError(t, err)
	require.Equal(t, map[string]any{"id": "t9", "deep": map[string]any{"kept": int64(2)}}, p.Output)
	require.InDelta(t, 2, p.Units, 0)
	p, err = a.Read(said200(`{"id": "t9", "minutes": 4.5}`), Asked{})
	require.NoError(t, err)
	require.InDelta(t, 4.5, p.Units, 0)
	_, err = look.Build(account, map[string]any{}, nil)
	var input *form.InputError
	require.ErrorAs(t, err, &input)
	_, err = c.Action("tst")
	require.ErrorContains(t, err, "test")
}

func TestSentencesSayWhatWasFilledIn(t *testing.T) {
	t.Parallel()
	c, _ := bench(t)
	a := does(t, c, "test")
	require.Equal(t, c, a.Connector())
	require.False(t, a.List())
	for _, x := range []struct {
		input map[string]any
		says  string
	}{
		{nil, "Test … at …, …"},
		{map[string]any{"glaze": "Celadon", "bench": map[string]any{"id": "b7", "name": "The large one"}, "speed": int64(2)}, "Test Celadon at The large one, 2, fast"},
		{map[string]any{"glaze": "(= item.glaze )", "bench": "b7"}, "Test glaze at b7, …"},
		{map[string]any{"glaze": "(= upper(replace(item.some_long_name, \"a very long text that is replaced\", \"by another\")) )"}, "Test the glaze at …, …"},
	} {
		require.Equal(t, x.says, a.Say(x.input))
	}
}

// A check says whose account it is, what its plan lacks, and what is left.
func TestAnAccountIsChecked(t *testing.T) {
	t.Parallel()
	c, account := bench(t)
	r, err := c.BuildCheck(account)
	require.NoError(t, err)
	require.Equal(t, "https://bench.example/me", r.URL.String())
	for body, want := range map[string]Checked{
		`{"name": "Mara", "house": "Ottermere", "plan": "large", "scopes": ["read", "write"], "left": 3}`: {Said: "Mara, Ottermere", Scopes: []string{"read", "write"}, Left: "3 tests left"},
		`{"name": "Mara", "house": "Ottermere", "plan": "small", "scopes": "read, write"}`:                {Said: "Mara, Ottermere", Missing: []string{"The account's plan lacks tests."}, Scopes: []string{"read", "write"}},
	} {
		got, err := c.ReadCheck(said200(body))
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	_, err = c.ReadCheck(answer(401, "application/json", `{"message": "who are you?"}`))
	var refusal *Refusal
	require.ErrorAs(t, err, &refusal)
	require.Equal(t, "who are you?", refusal.Message)
	require.Len(t, c.AccountProperties(), 2)
	_, err = c.BuildCheck(map[string]any{"address": "not an address"})
	require.Error(t, err)
}

func TestChoicesArePickedFromLists(t *testing.T) {
	t.Parallel()
	c, account := bench(t)
	r, err := c.BuildChoice("benches", account, nil, "large one", nil)
	require.NoError(t, err)
	require.Equal(t, "https://bench.example/benches?q=large+one&space=hall", r.URL.String())
	options, next, err := c.ReadChoice("benches", said200(`{"benches": [{"id": "b1", "title": "One"}, {"id": 7, "title": 7}], "next": "c2"}`), nil)
	require.NoError(t, err)
	require.Equal(t, []Option{{"b1", "One"}, {int64(7), "7"}}, options)
	r, err = c.BuildChoice("benches", account, nil, "", next)
	require.NoError(t, err)
	require.Contains(t, r.URL.RawQuery, "after=c2")
	options, next, err = c.ReadChoice("benches", said200(`{"benches": null}`), next)
	require.NoError(t, err)
	require.Empty(t, options)
	require.Nil(t, next)
	_, _, err = c.ReadChoice("benches", answer(500, "text/plain", "oh"), nil)
	require.Error(t, err)
	_, err = c.BuildChoice("shelves", account, nil, "", nil)
	require.ErrorContains(t, err, `no choice list "shelves"`)
	choice := c.Choices["benches"]
	for pasted, want := range map[string]string{"https://bench.example/bench/b42?tab=1": "b42", "b42": "b42"} {
		id, _ := choice.FromAddress(pasted)
		require.Equal(t, want, id)
	}
}

func TestWhatAPersonEntersToSignIn(t *testing.T) {
	t.Parallel()
	c, account := bench(t)
	key, ok := c.Way("")
	require.True(t, ok)
	require.Equal(t, []Secret{{"secret", "Key of the bench", false, true}}, key.Secrets())
	basic, _ := c.Way(Basic)
	require.Equal(t, []Secret{{"user", "User name", true, true}, {"secret", "Password", false, false}}, basic.Secrets())
	consent, _ := c.Way(OAuth2)
	require.Equal(t, []Secret{{"client_id", "Client id", true, true}, {"secret", "Client secret", false, false}}, consent.Secrets())
	_, ok = c.Way(HMAC)
	require.False(t, ok)
	e, err := consent.OAuth.Endpoints(account)
	require.NoError(t, err)
	require.Equal(t, Endpoints{"https://bench.example/authorize", "https://bench.example/token", "https://bench.example/revoke", "https://bench.example"}, e)
	_, err = consent.OAuth.Endpoints(map[string]any{"address": "ftp:"})
	require.ErrorContains(t, err, "is not the address of an authorization server")
	require.ElementsMatch(t, []string{"a word", "mara:a word", "token"}, (&Credentials{Values: map[string]string{"user": "mara", "secret": "a word"}, Token: "token"}).All(basic))
	require.Nil(t, (*Credentials)(nil).All(basic))
}

// A query reads rows by parameters, never by text put into it.
func TestQueriesAndFreeCallsAreReadFromTheirSettings(t *testing.T) {
	t.Parallel()
	q := &Query{Query: "select piece from pieces where cone = $1", Params: []any{"(= item.cone )"}, Key: "piece", Sample: []any{map[string]any{"piece": "bowl"}}}
	a, tree, err := q.Action()
	require.NoError(t, err)
	require.True(t, a.List())
	require.Equal(t, call.Read, a.Effect)
	require.NotEmpty(t, tree)
	f, err := ReadFree(map[string]any{"url": "https://bench.example/x", "method": "POST", "json": map[string]any{"a": int64(1)}, "success": map[string]any{"status": []any{int64(200), int64(404)}, "when": "response.ok"}, "wait": map[string]any{"header": "X-Wait", "unit": "s"}})
	require.NoError(t, err)
	require.Equal(t, "POST", f.Method)
	for name, settings := range map[string]map[string]any{
		"no address":         {},
		"a list of a write":  {"url": "https://bench.example/x", "method": "POST", "each": "response.list"},
		"two bodies":         {"url": "https://bench.example/x", "method": "POST", "json": map[string]any{}, "form": map[string]any{}},
		"no status":          {"url": "https://bench.example/x", "success": map[string]any{"status": []any{"many"}}},
		"a status too high":  {"url": "https://bench.example/x", "success": map[string]any{"status": []any{int64(700)}}},
		"two ways of paging": {"url": "https://bench.example/x", "each": "response.list", "paging": map[string]any{"cursor": "response.next", "page": true}},
		"another scheme":     {"url": "file:///etc/passwd"},
	} {
		_, err := ReadFree(settings)
		require.Error(t, err, name)
	}
}

// Every shipped connector can do what its document says: its check, its lists,
// its calls with their samples, and its answers.
func TestEveryShippedConnectorIsWhole(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("../../../connectors/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		var raw any
		require.NoError(t, yaml.Unmarshal(text, &raw))
		c, problems := Examine(text)
		for _, p := range problems {
			require.Equal(t, document.SeverityWarning, p.Severity, "%s: %v", file, p)
		}
		account := map[string]any{}
		for _, p := range c.AccountProperties() {
			switch account[p.Name] = "https://side.example"; p.Name {
			case "host":
				account[p.Name] = "side.example"
			case "port":
				account[p.Name] = "2525"
			}
		}
		for _, name := range c.Order {
			a := does(t, c, name)
			require.NotEmpty(t, a.Say(nil), "%s.%s", c.Name, name)
			if a.Sample != nil {
				sample := a.Sample
				if list, ok := sample.([]any); ok && len(list) > 0 {
					sample = list[0]
				}
				_ = a.Summarise(sample)
				_ = a.RecordLink(sample)
			}
			for _, p := range a.Properties {
				if list, ok := p.Schema["choices"].(string); ok {
					require.Contains(t, c.Choices, list, "%s.%s", c.Name, name)
				}
			}
		}
		for i := range c.SignIn {
			for _, s := range c.SignIn[i].Secrets() {
				require.NotEmpty(t, s.Title)
			}
		}
		if c.Check.Request.Path != "" && c.Base != "" {
			r, err := c.BuildCheck(account)
			require.NoError(t, err, c.Name)
			require.Equal(t, "side.example", r.URL.Hostname())
		}
	}
	require.Equal(t, http.StatusOK, said200("{}").Status)
}
