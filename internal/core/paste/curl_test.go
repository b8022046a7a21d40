package paste

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// arrived is what the echo server saw of a call.
type arrived struct {
	method, target, body string
	header               http.Header
}

// echo takes down what arrives, to the byte.
func echo(t *testing.T) (address string, take func() (arrived, bool)) {
	var mu sync.Mutex
	var last *arrived
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		mu.Lock()
		last = &arrived{method: r.Method, target: r.RequestURI, header: r.Header, body: string(b)}
		mu.Unlock()
	}))
	t.Cleanup(s.Close)
	return s.URL, func() (a arrived, ok bool) {
		mu.Lock()
		defer mu.Unlock()
		if last != nil {
			a, ok, last = *last, true, nil
		}
		return a, ok
	}
}

// files are those that the commands read.
var files = map[string]string{
	"memo.wav": "RIFF\x00\x01 a spoken memo", "note.txt": "cone 9 & more", "lines.txt": "a=1\r\nb=2\n", "order.json": `{"name": "Jug"}`,
	"glaze.png": "\x89PNG\r\n", "headers.txt": "X-Shop: hall\n",
}

// planted are the secrets of the commands. None may stay in a step, or in what is shown.
var planted = []string{"tk_8d7f6a5b", "tok_8d7f", "kiln-password", "pass word", "secret-pass", "abc123", "bWFyYTp", "abc-123-def", "tok_1234567890", "tk_1", "tk_2", "AAHk3sQz", "4eC39HqLyjWDarjtT1zdp7dc"}

// ownOfEach are headers that each sender makes itself.
var ownOfEach = []string{"User-Agent", "Content-Length", "Accept-Encoding", "Expect", "Connection"}

// Each call sends to the byte what the real program sends, or says what it does not.
func TestPastedCallsSendWhatCurlSends(t *testing.T) {
	t.Parallel()
	require.GreaterOrEqual(t, len(calls), 140)
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	address, take := echo(t)
	fill := strings.NewReplacer("ECHO", address, "DIR", dir, "HOST", strings.TrimPrefix(address, "http://"))
	for _, x := range calls {
		command := fill.Replace(x.call)
		pasted, err := Read(command)
		if x.refused != "" {
			require.ErrorContains(t, err, x.refused, x.call)
			continue
		}
		require.NoError(t, err, x.call)
		notes := strings.Join(pasted.Notes, " | ")
		if x.said != "" {
			require.Contains(t, notes, x.said, x.call)
		}
		real := command
		if x.as != "" {
			real = fill.Replace(x.as)
		}
		run := exec.Command("bash", "-c", `curl() { command curl -s --noproxy '*' "$@"; }; `+strings.ReplaceAll(strings.ReplaceAll(real, "/usr/bin/curl", "curl"), "| jq .name", ""))
		run.Stdout = io.Discard
		require.NoError(t, run.Run(), x.call)
		want, ok := take()
		require.True(t, ok, x.call)
		send(t, pasted, address, x.call)
		got, ok := take()
		require.True(t, ok, x.call)
		require.NoError(t, silently(want, got, notes), x.call)
		b, err := item.Encode(pasted.Settings)
		require.NoError(t, err)
		for _, secret := range planted {
			require.NotContains(t, string(b), secret, x.call)
			require.NotContains(t, pasted.Request, secret, x.call)
			require.NotContains(t, notes, secret, x.call)
		}
		asAction(t, pasted, x.call)
	}
}

func encoded(target string) string {
	path, query, ok := strings.Cut(target, "?")
	if path = connector.LegalPath(path); ok {
		path += "?" + connector.LegalQuery(query)
	}
	return path
}

var escapes = regexp.MustCompile("%[0-9a-fA-F]{2}")

func upperEscapes(s string) string { return escapes.ReplaceAllStringFunc(s, strings.ToUpper) }

