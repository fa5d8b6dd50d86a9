// Package service is the long-running service: it puts the parts together, holds
// the data folder for itself, listens, and ends in good order.
package service

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"github.com/google/uuid"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/annotations"
	"deftheron/service/api"
	"deftheron/service/backup"
	"deftheron/service/gateway"
	"deftheron/service/index"
	"deftheron/service/live"
	"deftheron/service/logging"
	"deftheron/service/metrics"
	"deftheron/service/notify"
	"deftheron/service/preview"
	"deftheron/service/records"
	"deftheron/service/runner"
	"deftheron/service/share"
	"deftheron/service/workers"
)

// Options are what a service is started with.
type Options struct {
	// Data is the data folder; it is made if it is not there.
	Data string
	// Listen is HOST:PORT; port 0 takes a free one.
	Listen string
	// TLSCert and TLSKey are PEM files. Without them the service listens on
	// loopback alone.
	TLSCert, TLSKey string
	// Hosts are further names under which it is reached.
	Hosts []string
	// Metrics is HOST:PORT of an address of their own for the metrics, which asks for no
	// sign-in; empty for none.
	Metrics string
	// KeyFile is where the key that seals credentials is kept; empty is in
	// the data folder.
	KeyFile string
	// ForgetSecrets makes a new key where the old one is lost. All sealed
	// credentials are forgotten.
	ForgetSecrets bool
	// PublicURL is how others reach the service through a proxy, such as
	// https://heron.example.org; empty where there is none.
	PublicURL string
	// OutboundProxy is the proxy through which accounts are reached; empty
	// takes that of the environment (HTTPS_PROXY, HTTP_PROXY, NO_PROXY).
	OutboundProxy string
	// Cluster is a message server outside that keeps the units of work for workers; the zero value is none.
	Cluster workers.Cluster
	// Providers are the kinds of places that accounts can be at.
	Providers []store.Provider
	// Console holds the built console.
	Console fs.FS
	Log     *slog.Logger
	Version string
	// KeepItems is how long the items of runs are kept that were done or skipped; 0
	// keeps them for good.
	KeepItems time.Duration
	// Folders are those of this machine below which folders may be linked; without
	// any, all may but those of the system.
	Folders []string
	// KeepHistory is how long what runs move to history is kept; 0 keeps it for
	// good.
	KeepHistory time.Duration
	// OpenID is the provider through which users sign in, without its callback; an empty issuer is
	// none.
	OpenID access.OpenIDOptions
	// KeepAudit is how long the audit log is kept; 0 keeps it for good.
	KeepAudit time.Duration
	// SearchSweep is how often all accounts are listed again for the search index; 0 lists
	// nothing by itself.
	SearchSweep time.Duration
	// TakeOver has the service go on although another was restored from a backup of it.
	TakeOver bool
}

// Service is a service that listens.
type Service struct {
	// URL is where it is reached.
	URL string
	// SigninURL signs in to the console once.
	SigninURL string
	// TokenFile is the file of the owner's token.
	TokenFile string
	// Forgotten are the accounts whose secrets were forgotten.
	Forgotten []string

	options       Options
	lock          *os.File
	db            *records.DB
	runner        *runner.Runner
	notifications *notify.Notifications
	linked        *accounts.Accounts
	recent        *tree.Recent
	gateway       *gateway.Gateway
	hub           *live.Hub
	audit         *access.Audit
	workers       *workers.Workers
	index         *index.Index // nil for none
	shares        *share.Links
	annotations   *annotations.Annotations
	backups       *backup.Scheduler
	fence         *backup.Fence
	server        *http.Server
	measuring     *http.Server // the metrics, at an address of their own
	listener      net.Listener
	done          chan struct{}
	ctx           context.Context // of what runs
	interrupt     context.CancelFunc
}

// previewSpace is how many bytes of previews are kept.
const previewSpace = 256 << 20

// ErrInUse says that another service uses the data folder.
var ErrInUse = errors.New("in use by another service")

