package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

// consentsOf are the ways in which a person can agree to an account with these
// options; none where it is linked with a secret.
func consentsOf(provider contract.Provider, options map[string]string) []string {
	switch options["sign-in"] {
	case "":
		return provider.Consents
	case "code":
		return []string{"page"}
	case "device", "paste":
		return []string{options["sign-in"]}
	}
	return nil
}

// chooseConsent returns the way of consent that was asked for. Without one it is a page,
// if a browser can be opened here and leads back to this machine; otherwise a device code;
// otherwise a pasted address.
func (a *app) chooseConsent(ways []string, wanted string) (string, error) {
	if wanted != "" {
		if !slices.Contains(ways, wanted) {
			return "", usageError("--consent %q is none that the provider has; use %s", wanted, strings.Join(ways, ", "))
		}
		return wanted, nil
	}
	order := []string{"device", "paste", "page"}
	if a.browser() != "" && a.localService() {
		order = []string{"page", "device", "paste"}
	}
	for _, way := range order {
		if slices.Contains(ways, way) {
			return way, nil
		}
	}
	return ways[0], nil
}

// localService reports whether the service runs on this machine, so that a
// page that leads back to it leads back to this browser.
func (a *app) localService() bool {
	for _, local := range []string{"//127.0.0.1", "//localhost", "//[::1]"} {
		if strings.Contains(a.client().URL, local) {
			return true
		}
	}
	return false
}

// browser is the program that opens a page here; empty where there is none.
func (a *app) browser() string {
	if named := a.env("BROWSER"); named != "" {
		return named
	}
	opener := "xdg-open"
	switch {
	case runtime.GOOS == "darwin":
		opener = "open"
	case a.env("DISPLAY") == "" && a.env("WAYLAND_DISPLAY") == "":
		return ""
	}
	if path, err := exec.LookPath(opener); err == nil {
		return path
	}
	return ""
}

// linkByConsent sends a person to the provider, and waits until they have
// agreed.
func (a *app) linkByConsent(ctx context.Context, asked contract.Consenting, provider contract.Provider, ways []string,
	wanted string) (contract.Account, error) {
	consent, err := a.consent(ctx, asked, provider, ways, wanted)
	if err != nil {
		return contract.Account{}, err
	}
	return *consent.Account, nil
}

func (a *app) consent(ctx context.Context, asked contract.Consenting, provider contract.Provider, ways []string,
	wanted string) (contract.Consent, error) {
	way, err := a.chooseConsent(ways, wanted)
	if err != nil {
		return contract.Consent{}, err
	}
	asked.Way = way
	c := a.client()
	begun, err := c.BeginConsent(ctx, asked)
	if err != nil {
		return begun, err
	}
	ended := false
	defer func() {
		if !ended { // nobody waits for it any more
			giving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
			defer cancel()
			_ = c.GiveUpConsent(giving, begun.ID)
		}
	}()
	// To stderr, so that --json prints nothing but the account.
	switch way {
	case "page":
		fmt.Fprintf(a.err, "Give your consent at %s:\n\n  %s\n\n", format.Plain(provider.Title), begun.URL)
		if opener := a.browser(); opener != "" {
			if err := exec.CommandContext(ctx, opener, begun.URL).Start(); err == nil {
				fmt.Fprintln(a.err, a.paint(soft, "The page opens in the browser. Waiting for the answer; Ctrl-C gives up."))
			}
		} else {
			fmt.Fprintln(a.err, a.paint(soft, "Waiting for the answer; Ctrl-C gives up."))
		}
	case "device":
		fmt.Fprintf(a.err, "On any device, open\n\n  %s\n\nand enter the code\n\n  %s\n\n%s\n", begun.URL, a.paint(plumage, begun.UserCode),
			a.paint(soft, "The code expires at "+begun.Expires.Local().Format("15:04")+". Waiting for your consent; Ctrl-C cancels."))
	case "paste":
		fmt.Fprintf(a.err, "On any device, open\n\n  %s\n\nGive your consent there, and paste the code or the address of the last page: ",
			begun.URL)
		line, err := a.readLine(ctx)
		if err != nil {
			return begun, err
		}
		if begun, err = c.AnswerConsent(ctx, begun.ID, line); err != nil {
			return begun, err
		}
	}
	for begun.State == "waiting" || begun.State == "agreed" {
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return begun, ctx.Err()
		}
		if begun, err = c.Consent(ctx, begun.ID); err != nil {
			return begun, err
		}
	}
	ended = true
	if begun.State == "failed" {
		return begun, &exitError{exitNotAllowed, &contract.Problem{Detail: begun.Why, Remedy: begun.Remedy}}
	}
	return begun, nil
}

// readLine reads one line, or gives up when the context ends.
func (a *app) readLine(ctx context.Context) (string, error) {
	type read struct {
		line string
		err  error
	}
	done := make(chan read, 1)
	go func() {
		line, err := bufio.NewReader(a.in).ReadString('\n')
		done <- read{line, err}
	}()
	select {
	case got := <-done:
		if line := strings.TrimSpace(got.line); line != "" {
			return line, nil
		}
		if got.err == nil || errors.Is(got.err, io.EOF) {
			return "", usageError("nothing was pasted; run it again, and paste what the page shows")
		}
		return "", got.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

func (a *app) accountReauthorize() *cobra.Command {
	var secretFile, keyFile, consent string
	command := a.accountVerb("reauthorize NAME", "Renew the sign-in of an account; runs held for it continue",
		func(ctx context.Context, name string) error {
			c := a.client()
			account, err := c.Account(ctx, name)
			if err != nil {
				return err
			}
			provider, err := c.Provider(ctx, account.Provider)
			if err != nil {
				return err
			}
			if ways := consentsOf(provider, account.Options); len(ways) > 0 {
				asked := contract.Consenting{Link: contract.Link{Name: name, Provider: account.Provider}, Reauthorize: true}
				if secretFile != "" {
					if asked.Secret, _, err = a.secret(secretFile, "Client secret"); err != nil {
						return err
					}
				}
				account, err = a.linkByConsent(ctx, asked, provider, ways, consent)
			} else {
				link := contract.Link{Options: account.Options}
				if keyFile != "" {
					content, err := readKey("key-file", keyFile)
					if err != nil {
						return err
					}
					link.Files = map[string]string{"key-file": content}
				}
				if err := a.askSecret(provider, &link, secretFile, false); err != nil {
					return err
				}
				if link.Secret == "" && len(link.Files) == 0 {
					return usageError("give the new secret with --secret-file FILE, or - for standard input")
				}
				account, err = c.Reauthorize(ctx, name, contract.Reauthorizing{Secret: link.Secret, Files: link.Files})
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(account)
			}
			fmt.Fprintf(a.out, "Reauthorized %s. Runs held for it continue.\n", a.paint(plumage, "/"+account.Name))
			return a.printFound(*account.Found)
		})
	command.Flags().StringVar(&secretFile, "secret-file", "", "a file that holds the new secret, or - for standard input")
	command.Flags().StringVar(&keyFile, "key-file", "", "a new private key, where the account signs in with one")
	command.Flags().StringVar(&consent, "consent", "", "how to agree, where the account was linked by consent: page, device or paste")
	return command
}