// silently finds what goes out otherwise without a word.
func silently(want, got arrived, notes string) error {
	differs := func(what string, want, got any) error {
		return fmt.Errorf("%s: %#v, not %#v; said: %s", what, got, want, notes)
	}
	if want.method != got.method {
		return differs("method", want.method, got.method)
	}
	// The case of an escape means nothing (RFC 3986, 6.2.2.1), and the program's releases differ in it.
	want.target, got.target = upperEscapes(want.target), upperEscapes(got.target)
	if want.header.Get("Content-Type") == "application/x-www-form-urlencoded" {
		want.body, got.body = upperEscapes(want.body), upperEscapes(got.body)
	}
	if want.target != got.target {
		path, _, _ := strings.Cut(encoded(want.target), "?")
		other, _, _ := strings.Cut(got.target, "?")
		switch {
		case strings.Contains(notes, "to fill in"):
		case strings.Contains(notes, "question mark at the end") && upperEscapes(strings.TrimSuffix(encoded(want.target), "?")) == got.target:
		case strings.Contains(notes, "go out encoded") && upperEscapes(encoded(want.target)) == got.target:
		case !strings.Contains(notes, "comes last in the query") && !strings.Contains(notes, "It goes out to") || path != other || !slices.Equal(pairsOf(encoded(want.target)), pairsOf(got.target)):
			return differs("target", want.target, got.target)
		}
	}
	if strings.Contains(notes, "Content-Type is left out") && strings.Contains(want.header.Get("Content-Type"), "boundary=") {
		_, after, _ := strings.Cut(want.header.Get("Content-Type"), "boundary=")
		want.header.Set("Content-Type", "multipart/form-data; boundary="+after)
	}
	x, y := headersOf(want), headersOf(got)
	for name := range x {
		if strings.Contains(notes, "The header "+name+" goes out as") {
			delete(x, name)
			delete(y, name)
		}
	}
	if !reflect.DeepEqual(x, y) && !strings.Contains(notes, "to fill in") {
		return differs("headers", x, y)
	}
	switch {
	case strings.HasPrefix(want.header.Get("Content-Type"), "multipart/"):
		x, errX := partsOf(want, notes)
		y, errY := partsOf(got, notes)
		for i := range x {
			if strings.Contains(notes, "Content-Type is left out") {
				x[i] = strings.Replace(x[i], "attachment;", "form-data;", 1)
			}
		}
		if errX != nil || errY != nil || !slices.Equal(x, y) && !strings.Contains(notes, "to fill in") {
			return differs("parts", x, y)
		}
	case want.body == got.body:
	case strings.Contains(notes, "goes out with the same values") && sameJSON([]byte(want.body), []byte(got.body)):
	case strings.Contains(notes, "goes out with the same fields") && slices.Equal(pairsOf("?"+want.body), pairsOf("?"+got.body)):
	case strings.Contains(notes, "to fill in"): // a secret that no sign-in puts back
	case strings.Contains(notes, "leave out its line breaks") && want.body == strings.NewReplacer("\r", "", "\n", "").Replace(got.body):
	default:
		return differs("body", want.body, got.body)
	}
	return nil
}

// asAction makes the call an action too, which must send the same as the step.
func asAction(t *testing.T, p *Pasted, shown string) {
	k, err := p.Into(nil, Keep{})
	require.NoError(t, err, shown)
	con, err := connector.Parse([]byte(k.Document))
	require.NoError(t, err, "%s\n%s", shown, k.Document)
	for _, secret := range planted {
		require.NotContains(t, k.Document, secret, shown)
	}
	action := con.Actions[k.Action]
	require.NotNil(t, action, k.Document)
	input := map[string]any{}
	for _, f := range p.Files {
		_, field, _ := strings.Cut(f.Field, ".")
		for _, prop := range action.Properties {
			if prop.Schema["hint"] == "file" {
				input[prop.Name] = p.items()[field]
			} else if prop.Required && prop.Schema["hint"] == "lines" && input[prop.Name] == nil && f.Text {
				input[prop.Name] = p.items()[field]
			}
		}
	}
	for _, prop := range action.Properties {
		if prop.Required && input[prop.Name] == nil {
			input[prop.Name] = "x"
		}
	}
	call, err := action.Build(nil, input, nil)
	require.NoError(t, err, "%s\n%s", shown, k.Document)
	got, err := p.proven(call)
	require.NoError(t, err, shown)
	want, err := p.built()
	require.NoError(t, err, shown)
	if len(p.Placeholders) > 0 || len(p.Files) > 1 {
		return
	}
	require.Equal(t, want.method, got.method, shown)
	require.Equal(t, want.target, got.target, "%s\n%s", shown, k.Document)
	require.Equal(t, want.body, got.body, "%s\n%s", shown, k.Document)
	// It joins itself without a change.
	again, err := p.Into(con, Keep{})
	require.NoError(t, err, shown)
	require.False(t, again.Changed, "%s\n%s\n%s", shown, k.Document, again.Document)
	require.Equal(t, k.Action, again.Action, shown)
	require.Equal(t, k.Way, again.Way, shown)
}

