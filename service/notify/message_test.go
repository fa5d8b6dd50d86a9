package notify

import (
	"bytes"
	"io"
	"net/mail"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/service/records"
)

// TestHeadersOfMailAreOurs puts line ends and more into all that a mail is made of: its
// headers stay those that we write.
func TestHeadersOfMailAreOurs(t *testing.T) {
	evil := "a job\r\nBcc: thief@example.org\r\n\r\nanother body\x00\x1b[2J\u2028 \xff"
	settings := contract.NotifyEmail{Server: "mail.example.org:587", From: "\"x\r\n Bcc: thief@example.org\" <heron@example.org>", To: []string{"first@example.org", "\"a\r\n\tBcc: thief@example.org\" <second@example.org>"}}
	for _, letters := range [][]records.Notification{
		{{At: time.Now(), Subject: evil, Text: evil}},
		{{At: time.Now(), Subject: evil, Text: evil}, {At: time.Now(), Subject: evil, Text: evil}},
	} {
		text, err := message(settings, letters)
		if err != nil {
			t.Logf("refused: %v", err) // which is as good
			settings.From, settings.To = "heron@example.org", settings.To[:1]
			if text, err = message(settings, letters); err != nil {
				t.Fatal(err)
			}
		}
		parsed, err := mail.ReadMessage(bytes.NewReader(text))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		for name := range parsed.Header {
			if !strings.Contains(" From To Subject Date Message-Id Auto-Submitted Mime-Version Content-Type Content-Transfer-Encoding ", " "+name+" ") {
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
