package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// called makes a workflow live that something calls with these settings.
func called(ctx context.Context, t *testing.T, w *ottermere.World, name, settings string) {
	t.Helper()
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: "format: young-trellis/1\nname: " + name + "\ntrigger: {type: webhook, settings: " + settings + "}\nsteps:\n  - {name: seen, type: shape, settings: {set: {seen: true}}}\n"}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{}))
	require.NoError(t, err)
}

// A command of the call sheet, with its secret, is a call that is taken, whatever way it
// is proven; with another secret it is nobody's.
func TestTheCommandOfACallSheetCalls(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	for name, settings := range map[string]string{
		"by-bearer":     "{}",
		"by-password":   "{verify: basic, user: kiln}",
		"by-header":     "{verify: header, header: X-Kiln-Key}",
		"by-signature":  "{verify: signature, header: X-Kiln-Signature}",
		"by-timed-one":  `{verify: signature, header: X-Kiln-Signature, signed: "v0:{time}:{id}:{body}", time_header: X-Kiln-Time, id_header: X-Kiln-Delivery, prefix: "v0=", hash: sha512, encoding: base64}`,
		"by-a-standard": "{verify: standard}",
		"by-nothing":    "{verify: none}",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx := within(t, 2*time.Minute) // its own: it may wait for its turn
			called(ctx, t, w, name, settings)
			_, err := ottermere.Answer[api.Sample](w.Client.AddSample(ctx, name, api.NewSample{Fields: api.Fields(`{"who": "O'Quern \"& <Tide>\" ä", "cost": "$5 ` + "`x`" + `"}`)}))
			require.NoError(t, err)
			sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, name))
			require.NoError(t, err)
			made, err := ottermere.Answer[api.MadeSecret](w.Client.MakeHookSecret(ctx, name, api.MakeHookSecretJSONRequestBody{}))
			require.NoError(t, err)
			other := "yth_another"
			if name == "by-a-standard" {
				other = "whsec_AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
			}
			run := map[string][]string{"curl": {"bash", "-c"}, "python": {"python3", "-c"}, "javascript": {"node", "--input-type=module", "-e"}}
			require.Len(t, sheet.Calls, len(run))
			for _, x := range sheet.Calls {
				with := run[string(x.In)]
				if _, err := exec.LookPath(with[0]); err != nil && with[0] == "python3" {
					continue // a machine may have none
				}
				call := func(secret string) string {
					out, _ := exec.CommandContext(ctx, with[0], append(with[1:], strings.ReplaceAll(x.Text, "YOUR_SECRET", secret))...).CombinedOutput()
					return string(out)
				}
				require.Contains(t, call(*made.Secret), `"run":"`, x.Text)
				if name != "by-nothing" {
					require.Regexp(t, "Nothing is called here|404", call(other))
				}
			}
			if name == "by-nothing" {
				return
			}
			after, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, name))
			require.NoError(t, err)
			require.NotNil(t, after.Secrets[0].Used)
		})
	}
}

// Secrets are changed without a call being lost: a second is made, callers change to it,
// the first is ended.
func TestSecretsAreChangedWhileCallsCome(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, time.Minute)
	called(ctx, t, w, "loads", "{}")
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "loads"))
	require.NoError(t, err)
	status := func(secret string) int {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, sheet.Address, strings.NewReader("{}"))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+secret)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return res.StatusCode
	}
	out, code := said(t, w, "", "workflow", "address", "loads", "--new-secret")
	require.Zero(t, code, out)
	first, _, _ := strings.Cut(out, "\n")
	require.Equal(t, 202, status(first))
	given := "the other side's own"
	out, code = said(t, w, given+"\n", "workflow", "address", "loads", "--secret-file", "-")
	require.Zero(t, code, out)
	require.NotContains(t, out, given)
	require.Equal(t, 202, status(first))
	require.Equal(t, 202, status(given))
	out, code = said(t, w, "", "workflow", "address", "loads", "--new-secret")
	require.Equal(t, 5, code)
	require.Contains(t, out, "2 secrets are in use already")
	out, _ = said(t, w, "", "workflow", "address", "loads")
	require.Contains(t, out, "The secret comes in the header Authorization, as: Bearer SECRET.")
	require.Equal(t, 2, strings.Count(out, ", used last "), out)
	list, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "loads"))
	require.NoError(t, err)
	out, code = said(t, w, "", "workflow", "address", "loads", "--end-secret", list.Secrets[1].Id.String())
	require.Zero(t, code, out)
	require.Equal(t, 404, status(first))
	require.Equal(t, 202, status(given))
	_, code = said(t, w, "", "workflow", "address", "loads", "--end-secret", "the first")
	require.Equal(t, 2, code)
	short := "short"
	_, err = ottermere.Answer[api.MadeSecret](w.Client.MakeHookSecret(ctx, "loads", api.MakeHookSecretJSONRequestBody{Secret: &short}))
	require.Error(t, err)
}

