package contract

import "time"

// Notifications are who is told what, and when.
type Notifications struct {
	Email    *NotifyEmail    `json:"email,omitempty"`
	Webhooks []NotifyWebhook `json:"webhooks"`
	Quiet    string          `json:"quiet,omitempty" doc:"Quiet hours of the week, such as mon-sun 22:00-07:00."`
	Zone     string          `json:"zone,omitempty" doc:"Time zone of the hours; the service's own unless given."`
	Digest   string          `json:"digest,omitempty" doc:"Interval of email digests, such as 1h; none unless given."`
}

// NotifyEmail is mail by SMTP.
type NotifyEmail struct {
	Server   string   `json:"server" doc:"HOST:PORT."`
	TLS      string   `json:"tls,omitempty" doc:"starttls (the default), implicit or none."`
	User     string   `json:"user,omitempty"`
	Password string   `json:"password,omitempty" doc:"Stored and never returned. Omit it to keep the stored one."`
	From     string   `json:"from"`
	To       []string `json:"to" minItems:"1"`
	On       []string `json:"on,omitempty" doc:"Events: done, partial, failed, held, waits, account; all but done unless given."`
}

// NotifyWebhook is a URL that is told, signed by RFC 9421 with HMAC-SHA256.
type NotifyWebhook struct {
	URL    string   `json:"url"`
	Secret string   `json:"secret,omitempty" doc:"Signing key. Stored and never returned."`
	On     []string `json:"on,omitempty"`
}

// NotifyTest is what became of a word that was sent to try it.
type NotifyTest struct {
	Channels []NotifyTried `json:"channels"`
}

// NotifyTried is one way of them.
type NotifyTried struct {
	Channel string `json:"channel" doc:"mail, or a webhook's URL."`
	Sent    bool   `json:"sent"`
	Why     string `json:"why,omitempty"`
}

// Notification is a word that was, or is to be, sent.
type Notification struct {
	At      time.Time  `json:"at"`
	Event   string     `json:"event"`
	Subject string     `json:"subject"`
	Channel string     `json:"channel"`
	State   string     `json:"state" enum:"waiting,sent,given-up"`
	Tries   int        `json:"tries"`
	Due     time.Time  `json:"due"`
	Sent    *time.Time `json:"sent,omitempty"`
	Why     string     `json:"why,omitempty"`
}

// NotificationList are the latest, newest first.
type NotificationList struct {
	Notifications []Notification `json:"notifications"`
}

// NotificationEvent is what a webhook is told.
type NotificationEvent struct {
	Event   string    `json:"event" doc:"done, partial, failed, held, waits, account, or test."`
	At      time.Time `json:"at"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	Run     *Run      `json:"run,omitempty"`
	Account string    `json:"account,omitempty"`
}
