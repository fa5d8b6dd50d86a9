package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// groups are the groups of commands in the help, with their commands.
var groups = []struct{ id, title, commands string }{
	{"files", "Files:", "ls stat cat search get put mkdir mv rm copy compare share tag comment lock unlock survey drive"},
	{"jobs", "Jobs and runs:", "job run history bandwidth notify"},
	{"accounts", "Accounts:", "account provider"},
	{"service", "Service:", "serve worker demo standin signin signout whoami token user audit backup doctor"},
}

// examples are examples of commands that have none of their own, by path without the
// program's name. They use the demo's accounts.
var examples = map[string]string{
	"ls":                  "heron ls /office-drive/Reports",
	"stat":                "heron stat \"/field-drive/Surveys/2026\"",
	"cat":                 "heron cat /desk/Office/README.txt",
	"get":                 "heron get /archive/gauge-share .",
	"put":                 "heron put report.odt /office-drive/Reports",
	"mkdir":               "heron mkdir /archive/2026",
	"mv":                  "heron mv /desk/Office/draft.odt /office-drive/Reports",
	"rm":                  "heron rm /desk/Office/old",
	"survey":              "heron survey /gauge-share --for /archive",
	"job list":            "heron job list",
	"job show":            "heron job show consolidation",
	"job edit":            "heron job edit gauges --weekly \"mon-fri 22:00-06:00\"",
	"job load":            "heron job load surveys.yaml",
	"job plan":            "heron job plan consolidation",
	"job start":           "heron job start consolidation",
	"job suspend":         "heron job suspend gauges",
	"job resume":          "heron job resume gauges",
	"job delete":          "heron job delete gauges",
	"job test":            "heron job test incoming",
	"job arrivals":        "heron job arrivals incoming",
	"job announce":        "heron job announce incoming /gauge-share/2026-11-27",
	"job bring-back":      "heron job bring-back old-projects",
	"run list":            "heron run list --account archive --state failed,partial --since 2026-12-01",
	"run show":            "heron run show RUN",
	"run follow":          "heron run follow RUN",
	"run items":           "heron run items RUN --state failed",
	"run pause":           "heron run pause RUN",
	"run resume":          "heron run resume RUN",
	"run retry":           "heron run retry RUN",
	"run cancel":          "heron run cancel RUN",
	"run approve":         "heron run approve RUN",
	"run limit":           "heron run limit RUN --up 5MB/s",
	"run priority":        "heron run priority RUN high",
	"run report":          "heron run report RUN --file report.html",
	"history list":        "heron history list /archive/desk/Office",
	"history show":        "heron history show /archive/desk/Office --at yesterday",
	"history restore":     "heron history restore /archive/desk/Office/README.txt --at yesterday",
	"notify show":         "heron notify show",
	"notify email":        "heron notify email --server mail.example.org:587 --sender heron@example.org --recipient storage@example.org",
	"notify webhook":      "heron notify webhook https://example.org/hook --secret-file hook.key",
	"notify quiet":        "heron notify quiet --quiet \"mon-sun 22:00-07:00\"",
	"notify test":         "heron notify test",
	"notify log":          "heron notify log",
	"notify off":          "heron notify off email",
	"account list":        "heron account list",
	"account show":        "heron account show field-drive",
	"account check":       "heron account check field-drive",
	"account edit":        "heron account edit gauge-share --port 2222",
	"account suspend":     "heron account suspend desk",
	"account resume":      "heron account resume desk",
	"account reauthorize": "heron account reauthorize field-drive",
	"account unlink":      "heron account unlink desk",
	"account history":     "heron account history field-drive",
	"account speed":       "heron account speed archive",
	"account discover":    "heron account discover",
	"provider list":       "heron provider list",
	"provider show":       "heron provider show webdav",
	"provider add":        "heron provider add my-drive.yaml",
	"provider remove":     "heron provider remove my-drive",
	"provider register":   "heron provider register sedge --client-id ID --secret-file secret.txt",
	"provider new":        "heron provider new my-drive --style ids > my-drive.yaml",
	"provider try":        "heron provider try my-drive.yaml --secret-file token.txt",
	"serve":               "heron serve --data /srv/heron --listen 127.0.0.1:8420",
	"demo":                "heron demo",
	"standin":             "heron standin",
	"worker list":         "heron worker list",
	"worker code":         "heron worker code gauge-house",
	"worker rename":       "heron worker rename gauge-house weir-house",
	"worker drain":        "heron worker drain gauge-house",
	"worker resume":       "heron worker resume gauge-house",
	"worker remove":       "heron worker remove gauge-house",
	"signin":              "heron signin http://127.0.0.1:8420",
	"signout":             "heron signout",
	"whoami":              "heron whoami",
	"share list":          "heron share list",
	"share show":          "heron share show LINK",
	"share revoke":        "heron share revoke LINK",
	"share on":            "heron share on",
	"share off":           "heron share off",
	"user list":           "heron user list",
	"user show":           "heron user show surveyor",
	"token list":          "heron token list",
	"token revoke":        "heron token revoke --all",
	"token rotate":        "heron token rotate",
	"version":             "heron version",
}

// group puts the commands into groups and gives each an example.
func group(root *cobra.Command) {
	byName := map[string]string{}
	for _, one := range groups {
		root.AddGroup(&cobra.Group{ID: one.id, Title: one.title})
		for _, name := range strings.Fields(one.commands) {
			byName[name] = one.id
		}
	}
	for _, command := range root.Commands() {
		command.GroupID = byName[command.Name()]
	}
	var walk func(command *cobra.Command)
	walk = func(command *cobra.Command) {
		path := strings.TrimPrefix(command.CommandPath(), root.Name()+" ")
		if example := examples[path]; command.Example == "" && example != "" {
			command.Example = "  " + example
		}
		for _, child := range command.Commands() {
			walk(child)
		}
	}
	walk(root)
}
