package service

import (
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"time"
)

// listenMetrics serves the metrics at the address of their own, where one was asked for:
// at /metrics, and nothing else.
func (s *Service) listenMetrics(handler http.Handler) error {
	if s.options.Metrics == "" {
		return nil
	}
	listener, err := net.Listen("tcp", s.options.Metrics)
	if err != nil {
		return fmt.Errorf("cannot listen for metrics at %s (%v); choose another address with --metrics", s.options.Metrics, err)
	}
	router := http.NewServeMux()
	router.Handle("GET /metrics", handler)
	s.measuring = &http.Server{Handler: router, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(s.options.Log.Handler(), slog.LevelDebug)}
	go func() { _ = s.measuring.Serve(listener) }() // ends when it is closed
	return nil
}
