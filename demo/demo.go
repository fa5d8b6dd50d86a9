package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/service"
	"deftheron/service/access"
	"deftheron/standin"
)

// Seed is the demo's.
const Seed = 8420

// Options are what a demo is started with.
type Options struct {
	// Data is the folder to keep it in; empty is a temporary one.
	Data   string
	Listen string
	// Exit ends the demo after its report.
	Exit bool
	Out  io.Writer
	// Follow shows a run until it has ended.
	Follow    func(ctx context.Context, c *client.Client, id string) (contract.Run, error)
	Providers []store.Provider
	Console   fs.FS
	Version   string
	// Program is the file of this program, of which a second process becomes the worker; without it
	// there is none.
	Program string
}

// ErrUnfinished says that the demo's run did not end well.
var ErrUnfinished = errors.New("the demo's copy did not end well; the report above says why")

// Run makes the data, starts the service, the stand-ins, a WebDAV server and
// an object store in this process, links them and the technician's folder, consolidates them in the
// object store, and prints the report. Unless Options.Exit is set it then keeps
// on until the context ends.
func Run(ctx context.Context, options Options) (err error) {
	dir := options.Data
	if dir == "" {
		if dir, err = os.MkdirTemp("", "heron-demo-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	fmt.Fprintf(options.Out, "Fenmere Rivers Trust takes over Tolland Catchment Group. Creating their data in %s\n", dir)
	made, err := Generate(dir, Seed)
	if err != nil {
		return fmt.Errorf("could not create the demo's data: %w", err)
	}
	fmt.Fprintf(options.Out, "  %d files, %s\n\n", made.Files, format.Size(made.Bytes))

	places := &places{dir: dir}
	defer func() { err = errors.Join(err, places.stop()) }()
	if err := places.start(ctx); err != nil {
		return err
	}
	s, err := startService(ctx, options, filepath.Join(dir, "service"), places.signIn)
	if err != nil {
		return err
	}
	serving, end := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- s.Serve(serving) }()
	defer func() {
		end()
		err = errors.Join(err, <-served)
	}()
	run, err := play(ctx, options, s, places)
	if err != nil {
		if ctx.Err() != nil {
			return nil
		}
		return err
	}
	if options.Exit {
		if run.State != "done" {
			return ErrUnfinished
		}
		return nil
	}
	fmt.Fprintf(options.Out, "\nConsole  %s\nSign in  %s  (valid once, for 15 minutes)\n", s.URL, s.SigninURL)
	fmt.Fprintf(options.Out,
		"Second user: in another browser, open %s/signin, choose %s, and be the surveyor, who may change /field-drive and "+
			"look at /archive\n", s.URL, signInTitle)
	fmt.Fprintf(options.Out, "Commands HERON_URL=%s HERON_TOKEN=$(cat %s) heron ls /archive\n", s.URL, s.TokenFile)
	fmt.Fprintln(options.Out, "Press Ctrl-C to stop.")
	<-ctx.Done()
	return nil
}

const (
	bucket        = "fenmere-archive"
	gaugeUser     = "loggers"
	gaugePassword = "kept-for-the-demo"
	// logEvery is how often a gauge adds a file while the demo runs.
	logEvery = 5 * time.Second
)

// places are the servers of the demo, with what has to be known to link them.
type places struct {
	dir      string
	endpoint string        // of the object store
	gauges   string        // URL of the WebDAV server
	loggers  *standin.SFTP // the same folder, over another protocol
	clouds   *standin.Clouds
	signIn   string // the issuer of the OpenID provider
	servers  []*http.Server
	running  context.Context // until stop
	cancel   context.CancelFunc
	group    errgroup.Group
}

// start starts the object store, the servers of the gauges, over WebDAV and SFTP,
// and the loggers.
func (p *places) start(ctx context.Context) (err error) {
	objects, err := standin.ObjectStore(bucket)
	if err != nil {
		return err
	}
	if p.endpoint, err = p.serve(objects); err != nil {
		return err
	}
	folder := filepath.Join(p.dir, GaugeFolder)
	if p.gauges, err = p.serve(standin.WebDAV(folder, gaugeUser, gaugePassword)); err != nil {
		return err
	}
	if p.loggers, err = standin.StartSFTP(folder, gaugeUser, gaugePassword); err != nil {
		return err
	}
	if p.clouds, err = standin.StartClouds(filepath.Join(p.dir, "clouds"), "127.0.0.1:0", "127.0.0.1:0", ""); err != nil {
		return err
	}
	if _, p.signIn, err = p.clouds.StartSignIn("127.0.0.1:0"); err != nil {
		return err
	}
	if err := FillClouds(p.dir, p.clouds); err != nil {
		return fmt.Errorf("could not fill the stand-ins: %w", err)
	}
	p.running, p.cancel = context.WithCancel(ctx)
	p.group.Go(func() error { return Log(p.running, folder, logEvery) })
	return nil
}

// loggersAt is what the gauges are linked with over SFTP.
func (p *places) loggersAt() map[string]string {
	host, port, _ := net.SplitHostPort(p.loggers.Address)
	return map[string]string{"host": host, "port": port, "user": gaugeUser, "host-key": p.loggers.HostKey}
}

// serve starts a server on a free port and returns its URL.
func (p *places) serve(handler http.Handler) (string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: handler, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug)}
	p.servers = append(p.servers, server)
	p.group.Go(func() error {
		_ = server.Serve(listener) // ends when it is closed
		return nil
	})
	return "http://" + listener.Addr().String(), nil
}

