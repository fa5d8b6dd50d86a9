package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"deftheron/client"
	"deftheron/contract"
)

const defaultURL = "http://127.0.0.1:8420"

// saved is what heron signin remembers.
type saved struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

func (a *app) savedPath() (string, error) {
	dir := a.env("XDG_CONFIG_HOME")
	if dir == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(home, ".config")
	}
	return filepath.Join(dir, "heron", "access.json"), nil
}

func (a *app) saved() (s saved) {
	path, err := a.savedPath()
	if err != nil {
		return s
	}
	if data, err := os.ReadFile(path); err == nil {
		_ = json.Unmarshal(data, &s) // what cannot be read is not a sign-in
	}
	return s
}

// client is the service that is meant, with its token.
func (a *app) client() *client.Client {
	return a.clientAt(first(a.url, a.env("HERON_URL"), a.saved().URL, defaultURL))
}

// clientAt is the service at a URL, with the token that was given for it: a token goes
// to no other service than its own.
func (a *app) clientAt(url string) *client.Client {
	c := &client.Client{URL: url}
	if at := a.env("HERON_URL"); at == "" || sameURL(at, url) {
		c.Token = a.env("HERON_TOKEN")
	}
	if known := a.saved(); c.Token == "" && sameURL(url, known.URL) {
		c.Token = known.Token
	}
	return c
}

func sameURL(a, b string) bool { return strings.TrimSuffix(a, "/") == strings.TrimSuffix(b, "/") }

func first(texts ...string) string {
	for _, text := range texts {
		if text != "" {
			return text
		}
	}
	return ""
}

// secret reads what must not be an argument: from a file, from standard input
// ("-"), or on a terminal without showing it. ok is false where there is none.
func (a *app) secret(file, prompt string) (secret string, ok bool, err error) {
	switch {
	case file == "-":
		// To the end, as keys are of several lines.
		data, err := io.ReadAll(io.LimitReader(a.in, 1<<20))
		if err != nil {
			return "", false, err
		}
		secret = strings.TrimRight(string(data), "\r\n")
	case file != "":
		data, err := os.ReadFile(file)
		if err != nil {
			return "", false, usageError("the file %s cannot be read (%v); give one that holds the secret alone", file, bareError(err))
		}
		secret = strings.TrimRight(string(data), "\r\n")
	case a.asks:
		fmt.Fprint(a.err, prompt+" (not shown): ")
		data, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(a.err)
		if err != nil {
			return "", false, err
		}
		secret = string(data)
	default:
		return "", false, nil
	}
	if secret == "" {
		return "", false, usageError("the secret is empty; give it in a file, or on standard input with -")
	}
	return secret, true, nil
}

func bareError(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}

func (a *app) signin() *cobra.Command {
	var tokenFile, user, secretFile, code string
	var console bool
	command := &cobra.Command{
		Use: "signin [URL]", Short: "Sign this terminal in to a service, or create a sign-in link for the console",
		Args: arguments(0, 1, "at most a URL"),
		Long: "Saves a service and a token for this user, in a file that only they can read.\n" +
			"With --user it makes a token of that user for this terminal. With --console it prints a link that signs a browser in to\n" +
			"the console once.",
		RunE: func(command *cobra.Command, args []string) error {
			c := a.client()
			if len(args) == 1 {
				c = a.clientAt(args[0])
			}
			if console {
				return a.consoleLink(command, c)
			}
			if user != "" {
				return a.signinAs(command, c, contract.SignIn{Name: user, Code: code}, secretFile)
			}
			token, ok, err := a.secret(tokenFile, "Token")
			if err != nil {
				return err
			}
			if !ok {
				token = c.Token
			}
			if token == "" {
				return usageError("there is no token to sign in with; give one with --token-file FILE, or - for standard input")
			}
			return a.signinWith(command, c, token)
		},
	}
	command.Flags().StringVar(&user, "user", "", "sign in with the name and the password of a user, for 30 days")
	command.Flags().StringVar(&secretFile, "secret-file", "", "the file that holds the password, or - for standard input")
	command.Flags().StringVar(&code, "code", "", "a one-time code or a recovery code of the user")
	command.Flags().StringVar(&tokenFile, "token-file", "", "the file that holds the token, or - for standard input")
	command.Flags().BoolVar(&console, "console", false, "make a link that signs in to the console once")
	return command
}

// signinWith saves a service and a token for it.
func (a *app) signinWith(command *cobra.Command, c *client.Client, token string) error {
	c.Token = token
	who, err := c.Whoami(command.Context())
	if err != nil {
		return err
	}
	if err := a.save(saved{c.URL, token}); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(who)
	}
	_, err = fmt.Fprintf(a.out, "Signed in to %s as %s.\n", c.URL, nameAndRole(who))
	return err
}

// nameAndRole describes a user in words.
func nameAndRole(who contract.Whoami) string {
	if who.User == who.Role {
		return who.Role
	}
	return who.User + " (" + who.Role + ")"
}

// terminalDays is how long a terminal stays signed in with a user's password.
const terminalDays = 30

// signinAs makes a token of a user for this terminal.
func (a *app) signinAs(command *cobra.Command, c *client.Client, signin contract.SignIn, secretFile string) error {
	var ok bool
	var err error
	if signin.Password, ok, err = a.secret(secretFile, "Password of "+signin.Name); err != nil {
		return err
	}
	if !ok {
		return usageError("there is no password to sign in with; give one with --secret-file FILE, or - for standard input")
	}
	made, err := c.TokenFor(command.Context(), signin, contract.TokenRequest{Name: terminalName(), Days: terminalDays})
	if err != nil {
		return err
	}
	return a.signinWith(command, c, made.Secret)
}

func (a *app) consoleLink(command *cobra.Command, c *client.Client) error {
	link, err := c.SigninLink(command.Context())
	if err != nil {
		return err
	}
	return a.printLink(link)
}

func (a *app) printLink(link contract.SigninLink) error {
	if a.json {
		return a.printJSON(link)
	}
	_, err := fmt.Fprintf(a.out, "Open this in a browser before %s; it is good once:\n%s\n", link.Expires.Local().Format("15:04"), link.URL)
	return err
}

func (a *app) save(s saved) error {
	path, err := a.savedPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	data, err := json.Marshal(s)
	if err != nil {
		return err
	}
	temporary := path + ".new"
	if err := os.WriteFile(temporary, data, 0o600); err != nil {
		return err
	}
	return os.Rename(temporary, path)
}

func (a *app) signout() *cobra.Command {
	return &cobra.Command{
		Use: "signout", Short: "Sign this terminal out", Args: arguments(0, 0, "nothing more"),
		RunE: func(*cobra.Command, []string) error {
			path, err := a.savedPath()
			if err != nil {
				return err
			}
			if err := os.Remove(path); errors.Is(err, fs.ErrNotExist) {
				_, err = fmt.Fprintln(a.out, "This terminal was not signed in.")
				return err
			} else if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, "Signed out.")
			return err
		},
	}
}

func (a *app) whoami() *cobra.Command {
	return &cobra.Command{
		Use: "whoami", Short: "Show who is signed in, and to which service", Args: arguments(0, 0, "nothing more"),
		RunE: func(command *cobra.Command, _ []string) error {
			c := a.client()
			who, err := c.Whoami(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(who)
			}
			_, err = fmt.Fprintf(a.out, "%s at %s (Deft Heron %s, instance %s)\n", nameAndRole(who), c.URL, who.Version, who.Instance)
			return err
		},
	}
}
