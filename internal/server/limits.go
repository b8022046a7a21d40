package server

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"youngtrellis/internal/signin"
)

// counted counts what is open at the same time, by key.
type counted struct {
	most int

	mu   sync.Mutex // protects the following field
	open map[string]int
}

// begin takes a place, unless all are taken; end gives it back.
func (c *counted) begin(key string) (end func(), ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open[key] >= c.most {
		return nil, false
	}
	if c.open == nil {
		c.open = map[string]int{}
	}
	c.open[key]++
	return sync.OnceFunc(func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.open[key]--; c.open[key] <= 0 {
			delete(c.open, key)
		}
	}), true
}

// reading lets a person read a document of so many bytes: so much in a while, of a
// workspace twice as much, and one at a time in the whole service: what is read takes
// up to 200 MiB for a second or so, whatever its own length. It waits for its turn until
// the caller leaves; whoever came first goes first.
func (s *Server) reading(ctx context.Context, size int) (end func(), err error) {
	sc, cost := scopeOf(ctx), 1+size/readingPart
	if !s.limiters.reading.AllowN(sc.Person().String(), cost) || !s.limiters.readingOf.AllowN(sc.Workspace().String(), cost) {
		return nil, &fault{status: http.StatusTooManyRequests, kind: "too_many", title: "Too many documents at once. Each takes a while to be read; send this one again in some seconds.", after: 5 * time.Second}
	}
	if s.limiters.documents.Acquire(ctx, 1) != nil {
		return nil, context.Cause(ctx)
	}
	return sync.OnceFunc(func() { s.limiters.documents.Release(1) }), nil
}

// Limit bounds how many connections an address has open at a time; those over it are
// closed at once. Trusted proxies are not counted: all callers come through them.
func Limit(l net.Listener, trusted []netip.Prefix) net.Listener {
	return &limited{Listener: l, trusted: trusted, open: &counted{most: mostOfAddress}, ours: &counted{most: mostOfOurs}}
}

type limited struct {
	net.Listener
	trusted []netip.Prefix
	open    *counted
	ours    *counted // from loopback
}

// Accept implements net.Listener.
func (l *limited) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		host, _, err := net.SplitHostPort(c.RemoteAddr().String())
		if err != nil || trusts(l.trusted, host) {
			return c, nil
		}
		of := l.open
		if ip, err := netip.ParseAddr(host); err == nil && ip.Unmap().IsLoopback() {
			of = l.ours
		}
		end, ok := of.begin(signin.AddressKey(host))
		if !ok {
			c.Close()
			continue
		}
		return &placed{c, end}, nil
	}
}

// placed is a connection that gives its place back.
type placed struct {
	net.Conn
	end func()
}

// Close implements net.Conn.
func (p *placed) Close() error {
	p.end()
	return p.Conn.Close()
}

// patient bounds how long a caller may take for an answer.
func patient(w http.ResponseWriter, d time.Duration) {
	_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(d))
}
