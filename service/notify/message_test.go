package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"deftheron/contract"
	"deftheron/service/records"
)

// TestHeadersOfMailAreOurs puts line ends and more into all that a mail is made of: its
// headers stay those that we write.
func TestHeadersOfMailAreOurs(t *testing.T) {
	evil := "a job\r\nBcc: thief@example.org\r\n\r\nanother body\x00\x1b[2J\u2028 \xff"
	settings := contract.NotifyEmail{Server: "mail.example.org:587", From: "\"x\r\n Bcc: thief@example.org\" <heron@example.org>",
		To: []string{"first@example.org", "\"a\r\n\tBcc: thief@example.org\" <second@example.org>"}}
	for _, letters := range [][]records.Notification{
		{{At: time.Now(), Subject: evil, Text: evil}},
		{{At: time.Now(), Subject: evil, Text: evil}, {At: time.Now(), Subject: evil, Text: evil}},
	} {
		made, err := message(settings, letters)
		if err != nil {
			t.Logf("refused: %v", err) // which is as good
			settings.From, settings.To = "heron@example.org", settings.To[:1]
			if made, err = message(settings, letters); err != nil {
				t.Fatal(err)
			}
		}
		var written bytes.Buffer
		if _, err := made.WriteTo(&written); err != nil {
			t.Fatal(err)
		}
		text := written.Bytes()
		parsed, err := mail.ReadMessage(&written)
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		for name := range parsed.Header {
			if !strings.Contains(" From To Subject Date Message-Id Auto-Submitted Mime-Version Content-Type Content-Transfer-Encoding ",
				" "+name+" ") {
				t.Errorf("the header %s was put in:\n%s", name, text)
			}
		}
		head, _, _ := strings.Cut(string(text), "\r\n\r\n")
		if strings.ContainsAny(head, "\x00\x1b") {
			t.Errorf("control characters in the headers: %q", head)
		}
		if _, err := io.ReadAll(parsed.Body); err != nil {
			t.Error(err)
		}
	}
}

// mailbox takes letters in from those who sign in by one mechanism.
type mailbox struct {
	mechanism string
	letters   chan string
	signed    bool
}

func (b *mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return b, nil }
func (b *mailbox) Mail(string, *smtp.MailOptions) error {
	if !b.signed {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (b *mailbox) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (b *mailbox) Reset()                               {}
func (b *mailbox) Logout() error                        { return nil }
func (b *mailbox) AuthMechanisms() []string             { return []string{b.mechanism} }
func (b *mailbox) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	b.letters <- string(text)
	return err
}

func (b *mailbox) Auth(string) (sasl.Server, error) { return &signingIn{box: b}, nil }

// signingIn is the server's part of PLAIN (RFC 4616), LOGIN, or CRAM-MD5 (RFC 2195).
type signingIn struct {
	box  *mailbox
	step int
}

const challenge = "<1896.697170952@mail.example.org>"

func (s *signingIn) Next(response []byte) (question []byte, done bool, err error) {
	s.step++
	right := false
	switch s.box.mechanism + fmt.Sprint(s.step) {
	case "PLAIN1":
		right = string(response) == "\x00the-desk\x00secret"
	case "LOGIN1":
		return []byte("Username:"), false, nil
	case "LOGIN2":
		if string(response) == "the-desk" {
			return []byte("Password:"), false, nil
		}
	case "LOGIN3":
		right = string(response) == "secret"
	case "CRAM-MD51":
		return []byte(challenge), false, nil
	case "CRAM-MD52":
		mac := hmac.New(md5.New, []byte("secret"))
		mac.Write([]byte(challenge))
		right = string(response) == "the-desk "+hex.EncodeToString(mac.Sum(nil))
	}
	if !right {
		return nil, true, smtp.ErrAuthFailed
	}
	s.box.signed = true
	return nil, true, nil
}

// TestSignInToMailServer delivers a letter to servers that accept one mechanism each, over
// STARTTLS and over TLS from the start; a wrong password is refused, and so is a server that
// does not encrypt.
func TestSignInToMailServer(t *testing.T) {
	lent := httptest.NewTLSServer(nil) // for its certificate
	defer lent.Close()
	roots := lent.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs
	for _, mechanism := range []string{"PLAIN", "LOGIN", "CRAM-MD5"} {
		for _, encryption := range []string{"starttls", "implicit"} {
			t.Run(mechanism+" "+encryption, func(t *testing.T) {
				box := &mailbox{mechanism: mechanism, letters: make(chan string, 1)}
				server := smtp.NewServer(box)
				server.Domain = "mail.example.org"
				server.TLSConfig = &tls.Config{Certificates: lent.TLS.Certificates}
				listener, err := net.Listen("tcp", "127.0.0.1:0")
				if err != nil {
					t.Fatal(err)
				}
				address := listener.Addr().String()
				if encryption == "implicit" {
					listener = tls.NewListener(listener, server.TLSConfig)
				}
				served := make(chan struct{})
				go func() { defer close(served); _ = server.Serve(listener) }()
				t.Cleanup(func() { _ = server.Close(); <-served })

				settings := contract.NotifyEmail{Server: address, TLS: encryption, User: "the-desk", From: "heron@example.org",
					To: []string{"first@example.org"}}
				letter := []records.Notification{{At: time.Now(), Subject: "Grüße", Text: "Füße"}}
				send := func(within time.Duration, password string) error {
					ctx, cancel := context.WithTimeout(t.Context(), within)
					defer cancel()
					made, err := message(settings, letter)
					if err != nil {
						t.Fatal(err)
					}
					return deliver(ctx, settings, password, made, &tls.Config{RootCAs: roots})
				}
				if err := send(mailTime, "wrong"); err == nil {
					t.Error("a wrong password was accepted")
				}
				if err := send(mailTime, "secret"); err != nil {
					t.Fatal(err)
				}
				if got := <-box.letters; !strings.Contains(got, "Subject: =?UTF-8?q?Gr=C3=BC=C3=9Fe?=") || !strings.Contains(got, "F=C3=BC=C3=9Fe") {
					t.Errorf("it came as:\n%s", got)
				}
				settings.TLS = map[string]string{"starttls": "implicit", "implicit": "starttls"}[encryption]
				if err := send(200*time.Millisecond, "secret"); err == nil {
					t.Errorf("sent by %s, which the server does not speak", settings.TLS)
				}
			})
		}
	}
}
