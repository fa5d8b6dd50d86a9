package cli

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"text/template"

	"github.com/spf13/cobra"

	"deftheron/core/remedy"
	"deftheron/drive"
)

func (a *app) drive() *cobra.Command {
	return nouns("drive", "Use the tree as a network drive of this machine", a.driveMount(), a.driveInstall(), a.driveShow())
}

// mountOptions are the options of a mount.
type mountOptions struct {
	start            string
	readOnly, others bool
}

func (o *mountOptions) flags(command *cobra.Command, a *app) {
	flags := command.Flags()
	flags.StringVar(&o.start, "start", "", "address of the folder to mount (default the whole tree)")
	flags.BoolVar(&o.readOnly, "read-only", false, "refuse all changes")
	flags.BoolVar(&o.others, "others", false, "let the other users of this machine use the mount; needs user_allow_other in /etc/fuse.conf")
	_ = command.RegisterFlagCompletionFunc("start", a.completeAddresses)
}

// check returns an error if the drive cannot be mounted, before anything is done.
func (o *mountOptions) check() error {
	if o.start == "" {
		return nil
	}
	return addresses([]string{o.start})
}

func (a *app) driveMount() *cobra.Command {
	var options mountOptions
	command := &cobra.Command{
		Use: "mount FOLDER", Short: "Mount the tree at a folder until interrupted (Linux)", Args: arguments(1, 1, "one folder"),
		Long: "Mounts the tree by FUSE. A file gets its new content when it is closed, whole; closing fails if the service could not\n" +
			"keep it, and the content then stays in ~/.cache/heron/unsaved. Documents that exist only inside a service are files in\n" +
			"their export format. The folder .history shows what accounts were. Modes and owners are not kept.",
		Example: "  heron drive mount /mnt/heron\n  heron drive mount /mnt/archive --start /archive --read-only",
		RunE: func(command *cobra.Command, args []string) error {
			if err := options.check(); err != nil {
				return err
			}
			unsaved, err := a.unsaved()
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(command.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return drive.Mount(ctx, args[0], drive.Options{
				Client: a.client(), Start: options.start, ReadOnly: options.readOnly, Others: options.others, Unsaved: unsaved,
				Log: slog.New(slog.NewTextHandler(a.err, nil)),
			}, func() {
				a.tellUnit()
				fmt.Fprintf(a.out, "The tree is mounted at %s. Interrupt this command to unmount it.\n", args[0])
			})
		},
	}
	options.flags(command, a)
	return command
}

// tellUnit tells systemd, if it started this command, that the tree is mounted (sd_notify(3)).
func (a *app) tellUnit() {
	socket := a.env("NOTIFY_SOCKET")
	if socket == "" {
		return
	}
	conn, err := net.Dial("unixgram", socket)
	if err == nil {
		_, err = conn.Write([]byte("READY=1"))
		conn.Close()
	}
	if err != nil {
		fmt.Fprintln(a.err, "systemd could not be told that the tree is mounted:", err)
	}
}

// unsaved is the folder for contents that are being written.
func (a *app) unsaved() (string, error) {
	dir := a.env("XDG_CACHE_HOME")
	if dir == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", remedy.Errorf("there is no home folder (%v); set XDG_CACHE_HOME", err)
		}
		dir = filepath.Join(home, ".cache")
	}
	return filepath.Join(dir, "heron", "unsaved"), nil
}

// driveUnit is the systemd unit of a mount.
var driveUnit = template.Must(template.New("unit").Parse(`[Unit]
Description=Deft Heron tree at {{.Folder}}
Wants=network-online.target
After=network-online.target

[Service]
Type=notify
EnvironmentFile={{.Environment}}
# Contents that could not be saved stay below it, in heron/unsaved.
Environment=XDG_CACHE_HOME=%C
ExecStart={{.Program}} drive mount {{.Arguments}}
Restart=on-failure
RestartSec=5

[Install]
WantedBy={{.Target}}
`))

func (a *app) driveInstall() *cobra.Command {
	var options mountOptions
	var printed bool
	command := &cobra.Command{
		Use: "install FOLDER", Short: "Mount the tree at every start of this machine, by a systemd unit", Args: arguments(1, 1, "one folder"),
		Long: "Writes a systemd unit that mounts the tree, and starts it: for the whole machine if root runs the command, else for\n" +
			"your sign-ins. The token that this command uses is kept in a file beside it that only you can read.",
		Example: "  heron drive install /mnt/heron\n  heron drive install /mnt/heron --print",
		RunE: func(command *cobra.Command, args []string) error {
			if err := options.check(); err != nil {
				return err
			}
			unit, err := a.unitOf(args[0], options)
			if err != nil {
				return err
			}
			if printed {
				_, err := fmt.Fprint(a.out, unit.text)
				return err
			}
			if info, err := os.Stat(args[0]); err != nil || !info.IsDir() {
				return usageError("%s is not a folder; make it first", args[0])
			}
			return a.install(command.Context(), unit)
		},
	}
	options.flags(command, a)
	command.Flags().BoolVar(&printed, "print", false, "print the unit, and install nothing")
	return command
}