func pairsOf(target string) []string {
	_, query, _ := strings.Cut(target, "?")
	out := []string{}
	for _, p := range strings.Split(query, "&") {
		if p != "" {
			name, value, _ := strings.Cut(p, "=")
			out = append(out, unescaped(name)+"="+unescaped(value))
		}
	}
	slices.Sort(out)
	return out
}

// headersOf are those that the call itself makes.
func headersOf(a arrived) http.Header {
	h := a.header.Clone()
	for _, name := range ownOfEach {
		h.Del(name)
	}
	if strings.HasPrefix(h.Get("Content-Type"), "multipart/form-data;") {
		h.Set("Content-Type", "multipart/form-data")
	}
	if kind, rest, ok := strings.Cut(h.Get("Authorization"), " "); ok && strings.EqualFold(kind, "bearer") { // the scheme's case means nothing (RFC 9110, 11.1)
		h.Set("Authorization", "Bearer "+rest)
	}
	return h
}

func partsOf(a arrived, notes string) ([]string, error) {
	_, params, err := mime.ParseMediaType(a.header.Get("Content-Type"))
	if err != nil {
		return nil, err
	}
	out := []string{}
	r := multipart.NewReader(strings.NewReader(a.body), params["boundary"])
	for {
		p, err := r.NextRawPart()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		c, err := io.ReadAll(p)
		if err != nil {
			return nil, err
		}
		kind := p.Header.Get("Content-Type")
		if strings.Contains(notes, "the type of its file") && p.FileName() != "" && typeOf(p.FileName()) == "application/octet-stream" {
			kind = "said"
		}
		out = append(out, fmt.Sprintf("%s|%s|%q", p.Header.Get("Content-Disposition"), kind, c))
	}
}

// send carries the step out as the service does, with the new connection.
func send(t *testing.T, p *Pasted, address string, shown string) {
	free, err := connector.ReadFree(p.Settings)
	require.NoError(t, err, shown)
	action, tree, err := free.Action()
	require.NoError(t, err, shown)
	compiled, err := expr.CompileValue(tree, expr.Names{"item"})
	require.NoError(t, err, shown)
	fields := map[string]any{}
	for i, f := range p.Files {
		_, field, _ := strings.Cut(f.Field, ".")
		base := filepath.Base(f.Name)
		if fields[field] = files[base]; !f.Text {
			fields[field] = (&item.File{ID: "sha256-" + fmt.Sprintf("%064d", i), Name: base, Type: mime.TypeByExtension(filepath.Ext(base)), Size: int64(len(files[base]))}).Value()
		}
	}
	v, err := compiled.Eval(&expr.Scope{Item: fields, Names: map[string]any{}})
	require.NoError(t, err, shown)
	call, err := action.Build(nil, v.(map[string]any), nil)
	require.NoError(t, err, shown)
	u := *call.URL
	if u.Host == "" {
		base, err := url.Parse(address)
		require.NoError(t, err)
		u.Scheme, u.Host = base.Scheme, base.Host
	}
	body := bytes.NewBuffer(call.Body)
	for _, piece := range call.Pieces {
		body.Write(piece.Bytes)
		if piece.File != nil {
			body.WriteString(files[piece.File.Name])
		}
	}
	require.EqualValues(t, body.Len(), call.Size(), shown)
	signed := &connector.Signed{Method: call.Method, URL: &u, Header: call.Header, Body: body.Bytes(), Now: time.Now()}
	if len(p.Secrets) > 0 {
		kept, err := p.Into(nil, Keep{})
		require.NoError(t, err, shown)
		con, err := connector.Parse([]byte(kept.Document))
		require.NoError(t, err, shown)
		values := map[string]string{}
		for _, s := range p.Secrets {
			values[s.Name] = s.written
		}
		require.NoError(t, con.SignIn[0].Apply(signed, &connector.Credentials{Values: values}), shown)
	}
	req, err := http.NewRequest(signed.Method, u.String(), bytes.NewReader(signed.Body))
	require.NoError(t, err)
	req.Header = signed.Header
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err, shown)
	res.Body.Close()
}

