// Command pages writes the manual pages and the completions of the program's commands.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra/doc"

	"deftheron/cli"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: pages FOLDER VERSION")
		os.Exit(2)
	}
	if err := write(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// write makes man/ and completions/ in a folder. The date is that of SOURCE_DATE_EPOCH.
func write(folder, version string) error {
	seconds, err := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64)
	if err != nil {
		return fmt.Errorf("SOURCE_DATE_EPOCH is not set to a time in seconds: %w", err)
	}
	if err := os.Setenv("HOME", "~"); err != nil { // as defaults are written
		return err
	}
	date := time.Unix(seconds, 0).UTC()
	root := cli.Root(version)
	root.DisableAutoGenTag = true
	pages, completions := filepath.Join(folder, "man"), filepath.Join(folder, "completions")
	for _, made := range []string{pages, completions} {
		if err := os.MkdirAll(made, 0o755); err != nil {
			return err
		}
	}
	header := &doc.GenManHeader{Title: "HERON", Section: "1", Date: &date, Source: "Deft Heron " + version, Manual: "Deft Heron"}
	if err := doc.GenManTree(root, header, pages); err != nil {
		return err
	}
	for name, generate := range map[string]func(string) error{
		"heron.bash": func(path string) error { return root.GenBashCompletionFileV2(path, true) },
		"_heron":     root.GenZshCompletionFile,
		"heron.fish": func(path string) error { return root.GenFishCompletionFile(path, true) },
	} {
		if err := generate(filepath.Join(completions, name)); err != nil {
			return err
		}
	}
	return nil
}
