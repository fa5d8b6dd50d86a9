// Package cli holds the commands: they read arguments, call a service through
// package client, and print.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/remedy"
)

// Exit codes.
const (
	exitDone       = 0
	exitFailed     = 1
	exitUsage      = 2
	exitHeld       = 3
	exitNotAllowed = 4
)

// Programs are the long-running parts, which main hands in.
type Programs struct {
	Build   Build
	Serve   func(ctx context.Context, options ServeOptions) error
	Demo    func(ctx context.Context, options DemoOptions) error
	Standin func(ctx context.Context, options StandinOptions) error
	// Worker runs a worker, and JoinWorker has this machine join a service as one.
	Worker, JoinWorker func(ctx context.Context, options WorkerOptions) error
	// Backup checks a backup, or makes a data folder of it.
	Backup func(ctx context.Context, options BackupOptions) (OpenedBackup, error)
	// Skeleton returns a commented provider definition of a style for a provider of a
	// name; SkeletonStyles are the styles.
	Skeleton       func(style, name string) (string, error)
	SkeletonStyles []string
}

// Build says what the program was built from. What the toolchain did not note is empty.
type Build struct {
	Version string `json:"version"`
	Commit  string `json:"commit,omitempty"`
	// Date of the commit, RFC 3339.
	Date string `json:"date,omitempty"`
	// Modified is set if the source had changes beside the commit.
	Modified bool   `json:"modified,omitempty"`
	Go       string `json:"go,omitempty"`
}

// Root returns the program's commands, to be described; none of them can be run.
func Root(version string) *cobra.Command {
	a := &app{programs: Programs{Build: Build{Version: version}}, in: os.Stdin, out: os.Stdout, err: os.Stderr,
		env: func(string) string { return "" }}
	return a.root()
}

// NATSOptions are how a message server outside is reached.
type NATSOptions struct{ URL, Credentials, CAFile string }

// ServeOptions are the options of heron serve.
type ServeOptions struct {
	Data, Listen, TLSCert, TLSKey string
	Hosts                         []string
	PublicURL, OutboundProxy      string
	Metrics                       string
	ForgetSecrets, TakeOver       bool
	KeepHistory, KeepItems        time.Duration // 0 is for good
	KeepAudit                     time.Duration
	SearchSweep                   time.Duration
	OpenID                        OpenIDOptions
	// NATS is a message server outside that keeps the units of work for workers.
	NATS                NATSOptions
	Folders             []string
	LogLevel, LogFormat string
	Out                 io.Writer
}

// OpenIDOptions say how users sign in through an OpenID provider.
type OpenIDOptions struct {
	Issuer, Title, Client, SecretFile string
	Roles                             []string // GROUP=ROLE
}

// StandinOptions are the options of heron standin.
type StandinOptions struct {
	Data, Sedge, Alder, Control, SignIn string
	Out                                 io.Writer
}

// DemoOptions are the options of heron demo.
type DemoOptions struct {
	Data, Listen string
	Exit         bool
	Out          io.Writer
	// Follow shows a run until it has ended, as heron run follow does.
	Follow func(ctx context.Context, c *client.Client, id string) (contract.Run, error)
}

// exitError ends the program with a code, after its message, if any.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

// usageError is a command that cannot be meant.
func usageError(format string, args ...any) error {
	return &exitError{exitUsage, remedy.Errorf(format, args...)}
}

// app is what all commands share.
type app struct {
	programs Programs
	in       io.Reader
	out, err io.Writer
	env      func(string) string
	url      string
	json     bool
	colour   bool
	terminal bool // out is one
	asks     bool // in and out are
}

// Main runs the program and returns its exit code.
func Main(programs Programs, args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{
		programs: programs, in: os.Stdin, out: os.Stdout, err: os.Stderr, env: os.Getenv,
		terminal: term.IsTerminal(int(os.Stdout.Fd())),
	}
	a.asks = a.terminal && term.IsTerminal(int(os.Stdin.Fd()))
	a.colour = a.terminal && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	root := a.root()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err != nil && err.Error() != "" {
		fmt.Fprintln(a.err, format.Wrap(a.paint(brick, "heron:")+" "+format.Text(sentences(err)), columns(os.Stderr), 0))
	}
	return exitCode(err)
}

