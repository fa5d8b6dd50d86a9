package cli

import (
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"deftheron/cli/format"
)

// stateColours has the colour of each state of a check.
var stateColours = map[string]string{"good": reed, "warning": ochre, "failed": brick}

func (a *app) doctor() *cobra.Command {
	return &cobra.Command{
		Use: "doctor", Short: "Check the service and its machine, and say what to do", Args: arguments(0, 0, "nothing"),
		Long: "Checks the service's records, disk, permissions, clock, limits, helper programs and accounts. Nothing is changed.\n" +
			"Ends with 1 if something has failed.",
		Example: "  heron doctor\n  heron doctor --json",
		RunE: func(command *cobra.Command, _ []string) error {
			found, err := a.client().Diagnose(command.Context())
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(found)
			} else {
				rows := a.newTable("Check", "State", "Found")
				for _, one := range found.Checks {
					rows.AppendRow(table.Row{format.Text(one.Name), a.paint(stateColours[one.State], one.State), format.Text(one.Found)})
					if one.Remedy != "" {
						rows.AppendRow(table.Row{"", "", "  " + format.Text(one.Remedy)})
					}
				}
				rows.Render()
			}
			if err == nil && found.State == "failed" {
				return &exitError{code: exitFailed, err: fmt.Errorf("something has failed, which the list says")}
			}
			return err
		},
	}
}
