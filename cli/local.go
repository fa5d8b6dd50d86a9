package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/remedy"
)

func (a *app) get() *cobra.Command {
	var yes bool
	var formats []string
	command := &cobra.Command{
		Use: "get ADDRESS... LOCAL", Short: "Download files and folders",
		Long: "If LOCAL is a folder, each entry goes into it under its own name. Otherwise a single entry becomes LOCAL.\n" +
			"Names that this disk does not allow and files that are already there are reported before anything is written.",
		Example: "  heron get /archive/2026/Reports .\n  heron get /desk/notes.txt /tmp/other-name.txt",
		Args:    arguments(2, -1, "at least one address, and a local path"),
		ValidArgsFunction: func(command *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 || strings.HasPrefix(begun, "/") {
				return a.completeAddresses(command, args, begun)
			}
			return nil, cobra.ShellCompDirectiveDefault
		},
		RunE: func(command *cobra.Command, args []string) error {
			from, local := args[:len(args)-1], args[len(args)-1]
			if err := addresses(from); err != nil {
				return err
			}
			return a.fetch(command.Context(), from, local, formats, yes)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "replace existing files without asking")
	command.Flags().StringSliceVar(&formats, "as", nil,
		"what documents that exist only inside a service are exported as, such as odt,pdf; each kind's default unless given")
	return command
}

// into opens the local folder to write to; name is the new name of a single entry, or
// empty if it keeps its own.
func (a *app) into(ctx context.Context, local string, single bool) (root *os.Root, name string, err error) {
	info, err := os.Stat(local)
	switch {
	case err == nil && info.IsDir():
		root, err = os.OpenRoot(local)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return nil, "", remedy.Errorf("%s cannot be used (%v); choose another path", local, bareError(err))
	case !single:
		return nil, "", usageError("%s is not a folder of this machine, and several entries are to go there; make it first", local)
	case strings.HasSuffix(local, string(filepath.Separator)):
		return nil, "", usageError("there is no folder %s on this machine; make it first", local)
	default:
		name = filepath.Base(local)
		root, err = os.OpenRoot(filepath.Dir(local))
	}
	if err == nil {
		return root, name, nil
	}
	if account := a.accountOf(ctx, local); account != "" {
		return nil, "", usageError("there is no folder %s on this machine; if that is an address in the account %s, use heron copy",
			filepath.Dir(local), account)
	}
	return nil, "", usageError("there is no folder %s on this machine (%v); make it first", filepath.Dir(local), bareError(err))
}

// accountOf is the linked account that a path might be an address in.
func (a *app) accountOf(ctx context.Context, path string) string {
	accounts, err := a.client().Accounts(ctx)
	if err != nil {
		return ""
	}
	for _, account := range accounts {
		if path == account.Address || strings.HasPrefix(path, account.Address+"/") {
			return account.Name
		}
	}
	return ""
}

func (a *app) fetch(ctx context.Context, from []string, local string, formats []string, yes bool) error {
	c := a.client()
	var entries []contract.Entry
	for _, address := range from {
		entry, err := c.Stat(ctx, address)
		if err != nil {
			return err
		}
		entries = append(entries, entry)
	}
	root, name, err := a.into(ctx, local, len(from) == 1)
	if err != nil {
		return err
	}
	defer root.Close()
	progress := &client.Progress{}
	var gets []client.Get
	var survey client.Survey
	taken := map[string]string{}
	for _, entry := range entries {
		get := client.Get{Client: c, Entry: entry, Root: root, Name: entry.Name, Replace: yes, Formats: formats, Progress: progress}
		if name != "" {
			get.Name = name
		}
		if other, twice := taken[get.Name]; twice {
			return usageError("%s and %s would both become %s; fetch them to different folders", other, entry.Address, get.Name)
		}
		taken[get.Name] = entry.Address
		if err := get.Survey(ctx, &survey); err != nil {
			return err
		}
		gets = append(gets, get)
	}
	if err := a.agree(survey, "fetched", &yes); err != nil {
		return err
	}
	return a.carry(progress, survey, "Fetched", func() error {
		for _, get := range gets {
			get.Replace = yes
			if err := get.Do(ctx); err != nil {
				return err
			}
		}
		return nil
	})
}

// agree says what cannot be done, and asks whether files may be replaced.
func (a *app) agree(survey client.Survey, done string, yes *bool) error {
	if survey.Refusals > 0 {
		for i, refused := range survey.Refused {
			if i == 10 {
				fmt.Fprintf(a.err, "  and %s more\n", format.Count(survey.Refusals-10))
				break
			}
			fmt.Fprintf(a.err, "  %s %s: %s\n", a.paint(brick, "✗"), format.Plain(refused.Name), format.Plain(refused.Why))
		}
		return remedy.Errorf("%s cannot be %s, as listed above, and nothing was changed; rename what stands in the way, or leave it out",
			format.Some(survey.Refusals, "entry"), done)
	}
	if survey.Replaces == 0 || *yes {
		return nil
	}
	what := "replace " + format.Some(survey.Replaces, "file")
	if err := a.confirm(false, fmt.Sprintf("%s there already. %s?", are(survey.Replaces), contract.Capital(what)), what); err != nil {
		return err
	}
	*yes = true
	return nil
}

func are(n int64) string {
	if n == 1 {
		return "1 file is"
	}
	return format.Count(n) + " files are"
}

// carry shows the progress, and prints at the end what was done.
func (a *app) carry(progress *client.Progress, survey client.Survey, done string, do func() error) error {
	began := time.Now()
	stop := a.showProgress(progress, survey)
	err := do()
	stop()
	took := time.Since(began).Seconds()
	files, bytes := progress.Files.Load(), progress.Bytes.Load()
	if a.json && err == nil {
		return a.printJSON(map[string]int64{"files": files, "folders": survey.Folders, "bytes": bytes, "skipped": survey.Skipped})
	}
	line := fmt.Sprintf("%s %s (%s) in %s", done, format.Some(files, "file"), format.Size(bytes), format.Duration(took))
	if survey.Skipped > 0 {
		line += fmt.Sprintf("; %s left out, as links and devices hold nothing of their own", format.Count(survey.Skipped))
	}
	if err != nil {
		if files > 0 {
			fmt.Fprintln(a.err, line+", and then it failed.")
		}
		return err
	}
	_, err = fmt.Fprintln(a.out, line+".")
	return err
}

// showProgress draws a bar on a terminal until the function returned is called.
func (a *app) showProgress(progress *client.Progress, survey client.Survey) func() {
	if !a.terminal || a.json || survey.Bytes < 1<<20 && survey.Files < 20 {
		return func() {}
	}
	began := time.Now()
	bars := mpb.New(mpb.WithOutput(a.out), mpb.WithRefreshRate(200*time.Millisecond), mpb.WithAutoRefresh())
	bar := bars.New(1, mpb.NopStyle(), mpb.BarFillerMiddleware(func(mpb.BarFiller) mpb.BarFiller {
		return mpb.BarFillerFunc(func(w io.Writer, _ decor.Statistics) error {
			const cells = 32
			moved := progress.Bytes.Load()
			part := min(1, float64(moved)/float64(max(1, survey.Bytes)))
			full := int(part * cells)
			rate := float64(moved) / max(0.1, time.Since(began).Seconds())
			left := "time left not known yet"
			if rate > 0 {
				left = format.Duration(float64(survey.Bytes-moved)/rate) + " left"
			}
			_, err := fmt.Fprintf(w, "%s%s %3.0f %%  %s  %s of %s, %s of %s, %s/s", a.paint(plumage, strings.Repeat("━", full)),
				a.paint(soft, strings.Repeat("─", cells-full)),
				100*part, left, format.Count(progress.Files.Load()), format.Some(survey.Files, "file"), format.Size(moved), format.Size(survey.Bytes),
				format.Size(int64(rate)))
			return err
		})
	}), mpb.BarRemoveOnComplete(), mpb.BarFillerTrim())
	return func() {
		bar.Abort(true)
		bars.Wait()
	}
}

func (a *app) put() *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "put LOCAL... ADDRESS", Short: "Upload files and folders",
		Long: "Each appears in the folder ADDRESS under its own name; a missing folder is created. With - for standard input,\n" +
			"ADDRESS is the file itself. Uploads are verified.",
		Example: "  heron put report.pdf Maps /desk/2026\n  tar c logs | heron put - /archive/logs.tar",
		Args:    arguments(2, -1, "at least one local path, and an address"),
		ValidArgsFunction: func(command *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 && strings.HasPrefix(begun, "/") {
				return a.completeAddresses(command, args, begun)
			}
			return nil, cobra.ShellCompDirectiveDefault
		},
		RunE: func(command *cobra.Command, args []string) error {
			locals, to := args[:len(args)-1], args[len(args)-1]
			if err := address(to); err != nil {
				return err
			}
			if locals[0] == "-" {
				if len(locals) > 1 {
					return usageError("standard input goes alone; send the files by themselves")
				}
				return a.sendInput(command.Context(), to, yes)
			}
			return a.sendFiles(command.Context(), locals, to, yes)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "replace existing files without asking")
	return command
}