func TestSecretsAndPlaceholdersAreTakenOut(t *testing.T) {
	t.Parallel()
	p, err := Read(`curl -X POST 'https://api.ottermere.example/v1/{order_id}/notes?token=YOUR_TOKEN&shop=<shop-id>' -H "Authorization: Bearer $API_TOKEN" -H 'X-Api-Key: tk_1234567890abcdef' --json '{"client_secret": "abc", "note": "[your note]"}'`)
	require.NoError(t, err)
	require.Equal(t, "https://api.ottermere.example", p.Origin)
	require.Len(t, p.Secrets, 4)
	var asked []string
	for _, a := range p.Placeholders {
		asked = append(asked, a.Where+": "+a.Text)
	}
	for _, s := range p.Secrets {
		asked = append(asked, s.Where+": "+s.Asked+s.Hint())
	}
	require.ElementsMatch(t, []string{"the header Authorization: $API_TOKEN", "the query parameter token: YOUR_TOKEN", "the query parameter shop: <shop-id>", "the address: {order_id}",
		"the header X-Api-Key: ••••cdef", "the body’s client_secret: ••••", "the body’s note: [your note]"}, asked)
	kept, err := p.Into(nil, Keep{})
	require.NoError(t, err)
	con, err := connector.Parse([]byte(kept.Document))
	require.NoError(t, err)
	require.Len(t, con.SignIn[0].Secrets(), 4)
	require.Equal(t, "/v1/%7Border_id%7D/notes?shop=<shop-id>", p.Settings["url"])
	require.NotContains(t, kept.Document, "tk_1234567890abcdef")
}

func TestRawRequestsBecomeSteps(t *testing.T) {
	t.Parallel()
	p, err := Read("POST /v1/orders?dry=1 HTTP/1.1\r\nHost: api.ottermere.example\r\nContent-Type: application/json\r\nContent-Length: 99\r\nAuthorization: Bearer tok_1234567890\r\n\r\n{\"name\": \"Jug\"}")
	require.NoError(t, err)
	require.Equal(t, map[string]any{"method": "POST", "url": "/v1/orders?dry=1", "header": map[string]any{"Accept": nil}, "json": map[string]any{"name": "Jug"}}, p.Settings)
	require.Equal(t, "tok_1234567890", p.Secrets[0].Value)
	p, err = Read("GET https://api.ottermere.example/v1/orders")
	require.NoError(t, err)
	require.Equal(t, "https://api.ottermere.example/v1/orders", p.Settings["url"])
	require.Empty(t, p.Secrets)
}

func TestWhatCannotBecomeAStepIsRefusedInWords(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		``:                                     "nothing was pasted",
		`wget https://x.example`:               "a command of wget",
		`curl`:                                 "names no address",
		`curl https://x.example -d 'a`:         "without closing quote",
		`curl https://x.example -H`:            "needs a value",
		`curl --no-such https://x.example`:     "--no-such is not known",
		`curl -@ https://x.example`:            "-@ is not known",
		`curl ftp://x.example/a`:               "only http and https",
		`curl https://{host}.example/a`:        "in the place of the host",
		`curl -H "X: $(cat key)" https://x.ex`: "runs another command",
		`curl -K config https://x.example`:     "cannot be done by a step",
		`curl -H nocolon https://x.example`:    "has no colon",
		"GET /v1/orders":                       "names no host",
		strings.Repeat("if ", 300_000) + "curl http://a.example/":   "a script rather than a command",
		strings.Repeat("time ", 200_000) + "curl http://a.example/": "a script rather than a command",
		"GET /v1/orders HTTP/1.1\nHost":                             "is no header",
	} {
		_, err := Read(text)
		require.ErrorContains(t, err, want, text)
	}
}
