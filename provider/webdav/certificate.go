package webdav

import (
	"net/http"

	"deftheron/core/pinning"
	"deftheron/core/store"
)

// pin returns a transport of its own that accepts the certificate given alone.
func pin(base http.RoundTripper, sum string) (http.RoundTripper, error) {
	transport, ok := base.(*http.Transport)
	if base == nil {
		transport, ok = http.DefaultTransport.(*http.Transport)
	}
	if !ok {
		if sum != "" {
			return nil, store.Errorf(store.ErrUnsupported, "a certificate cannot be pinned here")
		}
		return base, nil
	}
	transport = transport.Clone()
	transport.DisableCompression = true
	config, err := pinning.PinnedTLS(sum)
	if config != nil {
		transport.TLSClientConfig = config
	}
	return transport, err
}
