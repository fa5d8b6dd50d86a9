package sftp

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// handshakeTime bounds the handshake and the sign-in.
const handshakeTime = 20 * time.Second

// target is a server and how to sign in there.
type target struct {
	address string
	user    string
	auth    func() ([]ssh.AuthMethod, error)
	how     string // what it signs in with, in words
	dial    func(ctx context.Context, network, address string) (net.Conn, error)

	mu   sync.Mutex
	want *hostKey // nil until one was learned
}

func newTarget(address string, opening store.Opening) *target {
	t := &target{address: address, user: opening.Options["user"], dial: opening.Dial}
	if t.dial == nil {
		t.dial = (&net.Dialer{Timeout: handshakeTime}).DialContext
	}
	return t
}

// errIntroduced ends a handshake once the host key is known.
var errIntroduced = errors.New("the host key is known")

// introduce learns the host key, without signing in.
func (t *target) introduce(ctx context.Context) (key hostKey, err error) {
	t.auth = func() ([]ssh.AuthMethod, error) { return nil, nil }
	_, err = t.handshake(ctx, kindsOfKeys(), func(_ string, _ net.Addr, shown ssh.PublicKey) error {
		key = hostKey{kind: shown.Type(), fingerprint: ssh.FingerprintSHA256(shown)}
		return errIntroduced
	})
	if key.fingerprint != "" {
		return key, nil
	}
	return key, t.explain(ctx, err)
}

func targetOf(ctx context.Context, opening store.Opening) (*target, error) {
	_, address, err := fileserver.Address(opening.Options)
	if err != nil {
		return nil, err
	}
	t := newTarget(address, opening)
	if given := opening.Options["host-key"]; given != "" {
		if t.want, err = parseHostKey(given); err != nil {
			return nil, err
		}
	}
	load := func() (store.Credential, error) {
		sealed, err := opening.Secrets.Load(ctx)
		if err != nil {
			return store.Credential{}, err
		}
		return store.ParseCredential(sealed)
	}
	credential, err := load()
	var missing *store.OptionError
	if err != nil && !errors.As(err, &missing) { // what is missing is said below
		return nil, err
	}
	secret := strings.TrimRight(credential.Secret, "\r\n")
	if pem := credential.Files["key-file"]; pem != "" {
		signer, err := signerOf(pem, secret)
		if err != nil {
			return nil, err
		}
		t.how = "this key (" + ssh.FingerprintSHA256(signer.PublicKey()) + ")"
		t.auth = func() ([]ssh.AuthMethod, error) { return []ssh.AuthMethod{ssh.PublicKeys(signer)}, nil }
		return t, nil
	}
	if secret == "" {
		return nil, &store.OptionError{Option: "secret-file",
			Reason: "the password is missing; give it, or a private key in its place"}
	}
	t.how = "this password"
	t.auth = func() ([]ssh.AuthMethod, error) {
		answer := func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = secret
			}
			return answers, nil
		}
		return []ssh.AuthMethod{ssh.Password(secret), ssh.KeyboardInteractive(answer)}, nil
	}
	return t, nil
}

// signerOf reads a private key, opening it with its passphrase where it has one.
func signerOf(pem, passphrase string) (ssh.Signer, error) {
	signer, err := ssh.ParsePrivateKey([]byte(pem))
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		if passphrase == "" {
			return nil, &store.OptionError{Option: "secret-file",
				Reason: "the private key is locked with a passphrase, which is missing"}
		}
		signer, err = ssh.ParsePrivateKeyWithPassphrase([]byte(pem), []byte(passphrase))
		if errors.Is(err, x509.IncorrectPasswordError) {
			return nil, &store.OptionError{Option: "secret-file", Reason: "the passphrase does not open the private key; give the right one"}
		}
	}
	if err != nil {
		return nil, &store.OptionError{Option: "key-file",
			Reason: fmt.Sprintf("this is not a private key that can be read (%v); give one in the form of OpenSSH or PEM, not the public half of it",
				err)}
	}
	return signer, nil
}

// hostKey is what is known of a server's key: its fingerprint, and its type where
// that was told.
type hostKey struct{ kind, fingerprint string }

func (k hostKey) String() string {
	if k.kind == "" {
		return k.fingerprint
	}
	return k.kind + " " + k.fingerprint
}

// parseHostKey reads a fingerprint, with its type before it or not, or a public
// key, with its host before it or not.
func parseHostKey(text string) (*hostKey, error) {
	fields := strings.Fields(text)
	for i, field := range fields {
		if strings.HasPrefix(field, "SHA256:") && len(field) == len("SHA256:")+43 {
			key := &hostKey{fingerprint: field}
			if i > 0 && slices.Contains(kindsOfKeys(), fields[i-1]) {
				key.kind = fields[i-1]
			}
			return key, nil
		}
	}
	for i := range fields {
		if public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(strings.Join(fields[i:], " "))); err == nil {
			return &hostKey{kind: public.Type(), fingerprint: ssh.FingerprintSHA256(public)}, nil
		}
	}
	return nil, &store.OptionError{Option: "host-key",
		Reason: fmt.Sprintf("%q is not a host key; give its fingerprint, as in SHA256:…, or a line of ssh-keyscan", text)}
}

