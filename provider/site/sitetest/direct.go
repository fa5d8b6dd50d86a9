// Package sitetest has what tests of sites share: workers in the same process.
package sitetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"deftheron/core/store"
	"deftheron/provider/site"
)

// Open returns a store as it is at a site, whose workers have opened the one that s returns of each.
func Open(ctx context.Context, workers int, s func(worker string) store.Store) (store.Store, *Direct, error) {
	d := &Direct{Hosts: map[string]*site.Host{}}
	for i := range workers {
		worker := fmt.Sprint("worker ", i)
		d.Hosts[worker] = &site.Host{Open: func(context.Context, site.ToOpen) (store.Store, error) { return s(worker), nil }}
	}
	opened, err := site.Open(ctx, d, "memory", site.Opening{ID: "account", Generation: "1"})
	return opened, d, err
}

// Direct carries requests to hosts in the same process, through pipes.
type Direct struct {
	// Hosts are the workers, by their ids.
	Hosts map[string]*site.Host
	// Lose has answers be lost, whose requests were carried out.
	Lose atomic.Bool

	mu    sync.Mutex
	calls int
}

// Seal implements site.Caller.
func (d *Direct) Seal(_ context.Context, worker string, secret []byte) ([]byte, error) {
	return append([]byte(worker+":"), secret...), nil
}

// Call implements site.Caller. Without a worker, they take turns.
func (d *Direct) Call(ctx context.Context, call site.Call) (io.ReadCloser, string, error) {
	d.mu.Lock()
	d.calls++
	number, worker := d.calls, call.Worker
	d.mu.Unlock()
	if len(d.Hosts) == 0 {
		return nil, "", site.ErrOffline
	}
	if worker == "" {
		worker = slices.Sorted(maps.Keys(d.Hosts))[number%len(d.Hosts)]
	}
	ctx, cancel := context.WithCancel(ctx)
	reader, writer := io.Pipe()
	var sending sync.WaitGroup
	asked := site.Asked{Request: call.Request, Content: func(context.Context) (io.ReadCloser, error) {
		content, source := io.Pipe()
		sending.Go(func() { source.CloseWithError(call.Content(ctx, source)) })
		return content, nil
	}}
	go func() {
		if d.Lose.Load() {
			writer.CloseWithError(errors.Join(io.ErrUnexpectedEOF, d.Hosts[worker].Answer(ctx, asked, nowhere{io.Discard})))
			return
		}
		writer.CloseWithError(d.Hosts[worker].Answer(ctx, asked, pipeAnswer{writer}))
	}()
	return &directAnswer{reader, func() { cancel(); sending.Wait() }}, worker, nil
}

type pipeAnswer struct{ *io.PipeWriter }

func (pipeAnswer) Stream() {}

type nowhere struct{ io.Writer }

func (nowhere) Stream() {}

type directAnswer struct {
	*io.PipeReader
	end func()
}

func (a *directAnswer) Close() error {
	a.end()
	return a.PipeReader.Close()
}
