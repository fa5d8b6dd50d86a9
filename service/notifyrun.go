package service

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"deftheron/contract"
)

// notifyRun sends a notification of how a run ended, or that it is held.
func (s *Service) notifyRun(run contract.Run) {
	if run.State == "cancelled" {
		return // a person did it
	}
	run.Why, run.Remedy, run.Waits = withoutHosts(run.Why), withoutHosts(run.Remedy), withoutHosts(run.Waits)
	words := map[string]string{"done": "is done", "partial": "ended, and some items failed", "failed": "failed", "held": "is held"}
	subject := fmt.Sprintf("Deft Heron: %s %s (run %s)", run.Job, words[string(run.State)], run.ID)
	event := string(run.State)
	if event == "done" && run.Waits != "" {
		event = "waits"
		subject = fmt.Sprintf("Deft Heron: the migration %s waits for you", run.Job)
	}
	var text strings.Builder
	for _, route := range run.Routes {
		fmt.Fprintf(&text, "%s to %s\n", route.From, route.To)
	}
	if run.MoreRoutes > 0 {
		fmt.Fprintf(&text, "and %d more\n", run.MoreRoutes)
	}
	fmt.Fprintf(&text, "%d done, %d failed, %d skipped, %d waiting, %d up to date; %d bytes transferred.\n",
		run.Items.Done, run.Items.Failed, run.Items.Skipped, run.Items.Waiting, run.Items.UpToDate, run.Bytes.Transferred)
	if run.Why != "" {
		fmt.Fprintf(&text, "\n%s.\n", contract.Capital(run.Why))
	}
	if run.Waits != "" {
		fmt.Fprintf(&text, "\n%s\n", run.Waits)
	}
	if run.Remedy != "" {
		fmt.Fprintf(&text, "%s\n", run.Remedy)
	}
	for _, command := range run.Commands {
		fmt.Fprintf(&text, "  %s\n", command)
	}
	text.WriteString(s.pageLink("/runs/" + run.ID))
	s.notifications.Tell(s.ctx, contract.NotificationEvent{Event: event, At: time.Now(), Subject: subject, Text: text.String(), Run: &run})
}

// accountSignInExpired sends a notification that the sign-in of an account has expired.
func (s *Service) accountSignInExpired(name string, why error) {
	s.notifications.Tell(s.ctx, contract.NotificationEvent{
		Event: "account", At: time.Now(), Account: name, Subject: "Deft Heron: the account " + name + " needs attention",
		Text: fmt.Sprintf("The account /%s no longer accepts its sign-in: %s.\nReauthorize it with: heron account reauthorize %s\n"+
			"Runs that wait for it then continue automatically.\n%s", name, withoutHosts(why.Error()), name, s.pageLink("/accounts/"+name)),
	})
}

// workerAway sends a notification that a worker has been gone for a while.
func (s *Service) workerAway(name, site string, accounts []string) {
	reached := "No account is reached through it."
	if len(accounts) > 0 {
		reached = "Accounts at its site: /" + strings.Join(accounts, ", /") + ". Runs that use them wait, and continue automatically."
	}
	s.notifications.Tell(s.ctx, contract.NotificationEvent{
		Event: "account", At: time.Now(), Subject: "Deft Heron: the worker " + name + " is offline",
		Text: fmt.Sprintf("The worker %s at the site %s has been offline for 5 minutes. %s\n"+
			"Start heron worker on its machine, and check that the machine reaches the service.\n%s", name, site, reached,
			s.pageLink("/settings/workers")),
	})
}

// workerUntrusted sends a notification about a worker that made a false report.
func (s *Service) workerUntrusted(name, why string) {
	s.notifications.Tell(s.ctx, contract.NotificationEvent{
		Event: "account", At: time.Now(), Subject: "Deft Heron: the worker " + name + " is not trusted any more",
		Text: fmt.Sprintf("The worker %s said that it had copied a file, and the file at the target is not that one (%s).\n"+
			"It gets nothing more, and the service copies the file itself. Compare what it copied before: heron compare SOURCE TARGET --read.\n"+
			"Check its machine, then: heron worker resume %s\n%s", name, withoutHosts(why), name, s.pageLink("/settings/workers")),
	})
}

// pageLink is the address of a page of the console, if the service has one that means something
// elsewhere; else the page alone.
func (s *Service) pageLink(page string) string {
	if s.options.PublicURL == "" {
		return "\nIn the console: " + page + "\n"
	}
	return "\n" + s.options.PublicURL + page + "\n"
}

// hosts are the URLs, addresses and names of servers that errors have in them.
var hosts = regexp.MustCompile(`\b[a-z][a-z0-9+.-]*://[^\s"']+|\b\d{1,3}(\.\d{1,3}){3}(:\d+)?\b|\[[0-9a-fA-F:.]+(%[a-z0-9]+)?\](:\d+)?|` +
	`\b(dial tcp|dial udp|lookup|read tcp|write tcp) [^\s]*[^\s:]|\b[a-zA-Z][a-zA-Z0-9-]*(\.[a-zA-Z0-9-]+)*:\d{2,5}\b`)

// withoutHosts is a text without what it says of the network: mail and webhooks leave it.
func withoutHosts(text string) string { return hosts.ReplaceAllString(text, "(a server)") }
