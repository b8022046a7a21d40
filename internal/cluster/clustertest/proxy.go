package clustertest

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Cut is what becomes of a connection at a statement.
type Cut int

// Cuts.
const (
	Before Cut = iota // it is cut before the server hears of the statement
	Within            // the server carries out what it was sent; half of its answer comes through
	After             // the server carries out what it was sent; nothing of its answer comes through
	Mute              // the same, and the connection stays open and silent
	Stuck             // the server hears of what came before the statement only, and the connection stays open and silent
)

// Proxy stands between a program and PostgreSQL. It reads what the program asks
// (PostgreSQL documentation, chapter 55: the frontend/backend protocol), and
// cuts, mutes and breaks connections where a test wants it.
type Proxy struct {
	listener net.Listener
	target   string
	address  string

	mu    sync.Mutex // protects the following fields
	links map[*link]bool
	rules []*rule
	mute  bool // new connections are accepted and nothing is ever answered
	shut  bool // new connections are refused
	seen  func(conn int, sql string) (Cut, bool)
	next  int
}

type rule struct {
	text  string
	cut   Cut
	left  int
	fired chan struct{}
}

// NewProxy stands before a database for the time of a test. The test fails when
// a statement that it wanted to meet never came: it would have tried nothing.
func NewProxy(t testing.TB, database string) *Proxy {
	p, err := StartProxy(database)
	require.NoError(t, err)
	t.Cleanup(func() {
		p.Close()
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, r := range p.rules {
			require.Failf(t, "a statement never came", "%d times more expected: %s", r.left, r.text)
		}
	})
	return p
}

// StartProxy stands before a database; URL gives the address through it.
func StartProxy(database string) (*Proxy, error) {
	u, err := url.Parse(database)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Proxy{listener: l, target: u.Host, links: map[*link]bool{}}
	u.Host = l.Addr().String()
	p.address = u.String()
	go p.serve()
	return p, nil
}

// URL is the database's address through the proxy.
func (p *Proxy) URL() string { return p.address }

// Close ends everything.
func (p *Proxy) Close() {
	_ = p.listener.Close()
	p.CutAll()
}

// On cuts connections at the next so many statements that hold a text. The
// channel is closed once they all have come.
func (p *Proxy) On(text string, c Cut, times int) <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := &rule{text, c, times, make(chan struct{})}
	p.rules = append(p.rules, r)
	return r.fired
}

// Each decides at every statement of every connection, by its number; nil ends
// that.
func (p *Proxy) Each(decide func(conn int, sql string) (Cut, bool)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.seen = decide
}

// CutAll cuts every connection there is.
func (p *Proxy) CutAll() {
	for _, l := range p.all() {
		l.close()
	}
}

// Silence lets every connection there is swallow what it is sent and answer
// nothing, as after a loss of power: nobody says goodbye.
func (p *Proxy) Silence() {
	for _, l := range p.all() {
		l.silence()
	}
}

// SetMute lets new connections be silent too, or no more.
func (p *Proxy) SetMute(mute bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mute = mute
}

// SetShut refuses new connections, or no more.
func (p *Proxy) SetShut(shut bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.shut = shut
}

func (p *Proxy) all() []*link {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]*link, 0, len(p.links))
	for l := range p.links {
		out = append(out, l)
	}
	return out
}

func (p *Proxy) serve() {
	for {
		client, err := p.listener.Accept()
		if err != nil {
			return
		}
		p.mu.Lock()
		mute, shut := p.mute, p.shut
		p.mu.Unlock()
		if shut {
			_ = client.Close()
			continue
		}
		server, err := net.Dial("tcp", p.target)
		if err != nil {
			_ = client.Close()
			continue
		}
		l := &link{proxy: p, number: p.number(), client: client, server: server, quiet: make(chan struct{}), statements: map[string]string{}}
		p.mu.Lock()
		p.links[l] = true
		p.mu.Unlock()
		if mute {
			l.silence()
		}
		go l.upward()
		go l.downward()
	}
}

