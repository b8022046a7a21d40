package connector

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

// made parses a connector whose parts are given in YAML.
func made(t *testing.T, parts string) *Connector {
	t.Helper()
	c, err := Parse([]byte("format: young-trellis-connector/1\nname: kiln\ntitle: Kiln\nversion: 1\nbase: https://kiln.example\ncheck: {request: {method: GET, path: /me}, says: (= output.name )}\n" + parts))
	require.NoError(t, err)
	return c
}

const open = "sign_in: [{method: none, title: Open}]\n"

func action(request string) string {
	return open + "actions:\n  do:\n    title: Do\n    sentence: Do it\n    effect: write\n    sample: {}\n    fields: {type: object}\n    request: " + request + "\n"
}

var sound = (&item.File{ID: "sha256-" + strings.Repeat("a", 64), Name: `me"mo.wav`, Type: "audio/wav", Size: 5}).Value()

func TestBodiesAreBuiltOfEveryKind(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ request, kind, body string }{
		{`{method: POST, path: /x, json: {a: (= input.a ), none: (= input.none ), deep: [(= input.n )]}}`, "application/json", `{"a":"x & \"y\"","deep":[7]}`},
		{`{method: POST, path: /x, form: {a: (= input.a ), list: (= input.list )}}`, "application/x-www-form-urlencoded", "a=x+%26+%22y%22&list=1&list=2"},
		{`{method: POST, path: /x, raw: {type: text/csv, text: "n,(= input.n )"}}`, "text/csv", "n,7"},
		{`{method: POST, path: /x, xml: {order: {"@id": (= input.n ), name: (= input.a ), line: [{qty: 1}, {qty: 2}]}}}`, "application/xml", "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<order id=\"7\"><line><qty>1</qty></line><line><qty>2</qty></line><name>x &amp; &#34;y&#34;</name></order>"},
		{`{method: POST, path: /x}`, "", ""},
	} {
		a, err := made(t, action(c.request)).Action("do")
		require.NoError(t, err)
		request, err := a.Build(nil, map[string]any{"a": `x & "y"`, "n": int64(7), "list": []any{int64(1), int64(2)}}, nil)
		require.NoError(t, err)
		require.Equal(t, c.kind, request.Header.Get("Content-Type"), c.request)
		require.Equal(t, c.body, string(request.Body), c.request)
		require.EqualValues(t, len(c.body), request.Size())
	}
	a, err := made(t, action(`{method: PUT, path: /x, file: (= input.sound )}`)).Action("do")
	require.NoError(t, err)
	request, err := a.Build(nil, map[string]any{"sound": sound}, nil)
	require.NoError(t, err)
	require.Equal(t, "audio/wav", request.Header.Get("Content-Type"))
	require.EqualValues(t, 5, request.Size())
	require.Equal(t, call.Safe, request.Repeat)
	_, err = a.Build(nil, map[string]any{"sound": "memo.wav"}, nil)
	require.ErrorContains(t, err, "should be a file and is text")
}

func TestMultipartIsReadAsItWasMeant(t *testing.T) {
	t.Parallel()
	a, err := made(t, action(`{method: POST, path: /x, multipart: {sound: (= input.sound ), words: (= input.words ), meta: {text: "{}", type: application/json}, none: (= input.none )}}`)).Action("do")
	require.NoError(t, err)
	input := map[string]any{"sound": sound, "words": "cone\r\nreduction"}
	request, err := a.Build(nil, input, nil)
	require.NoError(t, err)
	again, err := a.Build(nil, input, nil)
	require.NoError(t, err)
	require.Equal(t, request.Header, again.Header, "a repeat is the same to the byte")
	var body strings.Builder
	for _, p := range request.Pieces {
		body.Write(p.Bytes)
		if p.File != nil {
			body.WriteString("12345")
		}
	}
	require.EqualValues(t, body.Len(), request.Size())
	_, params, err := mime.ParseMediaType(request.Header.Get("Content-Type"))
	require.NoError(t, err)
	var seen []string
	r := multipart.NewReader(strings.NewReader(body.String()), params["boundary"])
	for {
		p, err := r.NextPart()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		b, _ := io.ReadAll(p)
		seen = append(seen, fmt.Sprintf("%s %s %s %q", p.FormName(), p.FileName(), p.Header.Get("Content-Type"), b))
	}
	require.Equal(t, []string{`meta  application/json "{}"`, `sound me%22mo.wav audio/wav "12345"`, `words   "cone\r\nreduction"`}, seen)
	for _, name := range []string{"a\nb", "a\x00"} {
		_, err := multipartParts(map[string]any{name: "x"})
		require.ErrorContains(t, err, "control characters")
	}
}

