package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

var steps = []string{"survey", "first-pass", "catch-up", "final-pass", "clear"}

// mayStep asks before a step that removes.
func (a *app) mayStep(ctx context.Context, name, step string, yes bool) error {
	job, err := a.client().Job(ctx, name)
	if err != nil || job.Migration == nil {
		return err
	}
	if step == "" {
		step = job.Migration.Next
	}
	if step != "clear" {
		return nil
	}
	verified := "the verified files"
	if certificate := job.Migration.Certificate; certificate != nil {
		verified = fmt.Sprintf("%s (%s)", format.Some(certificate.Verified.Items, "file"), format.Size(certificate.Verified.Bytes))
	}
	var from []string
	for _, route := range job.Routes {
		from = append(from, route.From)
	}
	question := fmt.Sprintf("Delete %s at %s? Each file is checked again on both sides and deleted only if it is as verified; "+
		"heron job bring-back %s copies it back.", verified, strings.Join(from, ", "), name)
	return a.confirm(yes, question, "clear the source of "+name)
}

func (a *app) jobBringBack() *cobra.Command {
	var detach bool
	command := a.jobVerb("bring-back NAME", "Copy back to the source what a migration has cleared there", nil)
	command.Long = "Copies the files of a migration whose source was cleared back to the source, under their old names, and verifies\n" +
		"them. The files at the targets stay."
	command.RunE = func(command *cobra.Command, args []string) error {
		c := a.client()
		started, err := c.StartStep(command.Context(), args[0], "bring-back")
		if err != nil {
			return err
		}
		return a.followStarted(command, c, started, detach)
	}
	command.Flags().BoolVar(&detach, "detach", false, "start the run and return at once")
	return command
}

// printMigration says how far a migration has come.
func (a *app) printMigration(migration contract.MigrationProgress) {
	for _, step := range migration.Steps {
		what := fmt.Sprintf("%s, %s", format.Some(step.Items, "item"), format.Size(step.Transferred))
		if step.Step == "survey" {
			what = "see it: heron run report " + step.Run + " --out survey.html"
		}
		fmt.Fprintf(a.out, "  %-11s %s  %s, %s\n", step.Step, a.stateMark(string(step.State)), when(step.Ended), what)
	}
	if c := migration.Certificate; c != nil {
		fmt.Fprintf(a.out, "  %-11s %s verified (%s), %s not: heron run report %s --certificate --out certificate.html\n", "certificate",
			format.Some(c.Verified.Items, "file"), format.Size(c.Verified.Bytes), format.Count(c.Unverified.Items), c.Run)
	}
	if c := migration.Certificate; c != nil && c.Annotations != nil {
		n := c.Annotations
		fmt.Fprintf(a.out, "  Carried over: %s, %s.\n", format.Some(n.Tags, "tag"), format.Some(n.Comments, "comment"))
		if n.Missing > 0 {
			fmt.Fprintf(a.out, "  Not at the target, with tags or comments: %s.\n", format.Some(n.Missing, "entry"))
		}
	}
	if c := migration.Certificate; c != nil && c.Sharing != nil {
		s := c.Sharing
		fmt.Fprintf(a.out, "  %-11s %s carried over, %s lesser, %s missing: heron run report %s --certificate --format people-csv\n", "rights",
			format.Count(s.Carried), format.Count(s.Lesser), format.Count(s.Missing), c.Run)
	}
	mark := a.paint(plumage, "→")
	if migration.Waits {
		mark = a.paint(ochre, "▬")
	}
	fmt.Fprintln(a.out, a.wrapped(2, mark+" "+format.Plain(migration.Sentence)))
	a.printCommands(migration.Commands)
}

// checkPaper says whether a report or certificate is as it was handed out.
func (a *app) checkPaper(ctx context.Context, file string, files bool) error {
	opened, err := os.Open(file)
	if err != nil {
		return usageError("%s cannot be read (%v); name a report or certificate that was written with --out", file, bareError(err))
	}
	defer opened.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, opened); err != nil {
		return fmt.Errorf("%s cannot be read to its end: %w", file, err)
	}
	checked, err := a.client().CheckPaper(ctx, hex.EncodeToString(sum.Sum(nil)))
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(checked)
	} else {
		a.tellChecked(file, checked)
	}
	if err == nil && !checked.Stands {
		return &exitError{exitFailed, nil}
	}
	if err == nil && files {
		return a.verifyFiles(ctx, checked)
	}
	return err
}

// verifyFiles compares the files at the target with a certificate.
func (a *app) verifyFiles(ctx context.Context, checked contract.Checked) error {
	if checked.Kind != "certificate" {
		return usageError("--files goes with a certificate, and this is a %s", checked.Kind)
	}
	var summary contract.VerifiedSummary
	for line, err := range a.client().VerifyCertificate(ctx, checked.Run) {
		if err != nil {
			return err
		}
		if line.Summary != nil {
			summary = *line.Summary
		}
		if a.json {
			if err := a.printJSON(line); err != nil {
				return err
			}
			continue
		}
		if line.Summary == nil {
			fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(brick, "✗ "+strings.ReplaceAll(line.Outcome, "-", " ")), format.Plain(line.Target),
				a.paint(soft, format.Plain(line.Why)))
		}
	}
	if !a.json {
		fmt.Fprintf(a.out, "Read at the target, with the BLAKE3 of the certificate: %s (%s).\n", format.Some(summary.Holds.Items, "file"),
			format.Size(summary.Holds.Bytes))
		if n := summary.NotCertified.Items; n > 0 {
			fmt.Fprintf(a.out, "Not compared, as the certificate has no BLAKE3 of them: %s.\n", format.Some(n, "file"))
		}
	}
	if summary.Differs.Items+summary.Missing.Items+summary.Unreadable.Items > 0 {
		return &exitError{exitFailed, nil}
	}
	return nil
}

func (a *app) tellChecked(file string, checked contract.Checked) {
	fmt.Fprintf(a.out, "%s is the %s of run %s, issued at %s. It has not been altered.\n", file, checked.Kind, checked.Run, when(&checked.At))
	switch {
	case checked.Kind == "certificate" && checked.Stands:
		fmt.Fprintf(a.out, "The records say the same now: %s\n", checked.Digest)
	case !checked.Stands:
		fmt.Fprintf(a.out, "The records differ: the run has a newer certificate. Get it with: heron run report %s --certificate\n", checked.Run)
	}
}