// sendInput sends standard input as one file.
func (a *app) sendInput(ctx context.Context, to string, yes bool) error {
	c := a.client()
	upload := client.Upload{Address: to, Size: -1, Body: a.in}
	entry, err := c.Stat(ctx, to)
	var problem *contract.Problem
	switch {
	case err == nil && entry.Kind == "folder":
		return usageError("%s is a folder; give an address for the file", to)
	case err == nil:
		if !yes {
			// Standard input holds the content, so no question can be asked there.
			return usageError("%s already exists; replace it with --yes, or choose another name", to)
		}
		upload.Replace = entry.Revision
	case !errors.As(err, &problem) || problem.Status != 404:
		return err
	}
	uploaded, err := c.Write(ctx, upload)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(uploaded)
	}
	_, err = fmt.Fprintf(a.out, "Sent %s to %s: %s\n", format.Size(uploaded.Size), a.paint(plumage, format.Plain(to)), uploaded.Verification)
	return err
}

func (a *app) sendFiles(ctx context.Context, locals []string, to string, yes bool) error {
	c := a.client()
	progress := &client.Progress{}
	var puts []*client.Put
	var survey client.Survey
	taken := map[string]string{}
	for _, local := range locals {
		if _, err := os.Stat(local); err != nil {
			if account := a.accountOf(ctx, local); account != "" {
				return usageError("there is no local file %s; if that is an address in the account %s, use heron copy", local, account)
			}
			return usageError("%s cannot be read (%v); name a file or folder of this machine", local, bareError(err))
		}
		full, err := filepath.Abs(local)
		if err != nil {
			return err
		}
		if other, twice := taken[filepath.Base(full)]; twice {
			return usageError("%s and %s have the same name; send them to different folders", other, local)
		}
		taken[filepath.Base(full)] = local
		root, err := os.OpenRoot(filepath.Dir(full))
		if err != nil {
			return fmt.Errorf("%s cannot be read: %w", filepath.Dir(full), err)
		}
		defer root.Close()
		put := &client.Put{Client: c, Root: root, Name: filepath.Base(full), To: to, Progress: progress}
		if err := put.Survey(ctx, &survey); err != nil {
			return err
		}
		puts = append(puts, put)
	}
	if err := a.agree(survey, "sent", &yes); err != nil {
		return err
	}
	return a.carry(progress, survey, "Sent", func() error {
		for _, put := range puts {
			put.Replace = yes
			if err := put.Do(ctx); err != nil {
				return err
			}
		}
		return nil
	})
}
