package test

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/api"
	"youngtrellis/internal/standins/switchboard"
)

// What can be neither stored nor told apart from another text is refused at every
// entry, in words, as the caller's mistake and never as ours.
func TestTextThatCannotBeStoredIsRefusedEverywhere(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	for name, bad := range map[string]string{"nothing": `a\u0000b`, "half a pair": `\ud800`, "the other half": `\udfffx`, "bytes": "\xff\xfe", "a raw zero": "\x00"} {
		for path, body := range map[string]string{
			"POST /session": `{"email": "BAD@ottermere.example", "password": "x"}`, "POST /session ": `{"email": "x@ottermere.example", "password": "BAD"}`, "POST /tokens": `{"name": "BAD"}`,
			"POST /workflows": `{"document": "format: young-trellis/1\nname: bad\ntitle: 'BAD'\ntrigger: {type: manual}\n"}`, "POST /workflows/kiln-list/start": `{"items": [{"a": "BAD"}]}`,
			"POST /workflows/counter-calls/samples": `{"fields": {"a": "x"}, "source": "BAD"}`, "POST /workflows/counter-calls/samples ": `{"fields": {"BAD": 1}}`,
			"POST /connections": `{"name": "bad", "connector": "tables", "account": {"address": "http://BAD.example"}, "secret": "x"}`, "POST /connections ": `{"name": "bad", "connector": "tables", "account": {"address": "http://a.example"}, "secret": "BAD"}`,
			"POST /paste": `{"text": "curl http://a.example -d BAD"}`, "POST /check": `{"document": "BAD"}`, "POST /evaluate": `{"source": "'BAD'", "item": {}}`, "POST /try": `{"action": "http", "input": {"method": "GET", "url": "BAD"}}`,
		} {
			method, path, _ := strings.Cut(strings.TrimSpace(path), " ")
			status, answer := request(t, method, base+path, w.Token, []byte(strings.ReplaceAll(body, "BAD", bad)))
			require.Contains(t, []int{400, 422}, status, "%s %s: %s", name, path, answer)
			require.NotContains(t, answer, "internal", "%s %s", name, path)
		}
	}
	spec, err := api.GetSpec()
	require.NoError(t, err)
	for path, item := range spec.Paths.Map() {
		for method := range item.Operations() {
			if i := strings.Index(path, "{"); i >= 0 {
				bad := path[:i] + "a%00b" + path[strings.Index(path, "}")+1:]
				for strings.Contains(bad, "{") {
					bad = bad[:strings.Index(bad, "{")] + "x" + bad[strings.Index(bad, "}")+1:]
				}
				status, answer := request(t, method, base+bad, w.Token, nil)
				require.Equal(t, 400, status, "%s %s: %s", method, bad, answer)
			}
			status, answer := request(t, method, base+strings.NewReplacer("{", "", "}", "").Replace(path)+"?limit=%ff&a=%00", w.Token, nil)
			require.Equal(t, 400, status, "%s %s: %s", method, path, answer)
		}
	}
}

// Bad keys of one caller start nothing, are nobody's duplicate, and cost nobody else.
func TestBadKeysAreTheirCallersOwnTrouble(t *testing.T) {
	t.Parallel()
	w := world(t)
	send := func(kind, body string) (int, string) {
		res := asked(t, "POST", w.HookAddress, body, http.Header{"Authorization": {"Bearer " + w.HookSecret}, "Content-Type": {kind}})
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(b)
	}
	for _, key := range []string{`\ud800`, `\udfff`, `\ud83d`, `a\u0000b`, "\xff", "\xfe", "\x00"} {
		status, answer := send("application/json", `{"call_id": "`+key+`", "number": "+441632960141"}`)
		require.Equal(t, 400, status, answer)
		require.Contains(t, answer, "told apart", key)
	}
	for _, key := range []string{"%ff", "%fe", "%00"} {
		status, answer := send("application/x-www-form-urlencoded", url.Values{"number": {"+441632960141"}}.Encode()+"&call_id="+key)
		require.Equal(t, 400, status, answer)
	}
	sent, err := w.Report(within(t, time.Minute), switchboard.Fourteen(time.Now(), "beside")[:3])
	require.NoError(t, err)
	for _, s := range sent {
		require.Equal(t, 202, s.Status)
	}
}