// Start starts a service. Nothing is changed where it cannot be started. The
// caller calls Serve, which ends it.
func Start(ctx context.Context, options Options) (service *Service, err error) {
	settleMemory()
	if options.Log == nil {
		options.Log = slog.New(slog.DiscardHandler)
	}
	options.Log = slog.New(logging.Handler{Handler: options.Log.Handler()})
	if err := errors.Join(checkListen(options), options.Cluster.Check()); err != nil {
		return nil, err
	}
	public, err := publicURL(options.PublicURL)
	if err != nil {
		return nil, err
	}
	if public != nil {
		options.PublicURL = public.Scheme + "://" + public.Host
		options.Hosts = append(options.Hosts, public.Hostname())
	}
	s := &Service{options: options, done: make(chan struct{}), TokenFile: filepath.Join(options.Data, access.TokenFileName)}
	s.ctx, s.interrupt = context.WithCancel(context.WithoutCancel(ctx))
	defer func() {
		if err != nil {
			s.close()
		}
	}()
	if s.lock, err = lockFolder(options.Data); err != nil {
		return nil, err
	}
	if s.db, err = records.Open(options.Data); err != nil {
		if errors.Is(err, records.ErrNewer) {
			return nil, remedy.Errorf("the data folder %s was written by a newer version of heron than this one (%s); "+
				"start the newer one, or name another folder with --data", options.Data, options.Version)
		}
		return nil, err
	}
	handler, err := s.assemble(ctx)
	if err != nil {
		return nil, err
	}
	s.server = &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(options.Log.Handler(), slog.LevelDebug),
	}
	(&connections{}).guard(s.server)
	return s, nil
}

// settleMemory lets the heap, which is small, grow further before it is collected
// than the runtime would by itself, but not past what is promised: while many
// small files move, collecting took a tenth of the time. An operator's own
// GOGC and GOMEMLIMIT are left alone.
func settleMemory() {
	if os.Getenv("GOGC") == "" && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetGCPercent(400)
		debug.SetMemoryLimit(80 << 20)
	}
}

