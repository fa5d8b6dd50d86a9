package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
	"deftheron/core/remedy"
)

// address refuses a text that is no address, and says what an address looks like.
func address(text string) error {
	if strings.HasPrefix(text, "/") {
		return nil
	}
	if _, err := os.Lstat(text); err == nil && text != "" {
		return usageError("%q is a path of this machine and no address; an address begins with / and an account's name, as in /desk/Reports, "+
			"and heron put sends local files there", text)
	}
	return usageError("%q is not an address; an address begins with / and an account's name, as in /desk/Reports", text)
}

func addresses(texts []string) error {
	for _, text := range texts {
		if err := address(text); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) cat() *cobra.Command {
	var at time.Time
	command := &cobra.Command{
		Use: "cat ADDRESS...", Short: "Write files to standard output", Args: arguments(1, -1, "one address or several"),
		ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			for _, address := range args {
				if err := a.writeContent(command.Context(), address, at); err != nil {
					return err
				}
			}
			return nil
		},
	}
	command.Flags().Var(pastTime{&at}, "at", "write what was there at a time: 2026-11-27, yesterday, or an age such as 6h or 3d")
	return command
}

func (a *app) writeContent(ctx context.Context, address string, at time.Time) error {
	content, err := a.client().ReadAt(ctx, address, at)
	if err != nil {
		return err
	}
	defer content.Close()
	n, err := io.Copy(a.out, content)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return remedy.Errorf("%s broke off after %s; read it again", address, format.Size(n))
	}
	return err
}

func (a *app) mkdir() *cobra.Command {
	var parents bool
	command := &cobra.Command{
		Use: "mkdir ADDRESS...", Short: "Create folders", Args: arguments(1, -1, "one address or several"),
		ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			for _, address := range args {
				entry, err := a.client().MakeFolder(command.Context(), contract.NewFolder{Address: address, Parents: parents})
				if err != nil {
					return err
				}
				if a.json {
					if err := a.printJSON(entry); err != nil {
						return err
					}
					continue
				}
				fmt.Fprintln(a.out, "Made "+a.paint(plumage, format.Plain(entry.Address))+".")
			}
			return nil
		},
	}
	command.Flags().BoolVarP(&parents, "parents", "p", false, "create missing parents, and accept existing folders")
	return command
}

func (a *app) mv() *cobra.Command {
	var detach bool
	command := &cobra.Command{
		Use: "mv ADDRESS... TARGET", Short: "Move or rename files and folders",
		Long: "If TARGET is a folder, each source moves into it under its own name. Otherwise a single source becomes TARGET.\n" +
			"Within an account the entry is renamed if the account can do that. To another account it is copied, verified\n" +
			"and then deleted at the source; a file that changed in the meantime stays. Nothing is overwritten.",
		Example: "  heron mv /desk/draft.txt /desk/final.txt\n  heron mv /desk/2024 /desk/2025 /archive/years",
		Args:    arguments(2, -1, "at least one address to move, and a target"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			return a.move(command, args[:len(args)-1], args[len(args)-1], detach)
		},
	}
	command.Flags().BoolVar(&detach, "detach", false, "do not wait for what goes to another account")
	return command
}

func (a *app) move(command *cobra.Command, from []string, target string, detach bool) error {
	c, ctx := a.client(), command.Context()
	request := contract.Move{From: from, To: target}
	entry, err := c.Stat(ctx, target)
	var problem *contract.Problem
	switch {
	case err == nil && entry.Kind != "folder":
		return remedy.Errorf("%s already exists; choose another name, or move it out of the way", target)
	case err == nil:
	case errors.As(err, &problem) && problem.Status == 404 && len(from) == 1 && strings.Count(strings.TrimSuffix(target, "/"), "/") > 1:
		request.To, request.As = "", target
	default:
		return err
	}
	moved, err := c.Move(ctx, request)
	if err != nil {
		return err
	}
	if a.json && (moved.Run == "" || detach) {
		return a.printJSON(moved)
	}
	if !a.json {
		for _, route := range moved.Moved {
			fmt.Fprintf(a.out, "Moved %s → %s\n", format.Plain(route.From), a.paint(plumage, format.Plain(route.To)))
		}
	}
	switch {
	case moved.Run == "":
		return nil
	case detach:
		_, err := fmt.Fprintf(a.out, "Run %s has started. Follow it with: heron run follow %s\n", moved.Run, moved.Run)
		return err
	}
	run, err := a.follow(ctx, c, moved.Run)
	if err != nil {
		return a.stillRuns(command, moved.Run, err)
	}
	return a.conclude(run)
}

func (a *app) rm() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "rm ADDRESS...", Short: "Delete files and folders",
		Long: "Counts the files first and asks. A file that changes in the meantime is not deleted. If there are more files\n" +
			"than were counted, the command stops.",
		Args: arguments(1, -1, "one address or several"), ValidArgsFunction: a.completeAddresses,
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			return a.remove(command.Context(), args, yes)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return command
}

func (a *app) remove(ctx context.Context, args []string, yes bool) error {
	c := a.client()
	plan, err := c.PlanRemoval(ctx, args)
	if err != nil {
		return err
	}
	back := "It cannot be restored."
	if plan.Trash {
		back = "It can be restored from the provider's trash."
	}
	names := make([]string, len(args))
	for i, address := range args {
		names[i] = format.Plain(address)
	}
	question := fmt.Sprintf("Delete %s (%s)? %s", strings.Join(names, ", "), format.Quantity(plan.Quantity), back)
	if err := a.confirm(yes, question, "delete "+format.Quantity(plan.Quantity)); err != nil {
		return err
	}
	removed, err := c.Remove(ctx, contract.Removal{Addresses: args, Agreed: plan.Quantity})
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(removed)
	} else {
		fate := ""
		if removed.Trash > 0 {
			fate = " " + format.Some(removed.Trash, "entry") + " can be restored from the provider's trash."
		}
		_, err = fmt.Fprintf(a.out, "Deleted %s.%s\n", format.Quantity(removed.Quantity), fate)
	}
	if err != nil || removed.Kept == 0 {
		return err
	}
	if !a.json {
		for i, failure := range removed.Failed {
			if i == 10 {
				fmt.Fprintf(a.out, "  and %s more\n", format.Count(removed.Kept-10))
				break
			}
			fmt.Fprintf(a.out, "  %s %s: %s. %s\n", a.paint(brick, "✗"), format.Plain(failure.Address), contract.Capital(format.Plain(failure.Why)),
				failure.Remedy)
		}
	}
	return remedy.Errorf("%s could not be deleted; fix what is named above, and try again", format.Some(removed.Kept, "entry"))
}
