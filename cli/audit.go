package cli

import (
	"fmt"
	"os"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

func (a *app) audit() *cobra.Command {
	return nouns("audit", "Show who did what, and verify that the record is unaltered", a.auditList(), a.auditVerify(), a.auditExport())
}

func (a *app) auditList() *cobra.Command {
	var filter client.AuditFilter
	var most int
	command := &cobra.Command{
		Use: "list", Short: "List the audit log, newest first", Args: arguments(0, 0, "nothing more"),
		Example: "  heron audit list --user surveyor --text /archive",
		RunE: func(command *cobra.Command, _ []string) error {
			entries := []contract.AuditEntry{}
			for entry, err := range a.client().Audit(command.Context(), filter) {
				if err != nil {
					return err
				}
				if len(entries) >= most {
					break
				}
				entries = append(entries, entry)
			}
			if a.json {
				return a.printJSON(entries)
			}
			if len(entries) == 0 {
				_, err := fmt.Fprintln(a.out, "The audit log has no such entries.")
				return err
			}
			t := a.newTable("TIME", "USER", "BY", "FROM", "ACTION", "OUTCOME", "SUBJECT")
			for _, one := range entries {
				user, outcome := one.User, one.Outcome
				if user == "" {
					user = "nobody"
				}
				if one.Times > 1 {
					outcome += fmt.Sprintf(", %d times", one.Times)
				}
				t.AppendRow(table.Row{when(&one.At), user, one.Kind, one.From, one.Action, outcome, format.Plain(one.Subject)})
			}
			t.Render()
			return nil
		},
	}
	command.Flags().StringVar(&filter.User, "user", "", "only what this user did")
	command.Flags().StringVar(&filter.Action, "action", "", "only this operation of the API")
	command.Flags().StringVar(&filter.Text, "text", "", "only entries with this text in the subject or the outcome")
	command.Flags().IntVar(&most, "limit", 100, "how many entries at most")
	return command
}

func (a *app) auditVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify", Short: "Verify that the audit log is unaltered", Args: arguments(0, 0, "nothing more"),
		Long: "Each entry is chained to the one before by a keyed hash. The command fails if an entry was changed, removed or added.\n" +
			"Compare the head with one from the service's log to be sure that the whole log was not replaced by an older one.",
		Example: "  heron audit verify",
		RunE: func(command *cobra.Command, _ []string) error {
			checked, err := a.client().VerifyAudit(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(checked)
			} else if checked.Whole {
				_, err = fmt.Fprintf(a.out, "The audit log is unaltered: %s, from %s on.\nHead: %s\n",
					format.Some(checked.Entries, "entry"), when(checked.Since), checked.Head)
			}
			if err != nil || checked.Whole {
				return err
			}
			return &exitError{exitFailed, fmt.Errorf("the audit log was altered. %s Compare it with a backup", checked.Why)}
		},
	}
}

func (a *app) auditExport() *cobra.Command {
	var file string
	command := &cobra.Command{
		Use: "export", Short: "Export the audit log as JSON Lines", Args: arguments(0, 0, "nothing more"),
		Example: "  heron audit export --file audit.jsonl",
		RunE: func(command *cobra.Command, _ []string) error {
			if file == "" {
				return a.client().ExportAudit(command.Context(), a.out)
			}
			out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return usageError("the file %s cannot be made (%v); name one that does not exist", file, bareError(err))
			}
			if err := a.client().ExportAudit(command.Context(), out); err != nil {
				out.Close()
				return err
			}
			return out.Close()
		},
	}
	command.Flags().StringVar(&file, "file", "", "the file to write; standard output unless given")
	return command
}
