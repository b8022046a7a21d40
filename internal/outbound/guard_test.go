package outbound

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
)

// Every range that is not public, in every way to write an address.
func TestEveryRangeIsRefusedInEveryForm(t *testing.T) {
	t.Parallel()
	c := client()
	for _, host := range []string{
		"0.0.0.0", "0.1.2.3", "10.0.0.1", "10.255.255.255", "100.64.0.1", "100.127.255.254", "127.0.0.1", "127.255.255.254", "169.254.169.254", "169.254.0.1", "172.16.0.1", "172.31.255.255",
		"192.0.0.1", "192.0.2.1", "192.88.99.1", "192.168.0.1", "198.18.0.1", "198.19.255.255", "198.51.100.1", "203.0.113.1", "224.0.0.1", "239.255.255.255", "240.0.0.1", "255.255.255.255",
		"[::]", "[::1]", "[fe80::1]", "[fe80::1%25lo]", "[fec0::1]", "[fc00::1]", "[fdff::1]", "[ff02::1]", "[::ffff:127.0.0.1]", "[::ffff:10.0.0.1]", "[::ffff:7f00:1]", "[::127.0.0.1]", "[64:ff9b::7f00:1]", "[64:ff9b:1::1]",
		"[2001::1]", "[2001:db8::1]", "[2002:7f00:1::]", "[2002:a00:1::1]", "[100::1]",
		"2130706433", "0x7f000001", "0x7f.0.0.1", "0177.0.0.1", "017700000001", "127.1", "127.0.1", "0", "0x0", "10.1", "3232235521", "0xa9fea9fe", "2852039166", "127.0.0.1.", "0x7f.1",
	} {
		_, sent, err := c.Of(&Account{Title: "Own"}).Send(context.Background(), callTo(t, "http://"+host+":9/"), "")
		require.True(t, MayBeAllowed(err.Error()), "%s: %v", host, err)
		require.NotEmpty(t, sent.Guarded, "what an administrator may allow is told: %s", host)
		require.NotContains(t, err.Error(), "127.0.0.1", "a refusal does not tell what a name is")
	}
}

func TestOurOwnAddressesAreRefusedThoughTheyWerePublic(t *testing.T) {
	t.Parallel()
	c := client()
	c.Own = []string{"1.1.1.1:5432"}
	require.ErrorIs(t, c.control("tcp4", "1.1.1.1:5432", nil), ErrForbidden)
	require.NoError(t, c.control("tcp4", "1.1.1.1:443", nil))
	require.ErrorIs(t, c.control("tcp6", "[fe80::1%lo]:443", nil), ErrForbidden)
}

// A name that was public when it was looked up first and is loopback the next
// time: what is checked is what is dialled.
func TestANameThatChangesBetweenLookUpsIsRefused(t *testing.T) {
	t.Parallel()
	var arrived, asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { arrived.Add(1) }))
	t.Cleanup(s.Close)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	c := client()
	c.resolver = names(t, func() [4]byte {
		if asked.Add(1) == 1 {
			return [4]byte{93, 184, 215, 14}
		}
		return [4]byte{127, 0, 0, 1}
	})
	ips, err := c.resolver.LookupHost(context.Background(), "turns.ottermere.example")
	require.NoError(t, err)
	require.Equal(t, []string{"93.184.215.14"}, ips, "somebody who looks first sees a public address")
	_, _, err = c.Of(&Account{Title: "Own"}).Send(context.Background(), callTo(t, "http://turns.ottermere.example:"+port+"/"), "")
	require.ErrorContains(t, err, "no public address")
	require.Zero(t, arrived.Load())
	require.Greater(t, asked.Load(), int64(1))
}

// Whoever asks does not learn which names there are in a network of ours.
func TestARefusalDoesNotTellWhichNamesThereAre(t *testing.T) {
	t.Parallel()
	c := client()
	c.resolver = names(t, func() [4]byte { return [4]byte{10, 0, 0, 9} })
	_, there, err := c.Of(&Account{Title: "Own"}).Send(context.Background(), callTo(t, "http://payroll.ottermere.example:8080/"), "")
	require.Error(t, err)
	c.resolver = names(t, nil)
	_, not, notErr := c.Of(&Account{Title: "Own"}).Send(context.Background(), callTo(t, "http://payroll.ottermere.example:8080/"), "")
	require.Equal(t, notErr, err, "nor by its class, which decides whether it is tried again")
	require.Equal(t, not, there)
	require.Equal(t, "payroll.ottermere.example:8080", there.Guarded, "an administrator may allow it all the same")
	require.True(t, MayBeAllowed(err.Error()))
	require.False(t, MayBeAllowed(OwnServer+": "+ErrForbidden.Error()))
}