func TestNoValueCanSmuggleAnythingIntoARequest(t *testing.T) {
	t.Parallel()
	for _, header := range []string{"Host", "content-length", "Transfer-Encoding", "Connection", "Cookie", "Authorization", "Idempotency-Key"} {
		_, err := Parse([]byte("format: young-trellis-connector/1\nname: kiln\ntitle: Kiln\nversion: 1\nbase: https://kiln.example\ncheck: {request: {method: GET, path: /me}, says: x}\n" + action(`{method: GET, path: /x, header: {`+header+`: x}}`)))
		require.ErrorContains(t, err, "cannot be set here", header)
	}
	a, err := made(t, action(`{method: POST, path: "/a/(= input.v )/b", query: {q: (= input.v )}, header: {X-V: (= input.h )}}`)).Action("do")
	require.NoError(t, err)
	request, err := a.Build(nil, map[string]any{"v": "../x?y=1&z#%2f", "h": "fine"}, nil)
	require.NoError(t, err)
	require.Equal(t, "https://kiln.example/a/..%2Fx%3Fy=1&z%23%252f/b?q=..%2Fx%3Fy%3D1%26z%23%252f", request.URL.String())
	for _, h := range []string{"a\r\nEvil: 1", "a\x00b", "a\nb"} {
		_, err := a.Build(nil, map[string]any{"v": "x", "h": h}, nil)
		require.ErrorContains(t, err, "line break")
	}
	for _, v := range []any{"", ".", "..", nil} {
		_, err := a.Build(nil, map[string]any{"v": v, "h": "x"}, nil)
		require.ErrorContains(t, err, "no usable value")
	}
	c, err := Parse([]byte("format: young-trellis-connector/1\nname: kiln\ntitle: Kiln\nversion: 1\naccount: {type: object, properties: {desk: {type: string}}}\nbase: https://(= account.desk ).kiln.example\ncheck: {request: {method: GET, path: /me}, says: x}\n" + open))
	require.NoError(t, err)
	u, err := c.BaseURL(map[string]any{"desk": "ottermere"})
	require.NoError(t, err)
	require.Equal(t, "ottermere.kiln.example", u.Host)
	for _, desk := range []string{"evil.example/", "a@b", "-a", "a:80", "x#", "a b", strings.Repeat("x", 64)} {
		_, err := c.BaseURL(map[string]any{"desk": desk})
		require.Error(t, err, desk)
	}
}

func TestEverySignInPutsItsProofInItsPlace(t *testing.T) {
	t.Parallel()
	values := map[string]string{"secret": "s3cret-s3cret", "user": "mara", "key_id": "k1", "second": "other-other"}
	apply := func(way string) *Signed {
		c := made(t, "sign_in:\n  - "+way+"\n")
		u, _ := url.Parse("https://kiln.example/a%2Fb?x=1")
		s := &Signed{Method: "POST", URL: u, Header: http.Header{}, Body: []byte(`{"a":1}`), Now: time.Unix(1700000000, 0), Nonce: "n"}
		require.NoError(t, c.SignIn[0].Apply(s, &Credentials{Values: values, Token: "tok-tok-tok"}))
		return s
	}
	require.Equal(t, "s3cret-s3cret", apply(`{method: api_key, title: K, header: X-Key}`).Header.Get("X-Key"))
	require.Equal(t, "Token s3cret-s3cret", apply(`{method: api_key, title: K, header: Authorization, prefix: "Token "}`).Header.Get("Authorization"))
	require.Equal(t, "x=1&key=s3cret-s3cret", apply(`{method: api_key, title: K, query: key}`).URL.RawQuery)
	several := apply(`{method: api_key, title: K, header: X-Key, also: [{name: second, title: S, query: app}]}`)
	require.Equal(t, "x=1&app=other-other", several.URL.RawQuery)
	require.Equal(t, "Bearer s3cret-s3cret", apply(`{method: bearer, title: T}`).Header.Get("Authorization"))
	require.Equal(t, "Clay s3cret-s3cret", apply(`{method: bearer, title: T, prefix: Clay}`).Header.Get("Authorization"))
	require.Equal(t, "Basic "+base64.StdEncoding.EncodeToString([]byte("mara:s3cret-s3cret")), apply(`{method: basic, title: B}`).Header.Get("Authorization"))
	require.Equal(t, "Bearer tok-tok-tok", apply(`{method: oauth2, title: O, oauth: {authorize: https://a.example/a, token: https://a.example/t}}`).Header.Get("Authorization"))
	signed := apply(`{method: hmac, title: H, signing: {over: "(= method )\n(= path )\n(= query )\n(= time )\n(= body_hash )", header: X-Sign, prefix: "v1=", key_header: X-Id, time_header: X-Time}}`)
	require.Equal(t, expectedMAC(signed), strings.TrimPrefix(signed.Header.Get("X-Sign"), "v1="))
	require.Equal(t, "k1", signed.Header.Get("X-Id"))
	require.Equal(t, "1700000000", signed.Header.Get("X-Time"))
	c := made(t, "sign_in:\n  - {method: hmac, title: H, signing: {over: (= body ), header: X-Sign}}\n")
	require.ErrorContains(t, c.SignIn[0].Apply(&Signed{URL: &url.URL{}, Header: http.Header{}, Stream: true}, &Credentials{}), "cannot be signed over its body")
}

