// Package discovery finds servers on the local network by DNS-SD (RFC 6763) over
// multicast DNS (RFC 6762).
package discovery

import (
	"cmp"
	"context"
	"errors"
	"io"
	"log"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/mdns"
)

// Server is a server that was found, and what it would be linked with.
type Server struct {
	Name     string // as it calls itself
	Service  string // such as _sftp-ssh._tcp
	Provider string
	Host     string // without the dot at its end
	Address  string // its IP address
	Port     int
	Options  map[string]string // of the provider, as far as it told
}

// services are those that are asked for, with the provider that links them.
var services = map[string]string{
	"_webdav._tcp": "webdav", "_webdavs._tcp": "webdav", "_sftp-ssh._tcp": "sftp", "_ftp._tcp": "ftp", "_smb._tcp": "smb",
}

// Longest is the longest time that is looked for servers.
const Longest = 15 * time.Second

// most is how many servers are told at most: what answers is not to be trusted.
const most = 500

// Find asks for servers on all interfaces that have multicast, for as long as is
// given, and returns what answered, by name.
func Find(ctx context.Context, within time.Duration) ([]Server, error) {
	interfaces, err := multicasting()
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	found := map[string]Server{}
	var failures []error
	var group sync.WaitGroup
	for service, provider := range services {
		for _, on := range interfaces {
			entries := make(chan *mdns.ServiceEntry, 64)
			group.Go(func() {
				defer close(entries)
				err := mdns.QueryContext(ctx, &mdns.QueryParam{
					Service: service, Domain: "local", Timeout: min(within, Longest), Interface: &on, Entries: entries,
					DisableIPv6: true, Logger: log.New(io.Discard, "", 0),
				})
				if err != nil {
					mu.Lock()
					failures = append(failures, err)
					mu.Unlock()
				}
			})
			group.Go(func() {
				for entry := range entries {
					server, ok := serverOf(entry, service, provider)
					mu.Lock()
					if ok && len(found) < most {
						found[service+" "+server.Name+" "+server.Address+" "+strconv.Itoa(server.Port)] = server
					}
					mu.Unlock()
				}
			})
		}
	}
	group.Wait()
	if len(found) == 0 && len(failures) > 0 && len(failures) == len(services)*len(interfaces) {
		return nil, errors.Join(failures[0], errors.New("multicast DNS cannot be used here"))
	}
	var all []Server
	for _, server := range found {
		all = append(all, server)
	}
	slices.SortFunc(all, func(a, b Server) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Service, b.Service), cmp.Compare(a.Address, b.Address))
	})
	return all, nil
}

// multicasting are the interfaces that multicast goes over; loopback alone where
// there is no other.
func multicasting() ([]net.Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var outside, loopback []net.Interface
	for _, one := range all {
		switch {
		case one.Flags&net.FlagUp == 0:
		case one.Flags&net.FlagLoopback != 0:
			loopback = append(loopback, one)
		case one.Flags&net.FlagMulticast != 0:
			outside = append(outside, one)
		}
	}
	if len(outside) == 0 {
		return loopback, nil
	}
	return outside, nil
}

// serverOf reads an answer. One of another service, or without an address, is none.
func serverOf(entry *mdns.ServiceEntry, service, provider string) (Server, bool) {
	name, ok := strings.CutSuffix(entry.Name, "."+service+".local.")
	if !ok || entry.Port <= 0 || entry.Port > 65535 {
		return Server{}, false
	}
	address := ""
	switch {
	case entry.AddrV4 != nil:
		address = entry.AddrV4.String()
	case entry.AddrV6IPAddr != nil:
		address = entry.AddrV6IPAddr.String()
	default:
		return Server{}, false
	}
	server := Server{
		Name: unescape(name), Service: service, Provider: provider, Host: strings.TrimSuffix(entry.Host, "."), Address: address, Port: entry.Port,
	}
	told := map[string]string{} // by RFC 6763, section 6
	for _, field := range entry.InfoFields {
		key, value, _ := strings.Cut(field, "=")
		told[strings.ToLower(key)] = value
	}
	server.Options = optionsOf(server, told)
	return server, true
}

// optionsOf are what a server would be linked with. Names of the local domain are
// not known to every resolver, so that its address is taken.
func optionsOf(server Server, told map[string]string) map[string]string {
	port := strconv.Itoa(server.Port)
	if server.Provider == "webdav" {
		scheme := "http"
		if server.Service == "_webdavs._tcp" {
			scheme = "https"
		}
		path := "/" + strings.TrimPrefix(told["path"], "/")
		return map[string]string{"url": (&url.URL{Scheme: scheme, Host: net.JoinHostPort(server.Address, port), Path: path}).String()}
	}
	options := map[string]string{"host": server.Address, "port": port}
	if path := told["path"]; path != "" && server.Provider != "smb" {
		options["path"] = path
	}
	if user := told["u"]; user != "" {
		options["user"] = user
	}
	return options
}

// unescape reads the name of an instance, of which DNS shows some characters as
// \DDD or \X (RFC 1035, section 5.1).
func unescape(name string) string {
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] != '\\' || i+1 >= len(name) {
			b.WriteByte(name[i])
			continue
		}
		if i+3 < len(name) {
			if n, err := strconv.ParseUint(name[i+1:i+4], 10, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		i++
		b.WriteByte(name[i])
	}
	return b.String()
}
