package store

import (
	"net/url"
	"slices"
	"strings"
)

// Originator is a provider that knows where it sends the secret of an account.
type Originator interface {
	// SecretOrigins are the origins, each SCHEME://HOST:PORT, that an account with
	// some options sends its secret to.
	SecretOrigins(options map[string]string) []string
}

// SecretOrigins is where the secret of an account is sent, as text to be compared: a
// secret that was given for one is not sent to another.
func SecretOrigins(p Provider, options map[string]string) string {
	if teller, ok := p.(Originator); ok {
		origins := teller.SecretOrigins(options)
		slices.Sort(origins)
		return strings.Join(slices.Compact(origins), " ")
	}
	var parts []string
	for _, option := range p.Options() {
		value := options[option.Name]
		if value == "" {
			value = option.Default
		}
		switch option.Name {
		case "url", "endpoint":
			parts = append(parts, OriginOf(value))
		case "host":
			parts = append(parts, strings.ToLower(value))
		case "port":
			parts = append(parts, "port "+value)
		case "tls":
			parts = append(parts, "tls "+value)
		}
	}
	return strings.Join(parts, " ")
}

// NamedHosts are the hosts that an account with some options names: those that its
// secret is sent to.
func NamedHosts(p Provider, options map[string]string) (hosts []string) {
	for part := range strings.FieldsSeq(SecretOrigins(p, options)) {
		if u, err := url.Parse(part); err == nil && u.Hostname() != "" {
			hosts = append(hosts, u.Hostname())
		}
	}
	return hosts
}

// OriginOf is SCHEME://HOST:PORT of a URL in text; all of a text that is none.
func OriginOf(text string) string {
	u, err := url.Parse(text)
	if err != nil || u.Scheme == "" || u.Hostname() == "" {
		return text
	}
	return OriginOfURL(u)
}

// OriginOfURL is SCHEME://HOST:PORT of a URL, in lower case, and always with its port.
func OriginOfURL(u *url.URL) string {
	scheme, port := strings.ToLower(u.Scheme), u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[scheme]
	}
	return scheme + "://" + strings.ToLower(u.Hostname()) + ":" + port
}
