package paste

import (
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
)

func parsed(t *testing.T, k *Kept) *connector.Connector {
	c, err := connector.Parse([]byte(k.Document))
	require.NoError(t, err, k.Document)
	return c
}

// A second call of the same address joins the connector: as another action, and where it
// signs in otherwise with another sign-in; the same call again changes nothing.
func TestASecondCallJoins(t *testing.T) {
	t.Parallel()
	into := func(c *connector.Connector, call string, keep Keep) (*Kept, error) {
		p, err := Read(call)
		require.NoError(t, err, call)
		return p.Into(c, keep)
	}
	k, err := into(nil, `curl https://api.ottermere.example/v1/orders -H 'X-Api-Key: tk_8d7f6a5b4c3d2e1f'`, Keep{})
	require.NoError(t, err)
	require.Equal(t, []string{"api-ottermere-example", "get_v1_orders", "api_key"}, []string{k.Name, k.Action, k.Way})
	c := parsed(t, k)
	for _, step := range []struct {
		call, action, way string
		changed           bool
		keep              Keep
	}{
		{`curl https://api.ottermere.example/v1/orders -H 'x-api-key: tk_another'`, "get_v1_orders", "api_key", false, Keep{}},
		{`curl https://api.ottermere.example/v1/orders -H 'X-Api-Key: tk_1' -d name=Jug`, "post_v1_orders", "api_key", true, Keep{}},
		{`curl https://api.ottermere.example/v1/orders?state=open -H 'X-Api-Key: tk_1'`, "get_v1_orders_2", "api_key", true, Keep{}},
		{`curl https://api.ottermere.example/v1/orders?state=open -H 'X-Api-Key: tk_1'`, "get_v1_orders_2", "api_key", false, Keep{}},
		{`curl https://api.ottermere.example/v1/orders -H 'X-Shop-Key: tk_1'`, "get_v1_orders", "api_key_2", true, Keep{}},
		{`curl -u mara:tk_1 https://api.ottermere.example/v1/pieces`, "get_v1_pieces", "basic", true, Keep{}},
		{`curl https://api.ottermere.example/open`, "list_open", "none", true, Keep{Action: "list_open"}},
	} {
		k, err = into(c, step.call, step.keep)
		require.NoError(t, err, step.call)
		require.Equal(t, []any{step.action, step.way, step.changed}, []any{k.Action, k.Way, k.Changed}, "%s\n%s", step.call, k.Document)
		next := parsed(t, k)
		require.Equal(t, step.changed, next.Version > c.Version, step.call)
		c = next
	}
	require.Len(t, c.Actions, 5)
	require.Len(t, c.SignIn, 4)
	way, ok := c.Way("api_key_2")
	require.True(t, ok)
	require.Equal(t, "X-Shop-Key", way.Header)

	_, err = into(c, `curl https://api.ottermere.example/other`, Keep{Action: "list_open"})
	require.ErrorContains(t, err, "has an action list_open already, which calls something else")
	_, err = into(c, `curl https://api.ottermere.example:8443/v1/orders`, Keep{})
	require.ErrorContains(t, err, "this call goes to https://api.ottermere.example:8443; give it a connector of its own")
	require.Equal(t, "api-ottermere-example-8443", NameOf("https://api.ottermere.example:8443"))
	require.Equal(t, "at-127-0-0-1-8080", NameOf("http://127.0.0.1:8080"))
}

// What was written by hand stays as it was: comments, order and blank lines.
func TestJoiningKeepsWhatWasWritten(t *testing.T) {
	t.Parallel()
	const text = `format: young-trellis-connector/1
name: hall # of the kiln hall
title: Kiln hall
version: 3
base: https://hall.example

# One key for all.
sign_in:
  - {method: api_key, title: Key, header: X-Api-Key}

check:
  request: {method: GET, path: /me}
  says: (= response.name )
actions:
  # What is fired.
  list:
    title: List
    sentence: List
    effect: read
    fields: {type: object}
    request: {method: GET, path: /v1/firings}
`
	c, err := connector.Parse([]byte(text))
	require.NoError(t, err)
	p, err := Read(`curl https://hall.example/v1/firings -u mara:tk_8d7f6a5b -d cone=9`)
	require.NoError(t, err)
	k, err := p.Into(c, Keep{})
	require.NoError(t, err)
	require.Contains(t, k.Document, "name: hall # of the kiln hall")
	require.Contains(t, k.Document, "\n\n# One key for all.\n")
	require.Contains(t, k.Document, "  # What is fired.\n")
	joined := parsed(t, k)
	require.Equal(t, 4, joined.Version)
	require.Len(t, joined.SignIn, 2)
	require.NotNil(t, joined.Actions["post_v1_firings"])
}

// Every option of the program that is installed here is known: taken, of no effect on
// what is sent, or refused by name.
func TestEveryOptionIsKnown(t *testing.T) {
	t.Parallel()
	help, err := exec.Command("curl", "--help", "all").Output()
	require.NoError(t, err)
	seen := 0
	for _, line := range strings.Split(string(help), "\n") {
		m := regexp.MustCompile(`^ *(?:(-.), )?(--[a-z0-9.-]+)( <| \[)?`).FindStringSubmatch(line)
		if m == nil {
			continue
		}
		seen++
		o, ok := options[m[2]]
		require.True(t, ok, line)
		if m[1] != "" {
			require.Equal(t, o, options[m[1]], line)
		}
		if m[2] != "--help" && m[2] != "--socks5-gssapi" {
			require.Equal(t, m[3] != "", o.value, line)
		}
	}
	require.Greater(t, seen, 200)
	for written, want := range map[string]string{"--verb": "--verbose", "--silen": "--silent", "--no-verbose": "--no-verbose", "--head": "--head", "--header": "--header"} {
		name, _, err := longOption(written)
		require.NoError(t, err)
		require.Equal(t, want, name)
	}
	for written, want := range map[string]string{"--heder": "Did you mean --header?", "--no-header": "is not known", "--re": "may be", "--xyzzy": "is not known"} {
		_, _, err := longOption(written)
		require.ErrorContains(t, err, want)
	}
}