func (p *places) stop() error {
	if p.cancel != nil {
		p.cancel()
	}
	for _, server := range p.servers {
		server.Close()
	}
	err := p.group.Wait()
	if p.loggers != nil {
		err = errors.Join(err, p.loggers.Close())
	}
	if p.clouds != nil {
		err = errors.Join(err, p.clouds.Close())
	}
	return err
}

func startService(ctx context.Context, options Options, dir, issuer string) (*service.Service, error) {
	openID := access.OpenIDOptions{Issuer: issuer, Title: signInTitle, ClientID: standin.SignInClient, ClientSecret: standin.SignInSecret,
		Roles: map[string]access.Role{"surveys": access.Operator, "trustees": access.Viewer}}
	start := func(listen string) (*service.Service, error) {
		return service.Start(ctx, service.Options{
			Data: dir, Listen: listen, Providers: options.Providers, Console: options.Console, Version: options.Version,
			OpenID: openID, SearchSweep: 24 * time.Hour,
		})
	}
	if busy(options.Listen) {
		return start("127.0.0.1:0")
	}
	return start(options.Listen)
}

func busy(listen string) bool {
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return errors.Is(err, unix.EADDRINUSE)
	}
	listener.Close()
	return false
}

// play links the accounts and copies, as a person would through the commands.
func play(ctx context.Context, options Options, s *service.Service, places *places) (contract.Run, error) {
	token, err := os.ReadFile(s.TokenFile)
	if err != nil {
		return contract.Run{}, err
	}
	c := &client.Client{URL: s.URL, Token: strings.TrimSpace(string(token))}
	linked, err := c.Accounts(ctx)
	if err != nil {
		return contract.Run{}, err
	}
	for _, account := range linked { // of a demo that was kept; the object store is a new one
		if err := c.Unlink(ctx, account.Name); err != nil {
			return contract.Run{}, err
		}
	}
	site, err := startWorker(ctx, options, c, places)
	if err != nil {
		return contract.Run{}, err
	}
	for _, link := range []contract.Link{
		{Provider: "folder", Name: "desk", Options: map[string]string{"path": filepath.Join(places.dir, DeskFolder)}},
		{Provider: "sftp", Name: "gauge-share", Options: places.loggersAt(), Secret: gaugePassword, ReadOnly: true, At: site},
		{Provider: "webdav", Name: "gauge-share-dav", Options: map[string]string{"url": places.gauges, "user": gaugeUser}, Secret: gaugePassword,
			ReadOnly: true},
		{Provider: "s3", Name: "archive", Options: map[string]string{"endpoint": places.endpoint, "bucket": bucket, "key": "fenmere"},
			Secret: "kept-for-the-demo"},
	} {
		account, err := c.Link(ctx, link)
		if err != nil {
			return contract.Run{}, err
		}
		tell(options.Out, account)
	}
	for _, one := range []struct {
		link contract.Link
		user string
	}{
		{contract.Link{Provider: "sedge", Name: "field-drive", Options: map[string]string{"url": places.clouds.SedgeURL, "client-id": demoClient},
			Secret: demoSecret}, fieldUser},
		{contract.Link{Provider: "alder", Name: "office-drive", Options: map[string]string{"url": places.clouds.AlderURL}}, officeUser},
	} {
		account, err := linkByConsent(ctx, c, one.link, one.user)
		if err != nil {
			return contract.Run{}, err
		}
		tell(options.Out, account)
	}
	if err := addSurveyor(ctx, c); err != nil {
		return contract.Run{}, err
	}
	if _, err := c.MakeFolder(ctx, contract.NewFolder{Address: "/desk/Work", Parents: true}); err != nil {
		return contract.Run{}, err
	}
	for _, kept := range jobs {
		if err := makeJob(ctx, c, kept); err != nil {
			return contract.Run{}, err
		}
	}
	plan, err := c.PlanJob(ctx, consolidation)
	if err != nil {
		return contract.Run{}, err
	}
	fmt.Fprintf(options.Out, "\nConsolidating /field-drive, /office-drive, /gauge-share and /desk in /archive. The gauges keep logging.\n%s\n",
		format.PlanSentence(plan))
	started, err := c.StartJob(ctx, consolidation)
	if err != nil {
		return contract.Run{}, err
	}
	run, err := options.Follow(ctx, c, started.Run)
	if err != nil {
		return run, err
	}
	if err := report(ctx, options, c, run, filepath.Join(places.dir, "report.html")); err != nil {
		return run, err
	}
	if err := live(ctx, options, c, filepath.Join(places.dir, DeskFolder)); err != nil {
		return run, err
	}
	return run, glitch(ctx, options, c, places)
}

