// Package notify tells people what happened: by mail, and by signed webhooks. What is
// to be sent is in the records, and is tried again until it has been, for a day.
package notify

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/remedy"
	"deftheron/core/retry"
	"deftheron/service/access"
	"deftheron/service/records"
)

// Events are those that can be told.
var Events = []string{"done", "partial", "failed", "held", "waits", "account"}

// usual are those that are told unless others are named.
var usual = []string{"partial", "failed", "held", "waits", "account"}

const (
	// firstWait is the wait before another try, doubled up to longestWait; after
	// tryFor it is given up.
	firstWait   = 10 * time.Second
	longestWait = time.Hour
	tryFor      = 24 * time.Hour
	// keepFor is how long what was sent stays in the records.
	keepFor = 90 * 24 * time.Hour
	// settingsName is what the settings are kept under.
	settingsName = "notices"
)

// Notifications sends words to people.
type Notifications struct {
	db     *records.DB
	sealer *access.Sealer
	log    *slog.Logger
	client *http.Client
	wake   chan struct{}
	// FirstWait, where not 0, is the wait before a second try.
	FirstWait time.Duration

	mu sync.Mutex // one change of the settings at a time
}

// New returns notifications that are kept in the records.
func New(db *records.DB, sealer *access.Sealer, log *slog.Logger) *Notifications {
	return &Notifications{
		db: db, sealer: sealer, log: log, wake: make(chan struct{}, 1),
		client: &http.Client{Timeout: 20 * time.Second,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }},
	}
}

// kept are the settings with what is secret sealed.
type kept struct {
	contract.Notifications
	Password []byte            `json:"sealed_password,omitempty"`
	Secrets  map[string][]byte `json:"sealed_secrets,omitempty"` // by URL
}

func (n *Notifications) load(ctx context.Context) (k kept, err error) {
	text, err := n.db.Meta(ctx, settingsName)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &k)
	}
	if k.Webhooks == nil {
		k.Webhooks = []contract.NotifyWebhook{}
	}
	return k, err
}

// Settings returns the settings, without what is secret.
func (n *Notifications) Settings(ctx context.Context) (contract.Notifications, error) {
	k, err := n.load(ctx)
	return k.Notifications, err
}

