package outbound

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"code.dny.dev/ssrf"
	"github.com/google/uuid"
)

const notAllowed = "it was not allowed for this workspace"

// ErrForbidden says that an address is not public and was not allowed.
var ErrForbidden = errors.New("this address is not public, and " + notAllowed)

// noPublic is ErrForbidden of a name. It says the same whether the name leads to an
// address that is not public or to none, so that nobody learns by asking which
// names there are in a network of ours.
type noPublic struct{ name string }

func (n *noPublic) Error() string {
	return fmt.Sprintf("the name %s has no public address, and %s", n.name, notAllowed)
}

func (*noPublic) Is(target error) bool { return target == ErrForbidden }

// MayBeAllowed tells of what was said about a failed call whether an allowance of
// its address would let it through.
func MayBeAllowed(said string) bool {
	return strings.HasSuffix(said, notAllowed) && !strings.Contains(said, OwnServer)
}

// Allowed tells which addresses (host:port) a workspace may reach although
// they are not public.
type Allowed func(ctx context.Context, workspace uuid.UUID) ([]string, error)

// list gives a workspace's allowances.
func (c *Client) list(ctx context.Context, workspace uuid.UUID) ([]string, error) {
	return c.lists.Get(workspace, func() ([]string, error) { return c.asked(ctx, workspace) })
}

func (c *Client) asked(ctx context.Context, workspace uuid.UUID) ([]string, error) {
	addresses, err := c.allowed(ctx, workspace)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if before, ok := c.last[workspace]; ok && !slices.Equal(before, addresses) {
		c.closeKept(workspace)
	}
	c.last[workspace] = slices.Clone(addresses)
	return addresses, nil
}

// closeKept lets no connection that was made so far serve another call: what was
// allowed when they were made may not be any more. c.mu is held.
func (c *Client) closeKept(workspace uuid.UUID) {
	if p, ok := c.pools[workspace]; ok {
		delete(c.pools, workspace) // what is in use comes back to a pool that nobody asks
		p.CloseIdleConnections()
	}
}

// Forget lets a workspace's allowances be asked for anew.
func (c *Client) Forget(workspace uuid.UUID) {
	c.lists.Forget(workspace)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closeKept(workspace)
}

var public = ssrf.New(ssrf.WithAnyPort())

// odd are the ways to write an address that some resolvers take for a number:
// decimal, octal, hexadecimal, or with parts left out.
var odd = regexp.MustCompile(`(?i)^(0x[0-9a-f]+|[0-9]+)(\.(0x[0-9a-f]+|[0-9]+))*\.?$`)

// control refuses the address that is about to be dialled, after every
// resolution, unless it is public and not our own.
func (c *Client) control(network, address string, raw syscall.RawConn) error {
	if slices.Contains(c.Own, address) {
		return ErrForbidden
	}
	if ap, err := netip.ParseAddrPort(address); err == nil && ap.Addr().Zone() != "" {
		return ErrForbidden
	}
	return public.Safe(network, address, raw)
}

// Dial connects for a workspace after its name was resolved: what is checked
// is what is dialled.
func (c *Client) Dial(ctx context.Context, workspace uuid.UUID, network, address string) (net.Conn, error) {
	list, err := c.list(ctx, workspace)
	if err != nil {
		return nil, ours{err}
	}
	dialler := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second, Resolver: c.resolver}
	if slices.Contains(list, address) {
		return dialler.DialContext(ctx, network, address)
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if _, err := netip.ParseAddr(host); err != nil && odd.MatchString(host) {
		return nil, fmt.Errorf("%s: %w", address, ErrForbidden)
	}
	dialler.Control = c.control
	conn, err := dialler.DialContext(ctx, network, address)
	_, literal := netip.ParseAddr(host)
	var dns *net.DNSError
	switch {
	case err == nil:
		return conn, nil
	case errors.Is(err, ErrForbidden), errors.Is(err, ssrf.ErrProhibitedIP), errors.Is(err, ssrf.ErrProhibitedNetwork), errors.Is(err, ssrf.ErrProhibitedPort):
		if literal != nil {
			return nil, &noPublic{host}
		}
		return nil, fmt.Errorf("%s: %w", address, ErrForbidden)
	case errors.As(err, &dns) && dns.IsNotFound:
		return nil, &noPublic{host}
	}
	return nil, err
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
			Proxy: nil, // from our configuration only, never from the environment
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				return c.Dial(ctx, workspace, network, address)
			},
			TLSClientConfig:        &tls.Config{MinVersion: tls.VersionTLS12},
			TLSHandshakeTimeout:    10 * time.Second,
			MaxIdleConnsPerHost:    32,
			IdleConnTimeout:        60 * time.Second,
			MaxResponseHeaderBytes: 256 << 10,
			ForceAttemptHTTP2:      true,
			WriteBufferSize:        64 << 10,
			ReadBufferSize:         64 << 10,
		},
		CheckRedirect: redirect,
	}
	c.pools[workspace] = p
	return p
}

// redirect follows reads only. On another host, or from TLS to none, the proof
// of who we are stays behind.
func redirect(req *http.Request, via []*http.Request) error {
	first := via[0]
	if !slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodOptions, "PROPFIND"}, first.Method) {
		return http.ErrUseLastResponse
	}
	if len(via) >= 5 {
		return &redirected{"it was sent on more than five times"}
	}
	if req.URL.Scheme != "http" && req.URL.Scheme != "https" {
		return &redirected{"it was sent on to something that is not a web address"}
	}
	if req.URL.User != nil {
		return &redirected{"it was sent on to an address with a password in it"}
	}
	if Origin(req.URL) != Origin(first.URL) {
		proof, _ := req.Context().Value(proofKey{}).([]string)
		for _, name := range proof {
			req.Header.Del(name)
		}
		for _, name := range []string{"Authorization", "Cookie", "Idempotency-Key", "Referer"} {
			req.Header.Del(name)
		}
	}
	return nil
}

// HTTP gives a client for a library that brings calls of its own, as for OAuth:
// guarded, pinned to origins, never redirected.
func (c *Client) HTTP(workspace uuid.UUID, origins ...string) *http.Client {
	return &http.Client{Timeout: 20 * time.Second, Transport: pinned{c, workspace, origins}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

type pinned struct {
	client    *Client
	workspace uuid.UUID
	origins   []string
}

func (p pinned) RoundTrip(r *http.Request) (*http.Response, error) {
	if !slices.Contains(p.origins, Origin(r.URL)) {
		return nil, fmt.Errorf("the call would go to %s, and may only go to %s", Origin(r.URL), strings.Join(p.origins, ", "))
	}
	r.GetBody = nil
	if _, err := p.client.list(r.Context(), p.workspace); err != nil {
		return nil, ours{err}
	}
	return p.client.pool(p.workspace).Transport.RoundTrip(r)
}
