package store

import (
	"context"
	"errors"
	"net"
	"os"
	"sync"
	"time"
)

// answerWithin is how long the server may be silent after it was asked
// something. No statement of ours takes as long; where it does, the way to the
// server is dead, and it would say so itself only after hours.
const answerWithin = 10 * time.Second

// errSilent says that the server did not answer within answerWithin.
var errSilent = errors.New("the database was silent for too long")

// keepalive finds a dead way to the server within a quarter of a minute, also
// where nothing is being said.
var keepalive = net.KeepAliveConfig{Enable: true, Idle: 5 * time.Second, Interval: 2 * time.Second, Count: 4}

// serverSide are settings by which the server finds out that we are gone, and
// lets go of what we held.
var serverSide = map[string]string{
	"tcp_keepalives_idle": "5", "tcp_keepalives_interval": "2", "tcp_keepalives_count": "4", "tcp_user_timeout": "15000",
	"idle_in_transaction_session_timeout": "60000",
}

// dialler connects to the server. Silent is told of every connection that was
// given up for its silence.
func dialler(silent func()) func(ctx context.Context, network, address string) (net.Conn, error) {
	d := &net.Dialer{Timeout: 5 * time.Second, KeepAliveConfig: keepalive, Control: userTimeout}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := d.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &impatient{Conn: c, silent: silent}, nil
	}
}

// impatient is a connection on which no read or write takes longer than
// answerWithin, unless whoever uses it has set a deadline of their own.
type impatient struct {
	net.Conn
	silent func()

	mu            sync.Mutex // protects the following field, and the order of deadlines
	read, written bool       // a deadline was set from outside
}

// SetDeadline implements net.Conn.
func (c *impatient) SetDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.read, c.written = !t.IsZero(), !t.IsZero()
	return c.Conn.SetDeadline(t)
}

// SetReadDeadline implements net.Conn.
func (c *impatient) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.read = !t.IsZero()
	return c.Conn.SetReadDeadline(t)
}

// SetWriteDeadline implements net.Conn.
func (c *impatient) SetWriteDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.written = !t.IsZero()
	return c.Conn.SetWriteDeadline(t)
}

// Read implements net.Conn.
func (c *impatient) Read(b []byte) (int, error) {
	c.mu.Lock()
	if !c.read {
		_ = c.Conn.SetReadDeadline(time.Now().Add(answerWithin))
	}
	c.mu.Unlock()
	n, err := c.Conn.Read(b)
	return n, c.judge(err, &c.read)
}

// Write implements net.Conn.
func (c *impatient) Write(b []byte) (int, error) {
	c.mu.Lock()
	if !c.written {
		_ = c.Conn.SetWriteDeadline(time.Now().Add(answerWithin))
	}
	c.mu.Unlock()
	n, err := c.Conn.Write(b)
	return n, c.judge(err, &c.written)
}

// judge gives the connection up where it was our own patience that ended.
func (c *impatient) judge(err error, theirs *bool) error {
	if !errors.Is(err, os.ErrDeadlineExceeded) {
		return err
	}
	c.mu.Lock()
	outside := *theirs
	c.mu.Unlock()
	if outside {
		return err
	}
	_ = c.Conn.Close()
	c.silent()
	return errSilent
}
