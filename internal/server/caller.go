package server

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"

	"youngtrellis/internal/signin"
)

// ParseProxies reads which proxies before the service are trusted to say who
// called: networks and addresses, as 10.0.0.0/8 or 192.168.1.7.
func ParseProxies(list []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, text := range list {
		text = strings.TrimSpace(text)
		if text == "" {
			continue
		}
		p, err := netip.ParsePrefix(text)
		if err != nil {
			ip, ierr := netip.ParseAddr(text)
			if ierr != nil {
				return nil, fmt.Errorf("%q is neither an address nor a network; write it as 10.0.0.7 or 10.0.0.0/8", text)
			}
			p = netip.PrefixFrom(ip, ip.BitLen())
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// clientAddress is the caller's: that of the connection, unless a trusted proxy
// made it. Then X-Forwarded-For is read from its right end, where the nearest proxy
// wrote: the first address that is not a trusted proxy's is the caller's. What
// stands to the left of it anybody may have written.
func (s *Server) clientAddress(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	if !s.trusts(host) {
		return host
	}
	// A proxy may add a line of its own: several are one list (RFC 9110, 5.3).
	parts := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(parts) - 1; i >= 0; i-- {
		ip := forwarded(parts[i])
		if ip == "" {
			break // what stands further left is of a proxy that writes nonsense
		}
		host = ip
		if !s.trusts(ip) {
			break
		}
	}
	return host
}

// forwarded reads an entry of the list, with or without a port.
func forwarded(part string) string {
	part = strings.TrimSpace(part)
	if ap, err := netip.ParseAddrPort(part); err == nil {
		return ap.Addr().String()
	}
	if ip, err := netip.ParseAddr(strings.Trim(part, "[]")); err == nil {
		return ip.String()
	}
	return ""
}

func (s *Server) trusts(address string) bool { return trusts(s.Proxies, address) }

func trusts(list []netip.Prefix, address string) bool {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	ip = ip.Unmap().WithZone("")
	for _, p := range list {
		if p.Contains(ip) {
			return true
		}
	}
	return false
}

// callerKey is by what callers are told apart where their calls are counted.
func (s *Server) callerKey(r *http.Request) string { return signin.AddressKey(s.clientAddress(r)) }
