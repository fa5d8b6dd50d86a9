package notify

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/wneessen/go-mail"

	"deftheron/contract"
	"deftheron/service/records"
)

// mailTime is how long a mail server may take.
const mailTime = 30 * time.Second

// mail sends letters as one message.
func (n *Notifications) mail(ctx context.Context, k kept, letters []records.Notification) error {
	if k.Email == nil {
		return errors.New("email is turned off")
	}
	password := ""
	if len(k.Password) > 0 {
		opened, err := n.sealer.Open("notices mail", k.Password)
		if err != nil {
			return fmt.Errorf("the password of the mail server cannot be read: %w", err)
		}
		password = string(opened)
	}
	message, err := message(*k.Email, letters)
	if err != nil {
		return err
	}
	return deliver(ctx, *k.Email, password, message, nil)
}

// message puts letters into one message (RFC 5322). Nothing that it is made of gets into
// another header than its own.
func message(m contract.NotifyEmail, letters []records.Notification) (*mail.Msg, error) {
	subject, text := letters[0].Subject, letters[0].Text
	if len(letters) > 1 {
		subject = fmt.Sprintf("Deft Heron: %d notifications", len(letters))
		var b strings.Builder
		for _, letter := range letters {
			fmt.Fprintf(&b, "%s\n%s\n%s\n\n", letter.At.Local().Format("2006-01-02 15:04:05"), letter.Subject, letter.Text)
		}
		text = b.String()
	}
	from, err := netmail.ParseAddress(m.From)
	if err != nil {
		return nil, fmt.Errorf("the sender %q is not a mail address: %w", m.From, err)
	}
	message := mail.NewMsg(mail.WithNoDefaultUserAgent())
	message.FromMailAddress(from)
	for _, text := range m.To {
		to, err := netmail.ParseAddress(text)
		if err != nil {
			return nil, fmt.Errorf("the recipient %q is not a mail address: %w", text, err)
		}
		message.AddToMailAddress(to)
	}
	_, domain, _ := strings.Cut(from.Address, "@")
	message.Subject(oneLine(subject))
	message.SetDate()
	message.SetMessageIDWithValue(fmt.Sprintf("%d.%d@%s", time.Now().UnixNano(), len(letters), domain))
	message.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	message.SetBodyString(mail.TypeTextPlain, strings.TrimSpace(text)+"\n")
	return message, nil
}

// oneLine returns a text without control characters, which would end a header.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "\uFFFD"))
}

// deliver hands a message to a mail server (RFC 5321), signed in to by the strongest
// mechanism that it offers (RFC 4954). settings, where they are not nil, are those of TLS in
// place of the usual ones.
func deliver(ctx context.Context, m contract.NotifyEmail, password string, message *mail.Msg, settings *tls.Config) error {
	host, portText, err := net.SplitHostPort(m.Server)
	if err != nil {
		return fmt.Errorf("the mail server %q is not a HOST:PORT: %w", m.Server, err)
	}
	port, err := net.LookupPort("tcp", portText)
	if err != nil {
		return fmt.Errorf("the mail server %q has no such port: %w", m.Server, err)
	}
	if settings == nil {
		settings = &tls.Config{}
	}
	settings.ServerName, settings.MinVersion = host, tls.VersionTLS12
	ctx, cancel := context.WithTimeout(ctx, mailTime)
	defer cancel()
	options := []mail.Option{mail.WithPort(port), mail.WithTLSConfig(settings)}
	switch m.TLS {
	case "implicit":
		options = append(options, mail.WithDialContextFunc(dialer(ctx, settings)), mail.WithTLSPolicy(mail.TLSOpportunistic))
	case "none":
		options = append(options, mail.WithDialContextFunc(dialer(ctx, nil)), mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithDialContextFunc(dialer(ctx, nil)), mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if m.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.User), mail.WithPassword(password))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return fmt.Errorf("the mail server %s cannot be used: %w", net.JoinHostPort(host, strconv.Itoa(port)), err)
	}
	return client.DialAndSendWithContext(ctx, message)
}

// dialer returns what opens a connection, encrypted from the start where settings are given,
// that breaks off when all ends: a server that says nothing is not waited for.
func dialer(all context.Context, settings *tls.Config) mail.DialContextFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		connection, err := (&net.Dialer{}).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		context.AfterFunc(all, func() { _ = connection.Close() })
		if settings == nil {
			return connection, nil
		}
		encrypted := tls.Client(connection, settings)
		if err := encrypted.HandshakeContext(ctx); err != nil {
			_ = connection.Close()
			return nil, err
		}
		return encrypted, nil
	}
}
