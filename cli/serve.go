package cli

import (
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
)

// dataFolder is where a service keeps its data unless told otherwise.
func (a *app) dataFolder() string {
	if dir := a.env("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "heron")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "heron-data"
	}
	return filepath.Join(home, ".local", "share", "heron")
}

func (a *app) serve() *cobra.Command {
	options := ServeOptions{Out: a.out, KeepHistory: 90 * 24 * time.Hour, KeepItems: 90 * 24 * time.Hour,
		KeepAudit: 365 * 24 * time.Hour, SearchSweep: 24 * time.Hour}
	command := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: arguments(0, 0, "options alone"),
		Long: "Runs the service until it is interrupted. Interrupted runs continue at the next start.\n\n" +
			"The first start writes the owner's token to owner.token in the data folder. Secrets of accounts are sealed with\n" +
			"the key in heron.key there, or in the file that HERON_KEY_FILE names. Keep a copy of that key.",
		RunE: func(command *cobra.Command, _ []string) error { return a.programs.Serve(command.Context(), options) },
	}
	flags := command.Flags()
	flags.StringVar(&options.Data, "data", a.dataFolder(), "data folder")
	flags.StringVar(&options.Listen, "listen", "127.0.0.1:8420", "HOST:PORT to listen on; an address other than loopback needs TLS files")
	flags.StringVar(&options.Metrics, "metrics", "",
		"HOST:PORT for Prometheus metrics without sign-in; they are also at /api/v1/metrics, with sign-in")
	flags.StringVar(&options.TLSCert, "tls-cert", "", "the TLS certificate, a PEM file")
	flags.StringVar(&options.TLSKey, "tls-key", "", "its key, a PEM file")
	flags.StringArrayVar(&options.Hosts, "host", nil, "another host name of the service; may be repeated")
	flags.StringVar(&options.PublicURL, "public-url", "",
		"URL of the service behind a reverse proxy, such as https://heron.example.org; consent pages return there")
	flags.StringVar(&options.OutboundProxy, "outbound-proxy", "", "proxy for connections to accounts, http://HOST:PORT (default HTTPS_PROXY)")
	flags.StringVar(&options.NATS.URL, "nats", "",
		"URL of a NATS server with JetStream, or of several with commas between them, that keeps the units of work for workers (default one "+
			"that is embedded)")
	flags.StringVar(&options.NATS.Credentials, "nats-credentials", "", "the file of its credentials, or of an NKey seed with the ending .nk")
	flags.StringVar(&options.NATS.CAFile, "nats-ca-file", "", "PEM file of certificates that its own is trusted by")
	flags.Var(keepFor{&options.KeepItems}, "keep-items",
		"how long done and skipped items of runs are kept: 30d, 8w, 6mo, 2y or forever; failures and totals are always kept")
	flags.StringArrayVar(&options.Folders, "folders", nil,
		"folder of this machine below which folders may be linked; may be repeated (default any but system folders)")
	flags.Var(keepFor{&options.KeepHistory}, "keep-history",
		"how long versions are kept below .heron/history of accounts: 30d, 8w, 6mo, 2y or forever")
	flags.Var(keepFor{&options.KeepAudit}, "keep-audit", "how long the audit log is kept: 30d, 8w, 6mo, 2y or forever")
	flags.DurationVar(&options.SearchSweep, "search-sweep", 24*time.Hour, "how often all accounts are listed again for the search index; 0 "+
		"for "+
		"never")
	flags.BoolVar(&options.TakeOver, "take-over", false,
		"go on although another service was restored from a backup of this one; that one then ends")
	flags.BoolVar(&options.ForgetSecrets, "forget-secrets", false,
		"if the key file is lost: create a new key and delete all secrets of accounts")
	flags.StringVar(&options.OpenID.Issuer, "openid-issuer", "", "issuer URL of an OpenID provider through which users sign in")
	flags.StringVar(&options.OpenID.Title, "openid-title", "", "what the sign-in page calls the provider (default its host name)")
	flags.StringVar(&options.OpenID.Client, "openid-client", "", "client id of this service at the provider")
	flags.StringVar(&options.OpenID.SecretFile, "openid-secret-file", "", "the file that holds the client secret")
	flags.StringArrayVar(&options.OpenID.Roles, "openid-role", nil,
		"GROUP=ROLE: who is in the group at the provider gets the role viewer, operator or owner; may be repeated")
	flags.StringVar(&options.LogLevel, "log-level", "info", "debug, info, warn or error")
	flags.StringVar(&options.LogFormat, "log-format", "text", "text or json")
	return command
}

func (a *app) demo() *cobra.Command {
	options := DemoOptions{Out: a.out}
	command := &cobra.Command{
		Use: "demo", Short: "Run the service with demo data", Args: arguments(0, 0, "options alone"),
		Long: "Creates the data of a made-up river trust in a temporary folder, starts the service, two simulated clouds, a\n" +
			"WebDAV server and an object store in one process, and links them and a folder as accounts. Consolidates them\n" +
			"in the object store, prints the report, and then keeps two folders in sync. The console stays up until you\n" +
			"interrupt the command.",
		RunE: func(command *cobra.Command, _ []string) error {
			options.Follow = a.follow
			return a.programs.Demo(command.Context(), options)
		},
	}
	flags := command.Flags()
	flags.StringVar(&options.Data, "data", "", "folder for the demo's data (default a temporary one, deleted at the end)")
	flags.StringVar(&options.Listen, "listen", "127.0.0.1:8420", "HOST:PORT to listen on; a free port if it is in use")
	flags.BoolVar(&options.Exit, "exit", false, "end after the report, with the run's exit code")
	return command
}

func (a *app) standin() *cobra.Command {
	options := StandinOptions{Out: a.out}
	command := &cobra.Command{
		Use: "standin", Short: "Run the simulated clouds", Args: arguments(0, 0, "options alone"),
		Long: "Runs Sedge, a document drive, and Alder, a team folder service: two simulated clouds with consent pages, for\n" +
			"tests and demos. They listen on loopback only. The control address reads and sets their behaviour: GET /sedge/requests, PUT " +
			"/sedge/faults, POST /sedge/expire, POST /sedge/withdraw,\n" +
			"PUT /sedge/quota, PUT /sedge/clients, and the same below /alder.",
		Example: "  heron standin --data clouds\n  heron account link sedge field-drive",
		RunE:    func(command *cobra.Command, _ []string) error { return a.programs.Standin(command.Context(), options) },
	}
	flags := command.Flags()
	flags.StringVar(&options.Data, "data", "heron-standin", "the folder in which they keep their data")
	flags.StringVar(&options.Sedge, "sedge", "127.0.0.1:8431", "HOST:PORT of Sedge, on loopback")
	flags.StringVar(&options.Alder, "alder", "127.0.0.1:8432", "HOST:PORT of Alder, on loopback")
	flags.StringVar(&options.SignIn, "sign-in", "127.0.0.1:8433", "HOST:PORT of the OpenID provider, on loopback")
	flags.StringVar(&options.Control, "control", "127.0.0.1:8430", "HOST:PORT of the control address, on loopback")
	return command
}