// expectedMAC works the signature out by hand, from what the document says.
func expectedMAC(s *Signed) string {
	body := sha256.Sum256(s.Body)
	mac := hmac.New(sha256.New, []byte("s3cret-s3cret"))
	fmt.Fprintf(mac, "POST\n/a%%2Fb\nx=1\n1700000000\n%x", body)
	return hex.EncodeToString(mac.Sum(nil))
}

func TestPagesAreAskedForInEveryWay(t *testing.T) {
	t.Parallel()
	list := func(paging string) *Action {
		a, err := made(t, open+"actions:\n  do:\n    title: Do\n    sentence: Do it\n    effect: read\n    fields: {type: object}\n    request: {method: GET, path: /x, query: {limit: 2}}\n    each: response.rows\n    paging: "+paging+"\n").Action("do")
		require.NoError(t, err)
		return a
	}
	full, short := `{"rows": [1, 2], "next": "c2", "more": true, "links": {"next": "https://kiln.example/x?page=9"}}`, `{"rows": [3], "more": false}`
	for paging, want := range map[string][]string{
		`{cursor: response.next, query: after}`:        {"limit=2", "limit=2&after=c2"},
		`{page: true, query: page, size: 2}`:           {"limit=2&page=1", "limit=2&page=2"},
		`{page: true, first: 0, query: page, size: 2}`: {"limit=2&page=0", "limit=2&page=1"},
		`{offset: true, query: from, size: 2}`:         {"limit=2&from=0", "limit=2&from=2"},
		`{page: true, query: p, more: response.more}`:  {"limit=2&p=1", "limit=2&p=2"},
		`{address: response.links.next}`:               {"limit=2", "page=9"},
		`{link: next}`:                                 {"limit=2", "page=7"},
	} {
		a := list(paging)
		var cursor any
		for i, body := range []string{full, short} {
			request, err := a.Build(nil, map[string]any{}, cursor)
			require.NoError(t, err, paging)
			require.Equal(t, want[i], request.URL.RawQuery, paging)
			ans := answer(200, "application/json", body)
			if i == 0 {
				ans.Header.Add("Link", `<https://kiln.example/x?page=1>; rel="prev", <https://kiln.example/x?page=7>; rel="next"`)
			}
			page, err := a.Read(ans, Asked{Call: request, Cursor: cursor})
			require.NoError(t, err, paging)
			cursor = page.Next
		}
		require.Nil(t, cursor, paging)
	}
	_, err := list(`{address: response.links.next}`).Build(nil, nil, "https://elsewhere.example/x")
	require.ErrorContains(t, err, "another host")
	a := list(`{cursor: response.next, query: after}`)
	_, err = a.Read(answer(200, "application/json", full), Asked{Cursor: "c2"})
	require.ErrorContains(t, err, "would never end")
}

