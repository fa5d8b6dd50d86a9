package fileserver

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"

	"deftheron/core/store"
)

// HostOption and PortOption are those by which a server is named.
func HostOption() store.Option {
	return store.Option{Name: "host", Title: "Host", Required: true, Help: "the server's name or address, such as files.example.org"}
}

// PortOption is described at HostOption.
func PortOption(otherwise string) store.Option {
	return store.Option{Name: "port", Title: "Port", Default: otherwise, Help: "the port that it listens on"}
}

// Address reads the two options: the host alone, and HOST:PORT.
func Address(options map[string]string) (host, address string, err error) {
	host = strings.Trim(options["host"], `[]`)
	if host == "" || strings.ContainsAny(host, `/\@ `) {
		return "", "", &store.OptionError{Option: "host",
			Reason: fmt.Sprintf("%q is not a host; give its name or address alone, such as files.example.org", options["host"])}
	}
	port, err := strconv.Atoi(options["port"])
	if err != nil || port < 1 || port > 65535 {
		return "", "", &store.OptionError{Option: "port", Reason: fmt.Sprintf("%q is not a port; give a number from 1 to 65535", options["port"])}
	}
	return host, net.JoinHostPort(host, strconv.Itoa(port)), nil
}

// NewAt is New for a start folder below base, which must exist.
func NewAt(ctx context.Context, server Server, base string, opening store.Opening, traits func() store.Traits) (*Store, error) {
	s := New(server, base, opening.Gates(), traits)
	if opening.Start == "" {
		return s, nil
	}
	for _, name := range opening.Start.Names() {
		if err := traits().NameError("", name); err != nil {
			return nil, &store.OptionError{Option: "start", Reason: err.Error()}
		}
		s.base += "/" + name
	}
	entry, err := s.Stat(ctx, store.At())
	if store.KindOf(err) == store.ErrNotFound || err == nil && entry.Kind != store.KindFolder {
		return nil, store.Concerns(store.Errorf(store.ErrNotFound,
			"the starting folder %s is not in %s; make it, or give another starting folder",
			opening.Start.Local(), base+"/"), "start")
	}
	return s, err
}

// Base is where the account begins on the server, without a slash at its end.
func (s *Store) Base() string { return s.base }
