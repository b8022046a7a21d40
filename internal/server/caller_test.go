package server

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheCallersAddressIsReadFromTheRightEnd(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		proxies []string
		remote  string
		lines   []string
		want    string
	}{
		"nobody is trusted":                {nil, "198.51.100.7:4000", []string{"192.0.2.1"}, "198.51.100.7"},
		"a stranger says who he is":        {[]string{"10.0.0.0/8"}, "198.51.100.7:4000", []string{"192.0.2.1"}, "198.51.100.7"},
		"one proxy":                        {[]string{"10.0.0.1"}, "10.0.0.1:4000", []string{"192.0.2.1"}, "192.0.2.1"},
		"what the caller wrote before it":  {[]string{"10.0.0.1"}, "10.0.0.1:4000", []string{"203.0.113.9, 192.0.2.1"}, "192.0.2.1"},
		"two proxies":                      {[]string{"10.0.0.0/8"}, "10.0.0.1:4000", []string{"203.0.113.9, 192.0.2.1, 10.0.0.2"}, "192.0.2.1"},
		"a proxy that writes its own line": {[]string{"10.0.0.1"}, "10.0.0.1:4000", []string{"203.0.113.9", "192.0.2.1"}, "192.0.2.1"},
		"six, with a port":                 {[]string{"fd00::/8"}, "[fd00::1]:4000", []string{"[2001:db8::5]:4711"}, "2001:db8::5"},
		"four within six":                  {[]string{"10.0.0.1"}, "[::ffff:10.0.0.1]:4000", []string{"192.0.2.1"}, "192.0.2.1"},
		"nothing said":                     {[]string{"10.0.0.1"}, "10.0.0.1:4000", nil, "10.0.0.1"},
		"nonsense":                         {[]string{"10.0.0.1"}, "10.0.0.1:4000", []string{"192.0.2.1, who knows"}, "10.0.0.1"},
		"all are proxies":                  {[]string{"10.0.0.0/8"}, "10.0.0.1:4000", []string{"10.0.0.3, 10.0.0.2"}, "10.0.0.3"},
	} {
		proxies, err := ParseProxies(c.proxies)
		require.NoError(t, err, name)
		s := &Server{Config: Config{Proxies: proxies}}
		r := &http.Request{RemoteAddr: c.remote, Header: http.Header{"X-Forwarded-For": c.lines}}
		require.Equal(t, c.want, s.clientAddress(r), name)
	}
}

func TestProxiesAreAddressesOrNetworks(t *testing.T) {
	t.Parallel()
	got, err := ParseProxies([]string{" 10.1.2.3/8", "", "2001:db8::1"})
	require.NoError(t, err)
	require.Equal(t, "[10.0.0.0/8 2001:db8::1/128]", fmt.Sprint(got))
	_, err = ParseProxies([]string{"proxy.example"})
	require.ErrorContains(t, err, "10.0.0.0/8")
}
