package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
	"deftheron/core/remedy"
)

func (a *app) notify() *cobra.Command {
	return nouns("notify", "Send notifications by email and webhook",
		a.notifyShow(), a.notifyEmail(), a.notifyWebhook(), a.notifyQuiet(), a.notifyOff(), a.notifyTest(), a.notifyLog())
}

func (a *app) notifyShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show the settings of notifications", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			settings, err := a.client().Notifications(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(settings)
			}
			if settings.Email == nil && len(settings.Webhooks) == 0 {
				_, err := fmt.Fprintln(a.out, "Notifications are off. Turn them on with: heron notify email --server HOST:PORT --sender ADDRESS "+
					"--recipient ADDRESS, or heron notify webhook URL --secret-file FILE")
				return err
			}
			t := a.newTable("BY", "TO", "ON")
			if m := settings.Email; m != nil {
				t.AppendRow(table.Row{"mail through " + m.Server, strings.Join(m.To, ", "), onWhat(m.On)})
			}
			for _, hook := range settings.Webhooks {
				t.AppendRow(table.Row{"webhook", format.Plain(hook.URL), onWhat(hook.On)})
			}
			t.Render()
			if settings.Quiet != "" {
				fmt.Fprintf(a.out, "Nothing is sent within %s.\n", settings.Quiet)
			}
			if settings.Digest != "" {
				fmt.Fprintf(a.out, "Mail is gathered for %s.\n", settings.Digest)
			}
			return nil
		},
	}
}

func onWhat(on []string) string {
	if len(on) == 0 {
		return "partial, failed, held, waits, account"
	}
	return strings.Join(on, ", ")
}

// changeNotices changes the settings as they are.
func (a *app) changeNotices(command *cobra.Command, change func(*contract.Notifications) error) error {
	settings, err := a.client().Notifications(command.Context())
	if err != nil {
		return err
	}
	if err := change(&settings); err != nil {
		return err
	}
	if err := a.client().SetNotifications(command.Context(), settings); err != nil {
		return err
	}
	_, err = fmt.Fprintln(a.out, "It is set. Try it with: heron notify test")
	return err
}

func (a *app) notifyEmail() *cobra.Command {
	var m contract.NotifyEmail
	var secretFile string
	command := &cobra.Command{
		Use: "email --server HOST:PORT --sender ADDRESS --recipient ADDRESS", Short: "Send notifications by email",
		Args: arguments(0, 0, "nothing more"),
		Example: "  heron notify email --server mail.example.org:587 --user heron --secret-file password.txt --sender heron@example.org " +
			"--recipient storage@example.org",
		RunE: func(command *cobra.Command, _ []string) error {
			if m.Server == "" || m.From == "" || len(m.To) == 0 {
				return usageError("mail needs a server, a sender and somebody who gets it; give --server, --sender and --recipient")
			}
			if m.User != "" || secretFile != "" {
				var err error
				if m.Password, _, err = a.secret(secretFile, "Password of "+m.User+" at the mail server"); err != nil {
					return err
				}
			}
			return a.changeNotices(command, func(settings *contract.Notifications) error {
				settings.Email = &m
				return nil
			})
		},
	}
	flags := command.Flags()
	flags.StringVar(&m.Server, "server", "", "the mail server, as HOST:PORT")
	flags.StringVar(&m.TLS, "tls", "", "starttls (the default), implicit or none")
	flags.StringVar(&m.User, "user", "", "the name to sign in with")
	flags.StringVar(&secretFile, "secret-file", "", "a file that holds the password, or - for standard input")
	flags.StringVar(&m.From, "sender", "", "the address that it is sent from")
	flags.StringArrayVar(&m.To, "recipient", nil, "an address that it is sent to; may be given several times")
	flags.StringSliceVar(&m.On, "on", nil, "on what: done, partial, failed, held, waits, account; all but done unless given")
	return command
}