// Set changes the settings. A secret that is left out stays as it was.
func (n *Notifications) Set(ctx context.Context, given contract.Notifications) error {
	if err := check(given); err != nil {
		return err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	before, err := n.load(ctx)
	if err != nil {
		return err
	}
	now := kept{Notifications: given, Password: before.Password, Secrets: map[string][]byte{}}
	if given.Email != nil {
		m := *given.Email
		if now.Email = &m; m.Password == "" && len(before.Password) > 0 && !sameMailServer(before.Email, &m) {
			return remedy.Errorf("the password was given for the mail server %s, and is not sent to %s; give it again, with --secret-file FILE",
				mailServer(before.Email), mailServer(&m))
		} else if m.Password != "" {
			now.Password = n.sealer.Seal("notices mail", []byte(m.Password))
		}
		now.Email.Password = ""
	} else {
		now.Password = nil
	}
	now.Webhooks = slices.Clone(given.Webhooks)
	for i, hook := range given.Webhooks {
		now.Secrets[hook.URL] = before.Secrets[hook.URL]
		if hook.Secret != "" {
			now.Secrets[hook.URL] = n.sealer.Seal("notices "+hook.URL, []byte(hook.Secret))
		}
		if now.Secrets[hook.URL] == nil {
			return remedy.Errorf("the webhook %s has no secret to sign with; give one", hook.URL)
		}
		now.Webhooks[i].Secret = ""
	}
	text, err := json.Marshal(now)
	if err != nil {
		return err
	}
	return n.db.SetMeta(ctx, settingsName, string(text))
}

// mailServer is where a mail goes first, with how it is encrypted.
func mailServer(mail *contract.NotifyEmail) string {
	if mail == nil {
		return "none"
	}
	return strings.ToLower(mail.Server) + " (" + mail.TLS + ")"
}

func sameMailServer(a, b *contract.NotifyEmail) bool { return mailServer(a) == mailServer(b) }

func check(given contract.Notifications) error {
	quiet, err := quietOf(given)
	if err != nil {
		return err
	}
	if in, until := quiet.Allowed(time.Now()); given.Quiet != "" && in && until.IsZero() {
		return remedy.New("the quiet hours are the whole week, so nothing would be sent; shorten them")
	}
	if given.Digest != "" {
		if every, err := time.ParseDuration(given.Digest); err != nil || every < time.Minute || every > 7*24*time.Hour {
			return remedy.Errorf("%q is not a digest interval; write it as 1h", given.Digest)
		}
	}
	events := [][]string{}
	if m := given.Email; m != nil {
		if _, _, err := net.SplitHostPort(m.Server); err != nil {
			return remedy.Errorf("the mail server %q is not a HOST:PORT; write it as mail.example.org:587", m.Server)
		}
		if !slices.Contains([]string{"", "starttls", "implicit", "none"}, m.TLS) {
			return remedy.Errorf("%q is no way to encrypt mail; use starttls, implicit or none", m.TLS)
		}
		if m.TLS == "none" && m.User != "" {
			return remedy.New("the password would be sent unencrypted; use starttls or implicit, or give no user")
		}
		for _, address := range append([]string{m.From}, m.To...) {
			if _, err := mail.ParseAddress(address); err != nil {
				return remedy.Errorf("%q is not a mail address; write it as reports@example.org", address)
			}
		}
		if len(m.To) == 0 {
			return remedy.New("there is no recipient; give at least one address")
		}
		events = append(events, m.On)
	}
	seen := map[string]bool{}
	for _, hook := range given.Webhooks {
		parsed, err := url.Parse(hook.URL)
		if err != nil || parsed.Host == "" || parsed.Scheme != "https" && parsed.Scheme != "http" || parsed.User != nil {
			return remedy.Errorf("%q is not a URL of a webhook; write it as https://example.org/told", hook.URL)
		}
		if seen[hook.URL] {
			return remedy.Errorf("the webhook %s is there twice; remove one", hook.URL)
		}
		seen[hook.URL] = true
		events = append(events, hook.On)
	}
	for _, on := range events {
		for _, event := range on {
			if !slices.Contains(Events, event) {
				return remedy.Errorf("%q is not an event; use %s", event, strings.Join(Events, ", "))
			}
		}
	}
	return nil
}

func quietOf(settings contract.Notifications) (*job.Timetable, error) {
	timetable, err := job.When{Hours: settings.Quiet, Zone: settings.Zone}.Read(time.Local)
	if err != nil {
		return nil, fmt.Errorf("of the quiet hours: %w", err)
	}
	return timetable, nil
}

// due is when something that happens now is sent.
func due(settings contract.Notifications, channel string, now time.Time) time.Time {
	at := now
	if every, err := time.ParseDuration(settings.Digest); err == nil && settings.Digest != "" && channel == mailChannel {
		at = at.Truncate(every).Add(every)
	}
	if quiet, err := quietOf(settings); err == nil && settings.Quiet != "" {
		if in, until := quiet.Allowed(at); in && !until.IsZero() {
			at = until
		}
	}
	return at
}

const mailChannel = "email"

// Tell has an event told to all who want to know.
func (n *Notifications) Tell(ctx context.Context, event contract.NotificationEvent) {
	k, err := n.load(ctx)
	if err != nil {
		n.log.ErrorContext(ctx, "could not read the notification settings", "error", err)
		return
	}
	var notifications []records.Notification
	add := func(channel string, on []string) {
		if len(on) == 0 {
			on = usual
		}
		if !slices.Contains(on, event.Event) {
			return
		}
		payload, err := json.Marshal(event)
		if err != nil {
			n.log.ErrorContext(ctx, "could not record a notification", "error", err)
			return
		}
		notifications = append(notifications, records.Notification{
			At: event.At, Event: event.Event, Subject: event.Subject, Text: event.Text, Payload: string(payload), Channel: channel,
			DueAt: due(k.Notifications, channel, event.At),
		})
	}
	if k.Email != nil {
		add(mailChannel, k.Email.On)
	}
	for _, hook := range k.Webhooks {
		add(hook.URL, hook.On)
	}
	if len(notifications) == 0 {
		return
	}
	if err := n.db.AddNotifications(ctx, notifications); err != nil {
		n.log.ErrorContext(ctx, "could not record a notification", "error", err)
		return
	}
	select {
	case n.wake <- struct{}{}:
	default:
	}
}

// Run sends what is due until ctx ends.
func (n *Notifications) Run(ctx context.Context) {
	for {
		n.send(ctx)
		wait := time.Hour
		if next, err := n.db.NextNotification(ctx); err == nil && !next.IsZero() {
			wait = min(wait, max(10*time.Millisecond, time.Until(next)))
		}
		timer := time.NewTimer(wait)
		select {
		case <-n.wake:
			timer.Stop()
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return
		}
	}
}

// send sends what is due: mail that was gathered in one message.
func (n *Notifications) send(ctx context.Context) {
	notifications, err := n.db.DueNotifications(ctx, time.Now())
	if err == nil {
		err = n.db.ForgetNotifications(ctx, time.Now().Add(-keepFor))
	}
	k, loaded := n.load(ctx)
	if err = errors.Join(err, loaded); err != nil {
		if ctx.Err() == nil {
			n.log.ErrorContext(ctx, "could not read notifications", "error", err)
		}
		return
	}
	var letters []records.Notification
	for _, notification := range notifications {
		if notification.Channel == mailChannel {
			letters = append(letters, notification)
			continue
		}
		n.ended(ctx, k, []records.Notification{notification}, n.post(ctx, k, notification.Channel, []byte(notification.Payload)))
	}
	if len(letters) > 0 {
		n.ended(ctx, k, letters, n.mail(ctx, k, letters))
	}
}

// ended keeps what became of a try.
func (n *Notifications) ended(ctx context.Context, k kept, notifications []records.Notification, failed error) {
	if ctx.Err() != nil {
		return // it is tried again at the next start
	}
	for _, notification := range notifications {
		now := time.Now()
		notification.Tries++
		notification.Why = ""
		if failed == nil {
			notification.SentAt = &now
		} else {
			again := retry.Policy{First: cmp.Or(n.FirstWait, firstWait), Longest: longestWait}
			notification.Why = failed.Error()
			notification.DueAt = now.Add(again.After(notification.Tries + 1))
			notification.GivenUp = now.Sub(notification.At) > tryFor && notification.Tries > 5
			n.log.WarnContext(ctx, "a notification could not be sent", "channel", notification.Channel, "try", notification.Tries, "error", failed)
		}
		if err := n.db.SaveNotification(ctx, notification); err != nil {
			n.log.ErrorContext(ctx, "could not record the state of a notification", "error", err)
		}
	}
}

// Test sends a word by every way at once, and says what became of it.
func (n *Notifications) Test(ctx context.Context) (contract.NotifyTest, error) {
	k, err := n.load(ctx)
	tested := contract.NotifyTest{Channels: []contract.NotifyTried{}}
	if err != nil {
		return tested, err
	}
	event := contract.NotificationEvent{Event: "test", At: time.Now(), Subject: "Deft Heron: a test", Text: "This is a test notification."}
	add := func(channel string, err error) {
		tried := contract.NotifyTried{Channel: channel, Sent: err == nil}
		if err != nil {
			tried.Why = err.Error()
		}
		tested.Channels = append(tested.Channels, tried)
	}
	if k.Email != nil {
		add(mailChannel, n.mail(ctx, k, []records.Notification{{At: event.At, Subject: event.Subject, Text: event.Text}}))
	}
	payload, err := json.Marshal(event)
	if err != nil {
		return tested, err
	}
	for _, hook := range k.Webhooks {
		add(hook.URL, n.post(ctx, k, hook.URL, payload))
	}
	return tested, nil
}

// List returns the latest words, newest first.
func (n *Notifications) List(ctx context.Context, most int) (contract.NotificationList, error) {
	rows, err := n.db.Notifications(ctx, most)
	list := contract.NotificationList{Notifications: []contract.Notification{}}
	for _, row := range rows {
		one := contract.Notification{At: row.At, Event: row.Event, Subject: row.Subject, Channel: row.Channel, State: "waiting", Tries: row.Tries,
			Due: row.DueAt, Sent: row.SentAt, Why: row.Why}
		switch {
		case row.SentAt != nil:
			one.State = "sent"
		case row.GivenUp:
			one.State = "given-up"
		}
		list.Notifications = append(list.Notifications, one)
	}
	return list, err
}
