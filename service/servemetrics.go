package service

import (
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"deftheron/core/remedy"
)

// listenMetrics serves the metrics at the address of their own, where one was asked for:
// at /metrics, and nothing else.
func (s *Service) listenMetrics(handler http.Handler) error {
	if s.options.Metrics == "" {
		return nil
	}
	listener, err := net.Listen("tcp", s.options.Metrics)
	if err != nil {
		return remedy.Errorf("cannot listen for metrics at %s (%v); choose another address with --metrics", s.options.Metrics, err)
	}
	router := http.NewServeMux()
	hosts := append(s.hosts(), hostOf(s.options.Metrics))
	router.Handle("GET /metrics", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !slices.Contains(hosts, hostOf(r.Host)) { // a page elsewhere can make its name lead here
			http.Error(w, "This service does not answer to that name. Use its address, or start it with --host NAME.", http.StatusMisdirectedRequest)
			return
		}
		handler.ServeHTTP(w, r)
	}))
	s.measuring = &http.Server{Handler: router, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 20 * time.Second, WriteTimeout: time.Minute,
		MaxHeaderBytes: 16 << 10, ErrorLog: slog.NewLogLogger(s.options.Log.Handler(), slog.LevelDebug)}
	(&connections{}).guard(s.measuring)
	go func() { _ = s.measuring.Serve(listener) }() // ends when it is closed
	return nil
}

// hostOf is the name or the address of a Host header, in lower case, without its port.
func hostOf(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return strings.ToLower(strings.Trim(host, "[]"))
}
