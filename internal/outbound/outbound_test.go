package outbound

import (
	"bufio"
	"context"
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

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
)

func client(allowed ...string) *Client {
	return New(func(context.Context, uuid.UUID) ([]string, error) { return allowed, nil }, nil)
}

func to(t *testing.T, address string) (*Account, *call.Call) {
	u, err := url.Parse(address)
	require.NoError(t, err)
	return &Account{Title: "Tables", Name: "tables", Pin: Origin(u), SignIn: &connector.SignIn{Method: "bearer"}, Credentials: &connector.Credentials{Values: map[string]string{"secret": "planted-secret-123"}}},
		&call.Call{Method: "POST", URL: u, Header: http.Header{}, Body: []byte(`{}`), Repeat: call.Keyed}
}

func TestWhatIsNotPublicIsRefusedUnlessAllowedExactly(t *testing.T) {
	t.Parallel()
	var arrived atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { arrived.Add(1) }))
	t.Cleanup(s.Close)
	host := strings.TrimPrefix(s.URL, "http://")
	account, request := to(t, s.URL)
	for _, allowed := range [][]string{nil, {"127.0.0.1:1"}, {"localhost:" + strings.Split(host, ":")[1]}} {
		_, _, err := client(allowed...).Of(account).Send(context.Background(), request, "")
		require.ErrorContains(t, err, "not public")
	}
	require.Zero(t, arrived.Load())
	_, _, err := client(host).Of(account).Send(context.Background(), request, "")
	require.NoError(t, err)
	for _, ip := range []string{"127.0.0.1", "10.1.2.3", "172.16.0.1", "192.168.1.1", "169.254.169.254", "0.0.0.0", "100.64.0.1", "198.18.0.1", "224.0.0.1", "[::1]", "[fd00::1]", "[fe80::1]", "[::ffff:127.0.0.1]", "[64:ff9b::7f00:1]", "[2002:7f00:1::]"} {
		account, request := to(t, "http://"+ip+":9")
		_, _, err := client().Of(account).Send(context.Background(), request, "")
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
	account, request := to(t, s.URL)
	answer, _, err := c.Of(account).Send(context.Background(), request, "")
	require.NoError(t, err)
	require.Equal(t, http.StatusTemporaryRedirect, answer.Status, "a write is not followed anywhere")
	read := *request
	read.Method, read.Body = http.MethodGet, nil
	_, _, err = c.Of(account).Send(context.Background(), &read, "")
	require.NoError(t, err, "a read goes on to another host, without the proof of who we are")
	require.EqualValues(t, 1, other.Load())
	require.Empty(t, seen.Load())
	other.Store(0)
	wrong := *request
	wrong.URL, _ = url.Parse(elsewhere.URL)
	_, _, err = c.Of(account).Send(context.Background(), &wrong, "")
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
		account, request := to(t, "http://"+l.Addr().String())
		request.Body = []byte(body)
		_, _, err = c.Of(account).Send(context.Background(), request, "key-1")
		require.NoError(t, err)
		_, _, err = c.Of(account).Send(context.Background(), request, "key-2")
		var f *call.Failure
		require.ErrorAs(t, err, &f)
		require.Equal(t, call.InDoubt, f.Class, "it may have been sent")
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
	var f *call.Failure
	account, request := to(t, "http://"+closed)
	_, _, err = client(closed).Of(account).Send(context.Background(), request, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.NotSent, f.Class)
	require.Contains(t, f.Message, "nobody answers there")
	account, request = to(t, slow.URL)
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	_, _, err = client(strings.TrimPrefix(slow.URL, "http://")).Of(account).Send(ctx, request, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.InDoubt, f.Class)
	require.Contains(t, f.Message, "did not answer in time")
	require.False(t, errors.Is(err, context.Canceled))
}
