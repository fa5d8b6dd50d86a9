package accounts

import (
	"context"
	"crypto/x509"
	"net"
	"net/http"
	"net/url"
	"time"

	"golang.org/x/net/http/httpproxy"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/provider/network"
	"deftheron/service/records"
)

// ProxyThrough is the way out through a proxy: http://HOST:PORT or
// https://HOST:PORT. Hosts that NO_PROXY names, and this machine's own
// addresses, are reached directly.
func ProxyThrough(address string) (func(*http.Request) (*url.URL, error), error) {
	parsed, err := url.Parse(address)
	if err != nil || parsed.Host == "" || parsed.Scheme != "http" && parsed.Scheme != "https" {
		return nil, remedy.Errorf("--outbound-proxy %q is not an address of a proxy; write it as http://HOST:PORT", address)
	}
	config := httpproxy.FromEnvironment()
	config.HTTPProxy, config.HTTPSProxy = address, address
	choose := config.ProxyFunc()
	return func(request *http.Request) (*url.URL, error) { return choose(request.URL) }, nil
}

func (a *Accounts) proxy() func(*http.Request) (*url.URL, error) {
	if a.Proxy != nil {
		return a.Proxy
	}
	return http.ProxyFromEnvironment
}

// dialFor connects an account to a server of a protocol other than HTTP.
func (a *Accounts) dialFor(id string) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, _, address string) (net.Conn, error) {
		connection, err := network.DialThrough(ctx, a.proxy(), address)
		if err != nil {
			return nil, err
		}
		return a.limited(id, connection), nil
	}
}

// transport sends the HTTP requests of an account.
func (a *Accounts) transport(provider store.Provider, row records.Account) http.RoundTripper {
	return network.Transport{
		Proxy: a.proxy(), Reach: network.ReachOf(provider, row.Options), Showed: a.showed(row.ID),
		Limited: func(connection net.Conn) net.Conn { return a.limited(row.ID, connection) },
	}.New()
}

// showed keeps when the certificate ends that a server of an account shows.
func (a *Accounts) showed(id string) func(*x509.Certificate) {
	return func(certificate *x509.Certificate) { a.certificateEnds(id, certificate.NotAfter) }
}

// certificateEnds keeps when the certificate of a server of an account ends.
func (a *Accounts) certificateEnds(id string, ends time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.certificates[id] = ends
}
