package connections

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

func TestWhatAnAdministratorMayAllow(t *testing.T) {
	t.Parallel()
	no := outbound.ErrForbidden.Error()
	for name, c := range map[string]struct {
		of   store.Connection
		want string
	}{
		"its address":              {store.Connection{State: store.ConnectionUnchecked, Said: "Tables cannot be called: " + no, Pin: "http://127.0.0.1:35213"}, "127.0.0.1:35213"},
		"six":                      {store.Connection{State: store.ConnectionUnchecked, Said: "Tables cannot be called: " + no, Pin: "https://[fd00::1]:443"}, "[fd00::1]:443"},
		"a database":               {store.Connection{State: store.ConnectionUnchecked, Said: "Works cannot be called: " + no, Pin: "postgres://10.0.0.5:5432"}, "10.0.0.5:5432"},
		"where tokens come from":   {store.Connection{State: store.ConnectionConsent, Said: tokenGuarded + no, Pin: "https://books.example:443", TokenPin: "http://10.0.0.9:80"}, "10.0.0.9:80"},
		"our own database":         {store.Connection{State: store.ConnectionUnchecked, Said: outbound.OwnServer + ": " + no, Pin: "postgres://127.0.0.1:5432"}, ""},
		"nobody answers":           {store.Connection{State: store.ConnectionUnchecked, Said: "nobody answers there", Pin: "http://127.0.0.1:1"}, ""},
		"works, and says the same": {store.Connection{State: store.ConnectionOK, Said: no, Pin: "http://127.0.0.1:1"}, ""},
		"never checked":            {store.Connection{State: store.ConnectionUnchecked, Pin: "http://127.0.0.1:1"}, ""},
	} {
		require.Equal(t, c.want, Guarded(c.of), name)
	}
}
