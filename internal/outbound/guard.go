// Package outbound is the only way out: one client, one guarded dialler. A
// credential is attached only where its connection is pinned, the transport
// never sends a request twice, and errors say what is known of the call.
package outbound

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"code.dny.dev/ssrf"
	"github.com/google/uuid"
)

// ErrForbidden says that an address is not public and was not allowed. It does
// not tell what a name resolved to.
var ErrForbidden = errors.New("this address is not public, and the workspace's administrator has not allowed it")

// Allowed tells which addresses (host:port) a workspace may reach although
// they are not public.
type Allowed func(ctx context.Context, workspace uuid.UUID) ([]string, error)

// Client sends calls for all workspaces. Each has a pool of its own.
type Client struct {
	allowed Allowed

	mu    sync.Mutex
	pools map[uuid.UUID]*http.Client
}

// New makes the client.
func New(allowed Allowed) *Client {
	return &Client{allowed: allowed, pools: map[uuid.UUID]*http.Client{}}
}

var public = ssrf.New(ssrf.WithAnyPort())

// dial connects to an address after its name was resolved: what is checked is
// what is dialled.
func (c *Client) dial(workspace uuid.UUID) func(ctx context.Context, network, address string) (net.Conn, error) {
	guarded := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second, Control: public.Safe}
	open := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		list, err := c.allowed(ctx, workspace)
		if err != nil {
			return nil, err
		}
		for _, a := range list {
			if a == address {
				return open.DialContext(ctx, network, address)
			}
		}
		conn, err := guarded.DialContext(ctx, network, address)
		if errors.Is(err, ssrf.ErrProhibitedIP) || errors.Is(err, ssrf.ErrProhibitedNetwork) || errors.Is(err, ssrf.ErrProhibitedPort) {
			return nil, fmt.Errorf("%s: %w", address, ErrForbidden)
		}
		return conn, err
	}
}

// redirected says why a redirect was not followed.
type redirected struct{ why string }

func (r *redirected) Error() string { return r.why }

func (c *Client) pool(workspace uuid.UUID) *http.Client {
	c.mu.Lock()
	defer c.mu.Unlock()
	if p, ok := c.pools[workspace]; ok {
		return p
	}
	p := &http.Client{
		Transport: &http.Transport{
			Proxy:                  nil, // from our configuration only, never from the environment
			DialContext:            c.dial(workspace),
			TLSClientConfig:        &tls.Config{MinVersion: tls.VersionTLS12},
			TLSHandshakeTimeout:    10 * time.Second,
			MaxIdleConnsPerHost:    32,
			IdleConnTimeout:        60 * time.Second,
			MaxResponseHeaderBytes: 256 << 10,
			ForceAttemptHTTP2:      true,
		},
		CheckRedirect: func(req *http.Request, via []*http.Request) error {
			if len(via) >= 5 {
				return &redirected{"it was sent on more than five times"}
			}
			if first := via[0].URL; req.URL.Scheme != first.Scheme || req.URL.Host != first.Host {
				return &redirected{fmt.Sprintf("it was sent on to another host, %s; a connection's sign-in goes only to its own", req.URL.Host)}
			}
			return nil
		},
	}
	c.pools[workspace] = p
	return p
}
