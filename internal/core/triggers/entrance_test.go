package triggers

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/proof"
)

func TestWhichCallsAreTaken(t *testing.T) {
	t.Parallel()
	k, _ := Find(Webhook)
	s, errs := k.Start(nil)
	require.Empty(t, errs)
	require.True(t, s.Entrance.Takes("POST"))
	require.False(t, s.Entrance.Takes("GET"))
	require.True(t, s.Entrance.Lets("203.0.113.7"))
	s, errs = k.Start(map[string]any{"methods": []any{"get", "PUT"}, "from": []any{"203.0.113.7", "198.51.100.0/24", "2001:db8::/32"}})
	require.Empty(t, errs)
	require.Equal(t, []string{"GET", "PUT"}, s.Entrance.Allowed())
	for address, lets := range map[string]bool{"203.0.113.7": true, "::ffff:203.0.113.7": true, "203.0.113.8": false, "198.51.100.99": true, "2001:db8::1": true, "2001:db9::1": false, "": false, "nobody": false} {
		require.Equal(t, lets, s.Entrance.Lets(address), address)
	}
}

// What is said of a proof that does not count, or is missing, is told at its place.
func TestASettingOfAProofCountsOrIsRefused(t *testing.T) {
	t.Parallel()
	k, _ := Find(Webhook)
	for want, c := range map[string]struct {
		field    string
		settings map[string]any
	}{
		"say in which header it comes":                         {"header", map[string]any{"verify": "signature"}},
		"it counts only with verify: header, or signature":     {"header", map[string]any{"header": "X-Key"}},
		"it counts only with verify: basic":                    {"user", map[string]any{"user": "kiln"}},
		"it counts only with verify: signature":                {"prefix", map[string]any{"verify": "header", "header": "X-Key", "prefix": "v1="}},
		`"X Key" is no name of a header`:                       {"header", map[string]any{"verify": "header", "header": "X Key"}},
		"is not signed, so that anybody could change it":       {"signed", map[string]any{"verify": "signature", "header": "X-Sign", "time_header": "X-Time"}},
		"{id} is signed; say in which header it comes":         {"id_header", map[string]any{"verify": "signature", "header": "X-Sign", "signed": "{id}.{body}"}},
		"the body is signed once":                              {"signed", map[string]any{"verify": "signature", "header": "X-Sign", "signed": "nothing"}},
		`"LOOK" is no method that is taken`:                    {"methods[1]", map[string]any{"methods": []any{"POST", "LOOK"}}},
		"Authorization proves who calls, and is kept nowhere":  {"headers[0]", map[string]any{"headers": []any{"authorization"}}},
		"X-Sign proves who calls, and is kept nowhere":         {"headers[1]", map[string]any{"verify": "signature", "header": "x-sign", "headers": []any{"X-Kiln-Event", "X-SIGN"}}},
		"a path can be guessed":                                {"path", map[string]any{"path": "kiln-hall", "verify": "none"}},
		"it waits for at most 5 minutes":                       {"answer_within", map[string]any{"answer_within": "6m"}},
		"it is neither an address nor a network":               {"from[0]", map[string]any{"from": []any{"the works"}}},
		"it counts only with verify: signature; choose that, ": {"signed", map[string]any{"signed": "{time}.{body}"}},
	} {
		_, errs := k.Start(c.settings)
		require.Len(t, errs, 1, want)
		require.ErrorContains(t, errs[0], want)
		var placed *form.Error
		require.ErrorAs(t, errs[0], &placed)
		require.Equal(t, c.field, placed.Field)
	}
	s, errs := k.Start(map[string]any{"verify": "signature", "header": "x-kiln-signature", "signed": "{time}.{body}", "time_header": "X-Kiln-Time", "encoding": "base64"})
	require.Empty(t, errs)
	require.Equal(t, proof.Signature, s.Proof.Way)
	require.Equal(t, "X-Kiln-Signature", s.Proof.Header)
	require.True(t, s.Proof.Base64)
	for way, words := range map[string]string{"bearer": "Bearer SECRET", "basic": "any user", "standard": "Standard Webhooks", "none": "Nothing is proven"} {
		s, errs := k.Start(map[string]any{"verify": way})
		require.Empty(t, errs)
		require.Contains(t, s.Proof.Words(), words)
	}
}