func (p *Proxy) number() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.next++
	return p.next
}

// decide tells what becomes of a connection at a statement.
func (p *Proxy) decide(conn int, sql string) (Cut, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, r := range p.rules {
		if strings.Contains(sql, r.text) {
			if r.left--; r.left == 0 {
				close(r.fired)
				p.rules = slices.Delete(p.rules, i, i+1)
			}
			return r.cut, true
		}
	}
	if p.seen != nil {
		return p.seen(conn, sql)
	}
	return 0, false
}

// link is one connection through the proxy.
type link struct {
	proxy          *Proxy
	number         int
	client, server net.Conn
	statements     map[string]string // prepared, by name

	once  sync.Once
	quiet chan struct{} // closed once it is silent

	mu   sync.Mutex // protects the following fields
	doom Cut
	dies bool
}

func (l *link) close() {
	_ = l.client.Close()
	_ = l.server.Close()
	l.proxy.mu.Lock()
	delete(l.proxy.links, l)
	l.proxy.mu.Unlock()
}

func (l *link) silence() { l.once.Do(func() { close(l.quiet) }) }

func (l *link) silent() bool {
	select {
	case <-l.quiet:
		return true
	default:
		return false
	}
}

// message reads one message: a letter, unless it is the first of a connection,
// a length, and its body.
func message(r io.Reader, first bool) ([]byte, error) {
	head := make([]byte, 5)
	if first {
		head = head[:4]
	}
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint32(head[len(head)-4:])) - 4
	body := make([]byte, max(0, n))
	_, err := io.ReadFull(r, body)
	return append(head, body...), err
}

// upward carries what the program says to the server.
func (l *link) upward() {
	defer func() {
		if !l.silent() { // of a silent one the server is not told that the program has gone
			l.close()
		}
	}()
	for first := true; ; first = false {
		m, err := message(l.client, first)
		if err != nil {
			return
		}
		if l.silent() {
			continue
		}
		if sql, ok := l.statement(m, first); ok {
			if cut, ok := l.proxy.decide(l.number, sql); ok {
				switch cut {
				case Before:
					return
				case Stuck:
					l.silence()
					continue
				}
				l.mu.Lock()
				l.doom, l.dies = cut, true
				l.mu.Unlock()
			}
		}
		if _, err := l.server.Write(m); err != nil {
			return
		}
	}
}

// statement gives what a message asks to be carried out.
func (l *link) statement(m []byte, first bool) (string, bool) {
	if first {
		return "", false
	}
	body := m[5:]
	switch m[0] {
	case 'Q':
		return string(bytes.TrimRight(body, "\x00")), true
	case 'P':
		name, rest, _ := bytes.Cut(body, []byte{0})
		sql, _, _ := bytes.Cut(rest, []byte{0})
		l.statements[string(name)] = string(sql)
	case 'B':
		_, rest, _ := bytes.Cut(body, []byte{0})
		name, _, _ := bytes.Cut(rest, []byte{0})
		return l.statements[string(name)], true
	}
	return "", false
}

// downward carries what the server says to the program.
func (l *link) downward() {
	defer func() {
		if !l.silent() {
			l.close()
		}
	}()
	var held []byte
	for {
		m, err := message(l.server, false)
		if err != nil {
			return
		}
		l.mu.Lock()
		dies, doom := l.dies, l.doom
		l.mu.Unlock()
		switch {
		case l.silent():
			continue
		case !dies:
			if _, err := l.client.Write(m); err != nil {
				return
			}
			continue
		}
		held = append(held, m...)
		if m[0] != 'Z' { // until the server is ready for more, it is still carrying out what it was sent
			continue
		}
		switch doom {
		case Within:
			_, _ = l.client.Write(held[:len(held)/2])
		case Mute:
			l.silence()
			continue
		}
		return
	}
}
