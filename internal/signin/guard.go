// Package signin decides whose password is looked at, and when: guessing is made
// slow for an account and for an address, and does not lock out a device that its
// person has signed in from before.
package signin

import (
	"net/netip"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
)

// What is free of delay, and how long a delay may grow.
const (
	freeOfAccount = 5
	freeOfAddress = 20
	freeOfDevice  = 10
	longest       = 15 * time.Minute
	// forgotten is how long after its last delay a count is kept.
	forgotten = time.Hour
	// most is how many accounts, addresses and devices are remembered each; those
	// that were not heard of for the longest are forgotten first.
	most = 100_000
)

// Attempt is somebody who wants to sign in.
type Attempt struct {
	Account string // as it was typed
	Address string // an IP address
	Device  string // a known device of this account; empty for every other one
}

// tally counts the attempts of one key that were not found right.
type tally struct {
	n     int
	until time.Time // nothing is looked at before
}

// Guard counts attempts. It is safe for concurrent use, and counts for one process:
// where several serve, each lets through so many.
type Guard struct {
	now func() time.Time

	mu                           sync.Mutex // protects the following fields
	accounts, addresses, devices *lru.Cache[string, tally]
}

// NewGuard makes a guard that goes by a clock.
func NewGuard(now func() time.Time) *Guard {
	g := &Guard{now: now}
	for _, c := range []**lru.Cache[string, tally]{&g.accounts, &g.addresses, &g.devices} {
		*c, _ = lru.New[string, tally](most) // fails for sizes below one only
	}
	return g
}

// counted is a key among those of its kind.
type counted struct {
	of   *lru.Cache[string, tally]
	key  string
	free int
}

// keys are by what an attempt is counted: a known device of the account by itself
// alone, so that nobody else's guesses can keep its person out.
func (g *Guard) keys(a Attempt) []counted {
	account := strings.ToLower(strings.TrimSpace(a.Account))
	if a.Device != "" {
		return []counted{{g.devices, account + " " + a.Device, freeOfDevice}}
	}
	return []counted{{g.accounts, account, freeOfAccount}, {g.addresses, AddressKey(a.Address), freeOfAddress}}
}

// Begin tells whether a password may be looked at now; otherwise how long to wait.
// The attempt counts as a wrong one until Succeeded is called: of many at once,
// no more are looked at than of as many one after the other.
func (g *Guard) Begin(a Attempt) (wait time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	keys := g.keys(a)
	for _, k := range keys {
		if t, ok := k.of.Get(k.key); ok {
			wait = max(wait, t.until.Sub(now))
		}
	}
	if wait > 0 {
		return wait
	}
	for _, k := range keys {
		t, _ := k.of.Get(k.key)
		if now.Sub(t.until) > forgotten && !t.until.IsZero() {
			t = tally{}
		}
		t.n++
		t.until = now
		if over := t.n - k.free; over >= 0 {
			t.until = now.Add(delay(over))
		}
		k.of.Add(k.key, t)
	}
	return 0
}

// Succeeded takes back what Begin has counted.
func (g *Guard) Succeeded(a Attempt) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, k := range g.keys(a) {
		if t, ok := k.of.Get(k.key); ok {
			t.n = max(0, t.n-1)
			if t.n < k.free {
				t.until = g.now()
			}
			k.of.Add(k.key, t)
		}
	}
}

// delay doubles with each attempt from a second on.
func delay(over int) time.Duration {
	if over > 20 {
		return longest
	}
	return min(longest, time.Second<<over)
}

// AddressKey is by what an address is counted: that of IP version 6 by its network
// of 64 bits, which is what a single customer is given (RFC 6177).
func AddressKey(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if ip = ip.Unmap(); ip.Is6() {
		if p, err := ip.WithZone("").Prefix(64); err == nil {
			return p.String()
		}
	}
	return ip.String()
}