// unit is a systemd unit to be installed.
type unit struct {
	name, path, environment, text string
	user                          bool
}

func (a *app) unitOf(folder string, options mountOptions) (unit, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return unit{}, err
	}
	program, err := os.Executable()
	if err != nil {
		return unit{}, err
	}
	one := unit{name: "heron-drive" + strings.ReplaceAll(folder, "/", "-") + ".service", user: os.Geteuid() != 0}
	units, target := "/etc/systemd/system", "multi-user.target"
	one.environment = "/etc/heron"
	if one.user {
		config, err := os.UserConfigDir()
		if err != nil {
			return unit{}, remedy.Errorf("there is no configuration folder (%v); set HOME", err)
		}
		units, target, one.environment = filepath.Join(config, "systemd", "user"), "default.target", filepath.Join(config, "heron")
	}
	one.path = filepath.Join(units, one.name)
	one.environment = filepath.Join(one.environment, strings.TrimSuffix(one.name, ".service")+".env")
	arguments := []string{quoteUnit(folder)}
	if options.start != "" {
		arguments = append(arguments, "--start", quoteUnit(options.start))
	}
	if options.readOnly {
		arguments = append(arguments, "--read-only")
	}
	if options.others {
		arguments = append(arguments, "--others")
	}
	var text strings.Builder
	err = driveUnit.Execute(&text, map[string]string{"Folder": strings.ReplaceAll(folder, "%", "%%"), "Environment": one.environment,
		"Program": quoteUnit(program), "Arguments": strings.Join(arguments, " "), "Target": target})
	one.text = text.String()
	return one, err
}

// quoteUnit is a word as systemd.service(5) has it.
func quoteUnit(word string) string {
	escaped := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$", "\n", `\n`).Replace(word)
	if escaped != word || strings.ContainsAny(word, " \t'") {
		return `"` + escaped + `"`
	}
	return word
}

func (a *app) install(ctx context.Context, one unit) error {
	c := a.client()
	if runtime.GOOS != "linux" {
		return remedy.Errorf("only Linux can mount the tree by FUSE; use the network drive (WebDAV) at %s", c.Drive().URL())
	}
	if _, err := exec.LookPath("systemctl"); err != nil {
		return remedy.Errorf("systemd is not on this machine; print the unit with --print, and start the command in another way")
	}
	if _, err := c.Whoami(ctx); err != nil {
		return err
	}
	for path, text := range map[string]string{one.environment: "HERON_URL=" + c.URL + "\nHERON_TOKEN=" + c.Token + "\n", one.path: one.text} {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return err
		}
	}
	for _, arguments := range [][]string{{"daemon-reload"}, {"enable", "--now", one.name}} {
		if one.user {
			arguments = append([]string{"--user"}, arguments...)
		}
		if out, err := exec.CommandContext(ctx, "systemctl", arguments...).CombinedOutput(); err != nil {
			return remedy.Errorf("systemctl %s failed: %s; look at it with: journalctl -u %s", strings.Join(arguments, " "),
				strings.TrimSpace(string(out)), one.name)
		}
	}
	fmt.Fprintf(a.out, "%s is started, and will be at every start. Remove it with:\n", one.name)
	a.printCommands([]string{"systemctl disable --now " + one.name})
	return nil
}

func (a *app) driveShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show the address of the network drive, and how systems open it", Args: arguments(0, 0, "nothing"),
		Example: "  heron drive show",
		RunE: func(*cobra.Command, []string) error {
			url := a.client().Drive().URL()
			if a.json {
				return a.printJSON(map[string]string{"url": url})
			}
			fmt.Fprintf(a.out, "The network drive (WebDAV) is at %s\n", url)
			fmt.Fprint(a.out, "Sign in with any user name, and a token as the password. Make one with:\n")
			a.printCommands([]string{"heron token create drive --scope read --scope files"})
			fmt.Fprintf(a.out, "\n  Linux     heron drive mount FOLDER, or in the file manager: dav%s\n"+
				"  macOS     in the file manager: Go, Connect to Server\n"+
				"  Windows   in the file manager: Map network drive; needs an https address\n", strings.TrimPrefix(url, "http"))
			return nil
		},
	}
}
