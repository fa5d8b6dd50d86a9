package service

import (
	"fmt"
	"strings"
	"time"

	"deftheron/contract"
)

// runTold has people told what came of a run.
func (s *Service) runTold(run contract.Run) {
	if run.State == "cancelled" {
		return // a person did it
	}
	words := map[string]string{"done": "is done", "partial": "ended, and some items failed", "failed": "failed", "held": "waits for a person"}
	subject := fmt.Sprintf("Deft Heron: %s %s (run %s)", run.Job, words[run.State], run.ID)
	event := run.State
	if event == "done" && run.Waits != "" {
		event = "waits"
		subject = fmt.Sprintf("Deft Heron: the migration %s waits for a person", run.Job)
	}
	var text strings.Builder
	for _, route := range run.Routes {
		fmt.Fprintf(&text, "%s to %s\n", route.From, route.To)
	}
	fmt.Fprintf(&text, "%d done, %d failed, %d skipped, %d waiting, %d up to date; %d bytes moved.\n",
		run.Items.Done, run.Items.Failed, run.Items.Skipped, run.Items.Waiting, run.Items.UpToDate, run.Bytes.Transferred)
	if run.Why != "" {
		fmt.Fprintf(&text, "\n%s%s.\n", strings.ToUpper(run.Why[:1]), run.Why[1:])
	}
	if run.Waits != "" {
		fmt.Fprintf(&text, "\n%s\n", run.Waits)
	}
	if run.Remedy != "" {
		fmt.Fprintf(&text, "%s\n", run.Remedy)
	}
	fmt.Fprintf(&text, "\n%s/runs/%s\n", s.URL, run.ID)
	s.notifications.Tell(s.ctx, contract.NotificationEvent{Event: event, At: time.Now(), Subject: subject, Text: text.String(), Run: &run})
}

// accountSignInExpired has people told that an account sign-in expired.
func (s *Service) accountSignInExpired(name string, why error) {
	s.notifications.Tell(s.ctx, contract.NotificationEvent{
		Event: "account", At: time.Now(), Account: name, Subject: "Deft Heron: the account " + name + " needs attention",
		Text: fmt.Sprintf("The account /%s no longer accepts its sign-in: %v.\nMend it with: heron account reauthorize %s\nWhat waits for it continues automatically then.\n\n%s/accounts/%s\n", name, why, name, s.URL, name),
	})
}
