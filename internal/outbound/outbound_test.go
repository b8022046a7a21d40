package outbound

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
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

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
)

func client(allowed ...string) *Client {
	return New(func(context.Context, uuid.UUID) ([]string, error) { return allowed, nil }, nil)
}

func to(t *testing.T, address string) (*Account, *connector.Call) {
	u, err := url.Parse(address)
	require.NoError(t, err)
	return &Account{Title: "Tables", Name: "tables", Pin: Origin(u), SignIn: &connector.SignIn{Method: "bearer"}, Credentials: &connector.Credentials{Values: map[string]string{"secret": "planted-secret-123"}}},
		&connector.Call{Method: "POST", URL: u, Header: http.Header{}, Body: []byte(`{}`), Repeat: connector.Keyed}
}

func TestWhatIsNotPublicIsRefusedUnlessAllowedExactly(t *testing.T) {
	t.Parallel()
	var arrived atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { arrived.Add(1) }))
	t.Cleanup(s.Close)
	host := strings.TrimPrefix(s.URL, "http://")
	account, call := to(t, s.URL)
	for _, allowed := range [][]string{nil, {"127.0.0.1:1"}, {"localhost:" + strings.Split(host, ":")[1]}} {
		_, _, err := client(allowed...).Send(context.Background(), account, call, "")
		require.ErrorContains(t, err, "not public")
	}
	require.Zero(t, arrived.Load())
	_, _, err := client(host).Send(context.Background(), account, call, "")
	require.NoError(t, err)
	for _, ip := range []string{"127.0.0.1", "10.1.2.3", "172.16.0.1", "192.168.1.1", "169.254.169.254", "0.0.0.0", "100.64.0.1", "198.18.0.1", "224.0.0.1", "[::1]", "[fd00::1]", "[fe80::1]", "[::ffff:127.0.0.1]", "[64:ff9b::7f00:1]", "[2002:7f00:1::]"} {
		account, call := to(t, "http://"+ip+":9")
		_, _, err := client().Send(context.Background(), account, call, "")
		require.ErrorContains(t, err, "not public", ip)
	}
}

func TestASecretGoesOnlyToItsPin(t *testing.T) {
	t.Parallel()
	var other atomic.Int64
	var seen atomic.Value
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		other.Add(1)
		seen.Store(r.Header.Get("Authorization"))
	}))
	t.Cleanup(elsewhere.Close)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL, map[string]int{http.MethodGet: http.StatusFound, http.MethodPost: http.StatusTemporaryRedirect}[r.Method])
	}))
	t.Cleanup(s.Close)
	c := client(strings.TrimPrefix(s.URL, "http://"), strings.TrimPrefix(elsewhere.URL, "http://"))
	account, call := to(t, s.URL)
	answer, _, err := c.Send(context.Background(), account, call, "")
	require.NoError(t, err)
	require.Equal(t, http.StatusTemporaryRedirect, answer.Status, "a write is not followed anywhere")
	read := *call
	read.Method, read.Body = http.MethodGet, nil
	_, _, err = c.Send(context.Background(), account, &read, "")
	require.NoError(t, err, "a read goes on to another host, without the proof of who we are")
	require.EqualValues(t, 1, other.Load())
	require.Empty(t, seen.Load())
	other.Store(0)
	wrong := *call
	wrong.URL, _ = url.Parse(elsewhere.URL)
	_, _, err = c.Send(context.Background(), account, &wrong, "")
	require.ErrorContains(t, err, "may only be used with")
	require.Zero(t, other.Load())
}

// Go's transport repeats a request by itself when a reused connection is cut,
// as soon as it carries an Idempotency-Key and its body can be had again.
func TestTheTransportNeverSendsTwice(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var arrivals atomic.Int64
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				r := bufio.NewReader(conn)
				for first := true; ; first = false {
					req, err := http.ReadRequest(r)
					if err != nil {
						conn.Close()
						return
					}
					_, _ = req.Body.Read(make([]byte, 100))
					arrivals.Add(1)
					if !first {
						conn.Close() // cut a reused connection after the request
						return
					}
					_, _ = conn.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n{}"))
				}
			}()
		}
	}()
	c := client(l.Addr().String())
	for _, body := range []string{`{}`, ``} {
		arrivals.Store(0)
		account, call := to(t, "http://"+l.Addr().String())
		call.Body = []byte(body)
		_, _, err = c.Send(context.Background(), account, call, "key-1")
		require.NoError(t, err)
		_, _, err = c.Send(context.Background(), account, call, "key-2")
		var f *engine.Failure
		require.ErrorAs(t, err, &f)
		require.Equal(t, engine.InDoubt, f.Class, "it may have been sent")
		require.EqualValues(t, 2, arrivals.Load(), "body %q", body)
	}
}

func TestFailuresSayWhatIsKnown(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed := l.Addr().String()
	l.Close()
	slow := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // only then is the caller's leaving noticed
		<-r.Context().Done()
	}))
	t.Cleanup(slow.Close)
	var f *engine.Failure
	account, call := to(t, "http://"+closed)
	_, _, err = client(closed).Send(context.Background(), account, call, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, engine.NotSent, f.Class)
	require.Contains(t, f.Message, "nobody answers there")
	account, call = to(t, slow.URL)
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	_, _, err = client(strings.TrimPrefix(slow.URL, "http://")).Send(ctx, account, call, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, engine.InDoubt, f.Class)
	require.Contains(t, f.Message, "did not answer in time")
	require.False(t, errors.Is(err, context.Canceled))
}

func TestSecretsAreMaskedInEveryForm(t *testing.T) {
	t.Parallel()
	secret := `pl"anted & secret`
	text := strings.Join([]string{secret, `pl\"anted`, url.QueryEscape(secret), url.PathEscape(secret), hex.EncodeToString([]byte(secret)), base64.StdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret))}, "\n")
	masked := Mask(text, secret)
	for _, part := range strings.Split(text, "\n") {
		if part != `pl\"anted` {
			require.NotContains(t, masked, part)
		}
	}
	require.Equal(t, "short abc", Mask("short abc", "abc"))
}