// columns returns the width of a terminal; 0 if the file is no terminal.
func columns(file *os.File) int {
	if width, _, err := term.GetSize(int(file.Fd())); err == nil {
		return width
	}
	return 0
}

// wrapped is text of several sentences, broken at words to the width of the terminal.
func (a *app) wrapped(indent int, said string) string {
	if !a.terminal {
		return said
	}
	return format.Wrap(said, columns(os.Stdout), indent)
}

func exitCode(err error) int {
	var exit *exitError
	var problem *contract.Problem
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &exit):
		return exit.code
	case errors.As(err, &problem) && (problem.Status == 401 || problem.Status == 403):
		return exitNotAllowed
	case errors.As(err, &problem) && (problem.Status == 400 || problem.Status == 422):
		return exitUsage
	case strings.HasPrefix(err.Error(), "unknown command"):
		return exitUsage
	}
	return exitFailed
}

// sentences turns an error into two sentences: what is wrong, and what to do.
func sentences(err error) string {
	var problem *contract.Problem
	if errors.As(err, &problem) {
		text := problem.Error()
		if len(problem.Options) > 0 {
			text += "\n  Options: --" + strings.Join(problem.Options, ", --")
		}
		for _, command := range problem.Commands {
			text += "\n  " + command
		}
		return text
	}
	text, advice := remedy.Of(err)
	if text = strings.TrimSpace(text); advice != "" {
		text += ". " + contract.Capital(advice)
	}
	text = contract.Capital(text)
	if !strings.ContainsAny(text[len(text)-1:], ".!?") {
		text += "."
	}
	return text
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "heron",
		Short: "Link storage accounts, browse them as one tree, and copy between them",
		Long: "Deft Heron links storage accounts, shows them as one tree, and copies, mirrors and migrates between them.\n\n" +
			"Start the service with heron serve. The other commands call the service that HERON_URL and HERON_TOKEN\n" +
			"name, or the one that heron signin saved.",
		SilenceErrors: true, SilenceUsage: true,
	}
	root.PersistentFlags().StringVar(&a.url, "service", "",
		"URL of the service (default HERON_URL, or the one signed in to, or http://127.0.0.1:8420)")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print JSON: one value, or one a line if the output is a stream")
	root.SetFlagErrorFunc(func(command *cobra.Command, err error) error {
		return usageError("%v; see: %s --help", err, command.CommandPath())
	})
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.AddCommand(
		a.serve(), a.demo(), a.standin(), a.worker(),
		a.signin(), a.signout(), a.whoami(), a.token(), a.user(), a.audit(), a.account(), a.provider(),
		a.ls(), a.stat(), a.cat(),
		a.get(), a.put(),
		a.mkdir(), a.mv(), a.rm(), a.copy(), a.compare(), a.search(), a.share(), a.tag(), a.comment(),
		a.lock(), a.unlock(), a.survey(), a.job(), a.run(), a.history(), a.notify(),
		a.bandwidth(), a.backup(), a.drive(), a.doctor(), a.version(),
	)
	group(root)
	return root
}

// arguments wants at least and at most so many, and says what they are.
func arguments(least, most int, what string) cobra.PositionalArgs {
	return func(command *cobra.Command, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return usageError("%s takes %s; see: %s --help", command.CommandPath(), what, command.CommandPath())
		}
		return nil
	}
}

// nouns is a command that only holds others.
func nouns(use, short string, commands ...*cobra.Command) *cobra.Command {
	command := &cobra.Command{
		Use: use, Short: short, Args: cobra.ArbitraryArgs,
		RunE: func(command *cobra.Command, args []string) error {
			if len(args) == 0 {
				return command.Help()
			}
			return usageError("%s has no verb %q; see: %s --help", command.CommandPath(), args[0], command.CommandPath())
		},
	}
	command.AddCommand(commands...)
	return command
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: arguments(0, 0, "nothing more"),
		RunE: func(*cobra.Command, []string) error {
			build := a.programs.Build
			if a.json {
				return a.printJSON(build)
			}
			said := "Deft Heron " + build.Version
			if len(build.Commit) > 12 {
				said += ", commit " + build.Commit[:12]
				if build.Modified {
					said += " with changes"
				}
				day, _, _ := strings.Cut(build.Date, "T")
				said += " of " + day
			}
			_, err := fmt.Fprintln(a.out, said+", "+runtime.GOOS+" "+runtime.GOARCH)
			return err
		},
	}
}
