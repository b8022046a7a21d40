package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// asked makes a call with headers and cookies of one's own.
func asked(t *testing.T, method, address, body string, header http.Header, cookies ...*http.Cookie) *http.Response {
	t.Helper()
	req, err := http.NewRequestWithContext(within(t, 30*time.Second), method, address, strings.NewReader(body))
	require.NoError(t, err)
	req.Header = header.Clone()
	if req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for _, c := range cookies {
		req.AddCookie(c)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	res.Body.Close()
	res.Body = io.NopCloser(bytes.NewReader(b))
	return res
}

func cookieOf(res *http.Response, name string) *http.Cookie {
	for _, c := range res.Cookies() {
		if c.Name == name {
			return c
		}
	}
	return nil
}

func credentials(email, password string) string {
	b, _ := json.Marshal(client.SignIn{Email: email, Password: password})
	return string(b)
}

// Only a token excuses a call from saying which page it comes from: a browser adds
// every other Authorization by itself.
func TestNoHeaderExcusesAnotherPage(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	session := cookieOf(asked(t, "POST", base+"/session", credentials(w.Email, w.Password), http.Header{}), "trellis")
	require.NotNil(t, session)
	evil := http.Header{"Origin": {"http://evil.example"}, "Sec-Fetch-Site": {"cross-site"}}
	for name, more := range map[string]http.Header{
		"nothing": {}, "Basic": {"Authorization": {"Basic eDp5"}}, "empty": {"Authorization": {""}}, "a word": {"Authorization": {"x"}}, "no space": {"Authorization": {"Bearer"}},
		"a neighbour": {"Sec-Fetch-Site": {"same-site"}, "Authorization": {"Basic eDp5"}}, "an old browser": {"Sec-Fetch-Site": nil, "Authorization": {"Basic eDp5"}},
	} {
		h := evil.Clone()
		for k, v := range more {
			h[k] = v
		}
		for _, path := range []string{"/workflows/kiln-list/pause", "/workflows/counter-calls/hook"} {
			require.Equal(t, 403, asked(t, "POST", base+path, "", h, session).StatusCode, "%s %s", name, path)
		}
		require.Equal(t, 403, asked(t, "POST", base+"/session", credentials(w.Email, w.Password), h).StatusCode, "%s: nobody is signed in by another page", name)
		require.Equal(t, 403, asked(t, "DELETE", base+"/session", "", h, session).StatusCode, "%s: nor out", name)
	}
	bearer := evil.Clone()
	bearer.Set("Authorization", "Bearer "+w.Token)
	require.Equal(t, 200, asked(t, "POST", base+"/workflows/kiln-list/pause", "", bearer).StatusCode, "a token is never sent by a browser itself")
	bearer.Set("Authorization", "Bearer ytk_wrong")
	require.Equal(t, 401, asked(t, "POST", base+"/workflows/kiln-list/pause", "", bearer, session).StatusCode, "and a wrong one is not made good by a cookie")
	live, err := ottermere.Answer[client.Workflow](w.Client.GetWorkflow(within(t, 10*time.Second), "counter-calls"))
	require.NoError(t, err)
	require.Equal(t, "live", string(live.State))
}

// Guesses are held back by account, and the device that its person used before
// gets in all the same.
func TestAnAccountIsNotGuessedAndNotLockedOut(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	first := asked(t, "POST", base+"/session", credentials(w.Email, w.Password), http.Header{})
	require.Equal(t, 200, first.StatusCode)
	device := cookieOf(first, "trellis-device")
	require.NotNil(t, device)
	require.True(t, device.HttpOnly)
	require.Greater(t, device.MaxAge, 100*24*3600)
	held := 0
	for i := range 30 {
		res := asked(t, "POST", base+"/session", credentials(w.Email, fmt.Sprint("wrong ", i)), http.Header{})
		if res.StatusCode == 429 {
			held++
			after, err := strconv.Atoi(res.Header.Get("Retry-After"))
			require.NoError(t, err)
			require.Positive(t, after)
			b, _ := io.ReadAll(res.Body)
			require.Contains(t, string(b), "then try again")
			continue
		}
		require.Equal(t, 401, res.StatusCode)
	}
	require.GreaterOrEqual(t, held, 20)
	again := asked(t, "POST", base+"/session", credentials(w.Email, w.Password), http.Header{}, device, cookieOf(first, "trellis"))
	require.Equal(t, 200, again.StatusCode)
	require.Nil(t, cookieOf(again, "trellis-device"), "it is known already")
	require.Equal(t, 401, asked(t, "GET", base+"/workflows", "", http.Header{}, cookieOf(first, "trellis")).StatusCode, "the session that the browser had has ended")
	require.Equal(t, 200, asked(t, "GET", base+"/workflows", "", http.Header{}, cookieOf(again, "trellis")).StatusCode)
}

// unending is a body that says nothing of its length and does not end by itself.
type unending struct{ given int }

func (e *unending) Read(p []byte) (int, error) {
	if e.given > 64<<20 {
		return 0, io.EOF
	}
	for i := range p {
		p[i] = ' '
	}
	e.given += len(p)
	return len(p), nil
}

// Of somebody who has not proved anything a mebibyte is read at most; of a body
// that says it is longer, nothing.
func TestLittleIsReadBeforeProof(t *testing.T) {
	t.Parallel()
	w := world(t)
	long := `{"email": "x@ottermere.example", "password": "` + strings.Repeat("a", 31<<20) + `"}`
	body := strings.NewReader(long)
	req, err := http.NewRequestWithContext(within(t, 30*time.Second), "POST", w.Service.Address+"/api/v1/session", body)
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Expect", "100-continue")
	res, err := (&http.Transport{ExpectContinueTimeout: 10 * time.Second}).RoundTrip(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, 413, res.StatusCode)
	require.Equal(t, len(long), body.Len(), "not a byte was asked for")

	e := &unending{}
	req, err = http.NewRequestWithContext(within(t, 30*time.Second), "POST", w.Service.Address+"/api/v1/session", e)
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	res, err = http.DefaultTransport.RoundTrip(req)
	if err == nil { // it may be cut while it still sends
		res.Body.Close()
		require.Contains(t, []int{400, 413}, res.StatusCode)
	}
	require.Less(t, e.given, 32<<20)
}

// What a consent page is come back from with is a name, and the words are ours.
func TestMessagesAreNotTakenFromAnAddress(t *testing.T) {
	t.Parallel()
	w := world(t)
	session := cookieOf(asked(t, "POST", w.Service.Address+"/api/v1/session", credentials(w.Email, w.Password), http.Header{}), "trellis")
	browse := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, c := range []struct {
		cookie *http.Cookie
		want   string
	}{{session, "trouble=state"}, {nil, "trouble=session"}, {&http.Cookie{Name: "trellis", Value: "yts_wrong"}, "trouble=session"}} {
		req, err := http.NewRequestWithContext(within(t, 10*time.Second), "GET", w.Service.Address+"/oauth/callback?state=x&error=Your+session+was+stolen&error_description=Call+us", nil)
		require.NoError(t, err)
		if c.cookie != nil {
			req.AddCookie(c.cookie)
		}
		res, err := browse.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		require.True(t, strings.HasSuffix(res.Header.Get("Location"), c.want), res.Header.Get("Location"))
	}
}