func TestAnswersAreParsedWithoutASwitch(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ kind, body, want string }{
		{"application/json", `{"n": 9007199254740993}`, "map[n:9007199254740993]"},
		{"text/plain", `{"a": 1}`, "map[a:1]"},
		{"", `[1]`, "[1]"},
		{"application/problem+json", "\xef\xbb\xbf{\"a\": 1}", "map[a:1]"},
		{"application/x-ndjson", "{\"a\": 1}\n\n{\"a\": 2}\n", "[map[a:1] map[a:2]]"},
		{"text/plain", "just words", "just words"},
		{"text/html; charset=iso-8859-1", "caf\xe9", "café"},
		{"application/x-www-form-urlencoded", "a=1&b=x+y", "map[a:1 b:x y]"},
		{"application/xml", `<a x="1"><b>1</b><b>2</b><c>t<d/></c></a>`, "map[a:map[@x:1 b:[1 2] c:map[#text:t d:<nil>]]]"},
	} {
		p := parse(answer(200, c.kind, c.body), "auto")
		require.NoError(t, p.err, c.body)
		require.Equal(t, c.want, fmt.Sprint(p.value), c.kind)
	}
	for _, body := range []string{`<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>`, strings.Repeat("<a>", 200), ""} {
		if body != "" {
			require.Error(t, parse(answer(200, "text/xml", body), "auto").err, "%.30s", body)
		}
	}
	require.True(t, Binary(http.Header{"Content-Type": {"image/png"}}))
	require.True(t, Binary(http.Header{"Content-Type": {"text/csv"}, "Content-Disposition": {`attachment; filename="a.csv"`}}))
	require.False(t, Binary(http.Header{"Content-Type": {"application/vnd.hall+json"}}))
	value := without(map[string]any{"a": []any{map[string]any{"x": 1, "y": 2}}, "b": 1}, []string{"a", "x"})
	require.Equal(t, map[string]any{"a": []any{map[string]any{"y": 2}}, "b": 1}, value)
}

func TestWaitsAreReadWhereverTheyStand(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	plain := made(t, open)
	own := made(t, open+"failure:\n  message: (= response.message )\n  wait:\n    - {header: X-Free-At, unit: at}\n    - {field: response.retry_ms, unit: ms}\n    - {text: \"in (\\\\d+) kiln minutes\", unit: m}\n")
	for _, c := range []struct {
		con    *Connector
		status int
		header http.Header
		body   string
		want   time.Duration
	}{
		{plain, 429, http.Header{"Retry-After": {"30"}}, "", 30 * time.Second},
		{plain, 503, http.Header{"Retry-After": {"Mon, 23 Nov 2026 12:05:00 GMT"}}, "", 5 * time.Minute},
		{plain, 429, http.Header{"Ratelimit-Reset": {"12"}}, "", 12 * time.Second},
		{plain, 429, http.Header{"X-Ratelimit-Reset": {fmt.Sprint(now.Add(90 * time.Second).Unix())}}, "", 90 * time.Second},
		{plain, 429, http.Header{"Ratelimit": {`"default";r=0;t=44`}}, "", 44 * time.Second},
		{plain, 429, nil, `{"message": "You are calling too often. Try again in 11 minutes."}`, 11 * time.Minute},
		{plain, 429, nil, "Slow down, wait 1.5 seconds", 1500 * time.Millisecond},
		{plain, 429, nil, `{"message": "too many calls"}`, 0},
		{plain, 500, nil, `{"message": "try again in 11 minutes"}`, 0},
		{plain, 429, http.Header{"Retry-After": {"-5"}}, "", 0},
		{plain, 429, http.Header{"Retry-After": {"1e12"}}, "", 10000000 * time.Second},
		{own, 429, http.Header{"X-Free-At": {"2026-11-23T13:00:00Z"}}, "", time.Hour},
		{own, 400, nil, `{"retry_ms": 2500}`, 2500 * time.Millisecond},
		{own, 409, nil, `{"message": "in 7 kiln minutes"}`, 7 * time.Minute},
	} {
		a := &call.Answer{Status: c.status, Header: http.Header{}, Body: []byte(c.body)}
		for k, v := range c.header {
			a.Header[k] = v
		}
		require.Equal(t, min(c.want, longest), c.con.Wait(a, now), "%d %v %s", c.status, c.header, c.body)
	}
}

func TestFailuresAreFoundInsideTheBody(t *testing.T) {
	t.Parallel()
	c := made(t, open+"failure:\n  message: (= response.error.text )\n  field: (= response.error.field )\n  code: response.error.code\n  when: response.ok == false\n  retry: [locked, 409]\n  final: [gone]\n")
	for _, x := range []struct {
		status int
		body   string
		retry  any
	}{{200, `{"ok": false, "error": {"text": "no", "field": "phone", "code": "locked"}}`, true}, {409, `{"error": {"text": "no", "field": "phone"}}`, true}, {429, `{"error": {"text": "no", "field": "phone", "code": "gone"}}`, false}, {400, `{"error": {"text": "no", "field": "phone"}}`, nil}} {
		_, err := c.read(answer(x.status, "application/json", x.body), "auto", nil)
		var r *Refusal
		require.ErrorAs(t, err, &r)
		require.Equal(t, "no", r.Message)
		require.Equal(t, "phone", r.Field)
		if x.retry == nil {
			require.Nil(t, r.Retry)
		} else {
			require.Equal(t, x.retry, *r.Retry, x.body)
		}
	}
	_, err := c.read(&call.Answer{Status: 302, Header: http.Header{"Location": {"https://elsewhere.example"}}}, "auto", nil)
	require.ErrorContains(t, err, "sent on to https://elsewhere.example")
}

