package servertest

import (
	"context"
	"io"
	"net"
	"sync"
	"time"
)

// Distant returns a dialer to servers that seem to be far away: whatever they send
// comes so much later, though as much at once as before.
func Distant(delay time.Duration) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		connection, err := (&net.Dialer{}).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		d := &distant{Conn: connection, arriving: make(chan arrived, 1<<14), closed: make(chan struct{})}
		go d.receive(delay) // ends with the connection
		return d, nil
	}
}

type arrived struct {
	data []byte
	err  error
	due  time.Time
}

type distant struct {
	net.Conn
	arriving chan arrived
	closed   chan struct{}
	closing  sync.Once
	now      arrived
}

func (d *distant) receive(delay time.Duration) {
	for {
		buffer := make([]byte, 64<<10)
		n, err := d.Conn.Read(buffer)
		select {
		case d.arriving <- arrived{buffer[:n], err, time.Now().Add(delay)}:
		case <-d.closed:
			return
		}
		if err != nil {
			return
		}
	}
}

func (d *distant) Read(p []byte) (int, error) {
	for len(d.now.data) == 0 {
		if d.now.err != nil {
			return 0, d.now.err
		}
		select {
		case d.now = <-d.arriving:
		case <-d.closed:
			return 0, io.ErrClosedPipe
		}
		if wait := time.Until(d.now.due); wait > 0 {
			<-time.After(wait)
		}
	}
	n := copy(p, d.now.data)
	d.now.data = d.now.data[n:]
	return n, nil
}

func (d *distant) Close() error {
	d.closing.Do(func() { close(d.closed) })
	return d.Conn.Close()
}
