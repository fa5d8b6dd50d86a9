package network

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"syscall"

	"deftheron/core/store"
)

// Reach is which hosts an account's requests may go to. Answers of a service lead to
// further addresses: by redirects, as links to contents, as sessions of uploads. None of
// them may lead into this machine or its network, which the service on the other side
// has no business with; only those hosts may lie there that the account names itself.
type Reach struct {
	mu    sync.Mutex
	named map[string]bool // hosts in lower case
}

// ReachOf is the reach of an account with some options.
func ReachOf(provider store.Provider, options map[string]string) *Reach {
	r := &Reach{named: map[string]bool{}}
	for _, host := range store.NamedHosts(provider, options) {
		r.named[strings.ToLower(host)] = true
	}
	return r
}

func (r *Reach) names(host string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.named[strings.ToLower(host)]
}

// through wraps a choice of proxies: the proxy itself may be reached, and the addresses that
// it is asked for are checked in the same way.
func (r *Reach) through(proxy func(*http.Request) (*url.URL, error)) func(*http.Request) (*url.URL, error) {
	return func(request *http.Request) (*url.URL, error) {
		way, err := proxy(request)
		if way == nil || err != nil {
			return way, err
		}
		if host := request.URL.Hostname(); !r.names(host) {
			addresses, err := net.DefaultResolver.LookupNetIP(request.Context(), "ip", host)
			for _, address := range addresses { // one that the proxy alone can resolve is its own affair
				if err == nil && r.refuses(request.Context(), address) {
					return nil, leadsInside(host)
				}
			}
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		r.named[strings.ToLower(way.Hostname())] = true
		return way, nil
	}
}

// dial connects to a host that the account names, or to one of the world outside.
func (r *Reach) dial(ctx context.Context, network, address string) (net.Conn, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil || r.names(host) {
		return Dial(ctx, network, address)
	}
	guarded := dialer
	guarded.ControlContext = func(ctx context.Context, _, at string, _ syscall.RawConn) error {
		resolved, err := netip.ParseAddrPort(at)
		if err == nil && r.refuses(ctx, resolved.Addr()) {
			return leadsInside(host)
		}
		return err
	}
	return dialBy(ctx, guarded, network, address)
}

func leadsInside(host string) error {
	return store.Errorf(store.ErrRefused, "the service leads to %s, which is an address of this machine or its network; "+
		"name that host in the account if it is meant", host)
}

// refuses reports whether an address is neither public nor that of a named host.
func (r *Reach) refuses(ctx context.Context, address netip.Addr) bool {
	address = address.Unmap()
	if isOutside(address) {
		return false
	}
	r.mu.Lock()
	var hosts []string
	for host := range r.named {
		hosts = append(hosts, host)
	}
	r.mu.Unlock()
	for _, host := range hosts {
		addresses, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		for _, one := range addresses {
			if err == nil && one.Unmap() == address {
				return false
			}
		}
	}
	return true
}

// notOutside are ranges that netip tells nothing of: shared address space (RFC 6598),
// what maps IPv4 into IPv6 (RFC 6052, 3056), documentation and benchmarks (RFC 5737,
// 2544), and those reserved (RFC 1112).
var notOutside = func() (all []netip.Prefix) {
	for _, text := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "198.18.0.0/15", "198.51.100.0/24",
		"203.0.113.0/24", "240.0.0.0/4", "64:ff9b::/96", "64:ff9b:1::/48", "2002::/16", "2001:db8::/32", "fec0::/10"} {
		all = append(all, netip.MustParsePrefix(text))
	}
	return all
}()

func isOutside(address netip.Addr) bool {
	if !address.IsValid() || address.IsLoopback() || address.IsPrivate() || address.IsLinkLocalUnicast() || address.IsLinkLocalMulticast() ||
		address.IsMulticast() || address.IsUnspecified() || address.IsInterfaceLocalMulticast() {
		return false
	}
	for _, prefix := range notOutside {
		if prefix.Contains(address) {
			return false
		}
	}
	return true
}
