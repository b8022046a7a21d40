package connections

import (
	"net/url"
	"strings"

	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// tokenGuarded is said where not the application but its authorization server
// stands at an address that is not public.
const tokenGuarded = "the authorization server cannot be called: "

// Guarded is the address (host:port) that a connection could not be checked at
// because it is not public and nobody has allowed it, and empty otherwise. It is
// what an administrator of the workspace may allow.
func Guarded(c store.Connection) string {
	if c.State == store.ConnectionOK || !outbound.MayBeAllowed(c.Said) {
		return ""
	}
	pin := c.Pin
	if strings.Contains(c.Said, tokenGuarded) {
		pin = c.TokenPin
	}
	u, err := url.Parse(pin)
	if err != nil {
		return ""
	}
	return u.Host // an origin always has its port
}
