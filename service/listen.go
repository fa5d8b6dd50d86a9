package service

import (
	"crypto/tls"
	"errors"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"deftheron/core/remedy"
)

func lockFolder(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, remedy.Errorf("the data folder %s cannot be made (%v); name another with --data", dir, err)
	}
	path := filepath.Join(dir, "lock")
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, remedy.Errorf("the data folder %s cannot be written to (%v); name another with --data", dir, err)
	}
	if err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		file.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, remedy.Errorf("the data folder %s is %w; stop that one, or name another folder with --data", dir, ErrInUse)
		}
		return nil, remedy.Errorf("the data folder %s cannot be locked (%v); name one on a local disk with --data", dir, err)
	}
	return file, nil
}

// checkListen refuses what would carry tokens in the clear over a network.
func checkListen(options Options) error {
	host, _, err := net.SplitHostPort(options.Listen)
	if err != nil {
		return remedy.Errorf("--listen %q is not an address; write it as HOST:PORT, such as 127.0.0.1:8420", options.Listen)
	}
	if (options.TLSCert == "") != (options.TLSKey == "") {
		return remedy.New("--tls-cert and --tls-key go together; give both")
	}
	ip := net.ParseIP(host)
	if options.TLSCert == "" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return remedy.Errorf("--listen %s can be reached by others, and tokens would cross the network in the clear; "+
			"give --tls-cert and --tls-key, or listen on 127.0.0.1", options.Listen)
	}
	return nil
}

func (s *Service) listen() error {
	var err error
	if s.listener, err = net.Listen("tcp", s.options.Listen); err != nil {
		if errors.Is(err, unix.EADDRINUSE) {
			return remedy.Errorf("%s is in use by another program; stop that one, or choose another address with --listen", s.options.Listen)
		}
		return remedy.Errorf("cannot listen at %s (%v); choose another address with --listen", s.options.Listen, err)
	}
	host, _, _ := net.SplitHostPort(s.options.Listen)
	_, port, _ := net.SplitHostPort(s.listener.Addr().String())
	scheme := "http"
	if s.options.TLSCert != "" {
		scheme = "https"
		pair, err := tls.LoadX509KeyPair(s.options.TLSCert, s.options.TLSKey)
		if err != nil {
			return remedy.Errorf("the TLS files cannot be used (%v); give a certificate and its key as PEM files", err)
		}
		s.listener = tls.NewListener(s.listener, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12,
			NextProtos: []string{"http/1.1"}})
	}
	if ip := net.ParseIP(host); len(s.options.Hosts) > 0 && (ip == nil || !ip.IsLoopback()) {
		host = s.options.Hosts[0]
	}
	s.URL = scheme + "://" + net.JoinHostPort(host, port)
	if s.options.PublicURL != "" {
		s.URL = s.options.PublicURL
	}
	return nil
}

// publicURL reads --public-url; nil where it is empty.
func publicURL(text string) (*url.URL, error) {
	if text == "" {
		return nil, nil
	}
	parsed, err := url.Parse(text)
	if err != nil || parsed.Host == "" || parsed.Scheme != "http" && parsed.Scheme != "https" || strings.Trim(parsed.Path, "/") != "" ||
		parsed.RawQuery != "" {
		return nil, remedy.Errorf("--public-url %q is not an address of a service; write it as https://heron.example.org, without a path", text)
	}
	return parsed, nil
}

func (s *Service) hosts() []string {
	host, _, _ := net.SplitHostPort(s.options.Listen)
	hosts := []string{strings.ToLower(host)}
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && (ip.IsLoopback() || ip.IsUnspecified()) {
		hosts = append(hosts, "localhost", "127.0.0.1", "::1")
	}
	for _, name := range s.options.Hosts {
		hosts = append(hosts, strings.ToLower(name))
	}
	return hosts
}
