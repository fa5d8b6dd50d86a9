package standin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"time"
)

// Clouds are Sedge and Alder, listening.
type Clouds struct {
	Sedge *Sedge
	Alder *Alder
	// The addresses at which they are reached, such as http://127.0.0.1:8431.
	SedgeURL, AlderURL, ControlURL string

	servers []*http.Server
	served  chan error
}

// StartClouds starts both in a folder. The addresses are HOST:PORT on loopback;
// port 0 takes a free one, and an empty control address is none.
func StartClouds(dir, sedge, alder, control string) (c *Clouds, err error) {
	c = &Clouds{served: make(chan error, 3)}
	defer func() {
		if err != nil {
			err = errors.Join(err, c.Close())
		}
	}()
	if c.Sedge, err = OpenSedge(filepath.Join(dir, "sedge")); err != nil {
		return c, err
	}
	if c.Alder, err = OpenAlder(filepath.Join(dir, "alder")); err != nil {
		return c, err
	}
	controls := http.NewServeMux()
	controls.Handle("/sedge/", http.StripPrefix("/sedge", c.Sedge.Control))
	controls.Handle("/alder/", http.StripPrefix("/alder", c.Alder.Control))
	for _, one := range []struct {
		address string
		handler http.Handler
		url     *string
	}{{sedge, c.Sedge, &c.SedgeURL}, {alder, c.Alder, &c.AlderURL}, {control, controls, &c.ControlURL}} {
		if one.address == "" {
			continue
		}
		if *one.url, err = c.listen(one.address, one.handler); err != nil {
			return c, err
		}
	}
	return c, nil
}

func (c *Clouds) listen(address string, handler http.Handler) (string, error) {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	if err != nil || ip == nil || !ip.IsLoopback() {
		return "", fmt.Errorf("%q is not an address on loopback; write it as 127.0.0.1:8431", address)
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return "", fmt.Errorf("cannot listen at %s (%w); choose another address", address, err)
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	c.servers = append(c.servers, server)
	go func() { c.served <- server.Serve(listener) }()
	return "http://" + listener.Addr().String(), nil
}

// Wait returns when the context ends, or one of them cannot go on.
func (c *Clouds) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-c.served:
		return err
	}
}

// Close ends them, and keeps what they hold.
func (c *Clouds) Close() error {
	var errs []error
	for _, server := range c.servers {
		errs = append(errs, server.Close())
	}
	if c.Sedge != nil {
		errs = append(errs, c.Sedge.Close())
	}
	if c.Alder != nil {
		errs = append(errs, c.Alder.Close())
	}
	return errors.Join(errs...)
}