// algorithms are those of signatures, by the type of key.
var algorithms = map[string][]string{
	ssh.KeyAlgoED25519:  {ssh.KeyAlgoED25519},
	ssh.KeyAlgoECDSA256: {ssh.KeyAlgoECDSA256},
	ssh.KeyAlgoECDSA384: {ssh.KeyAlgoECDSA384},
	ssh.KeyAlgoECDSA521: {ssh.KeyAlgoECDSA521},
	ssh.KeyAlgoRSA:      {ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
}

func kindsOfKeys() []string {
	return []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSA}
}

// learned is the host key as it is pinned.
func (t *target) learned() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.want == nil {
		return ""
	}
	return t.want.String()
}

// hostKeyError is a host key that is another one than the one pinned.
type hostKeyError struct{ found hostKey }

func (e *hostKeyError) Error() string { return "the host key is " + e.found.String() }

// check accepts the key that is pinned, or learns the first.
func (t *target) check(_ string, _ net.Addr, key ssh.PublicKey) error {
	found := hostKey{kind: key.Type(), fingerprint: ssh.FingerprintSHA256(key)}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.want == nil {
		t.want = &found
	}
	if t.want.fingerprint != found.fingerprint {
		return &hostKeyError{found}
	}
	t.want.kind = found.kind
	return nil
}

// connect dials, checks the host key, and signs in.
func (t *target) connect(ctx context.Context) (*ssh.Client, error) {
	t.mu.Lock()
	kinds := kindsOfKeys()
	known := t.want != nil
	if known && t.want.kind != "" {
		kinds = []string{t.want.kind}
	}
	t.mu.Unlock()
	client, err := t.try(ctx, kinds)
	var other *hostKeyError
	if known && errors.As(err, &other) && len(kinds) > 1 {
		// A server has keys of several types; the pinned one may not be of
		// the one that it was asked for first.
		for _, kind := range kinds {
			if kind == other.found.kind {
				continue
			}
			if client, again := t.try(ctx, []string{kind}); again == nil {
				return client, nil
			}
		}
	}
	if known && err != nil && len(kinds) == 1 && strings.Contains(err.Error(), "no common algorithm for host key") {
		// It no longer has one of that type: learn what it shows, to say so.
		_, shown := t.try(ctx, kindsOfKeys())
		if errors.As(shown, &other) {
			err = shown
		}
	}
	return client, t.explain(ctx, err)
}

func (t *target) try(ctx context.Context, kinds []string) (*ssh.Client, error) {
	return t.handshake(ctx, kinds, t.check)
}

func (t *target) handshake(ctx context.Context, kinds []string, check ssh.HostKeyCallback) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	connection, err := t.dial(ctx, "tcp", t.address)
	if err != nil {
		return nil, store.Errorf(store.ErrTryAgain, "%s cannot be reached (%w); check that the server runs, the host and the port",
			t.address, err)
	}
	stop := context.AfterFunc(ctx, func() { connection.Close() })
	defer stop()
	auth, err := t.auth()
	if err != nil {
		connection.Close()
		return nil, err
	}
	config := &ssh.ClientConfig{User: t.user, Auth: auth, HostKeyCallback: check, ClientVersion: "SSH-2.0-DeftHeron"}
	for _, kind := range kinds {
		config.HostKeyAlgorithms = append(config.HostKeyAlgorithms, algorithms[kind]...)
	}
	made, channels, requests, err := ssh.NewClientConn(connection, t.address, config)
	if err != nil {
		connection.Close()
		if ctx.Err() != nil {
			err = store.Errorf(store.ErrTryAgain, "%s did not end its handshake in time: %w", t.address, ctx.Err())
		}
		return nil, err
	}
	return ssh.NewClient(made, channels, requests), nil
}

// explain makes words of what went wrong.
func (t *target) explain(ctx context.Context, err error) error {
	var other *hostKeyError
	switch {
	case err == nil, store.KindOf(err) != nil:
		return err
	case errors.As(err, &other):
		t.mu.Lock()
		defer t.mu.Unlock()
		return store.Concerns(store.Errorf(store.ErrSignInExpired, "%s shows another host key than the one that is pinned: %s in place of %s. "+
			"Somebody may be in between, so nothing was sent; ask who runs it whether the key was changed, and only then accept the "+
			"host key %q",
			t.address, other.found, t.want, other.found.String()), "host-key")
	case strings.Contains(err.Error(), "unable to authenticate"):
		return store.Errorf(store.ErrSignInExpired, "%s does not accept the user %s with %s; check both, and what the server allows", t.address,
			t.user, t.how)
	case ctx.Err() != nil:
		return ctx.Err()
	}
	return store.Errorf(store.ErrTryAgain, "%s does not speak SSH as it should (%w); check the port", t.address, err)
}