// What curl sends in each format becomes items, its files as references that can be
// opened.
func TestCurlInEachFormat(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, 2*time.Minute)
	called(ctx, t, w, "formats", "{}")
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "formats"))
	require.NoError(t, err)
	made, err := ottermere.Answer[api.MadeSecret](w.Client.MakeHookSecret(ctx, "formats", api.MakeHookSecretJSONRequestBody{}))
	require.NoError(t, err)
	dir := t.TempDir()
	write := func(name, content string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		return path
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, err = io.WriteString(z, `{"a": "packed"}`)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	picture := "\x89PNG\r\n\x1a\n" + strings.Repeat("x", 3<<20)
	bowl := write("bowl.png", picture)
	for name, c := range map[string]struct {
		args []string
		want string
		file string
	}{
		"JSON":               {args: []string{"--json", `{"a": 1}`}, want: `{"a":1}`},
		"JSON with a mark":   {args: []string{"-H", "Content-Type: application/json", "--data-binary", "@" + write("mark.json", "\ufeff{\"a\": 1}")}, want: `{"a":1}`},
		"a form":             {args: []string{"-d", "a=1", "-d", "b=x+y"}, want: `{"a":"1","b":"x y"}`},
		"XML":                {args: []string{"-H", "Content-Type: application/xml", "-d", `<lot id="7"><kg>4.5</kg></lot>`}, want: `{"@id":"7","kg":"4.5"}`},
		"text":               {args: []string{"-H", "Content-Type: text/plain", "-d", "hello"}, want: `{"body":"hello"}`},
		"a packed one":       {args: []string{"-H", "Content-Type: application/json", "-H", "Content-Encoding: gzip", "--data-binary", "@" + write("packed", packed.String())}, want: `{"a":"packed"}`},
		"a form with a file": {args: []string{"-F", "who=Studio 7", "-F", "picture=@" + bowl}, want: `"name":"bowl.png","size":3145736,"type":"image/png"},"who":"Studio 7"}`, file: "picture"},
		"a file":             {args: []string{"-H", "Content-Type: application/octet-stream", "--data-binary", "@" + bowl}, want: `"type":"image/png"}}`, file: "body"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx := within(t, 2*time.Minute) // its own: it may wait for its turn
			out, err := exec.CommandContext(ctx, "curl", append([]string{"-sS", "-H", "Authorization: Bearer " + *made.Secret, sheet.Address}, c.args...)...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			var said struct{ Run uuid.UUID }
			require.NoError(t, json.Unmarshal(out, &said), "%s", out)
			run, err := w.Wait(ctx, said.Run)
			require.NoError(t, err)
			require.Equal(t, "succeeded", string(run.Run.State))
			cell, err := ottermere.Answer[api.OpenedCell](w.Client.OpenCell(ctx, said.Run, "0", "seen"))
			require.NoError(t, err)
			require.Contains(t, string(cell.Before), c.want)
			if c.file == "" {
				return
			}
			var before map[string]json.RawMessage
			require.NoError(t, json.Unmarshal(cell.Before, &before))
			var f struct{ File string }
			require.NoError(t, json.Unmarshal(before[c.file], &f))
			res, err := w.Client.GetFile(ctx, f.File, &api.GetFileParams{})
			require.NoError(t, err)
			defer res.Body.Close()
			content, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			require.Equal(t, picture, string(content))
		})
	}
}