func tell(out io.Writer, account contract.Account) {
	note := ""
	if account.ReadOnly {
		note = ", read only"
	}
	if account.Owner != "" && strings.Contains(account.Owner, "@") {
		note += ", by consent of " + account.Owner
	}
	fmt.Fprintf(out, "Linked /%s (%s%s)\n", account.Name, account.Provider, note)
}

// report prints what came of the run, and looks at the target as a person would
// who does not take its word.
func report(ctx context.Context, options Options, c *client.Client, run contract.Run, path string) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	defer file.Close()
	if err := c.Report(ctx, run.ID, "html", file); err != nil {
		return err
	}
	files, folders, bytes, err := countAt(ctx, c, "/archive")
	if err != nil {
		return err
	}
	causes, err := c.Causes(ctx, run.ID)
	if err != nil {
		return err
	}
	fmt.Fprintf(options.Out, "\nReport of run %s: %s\n", run.ID, run.State)
	for _, cause := range causes {
		what := cause.Cause
		if what == "" {
			what = "written, and its hash found to be the one that was sent"
		}
		fmt.Fprintf(options.Out, "  %-8s %6d items  %10s  %s\n", cause.State, cause.Items, format.Size(cause.Bytes), what)
	}
	fmt.Fprintf(options.Out, "Counted at the target, /archive: %s and %s, %s\n", format.Some(files, "file"),
		format.Some(folders, "empty folder"), format.Size(bytes))
	if options.Data != "" || !options.Exit {
		fmt.Fprintf(options.Out, "Full report: %s\n", path)
	}
	if total := files + folders; run.State == "done" && (total != run.Items.Done+run.Items.UpToDate || bytes != run.Bytes.Transferred &&
		run.Items.UpToDate == 0) {
		return fmt.Errorf("the report counts %d items and %d bytes, and the target holds %d and %d", run.Items.Done+run.Items.UpToDate,
			run.Bytes.Transferred, total, bytes)
	}
	return nil
}

// countAt counts the files, their bytes and the empty folders below an address.
func countAt(ctx context.Context, c *client.Client, address string) (files, folders, bytes int64, err error) {
	empty := true
	for entry, err := range c.List(ctx, address) {
		if err != nil {
			return 0, 0, 0, err
		}
		empty = false
		if entry.Kind != "folder" {
			files++
			bytes += entry.Size
			continue
		}
		f, d, b, err := countAt(ctx, c, entry.Address)
		if err != nil {
			return 0, 0, 0, err
		}
		files, folders, bytes = files+f, folders+d, bytes+b
	}
	if empty {
		folders++
	}
	return files, folders, bytes, nil
}
