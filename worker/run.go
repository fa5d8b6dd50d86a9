package worker

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"deftheron/contract"
	"deftheron/core/gate"
	"deftheron/core/remedy"
	"deftheron/core/transfer"
	"deftheron/provider/site"
)

const (
	// aliveEvery is how often the service hears that the worker is there.
	aliveEvery = 3 * time.Second
	// mostRequests is how many requests are answered at once; more wait.
	mostRequests = 256
	// dialTime is how long a connection to the service may take.
	dialTime = 20 * time.Second
)

// run is a worker that runs.
type run struct {
	options   Options
	keys      keys
	host      *site.Host
	transport *http.Transport
	client    *http.Client
	bus       *nats.Conn
	turns     chan struct{}
	refused   chan bool // by the service
	answering sync.WaitGroup

	carrier transfer.Carrier

	mu         sync.Mutex
	connection string                        // as the service named it
	cancels    map[string]context.CancelFunc // of requests, by their tokens
	units      int64                         // so far
	carrying   map[int64]context.CancelFunc  // units, by their numbers
	gates      map[string]*gate.Gate         // by the ids of accounts
	purses     map[site.AskPay]*purse
}

// Run works for the service until the context ends. What it was doing is given up then: the service
// asks again.
func Run(ctx context.Context, options Options) error {
	k, err := load(options.Data)
	if err != nil {
		return err
	}
	transport, err := options.transport()
	if err != nil {
		return err
	}
	defer transport.CloseIdleConnections()
	r := &run{options: options, keys: k, transport: transport, client: &http.Client{Transport: transport},
		turns: make(chan struct{}, mostRequests), refused: make(chan bool, 1),
		cancels: map[string]context.CancelFunc{}, carrying: map[int64]context.CancelFunc{}, gates: map[string]*gate.Gate{},
		purses: map[site.AskPay]*purse{},
		carrier: transfer.Carrier{Lanes: make(chan struct{}, cmp.Or(options.Parallel, UsualParallel)), Scratch: options.Scratch,
			Log: options.Log}}
	r.host = &site.Host{Open: r.open, Provider: r.prepare, Carry: r.carry}
	defer r.host.Close()
	working, stop := context.WithCancel(ctx)
	defer stop()
	if err := r.connect(working); err != nil {
		return err
	}
	options.Log.Info("the worker is connected", "worker", k.Name, "site", k.Site, "service", k.URL)
	err = r.sayAlive(working)
	stop()
	r.bus.Close()
	r.answering.Wait()
	return err
}