// A sample is taken of a real call on a live workflow, whose run starts as well; what
// started nothing is told with its reason, and somebody starts with it.
func TestWhatArrivedIsStartedByHand(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, 2*time.Minute)
	called(ctx, t, w, "lots", "{verify: none, key: item.id}")
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "lots"))
	require.NoError(t, err)
	tell := func(body string) (int, string) { return request(t, "POST", sheet.Address, "", []byte(body)) }
	out, code := said(t, w, "", "sample", "take", "lots")
	require.Zero(t, code, out)
	status, answer := tell(`{"id": 7}`)
	require.Equal(t, 202, status)
	require.Contains(t, answer, `"run":"`)
	require.Contains(t, answer, `"taken":"sample"`)
	_, answer = tell(`{"id": 7}`)
	require.Contains(t, answer, `"duplicate":true`)
	status, _ = tell(`{"kg": 4}`)
	require.Equal(t, 422, status)
	s, err := ottermere.Answer[api.Samples](w.Client.ListSamples(ctx, "lots"))
	require.NoError(t, err)
	require.Len(t, s.Samples, 1)
	require.Len(t, s.Arrived, 3)
	require.EqualValues(t, "refused", s.Arrived[0].Verdict)
	require.True(t, s.Arrived[0].Startable)
	out, _ = said(t, w, "", "sample", "list", "lots")
	require.Contains(t, out, s.Arrived[0].Id.String())
	require.Contains(t, out, "the key is empty: item.id gives nothing")
	for _, d := range s.Arrived[:2] { // also what was known
		out, code = said(t, w, "", "workflow", "start", "lots", "--delivery", d.Id.String(), "--watch")
		require.Zero(t, code, out)
		require.Contains(t, out, "1 in, 1 through")
	}
	out, code = said(t, w, "", "workflow", "start", "lots", "--delivery", uuid.NewString())
	require.Equal(t, 3, code, out)
	require.Contains(t, out, "What it brought is not kept")
	_, code = said(t, w, "", "workflow", "start", "lots", "--delivery", "the last")
	require.Equal(t, 2, code)
}

// A call that asks whether somebody is here is answered as plain text; another method
// than those taken is told them; a list of addresses does not go live behind a proxy that
// nobody trusts.
func TestWhichCallsAnAddressTakes(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, time.Minute)
	called(ctx, t, w, "asked", `{verify: none, methods: [PUT, GET], challenge: hello, from: ["127.0.0.0/8", "::1"]}`)
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "asked"))
	require.NoError(t, err)
	do := func(method, more string, header http.Header) (*http.Response, string) {
		req, err := http.NewRequestWithContext(ctx, method, sheet.Address+more, nil)
		require.NoError(t, err)
		if header != nil {
			req.Header = header
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res, string(text)
	}
	res, text := do("GET", "?hello=4711", nil)
	require.Equal(t, 200, res.StatusCode)
	require.Equal(t, "4711", text)
	require.Equal(t, "text/plain; charset=utf-8", res.Header.Get("Content-Type"))
	require.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))
	res, text = do("GET", "?kg=4", nil)
	require.Equal(t, 202, res.StatusCode, text)
	res, text = do("POST", "", nil)
	require.Equal(t, 405, res.StatusCode)
	require.Equal(t, "PUT, GET", res.Header.Get("Allow"))
	require.Contains(t, text, "The method POST is not taken here")
	res, _ = do("PUT", "", http.Header{"X-Forwarded-For": {"203.0.113.7"}})
	require.Equal(t, 202, res.StatusCode, "nobody trusts what that says")
	out, code := said(t, w, "", "workflow", "live", "asked")
	require.Equal(t, 5, code)
	require.Contains(t, out, "Name it with --trusted-proxies of the service, or take the list out.")
}
