// Package api is the service's face: typed operations under /api/v1 with their
// OpenAPI document, live events, reports, and the console's files.
package api

import (
	"context"
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"runtime/debug"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/annotations"
	"deftheron/service/backup"
	"deftheron/service/gateway"
	"deftheron/service/index"
	"deftheron/service/live"
	"deftheron/service/logging"
	"deftheron/service/notify"
	"deftheron/service/preview"
	"deftheron/service/records"
	"deftheron/service/runner"
	"deftheron/service/share"
	"deftheron/service/workers"
)

// Server is what the API is made of.
type Server struct {
	Access   *access.Access
	Audit    *access.Audit
	Passkeys *access.Passkeys
	// OpenID signs users in through a provider; nil if there is none.
	OpenID        *access.OpenID
	Accounts      *accounts.Accounts
	Tree          *tree.Tree
	Recent        *tree.Recent
	Runner        *runner.Runner
	Metrics       http.Handler
	Notifications *notify.Notifications
	Hub           *live.Hub
	DB            *records.DB
	Log           *slog.Logger
	// Console holds the built console, index.html at its top.
	Console fs.FS
	// Instance is the id of the data folder; it names the cookie.
	Instance string
	Version  string
	// BaseURL is how the console is reached, such as http://127.0.0.1:8420.
	BaseURL string
	// Hosts are the values of Host that are answered, without port.
	Hosts []string
	// Secure is set if browsers reach the service over TLS, its own or that of a proxy.
	Secure bool
	// Data is the data folder.
	Data string
	// Scratch is a folder for content whose size is not known yet.
	Scratch string
	// Previews makes small pictures of files.
	Previews *preview.Maker
	// Workers reach places that the service does not.
	Workers *workers.Workers
	// Shares are the share links.
	Shares *share.Links
	// Backups are the backups of the service's own records.
	Backups *backup.Scheduler
	// Annotations are the tags, the comments and the locks.
	Annotations *annotations.Annotations
	// Index finds files; nil if there is no search.
	Index *index.Index
	// Gateway serves the tree as WebDAV; nil if it is switched off. Handler sets what it needs of the service.
	Gateway *gateway.Gateway
	// Done is closed when the service ends.
	Done <-chan struct{}
	// Background ends what goes on after its request.
	Background context.Context
	// Public is the origin under which others reach the service through a
	// proxy, such as https://heron.example.org; empty for none.
	Public string

	pager   *pager
	streams streams
	// shareTurns counts the requests of share links.
	shareTurns shareTurns
	// routes are the operations of the API by method and path.
	routes map[string]string
	// exchanges is how many links are being exchanged.
	exchanges atomic.Int32
}

// Handler returns the service's handler.
func (s *Server) Handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.HandleMethodNotAllowed = true
	s.pager = newPager(s.Recent, s.Runner.TreeAt)
	router.Use(s.identify, s.recover, s.logRequest, s.secure, s.checkHost, s.bound, s.exchanging, s.signedIn, s.audited)
	router.GET("/healthz", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"status": "ok"}) })
	api := humagin.New(router, config(s.Version))
	s.register(api)
	router.GET(contract.Root+"/live", s.live)
	router.GET(contract.Root+"/runs/:id/report", s.flow, s.report)
	router.GET(contract.Root+"/runs/:id/certificate", s.flow, s.certificate)
	router.GET(contract.Root+"/runs/:id/certificate/verification", s.verifyCertificate)
	router.GET(contract.Root+"/metrics", gin.WrapH(s.Metrics))
	router.GET(contract.Root+"/content", s.flow, s.readContent)
	router.HEAD(contract.Root+"/content", s.readContent)
	router.GET(contract.Root+"/preview", s.readPreview)
	router.PUT(contract.Root+"/content", s.writeContent)
	router.GET(contract.Root+"/archive", s.flow, s.readArchive)
	router.GET(contract.Root+"/comparison", s.flow, s.compare)
	router.GET(contract.Root+"/survey", s.flow, s.surveyFolder)
	router.POST(contract.Root+"/trials", s.try)
	router.GET(contract.Root+"/audit/export", s.flow, s.exportAudit)
	router.POST(contract.Root+"/backups", s.flow, s.makeBackup)
	router.GET(SharePath+":token", s.flow, s.shared)
	router.HEAD(SharePath+":token", s.flow, s.shared)
	router.POST(SharePath+":token", s.shared)
	s.registerGateway(router)
	s.registerWorkerStreams(router)
	router.GET(CallbackPath, s.callback)
	router.GET(contract.Root+"/session/provider", s.beginProviderSignIn)
	router.GET(ProviderCallbackPath, s.endProviderSignIn)
	if err := document(api); err != nil { // a test finds it first
		s.Log.Error("the document of the API lacks its examples", "error", err)
	}
	s.routes = routesOf(api)
	router.NoRoute(s.console())
	return router
}

func config(version string) huma.Config {
	config := huma.DefaultConfig("Deft Heron", version)
	config.OpenAPIPath = contract.Root + "/openapi"
	config.DocsPath, config.SchemasPath = "", ""
	config.CreateHooks = nil
	config.Info.Description = "Links storage accounts, shows them as one tree, and copies between them. " +
		"Sign in with the owner's token, or a token for programs, as a bearer token. " +
		"x-permission says what an operation needs: the role, and the scope of a token."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	return config
}

// OpenAPI returns the API's document, with its examples or without: the console's calls are
// generated from one without.
func OpenAPI(version string, examples bool) ([]byte, error) {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	api := humagin.New(router, config(version))
	(&Server{}).register(api)
	if err := document(api); err != nil {
		return nil, err
	}
	if !examples {
		for _, schema := range api.OpenAPI().Components.Schemas.Map() {
			schema.Examples = nil
		}
	}
	return json.MarshalIndent(api.OpenAPI(), "", "  ")
}

// identify gives a request its id, which is in the answer and in the log. The traceparent of
// the caller, if there is one, is in the log too.
func (s *Server) identify(c *gin.Context) {
	request := logging.NewRequest(c.GetHeader("traceparent"))
	c.Request = c.Request.WithContext(logging.With(c.Request.Context(), request))
	c.Header("X-Request-Id", request.ID)
}

func (s *Server) logRequest(c *gin.Context) {
	begun := time.Now()
	c.Next()
	// The path alone: what a query holds is nobody's business.
	s.Log.DebugContext(c.Request.Context(), "request", "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(),
		"took", time.Since(begun).Round(time.Microsecond))
}

func (s *Server) recover(c *gin.Context) {
	defer func() {
		if value := recover(); value != nil {
			if value == http.ErrAbortHandler {
				panic(value)
			}
			id := logging.Of(c.Request.Context()).ID
			s.Log.ErrorContext(c.Request.Context(), "internal error", "method", c.Request.Method, "path", c.Request.URL.Path, "panic", value,
				"stack", string(debug.Stack()))
			refuse(c, &contract.Problem{
				Status: http.StatusInternalServerError, ErrorID: id,
				Detail: "Internal error (request " + id + ").",
				Remedy: "Look for " + id + " in the service's log, and report what it says there.",
			})
		}
	}()
	c.Next()
}
