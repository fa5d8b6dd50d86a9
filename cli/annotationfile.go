package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

// annotationsFormat is the name of the format of an export, which is an object of JSON with
// the members format, version and entries; see contract.Annotations.
const annotationsFormat = "heron-annotations"

func (a *app) tagExport() *cobra.Command {
	var file string
	command := &cobra.Command{
		Use: "export [ADDRESS]", Short: "Write tags, comments and locks as JSON", Args: arguments(0, 1, "at most one address"),
		ValidArgsFunction: a.completeAddresses, Example: "  heron tag export /office-drive --file annotations.json",
		RunE: func(command *cobra.Command, args []string) error {
			if err := addresses(args); err != nil {
				return err
			}
			in := ""
			if len(args) > 0 {
				in = args[0]
			}
			if file == "" || file == "-" {
				_, err := a.exportAnnotations(command.Context(), in, a.out)
				return err
			}
			target, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("could not write %s: %w", file, err)
			}
			n, err := a.exportAnnotations(command.Context(), in, target)
			if err = errors.Join(err, target.Close()); err != nil {
				return errors.Join(err, os.Remove(file))
			}
			_, err = fmt.Fprintf(a.out, "The tags and comments of %s are in %s.\n", format.Some(n, "entry"), file)
			return err
		},
	}
	command.Flags().StringVar(&file, "file", "", "file to write, which must not exist yet (default standard output)")
	return command
}

// exportAnnotations writes the annotations below a folder, or all of them, as they arrive.
func (a *app) exportAnnotations(ctx context.Context, in string, out io.Writer) (n int64, err error) {
	writer := bufio.NewWriter(out)
	fmt.Fprintf(writer, "{\n  \"format\": %q,\n  \"version\": 1,\n  \"entries\": [", annotationsFormat)
	for one, err := range a.client().Annotated(ctx, in, "") {
		if err != nil {
			return n, err
		}
		text, err := json.Marshal(one)
		if err != nil {
			return n, err
		}
		if n > 0 {
			fmt.Fprint(writer, ",")
		}
		fmt.Fprintf(writer, "\n    %s", text)
		n++
	}
	fmt.Fprint(writer, "\n  ]\n}\n")
	return n, writer.Flush()
}

func (a *app) tagImport() *cobra.Command {
	return &cobra.Command{
		Use: "import FILE", Short: "Read tags and comments from an export; what is there stays",
		Args:    arguments(1, 1, "one file, or - for standard input"),
		Example: "  heron tag import annotations.json",
		RunE: func(command *cobra.Command, args []string) error {
			in := a.in
			if args[0] != "-" {
				file, err := os.Open(args[0])
				if err != nil {
					return fmt.Errorf("could not read %s: %w", args[0], err)
				}
				defer file.Close()
				in = file
			}
			result, err := a.importAnnotations(command.Context(), in, args[0])
			if err != nil {
				return err
			}
			return a.printImport(result)
		},
	}
}

// importAnnotations sends the entries of an export, some at once.
func (a *app) importAnnotations(ctx context.Context, in io.Reader, name string) (total contract.ImportResult, err error) {
	const batch = 500
	total.Failed = []contract.Blocker{}
	var entries []contract.Annotations
	flush := func() error {
		if len(entries) == 0 {
			return nil
		}
		result, err := a.client().ImportAnnotations(ctx, entries)
		entries = entries[:0]
		total.Entries += result.Entries
		total.Tags += result.Tags
		total.Comments += result.Comments
		total.Failed = append(total.Failed, result.Failed...)
		return err
	}
	err = readAnnotations(in, func(one contract.Annotations) error {
		if entries = append(entries, one); len(entries) < batch {
			return nil
		}
		return flush()
	})
	var call *callError
	if errors.As(err, &call) {
		return total, call.error
	}
	if err != nil {
		return total, usageError("%s is not an export of tags and comments: %v; make one with: heron tag export", name, err)
	}
	return total, flush()
}

// callError is an error of the service, and not of the file that is read.
type callError struct{ error }

// readAnnotations calls each with the entries of an export, one by one.
func readAnnotations(in io.Reader, each func(contract.Annotations) error) error {
	decoder := json.NewDecoder(in)
	if token, err := decoder.Token(); err != nil || token != json.Delim('{') {
		return errors.New("it does not begin with {")
	}
	read, named := false, false
	for decoder.More() {
		key, err := decoder.Token()
		if err != nil {
			return err
		}
		switch key {
		case "format":
			var format string
			if err := decoder.Decode(&format); err != nil || format != annotationsFormat {
				return fmt.Errorf("its format is not %s", annotationsFormat)
			}
			named = true
		case "entries":
			if !named {
				return fmt.Errorf("its format, %s, is not said before its entries", annotationsFormat)
			}
			read = true
			if err := readEntries(decoder, each); err != nil {
				return err
			}
		default:
			var other json.RawMessage
			if err := decoder.Decode(&other); err != nil {
				return err
			}
		}
	}
	if !read {
		return errors.New("it has no entries")
	}
	_, err := decoder.Token()
	return err
}

func readEntries(decoder *json.Decoder, each func(contract.Annotations) error) error {
	if token, err := decoder.Token(); err != nil || token != json.Delim('[') {
		return errors.New("its entries are not a list")
	}
	for decoder.More() {
		var one contract.Annotations
		if err := decoder.Decode(&one); err != nil {
			return err
		}
		if err := each(one); err != nil {
			return &callError{err}
		}
	}
	_, err := decoder.Token()
	return err
}

func (a *app) printImport(result contract.ImportResult) error {
	if a.json {
		return a.printJSON(result)
	}
	fmt.Fprintf(a.out, "%s: %s and %s are new.\n", format.Some(result.Entries, "entry"), format.Some(result.Tags, "tag"),
		format.Some(result.Comments, "comment"))
	if len(result.Failed) == 0 {
		return nil
	}
	t := a.newTable("WHY", "NOT IMPORTED")
	for _, one := range result.Failed {
		t.AppendRow(table.Row{format.Plain(one.Why), format.Plain(one.Address)})
	}
	t.Render()
	return &exitError{exitFailed, fmt.Errorf("%s could not be imported", format.Some(int64(len(result.Failed)), "entry"))}
}