// What is not allowed any more is not called any more, over a kept connection
// neither, whichever node took the allowance away.
func TestAWithdrawnAllowanceEndsKeptConnections(t *testing.T) {
	t.Parallel()
	var arrived, dialled atomic.Int64
	slow := make(chan struct{})
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		arrived.Add(1)
		if r.URL.Path == "/slow" {
			<-slow
		}
	}))
	s.Config.ConnState = func(_ net.Conn, st http.ConnState) {
		if st == http.StateNew {
			dialled.Add(1)
		}
	}
	s.Start()
	t.Cleanup(s.Close)
	host := strings.TrimPrefix(s.URL, "http://")
	for name, tell := range map[string]func(*Client){
		"this node": func(c *Client) { c.Forget(uuid.Nil) },
		"another node, once what is remembered is old": func(c *Client) {
			c.lists.Forget(uuid.Nil) // as if two seconds had gone by
		},
	} {
		arrived.Store(0)
		var allowed atomic.Pointer[[]string]
		allowed.Store(&[]string{host})
		c := New(func(context.Context, uuid.UUID) ([]string, error) { return *allowed.Load(), nil }, nil)
		send := func(path string) error {
			_, _, err := c.Of(&Account{Title: "Own"}).Send(context.Background(), callTo(t, s.URL+path), "")
			return err
		}
		require.NoError(t, send("/"))
		require.NoError(t, send("/"))
		done := make(chan error, 1)
		go func() { done <- send("/slow") }()
		require.Eventually(t, func() bool { return arrived.Load() == 3 }, 10*time.Second, time.Millisecond)
		allowed.Store(&[]string{})
		tell(c)
		require.ErrorContains(t, send("/"), "not public", name)
		slow <- struct{}{}
		require.NoError(t, <-done, "what is under way is not cut")
		require.ErrorContains(t, send("/"), "not public", "%s: what was in use does not come back", name)
		require.EqualValues(t, 3, arrived.Load(), name)
	}
}

// names is a resolver that asks a name server of our own, which knows no name
// where answer is nil.
func names(t *testing.T, answer func() [4]byte) *net.Resolver {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	go func() {
		b := make([]byte, 1500)
		for {
			n, from, err := conn.ReadFrom(b)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(b[:n]) != nil || len(m.Questions) == 0 {
				continue
			}
			m.Response, m.RecursionAvailable, m.Additionals = true, true, nil
			if answer == nil {
				m.RCode = dnsmessage.RCodeNameError
			} else if q := m.Questions[0]; q.Type == dnsmessage.TypeA {
				m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 0}, Body: &dnsmessage.AResource{A: answer()}}}
			}
			if out, err := m.Pack(); err == nil {
				_, _ = conn.WriteTo(out, from)
			}
		}
	}()
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{Timeout: time.Second}).DialContext(ctx, "udp", conn.LocalAddr().String())
	}}
}

// Wherever a redirect leads, the address dialled is checked, and credentials
// stay with their host.
func TestRedirectsAreCheckedLikeEveryCall(t *testing.T) {
	t.Parallel()
	var elsewhere atomic.Int64
	var proof atomic.Value
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		elsewhere.Add(1)
		proof.Store(r.Header.Get("X-Key") + r.Header.Get("Authorization") + r.Header.Get("Cookie") + r.URL.RawQuery)
	}))
	t.Cleanup(other.Close)
	to := ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/same" {
			require.Equal(t, "planted-secret-123", r.Header.Get("X-Key"), "on the same host it stays")
			return
		}
		http.Redirect(w, r, to, http.StatusFound)
	}))
	t.Cleanup(s.Close)
	account, _ := account(t, s.URL, "X-Key")
	only := client(strings.TrimPrefix(s.URL, "http://"))
	to = other.URL
	_, _, err := only.Of(account).Send(context.Background(), callTo(t, s.URL), "")
	require.ErrorContains(t, err, "not public")
	require.Zero(t, elsewhere.Load())
	for _, bad := range []string{"http://169.254.169.254/latest", "http://0x7f000001:1/", "file:///etc/passwd", "http://u:p@" + strings.TrimPrefix(other.URL, "http://")} {
		to = bad
		_, _, err := only.Of(account).Send(context.Background(), callTo(t, s.URL), "")
		require.Error(t, err, bad)
	}
	both := client(strings.TrimPrefix(s.URL, "http://"), strings.TrimPrefix(other.URL, "http://"))
	to = other.URL
	_, _, err = both.Of(account).Send(context.Background(), callTo(t, s.URL), "key-1")
	require.NoError(t, err)
	require.EqualValues(t, 1, elsewhere.Load())
	require.Equal(t, "", proof.Load())
	to = "/same"
	_, _, err = both.Of(account).Send(context.Background(), callTo(t, s.URL), "")
	require.NoError(t, err)
}

func TestLibrariesAreHeldToTheirOrigins(t *testing.T) {
	t.Parallel()
	var arrived atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		arrived.Add(1)
		http.Redirect(w, r, "/other", http.StatusFound)
	}))
	t.Cleanup(s.Close)
	u, _ := url.Parse(s.URL)
	c := client(u.Host).HTTP(uuid.New(), Origin(u))
	res, err := c.Get(s.URL)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusFound, res.StatusCode, "never redirected")
	_, err = client(u.Host).HTTP(uuid.New(), "https://auth.example:443").Get(s.URL)
	require.ErrorContains(t, err, "may only go to")
	require.EqualValues(t, 1, arrived.Load())
}

func callTo(t *testing.T, address string) *call.Call {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	return &call.Call{Method: http.MethodGet, URL: u, Header: http.Header{}, Effect: call.Read, Repeat: call.Safe}
}

func account(t *testing.T, address, header string) (*Account, *url.URL) {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	return &Account{Title: "Own", Name: "own", Pin: Origin(u), SignIn: &connector.SignIn{Method: connector.APIKey, Header: header}, Credentials: &connector.Credentials{Values: map[string]string{"secret": "planted-secret-123"}}}, u
}