func (a *app) notifyWebhook() *cobra.Command {
	var hook contract.NotifyWebhook
	var secretFile string
	command := &cobra.Command{
		Use: "webhook URL --secret-file FILE", Short: "Send notifications to a URL, signed with a secret (RFC 9421, HMAC-SHA256)",
		Args: arguments(1, 1, "one URL"),
		RunE: func(command *cobra.Command, args []string) error {
			var err error
			if hook.Secret, _, err = a.secret(secretFile, "Secret to sign with"); err != nil {
				return err
			}
			hook.URL = args[0]
			return a.changeNotices(command, func(settings *contract.Notifications) error {
				settings.Webhooks = append(slices.DeleteFunc(settings.Webhooks, func(one contract.NotifyWebhook) bool { return one.URL == hook.URL }),
					hook)
				return nil
			})
		},
	}
	command.Flags().StringVar(&secretFile, "secret-file", "", "a file that holds the secret to sign with, or - for standard input")
	command.Flags().StringSliceVar(&hook.On, "on", nil, "on what: done, partial, failed, held, waits, account; all but done unless given")
	return command
}

func (a *app) notifyQuiet() *cobra.Command {
	var quiet, zone, digest string
	command := &cobra.Command{
		Use: "quiet", Short: "Set quiet hours and the interval of email digests", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			return a.changeNotices(command, func(settings *contract.Notifications) error {
				settings.Quiet, settings.Zone, settings.Digest = quiet, zone, digest
				return nil
			})
		},
	}
	command.Flags().StringVar(&quiet, "quiet", "", "hours of the week in which nothing is sent: \"mon-sun 22:00-07:00\"")
	command.Flags().StringVar(&zone, "zone", "", "their time zone; the service's own unless given")
	command.Flags().StringVar(&digest, "digest", "", "for how long mail is gathered, such as 1h")
	return command
}

func (a *app) notifyOff() *cobra.Command {
	return &cobra.Command{
		Use: "off email|URL", Short: "Turn off email, or one webhook", Args: arguments(1, 1, "email, or a webhook's URL"),
		RunE: func(command *cobra.Command, args []string) error {
			return a.changeNotices(command, func(settings *contract.Notifications) error {
				before := len(settings.Webhooks)
				settings.Webhooks = slices.DeleteFunc(settings.Webhooks, func(one contract.NotifyWebhook) bool { return one.URL == args[0] })
				if args[0] == "email" && settings.Email != nil {
					settings.Email = nil
				} else if len(settings.Webhooks) == before {
					return usageError("there are no notifications to %s; heron notify show lists the channels", args[0])
				}
				return nil
			})
		},
	}
}

func (a *app) notifyTest() *cobra.Command {
	return &cobra.Command{
		Use: "test", Short: "Send a test notification by every channel", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			tested, err := a.client().TestNotifications(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(tested)
			}
			failed := 0
			for _, one := range tested.Channels {
				if one.Sent {
					fmt.Fprintf(a.out, "%s %s\n", a.stateMark("done"), format.Plain(one.Channel))
					continue
				}
				failed++
				fmt.Fprintf(a.out, "%s %s: %s\n", a.stateMark("failed"), format.Plain(one.Channel), format.Plain(one.Why))
			}
			switch {
			case len(tested.Channels) == 0:
				return usageError("notifications are off; turn them on with heron notify email or heron notify webhook")
			case failed > 0:
				return &exitError{exitFailed, remedy.Errorf("%d of %d channels failed; fix what is named above", failed, len(tested.Channels))}
			}
			return nil
		},
	}
}

func (a *app) notifyLog() *cobra.Command {
	return &cobra.Command{
		Use: "log", Short: "List the latest notifications and their state", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			notifications, err := a.client().NotificationList(command.Context())
			if err != nil {
				return err
			}
			t := a.newTable("AT", "STATE", "TRIES", "TO", "WHAT")
			for _, one := range notifications {
				if a.json {
					if err := a.printJSON(one); err != nil {
						return err
					}
					continue
				}
				what := one.Subject
				if one.Why != "" {
					what += ": " + one.Why
				}
				t.AppendRow(table.Row{when(&one.At), one.State, one.Tries, format.Plain(one.Channel), format.Plain(what)})
			}
			if !a.json {
				t.Render()
			}
			return nil
		},
	}
}
