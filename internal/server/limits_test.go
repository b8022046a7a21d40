package server

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPlacesAreTakenAndGivenBack(t *testing.T) {
	t.Parallel()
	c := &counted{most: 2}
	one, ok := c.begin("a")
	require.True(t, ok)
	_, ok = c.begin("a")
	require.True(t, ok)
	_, ok = c.begin("a")
	require.False(t, ok)
	other, ok := c.begin("b")
	require.True(t, ok, "others have places of their own")
	one()
	one()
	_, ok = c.begin("a")
	require.True(t, ok)
	_, ok = c.begin("a")
	require.False(t, ok, "a place is given back once")
	other()
	require.NotContains(t, c.open, "b")
}

// caller's connections as a listener sees them.
type knocks struct{ from []string }

type knock struct {
	net.Conn
	from   net.Addr
	closed bool
}

func (k *knock) RemoteAddr() net.Addr { return k.from }
func (k *knock) Close() error         { k.closed = true; return nil }

func (k *knocks) Accept() (net.Conn, error) {
	if len(k.from) == 0 {
		return nil, errors.New("the end")
	}
	at := k.from[0]
	k.from = k.from[1:]
	return &knock{from: net.TCPAddrFromAddrPort(netip.MustParseAddrPort(at))}, nil
}
func (*knocks) Close() error   { return nil }
func (*knocks) Addr() net.Addr { return &net.TCPAddr{} }

func TestAnAddressHasSoManyConnections(t *testing.T) {
	t.Parallel()
	many := func(n int, at ...string) (out []string) {
		for i := range n {
			out = append(out, at[i%len(at)])
		}
		return out
	}
	taken := func(proxies string, from []string) (got []net.Conn) {
		trusted, err := ParseProxies([]string{proxies})
		require.NoError(t, err)
		l := Limit(&knocks{from}, trusted)
		for {
			c, err := l.Accept()
			if err != nil {
				return got
			}
			got = append(got, c)
		}
	}
	require.Len(t, taken("", many(1000, "192.0.2.1:1")), mostOfAddress)
	require.Len(t, taken("", many(1000, "[2001:db8::1]:1", "[2001:db8::2]:1")), mostOfAddress, "a network of version 6 is one caller")
	require.Len(t, taken("", many(1000, "192.0.2.1:1", "192.0.2.2:1")), 2*mostOfAddress)
	require.Len(t, taken("192.0.2.1", many(1000, "192.0.2.1:1")), 1000, "all callers come through a trusted proxy")
	require.Len(t, taken("", many(1000, "127.0.0.1:1")), 1000, "or through one on this machine")
	got := taken("", append(many(mostOfAddress, "192.0.2.1:1"), "192.0.2.1:1"))
	require.Len(t, got, mostOfAddress)
	l := Limit(&knocks{many(mostOfAddress+1, "192.0.2.1:1")}, nil)
	first, err := l.Accept()
	require.NoError(t, err)
	for range mostOfAddress - 1 {
		_, err = l.Accept()
		require.NoError(t, err)
	}
	require.NoError(t, first.Close())
	_, err = l.Accept()
	require.NoError(t, err, "one that was closed makes room")
}

func TestDocumentsAreReadOneAtATime(t *testing.T) {
	t.Parallel()
	s := &Server{limiters: newLimiters(0)}
	end, err := s.reading(context.Background(), 1000)
	require.NoError(t, err)
	ctx, stop := context.WithTimeout(context.Background(), time.Millisecond)
	defer stop()
	_, err = s.reading(ctx, 1000)
	require.ErrorIs(t, err, context.DeadlineExceeded, "the next waits, until its caller leaves")
	end()
	end() // to give a place back twice does nothing
	end, err = s.reading(context.Background(), 1000)
	require.NoError(t, err)
	_, err = s.reading(ctx, 1000)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	end()
	var no *fault
	for range 3 {
		if end, err := s.reading(context.Background(), 20<<20); err == nil {
			end()
		} else {
			require.ErrorAs(t, err, &no)
		}
	}
	require.NotNil(t, no, "and so many in a while")
	require.Equal(t, http.StatusTooManyRequests, no.status)
	require.Positive(t, no.after)
}