// connect connects to the service, and stays connected.
func (r *run) connect(ctx context.Context) error {
	user, err := nkeys.FromSeed([]byte(r.keys.Seed))
	if err != nil {
		return remedy.Errorf("the keys of the worker cannot be used (%v); join the service again with heron worker join URL CODE --again", err)
	}
	public, err := user.PublicKey()
	if err != nil {
		return err
	}
	refused := func(err error) {
		if errors.Is(err, nats.ErrAuthorization) {
			select {
			case r.refused <- true:
			default:
			}
		}
	}
	var first atomic.Bool // attempt that failed, of those before a connection
	first.Store(true)
	bus, err := nats.Connect("nats://service", nats.SetCustomDialer(&dialer{r, ctx}), nats.Nkey(public, user.Sign), nats.Name(r.keys.Name),
		nats.CustomInboxPrefix(site.InboxPrefix(r.keys.ID)), nats.IgnoreDiscoveredServers(), nats.MaxReconnects(-1),
		nats.ReconnectWait(time.Second), nats.ReconnectJitter(time.Second, time.Second), nats.RetryOnFailedConnect(true),
		nats.Timeout(dialTime), nats.PingInterval(10*time.Second), nats.MaxPingsOutstanding(2), nats.ReconnectBufSize(-1),
		nats.IgnoreAuthErrorAbort(),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			r.disconnected()
			r.options.Log.Info("the connection to the service ended", "error", err)
		}),
		nats.ReconnectHandler(func(*nats.Conn) {
			first.Store(true)
			r.options.Log.Info("the worker is connected again")
		}),
		nats.ReconnectErrHandler(func(_ *nats.Conn, err error) {
			refused(err)
			r.options.Log.Debug("the service cannot be reached", "error", err)
			if first.CompareAndSwap(true, false) {
				r.options.Log.Warn("the service cannot be reached; trying again until it can", "service", r.keys.URL, "error", err)
			}
		}),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			refused(err)
			r.options.Log.Debug("an error of the connection", "error", err)
		}))
	if err != nil {
		return fmt.Errorf("connect to the service: %w", err)
	}
	r.bus = bus
	_, err = bus.Subscribe(site.RequestSubject(r.keys.ID), func(message *nats.Msg) { r.take(ctx, message) })
	if err == nil {
		_, err = bus.Subscribe(site.RequestSubject(r.keys.ID)+site.CancelSuffix, func(message *nats.Msg) { r.cancel(string(message.Data)) })
	}
	for err == nil && !bus.IsConnected() {
		// Until it was connected once, the library reports the first error alone.
		refused(bus.LastError())
		select {
		case <-ctx.Done():
			bus.Close()
			return ctx.Err()
		case <-r.refused:
			bus.Close()
			return r.unknown()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return err
}

// unknown is the error of a worker that was removed, or joined on another machine.
func (r *run) unknown() error {
	return remedy.Errorf("the service does not know the worker %s any more; join it again with heron worker join URL CODE --again",
		r.keys.Name)
}

// dialer dials the service for messages.
type dialer struct {
	run *run
	ctx context.Context
}

// Dial implements nats.CustomDialer.
func (d *dialer) Dial(string, string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(d.ctx, dialTime)
	defer cancel()
	connection, answer, err := websocket.Dial(ctx, d.run.keys.URL+contract.WorkerConnectPath, &websocket.DialOptions{
		HTTPClient: d.run.client, CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		if answer != nil && answer.Body != nil {
			err = fmt.Errorf("%w: %s", err, readAll(answer.Body))
		}
		return nil, err
	}
	connection.SetReadLimit(site.MostMessage + 64<<10)
	d.run.mu.Lock()
	d.run.connection = answer.Header.Get(site.ConnectionHeader)
	d.run.mu.Unlock()
	return websocket.NetConn(d.ctx, connection, websocket.MessageBinary), nil
}

// sayAlive says what the worker is, until the context ends, or the service does not know it any more.
func (r *run) sayAlive(ctx context.Context) error {
	ticker := time.NewTicker(aliveEvery)
	defer ticker.Stop()
	for {
		r.mu.Lock()
		connection, requests := r.connection, slices.Collect(maps.Keys(r.cancels))
		r.mu.Unlock()
		said := site.Alive{Version: r.options.Version, Protocol: site.Protocol, System: runtime.GOOS + "/" + runtime.GOARCH,
			Connection: connection, Requests: requests, Load: loadAverage(),
			Processors: runtime.NumCPU(), Memory: privateMemory(), Lanes: cap(r.carrier.Lanes)}
		if r.bus.IsConnected() {
			_ = r.bus.Publish(site.FromSubject(r.keys.ID, site.SaysAlive), site.Encode(said))
		}
		select {
		case <-ctx.Done():
			return nil
		case <-r.refused:
			return r.unknown()
		case <-ticker.C:
			r.host.CloseUnused()
		}
	}
}

// take answers a request.
func (r *run) take(ctx context.Context, message *nats.Msg) {
	asked, err := site.Decode[site.Message](message.Data)
	if err != nil {
		r.options.Log.Warn("a request cannot be read", "error", err)
		return
	}
	ctx, cancel := context.WithCancel(ctx)
	r.mu.Lock()
	r.cancels[asked.Token] = cancel
	r.mu.Unlock()
	r.answering.Go(func() {
		defer r.cancel(asked.Token)
		select {
		case r.turns <- struct{}{}:
			defer func() { <-r.turns }()
		case <-ctx.Done():
			return
		}
		out := &answer{run: r, ctx: ctx, token: asked.Token, message: message}
		err := r.host.Answer(ctx, site.Asked{Request: asked.Request, Content: func(ctx context.Context) (io.ReadCloser, error) {
			return r.content(ctx, asked.Token)
		}}, out)
		if err = out.end(err); err != nil && ctx.Err() == nil {
			r.options.Log.Debug("an answer was not taken", "error", err)
		}
	})
}

// cancel gives a request up.
func (r *run) cancel(token string) {
	r.mu.Lock()
	cancel := r.cancels[token]
	delete(r.cancels, token)
	r.mu.Unlock()
	if cancel != nil {
		cancel()
	}
}

// content opens the content that comes with a request.
func (r *run) content(ctx context.Context, token string) (io.ReadCloser, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, r.keys.URL+contract.WorkerContentPath, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := r.client.Do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the service gave no content: %s: %s", response.Status, readAll(response.Body))
	}
	return response.Body, nil
}

// answer is the answer to a request: a message if it is small, else a stream.
type answer struct {
	run     *run
	ctx     context.Context
	token   string
	message *nats.Msg
	small   bytes.Buffer
	stream  *handoff // nil until it is one
	sent    chan error
}

// Stream implements site.Answer.
func (a *answer) Stream() {
	if a.stream != nil {
		return
	}
	a.stream, a.sent = newHandoff(), make(chan error, 1)
	go func() {
		err := a.run.send(a.ctx, a.token, a.stream)
		a.stream.Break(cause(err))
		a.sent <- err
	}()
}

// cause is an error that is not nil.
func cause(err error) error {
	if err == nil {
		return io.ErrClosedPipe
	}
	return err
}

// Write implements io.Writer.
func (a *answer) Write(p []byte) (int, error) {
	if a.stream == nil && a.small.Len()+len(p) <= site.SmallAnswer {
		return a.small.Write(p)
	}
	a.Stream()
	if a.small.Len() > 0 {
		if _, err := a.stream.Write(a.small.Bytes()); err != nil {
			return 0, err
		}
		a.small.Reset()
	}
	return a.stream.Write(p)
}

// end sends what is left, and returns when the service has taken it.
func (a *answer) end(err error) error {
	if a.stream == nil {
		if err == nil {
			err = a.message.Respond(a.small.Bytes())
		}
		return err
	}
	a.stream.CloseWithError(err) // nil is the end
	return <-a.sent
}

// send sends an answer as a stream.
func (r *run) send(ctx context.Context, token string, body io.Reader) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, r.keys.URL+contract.WorkerAnswerPath, body)
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Content-Type", "application/octet-stream")
	response, err := r.client.Do(request)
	if err != nil {
		return err
	}
	if text := readAll(response.Body); response.StatusCode != http.StatusNoContent {
		return fmt.Errorf("the service did not take the answer: %s: %s", response.Status, text)
	}
	return nil
}

// loadAverage returns the load average of the last minute; 0 if the system does not report it.
func loadAverage() float64 {
	text, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return 0
	}
	first, _, _ := strings.Cut(string(text), " ")
	load, _ := strconv.ParseFloat(first, 64)
	return load
}

// privateMemory returns the private memory of the process in bytes; 0 if the system does not report it.
func privateMemory() int64 {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), "RssAnon:")
	var kib int64
	_, _ = fmt.Sscan(rest, &kib)
	return kib << 10
}
