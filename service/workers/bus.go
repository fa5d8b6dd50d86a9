package workers

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"deftheron/provider/site"
)

// bus is the message server that the service embeds. It listens at no address: the service is a
// client in the same process, and each worker comes through a connection to the service.
type bus struct {
	server *server.Server
	client *nats.Conn
}

const (
	// mostWaiting is how many bytes may wait for a worker that does not take them.
	mostWaiting = 16 << 20
	// pingEvery is how often a connection is tried; it is lost after two pings without an answer.
	pingEvery = 10 * time.Second
	// lastWords is how long a worker may take to read the last that the message server sent to it.
	lastWords = 5 * time.Second
)

// startBus starts the server and connects the service to it.
func startBus(w *Workers) (*bus, error) {
	own, err := nkeys.CreateUser()
	if err != nil {
		return nil, fmt.Errorf("make a key for the service: %w", err)
	}
	key, err := own.PublicKey()
	if err != nil {
		return nil, fmt.Errorf("make a key for the service: %w", err)
	}
	options := &server.Options{
		ServerName: "heron", DontListen: true, NoSigs: true, NoLog: true, NoSystemAccount: true, AlwaysEnableNonce: true,
		MaxPayload: site.MostMessage, MaxPending: mostWaiting, AuthTimeout: 10, PingInterval: pingEvery, MaxPingsOut: 2,
		CustomClientAuthentication: &authentication{workers: w, own: key},
	}
	started, err := server.NewServer(options)
	if err != nil {
		return nil, fmt.Errorf("start the message server: %w", err)
	}
	go started.Start()
	if !started.ReadyForConnections(10 * time.Second) {
		started.Shutdown()
		return nil, errors.New("the message server did not start in 10 s")
	}
	b := &bus{server: started}
	b.client, err = nats.Connect("", nats.InProcessServer(started), nats.Nkey(key, own.Sign), nats.MaxReconnects(-1),
		nats.ReconnectWait(100*time.Millisecond))
	if err == nil {
		err = w.subscribe(b.client)
	}
	if err != nil {
		b.close()
		return nil, fmt.Errorf("connect to the message server: %w", err)
	}
	return b, nil
}

func (b *bus) close() {
	if b.client != nil {
		b.client.Close()
	}
	b.server.Shutdown()
	b.server.WaitForShutdown()
}

// cutOff ends the connections of a worker.
func (b *bus) cutOff(worker string) {
	shown, err := b.server.Connz(&server.ConnzOptions{Username: true, Limit: 10_000})
	if err != nil {
		return
	}
	for _, one := range shown.Conns {
		if one.AuthorizedUser == worker {
			_ = b.server.DisconnectClientByID(one.Cid)
		}
	}
}

// authentication lets in the service, and workers by their keys as they are in the records.
type authentication struct {
	workers *Workers
	own     string
}

// Check implements server.Authentication: whoever signs the nonce with a key that is known.
func (a *authentication) Check(client server.ClientAuthentication) bool {
	given := client.GetOpts()
	public, err := nkeys.FromPublicKey(given.Nkey)
	if err != nil {
		return false
	}
	signature, err := base64.RawURLEncoding.DecodeString(given.Sig)
	if err != nil || len(client.GetNonce()) == 0 || public.Verify(client.GetNonce(), signature) != nil {
		return false
	}
	if given.Nkey == a.own {
		client.RegisterUser(&server.User{Username: "service"})
		return true
	}
	ctx, cancel := context.WithTimeout(a.workers.ctx, 5*time.Second)
	defer cancel()
	row, err := a.workers.db.WorkerByKey(ctx, given.Nkey)
	if err != nil {
		return false
	}
	requests := site.RequestSubject(row.ID)
	client.RegisterUser(&server.User{Username: row.ID, Permissions: &server.Permissions{
		Publish:   &server.SubjectPermission{Allow: []string{site.FromSubject(row.ID, "*"), site.AnswerSubject("*")}},
		Subscribe: &server.SubjectPermission{Allow: []string{requests, requests + ".>", site.InboxPrefix(row.ID) + ".>"}},
	}})
	return true
}

// subscribe has the service hear its workers.
func (w *Workers) subscribe(client *nats.Conn) error {
	_, alive := client.Subscribe(site.FromSubject("*", site.SaysAlive), func(message *nats.Msg) {
		if said, err := site.Decode[site.Alive](message.Data); err == nil {
			w.alive(senderOf(message.Subject), said)
		}
	})
	_, secret := client.Subscribe(site.FromSubject("*", site.SaysSecret), func(message *nats.Msg) {
		_ = message.Respond(site.Encode(site.Refused(w.saveSecret(senderOf(message.Subject), message.Data))))
	})
	_, tokens := client.Subscribe(site.FromSubject("*", site.SaysToken), func(message *nats.Msg) {
		w.group.Go(func() { // it may have to be renewed first
			_ = message.Respond(site.Encode(w.token(senderOf(message.Subject), message.Data)))
		})
	})
	_, loans := client.Subscribe(site.FromSubject("*", site.SaysLoan), func(message *nats.Msg) {
		_ = message.Respond(site.Encode(w.loan(message)))
	})
	_, pays := client.Subscribe(site.FromSubject("*", site.SaysPay), func(message *nats.Msg) {
		w.group.Go(func() { // it may have to wait
			paid, err := w.pay(senderOf(message.Subject), message.Data)
			if err != nil {
				paid = site.PayRefused(err)
			}
			_ = message.Respond(site.Encode(paid))
		})
	})
	_, answers := client.Subscribe(site.AnswerSubject("*"), func(message *nats.Msg) {
		w.answered(strings.TrimPrefix(message.Subject, site.AnswerSubject("")), message)
	})
	return errors.Join(alive, secret, tokens, loans, pays, answers)
}

// senderOf is the worker that a message is from, by its subject, which is the only one that it may
// use.
func senderOf(subject string) string {
	_, rest, _ := strings.Cut(subject, ".")
	worker, _, _ := strings.Cut(rest, ".")
	return worker
}

// relay is a connection of a worker.
type relay struct {
	connection net.Conn
	from       string
}

// Relay carries the bytes of a connection of a worker to the message server and back, until either
// side ends it. name is how the worker names the connection, and from the address that it comes from.
func (w *Workers) Relay(name, from string, connection net.Conn) error {
	w.mu.Lock()
	started := w.bus
	if started == nil {
		w.mu.Unlock()
		return errors.Join(errors.New("there are no workers"), connection.Close())
	}
	w.relays[name] = &relay{connection, from}
	w.mu.Unlock()
	defer w.gone(name)
	inner, err := started.server.InProcessConn()
	if err != nil {
		return errors.Join(err, connection.Close())
	}
	passed := make(chan struct{})
	go func() {
		defer close(passed)
		_, _ = io.Copy(connection, inner) // however it ends, so does the other direction
		connection.Close()
	}()
	_, _ = io.Copy(inner, connection)
	err = inner.Close()
	select { // the last that the server said is why it refused
	case <-passed:
	case <-time.After(lastWords):
	}
	return errors.Join(err, connection.Close())
}

// mostStrangers is how many connections may be open of which it is not known yet whose they are. One
// that does not sign in ends after ten seconds.
const mostStrangers = 64

// Accepts reports whether another connection may be opened: there are workers, and not too many
// connections of strangers.
func (w *Workers) Accepts() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.bus != nil && len(w.relays)-len(w.there) < mostStrangers
}