func free(settings map[string]any) (*Action, map[string]any, error) {
	f, err := ReadFree(settings)
	if err != nil {
		return nil, nil, err
	}
	return f.Action()
}

func TestFreeCallsAreEncodedForTheirPlace(t *testing.T) {
	t.Parallel()
	_, _, err := free(map[string]any{"url": "https://(= item.host ).example/x"})
	require.ErrorContains(t, err, "the host is put together by an expression")
	for _, url := range []string{"", "ftp://x/a", "x/y", "https://me:pw@x.example/"} {
		_, _, err := free(map[string]any{"url": url})
		require.Error(t, err, url)
	}
	_, _, err = free(map[string]any{"url": "/x", "header": map[string]any{"Authorization": "Bearer x"}})
	require.ErrorContains(t, err, "belongs into a connection")
	_, _, err = free(map[string]any{"url": "/x", "method": "POST", "json": map[string]any{}, "form": map[string]any{}})
	require.ErrorContains(t, err, "one body")
	_, _, err = (&Query{Query: "select (= item.x )"}).Action()
	require.ErrorContains(t, err, "write $1, $2")
	a, tree, err := free(map[string]any{"url": "https://kiln.example/v1/x?a=1&a=2&b=%20", "each": "response.rows"})
	require.NoError(t, err)
	require.True(t, a.List())
	request, err := a.Build(nil, tree, nil)
	require.NoError(t, err)
	require.Equal(t, "https://kiln.example/v1/x?a=1&a=2&b=%20", request.URL.String())
	a, _, err = free(map[string]any{"url": "(= item.url )"})
	require.NoError(t, err)
	for _, address := range []string{"javascript:alert(1)", "//x", "https://u:p@x.example", ""} {
		_, err := a.Build(nil, map[string]any{"method": "GET", "address": address}, nil)
		require.ErrorContains(t, err, "which is not one", address)
	}
}

func TestAddressesOfRecordsGiveTheirIds(t *testing.T) {
	t.Parallel()
	c := made(t, open+"choices:\n  books:\n    request: {method: GET, path: /books}\n    each: response.books\n    value: item.id\n    label: item.title\n    address: \"/book/(bk_[a-z0-9]+)\"\n")
	id, found := c.Choices["books"].FromAddress("https://kiln.example/book/bk_7q2?tab=1")
	require.True(t, found)
	require.Equal(t, "bk_7q2", id)
	_, found = c.Choices["books"].FromAddress("Counter")
	require.False(t, found)
}

func TestTheDocumentsSchemaKnowsEveryKey(t *testing.T) {
	t.Parallel()
	s := DocumentSchema()
	_, err := form.Compile(s)
	require.NoError(t, err)
	for _, name := range []string{"SignIn", "Action", "Job", "Paging", "Failure", "Wait", "OAuth", "Signing", "Webhook"} {
		require.Contains(t, s["$defs"], name)
	}
}

// The second test case of RFC 4231.
func TestACodeIsMadeByTheSecretOfAConnection(t *testing.T) {
	t.Parallel()
	c := &Credentials{Values: map[string]string{"secret": "Jefe", "user": "mara"}}
	for _, method := range []string{APIKey, Basic, Bearer, HMAC, Login} {
		code, err := (&SignIn{Method: method}).Code(c, "what do ya want for nothing?")
		require.NoError(t, err)
		require.Equal(t, "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843", hex.EncodeToString(code))
	}
	for _, method := range []string{None, OAuth2} {
		_, err := (&SignIn{Method: method}).Code(c, "x")
		require.ErrorContains(t, err, "no key, token or password of its own")
	}
	_, err := (&SignIn{Method: Basic}).Code(&Credentials{Values: map[string]string{"user": "mara"}}, "x")
	require.ErrorContains(t, err, "no key, token or password of its own")
}
