// Package loopback recognises hosts that are reached without a network, so that what goes there needs no TLS.
package loopback

import "net/netip"

// IsHost reports whether a host is this machine: localhost (RFC 6761 §6.3), or a loopback address.
func IsHost(host string) bool {
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && ip.IsLoopback()
}
