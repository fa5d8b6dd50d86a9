package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"net/smtp"
	"strings"
	"time"
	"unicode"

	"deftheron/contract"
	"deftheron/service/records"
)

// post tells a webhook, signed as of RFC 9421 with HMAC-SHA256 (section 3.3.3), over
// the method, the URL, the type and the digest (RFC 9530) of what is told.
func (n *Notifications) post(ctx context.Context, k kept, target string, payload []byte) error {
	secret, err := n.sealer.Open("notices "+target, k.Secrets[target])
	if err != nil {
		return fmt.Errorf("the secret of the webhook cannot be read: %w", err)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(payload))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", "deft-heron")
	Sign(request, payload, secret, time.Now())
	response, err := n.client.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(response.Body, 64<<10))
	if response.StatusCode < 200 || response.StatusCode > 299 {
		return fmt.Errorf("the webhook answered %s", response.Status)
	}
	return nil
}

// Sign adds a digest and a signature to a request.
func Sign(request *http.Request, payload, secret []byte, at time.Time) {
	sum := sha256.Sum256(payload)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	request.Header.Set("Content-Digest", digest)
	parameters := fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="heron";alg="hmac-sha256"`, at.Unix())
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		request.Method, request.URL.String(), request.Header.Get("Content-Type"), digest, parameters)
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(base))
	request.Header.Set("Signature-Input", "heron="+parameters)
	request.Header.Set("Signature", "heron=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}

// mailTime is how long a mail server may take.
const mailTime = 30 * time.Second

// mail sends letters as one message.
func (n *Notifications) mail(k kept, letters []records.Notification) error {
	if k.Email == nil {
		return fmt.Errorf("no mail is set up any more")
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
	return deliver(*k.Email, password, message)
}

// message is one of RFC 5322.
func message(m contract.NotifyEmail, letters []records.Notification) ([]byte, error) {
	subject, text := letters[0].Subject, letters[0].Text
	if len(letters) > 1 {
		subject = fmt.Sprintf("Deft Heron: %d notifications", len(letters))
		var b strings.Builder
		for _, letter := range letters {
			fmt.Fprintf(&b, "%s\n%s\n%s\n\n", letter.At.Local().Format("2006-01-02 15:04:05"), letter.Subject, letter.Text)
		}
		text = b.String()
	}
	var random [12]byte
	rand.Read(random[:])
	from, err := mail.ParseAddress(m.From)
	if err != nil {
		return nil, err
	}
	var to []string
	for _, text := range m.To { // as parsed, so that nothing else gets into the header
		one, err := mail.ParseAddress(text)
		if err != nil {
			return nil, fmt.Errorf("%q is not a mail address: %w", text, err)
		}
		to = append(to, one.String())
	}
	_, domain, _ := strings.Cut(from.Address, "@")
	var b bytes.Buffer
	header := func(name, value string) { fmt.Fprintf(&b, "%s: %s\r\n", name, value) }
	header("From", from.String())
	header("To", strings.Join(to, ", "))
	header("Subject", mime.QEncoding.Encode("utf-8", oneLine(subject)))
	header("Date", time.Now().Format(time.RFC1123Z))
	header("Message-ID", "<"+hex.EncodeToString(random[:])+"@"+domain+">")
	header("Auto-Submitted", "auto-generated") // RFC 3834
	header("MIME-Version", "1.0")
	header("Content-Type", `text/plain; charset="utf-8"`)
	header("Content-Transfer-Encoding", "quoted-printable")
	b.WriteString("\r\n")
	body := quotedprintable.NewWriter(&b)
	if _, err := io.WriteString(body, strings.ReplaceAll(strings.TrimSpace(text)+"\n", "\n", "\r\n")); err != nil {
		return nil, err
	}
	return b.Bytes(), body.Close()
}

// oneLine is a text without control characters, which would end a header.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "\uFFFD"))
}

// deliver hands a message to a mail server (RFC 5321).
func deliver(m contract.NotifyEmail, password string, message []byte) error {
	host, _, _ := net.SplitHostPort(m.Server)
	settings := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	dialer := &net.Dialer{Timeout: mailTime}
	connection, err := dialer.Dial("tcp", m.Server)
	if err != nil {
		return err
	}
	defer connection.Close()
	if err := connection.SetDeadline(time.Now().Add(mailTime)); err != nil {
		return err
	}
	if m.TLS == "implicit" {
		connection = tls.Client(connection, settings)
	}
	client, err := smtp.NewClient(connection, host)
	if err != nil {
		return fmt.Errorf("the mail server does not answer as one: %w", err)
	}
	defer client.Close()
	if m.TLS == "" || m.TLS == "starttls" {
		if err := client.StartTLS(settings); err != nil {
			return fmt.Errorf("the mail server does not encrypt: %w", err)
		}
	}
	if m.User != "" {
		if err := client.Auth(smtp.PlainAuth("", m.User, password, host)); err != nil {
			return fmt.Errorf("the mail server does not accept the sign-in: %w", err)
		}
	}
	from, err := mail.ParseAddress(m.From)
	if err != nil {
		return err
	}
	if err := client.Mail(from.Address); err != nil {
		return err
	}
	for _, to := range m.To {
		address, err := mail.ParseAddress(to)
		if err != nil {
			return err
		}
		if err := client.Rcpt(address.Address); err != nil {
			return fmt.Errorf("the mail server refuses %s: %w", to, err)
		}
	}
	writer, err := client.Data()
	if err != nil {
		return err
	}
	if _, err := writer.Write(message); err != nil {
		return err
	}
	if err := writer.Close(); err != nil {
		return err
	}
	return client.Quit()
}
