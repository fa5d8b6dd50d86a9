package network

import (
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"testing"

	"deftheron/core/store"
	"deftheron/provider/s3"
	"deftheron/provider/webdav"
)

// TestReach asks for addresses of the machine and its network by the transport of an
// account that names one host: by number, by name, along a redirect, through a proxy.
func TestReach(t *testing.T) {
	for text, outside := range map[string]bool{
		"192.88.99.1": true, "8.8.8.8": true, "2606:4700::1": true, "127.0.0.1": false, "127.8.9.1": false, "10.1.2.3": false,
		"172.16.0.1": false, "192.168.1.1": false,
		"169.254.169.254": false, "0.0.0.0": false, "::1": false, "::": false, "fe80::1": false, "fd00::1": false, "100.64.1.1": false,
		"224.0.0.1": false, "255.255.255.255": false,
		"::ffff:127.0.0.1": false, "64:ff9b::7f00:1": false,
	} {
		if got := isOutside(netip.MustParseAddr(text).Unmap()); got != outside {
			t.Errorf("%s is outside: %v", text, got)
		}
	}

	asked := map[string]int{}
	server := func(address string) *httptest.Server {
		listener, err := net.Listen("tcp", address+":0")
		if err != nil {
			t.Fatal(err)
		}
		s := &httptest.Server{Listener: listener,
			Config: &http.Server{Handler: http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { asked[address]++ })}}
		s.Start()
		t.Cleanup(s.Close)
		return s
	}
	named, other := server("127.0.0.1"), server("127.0.0.2")
	proxy := func(*http.Request) (*url.URL, error) { return nil, nil }
	guarded := ReachOf(webdav.Provider{}, map[string]string{"url": named.URL + "/dav/"})
	get := func(r *Reach, target string) error {
		client := http.Client{Transport: &http.Transport{Proxy: r.through(proxy), DialContext: r.dial, DisableKeepAlives: true}}
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, target, nil)
		if err != nil {
			t.Fatal(err)
		}
		answer, err := client.Do(request)
		if err == nil {
			answer.Body.Close()
		}
		return err
	}
	_, port, _ := net.SplitHostPort(other.Listener.Addr().String())
	if err := get(guarded, named.URL); err != nil {
		t.Errorf("the host that is named: %v", err)
	}
	for _, target := range []string{other.URL, "http://[::1]:" + port, "http://0.0.0.0:" + port, "http://169.254.169.254/latest",
		"http://127.2:" + port, "http://2130706434:" + port} {
		if err := get(guarded, target); err == nil || asked["127.0.0.2"] > 0 {
			t.Errorf("%s was asked, %v", target, err)
		}
	}
	if err := get(guarded, other.URL); store.KindOf(err) != store.ErrRefused {
		t.Errorf("refused as %v; want it to say why", err)
	}
	// By a name that leads to the address of the host that is named.
	_, namedPort, _ := net.SplitHostPort(named.Listener.Addr().String())
	if err := get(guarded, "http://localhost:"+namedPort); err != nil && store.KindOf(err) == store.ErrRefused {
		t.Errorf("another name of the same address: %v", err)
	}
	// A proxy may be anywhere, and what it is asked for may not.
	proxy = func(*http.Request) (*url.URL, error) { return url.Parse(other.URL) }
	if err := get(guarded, "http://192.168.7.7/"); err == nil {
		t.Error("a proxy was asked for an address of the network")
	}
	if err := get(guarded, named.URL+"/through"); err != nil || asked["127.0.0.2"] != 1 {
		t.Errorf("through a proxy: %v, asked %v", err, asked)
	}
	if hosts := store.NamedHosts(s3.Provider{}, map[string]string{"endpoint": "https://Objects.example.org"}); len(hosts) != 1 ||
		hosts[0] != "objects.example.org" {
		t.Errorf("named are %v", hosts)
	}
}