// assemble makes the parts that work on the records, and listens.
func (s *Service) assemble(ctx context.Context) (http.Handler, error) {
	sealer, err := access.OpenKey(ctx, s.db, s.options.Data, s.options.KeyFile, s.options.ForgetSecrets)
	if err != nil {
		return nil, err
	}
	if s.options.ForgetSecrets {
		if s.Forgotten, err = s.db.ForgetSecrets(ctx); err != nil {
			return nil, err
		}
	}
	who := access.New(s.db, sealer)
	if err := who.EnsureOwner(ctx, s.options.Data); err != nil {
		return nil, err
	}
	instance, err := s.instance(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.listen(); err != nil {
		return nil, err
	}
	linked, err := s.accounts(ctx, sealer, instance)
	if err != nil {
		return nil, err
	}
	scratch := filepath.Join(s.options.Data, "scratch")
	if err := os.MkdirAll(scratch, 0o700); err != nil {
		return nil, err
	}
	previews, err := preview.New(filepath.Join(s.options.Data, "previews"), previewSpace, s.options.Log)
	if err != nil {
		return nil, err
	}
	s.notifications = notify.New(s.db, sealer, s.options.Log)
	all := &tree.Tree{Accounts: linked}
	s.connect(linked, all, scratch)
	s.openAnnotations(linked, all)
	s.openGateway(linked, scratch)
	s.openBackups(all, scratch, instance)
	s.openIndex(ctx, all, previews)
	if s.audit, err = access.NewAudit(s.db, sealer, s.options.Log); err != nil {
		return nil, err
	}
	s.people(who)
	openID, err := s.openID(who)
	if err != nil {
		return nil, err
	}
	s.shares = share.New(s.db, who, s.options.Log)
	link, _ := who.NewLink(records.OwnerID, "")
	s.SigninURL = s.URL + "/signin#" + link
	measured := metrics.Handler(metrics.Sources{Runs: s.runner, Gates: linked.Gates, Accounts: linked.Figures,
		Workers: s.workers.States, Log: s.options.Log, Version: s.options.Version})
	if err := s.listenMetrics(measured); err != nil {
		return nil, err
	}
	server := api.Server{
		Access: who, Audit: s.audit, Passkeys: access.NewPasskeys(who), OpenID: openID, Accounts: linked, Tree: all, Recent: s.recent,
		Data: s.options.Data, Scratch: scratch, Runner: s.runner,
		Previews: previews, Index: s.index, Shares: s.shares, Workers: s.workers, Annotations: s.annotations,
		Backups: s.backups, Gateway: s.gateway,
		Notifications: s.notifications, Metrics: measured, Hub: s.hub, DB: s.db, Log: s.options.Log,
		Console: s.options.Console, Instance: instance, Version: s.options.Version, BaseURL: s.URL,
		Hosts: s.hosts(), Secure: strings.HasPrefix(s.URL, "https:"), Done: s.done, Background: s.ctx, Public: s.options.PublicURL,
	}
	return server.Handler(), nil
}

// accounts opens what is linked.
func (s *Service) accounts(ctx context.Context, sealer *access.Sealer, instance string) (*accounts.Accounts, error) {
	linked := accounts.New(s.db, sealer, s.restricted(), s.options.Log)
	if s.options.OutboundProxy != "" {
		proxy, err := accounts.ProxyThrough(s.options.OutboundProxy)
		if err != nil {
			return nil, err
		}
		linked.Proxy = proxy
	}
	if err := linked.LoadDefinitions(ctx); err != nil {
		return nil, err
	}
	if err := linked.KeepOrigins(ctx); err != nil {
		return nil, err
	}
	if err := linked.LoadBandwidths(ctx); err != nil {
		return nil, err
	}
	s.workers = workers.New(s.ctx, s.db, s.options.Log)
	s.workers.Version, linked.Sites = s.options.Version, s.workers
	s.workers.Store, s.workers.Cluster = s.options.Data, s.options.Cluster
	s.workers.Cluster.Name, s.workers.SiteLimiter = instance, linked.SiteLimiter
	return linked, s.workers.Resume(ctx)
}

// connect has the parts of the service told of what happens in the others.
func (s *Service) connect(linked *accounts.Accounts, all *tree.Tree, scratch string) {
	s.hub, s.linked = live.NewHub(), linked
	s.recent = &tree.Recent{Tree: all, Context: s.ctx, Noticed: linked.Noticed,
		Changed: func(address store.Address) { s.hub.Publish(live.Folder, address.String()) }}
	s.runner = runner.New(s.ctx, s.db, linked, all, s.hub, s.options.Log)
	s.runner.Ended = func(accounts []string) {
		for _, account := range accounts {
			s.forget(account)
		}
	}
	s.runner.Workers = s.workers
	s.runner.Scratch, s.runner.Notify = scratch, s.notifyRun
	s.runner.KeepHistory, s.runner.KeepItems = s.options.KeepHistory, s.options.KeepItems
	linked.SignInExpiredNow = s.accountSignInExpired
	linked.Changed = func() { s.hub.Publish(live.Accounts, struct{}{}) }
	s.workers.Came = s.runner.AccountsReturned
	s.workers.Changed, s.workers.Away, s.workers.Distrusted = linked.Changed, s.workerAway, s.workerUntrusted
	linked.Reauthorized = func(account string) {
		s.forget(account)
		s.runner.Reauthorized(account)
	}
	linked.WithRunsPaused = func(ctx context.Context, account string, change func() error) error {
		defer s.forget(account)
		return s.runner.WithRunsPaused(ctx, account, change)
	}
}

// restricted are the providers, of which none reaches the data folder and the key.
func (s *Service) restricted() (providers []store.Provider) {
	private := []string{s.options.Data}
	if s.options.KeyFile != "" {
		private = append(private, s.options.KeyFile)
	}
	for _, provider := range s.options.Providers {
		if one, ok := provider.(store.Restrictable); ok {
			provider = one.Restrict(s.options.Folders, private)
		}
		providers = append(providers, provider)
	}
	return providers
}

// instance is an id of the data folder, for ever.
func (s *Service) instance(ctx context.Context) (string, error) {
	instance, err := s.db.Meta(ctx, "instance")
	if err != nil || instance != "" {
		return instance, err
	}
	instance = strings.ReplaceAll(uuid.NewString(), "-", "")[:12]
	return instance, s.db.SetMeta(ctx, "instance", instance)
}

// Serve takes up the runs that had not ended, and answers until the context
// ends. Then what runs is interrupted, to be taken up at the next start.
func (s *Service) Serve(ctx context.Context) error {
	watching, stopWatching := context.WithCancel(s.ctx)
	background := s.inBackground(watching)
	debug.FreeOSMemory() // what describing the API took is not needed again
	served := make(chan error, 1)
	go func() { served <- s.server.Serve(s.listener) }()
	err := s.fence.First(watching)
	if err == nil {
		err = s.runner.Resume()
	}
	if err == nil {
		select {
		case <-ctx.Done():
		case err = <-served:
		case err = <-s.fence.Watch(watching):
		case err = <-s.recordsGone(watching):
			s.options.Log.Error("the service cannot go on", "error", err)
		}
	}
	s.options.Log.Info("the service stops")
	close(s.done)
	stopWatching()
	background.Wait()
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if shutdown := s.server.Shutdown(ending); shutdown != nil {
		s.server.Close()
	}
	s.close()
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
