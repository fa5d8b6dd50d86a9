package api

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/coder/websocket"
	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/provider/site"
	"deftheron/service/access"
	"deftheron/service/messages"
	"deftheron/service/records"
	"deftheron/service/workers"
)

func (s *Server) registerWorkers(api huma.API) {
	add(api, http.MethodGet, "/workers", "list-workers", "List the workers", http.StatusOK, s.listWorkers)
	add(api, http.MethodPost, "/workers", "create-worker", "Create a worker and a code with which it joins", http.StatusCreated,
		s.createWorker, small)
	add(api, http.MethodPatch, "/workers/{name}", "change-worker", "Rename a worker, or have it take nothing new", http.StatusOK,
		s.changeWorker, small)
	add(api, http.MethodPost, "/workers/{name}/code", "new-worker-code", "Create another code for a worker", http.StatusCreated,
		s.newWorkerCode, small)
	add(api, http.MethodGet, "/worker-sharing", "show-worker-sharing", "Show whether the service copies what workers can", http.StatusOK,
		s.showSharing)
	add(api, http.MethodPut, "/worker-sharing", "set-worker-sharing", "Leave to workers what they can copy, or not", http.StatusNoContent,
		s.setSharing, small)
	add(api, http.MethodDelete, "/workers/{name}", "remove-worker", "Remove a worker", http.StatusOK, s.removeWorker)
	add(api, http.MethodPost, "/worker/join", "join-worker", "Join as a worker, with a code", http.StatusOK, s.joinWorker, small)
}

// registerWorkerStreams registers what workers use beside the messages.
func (s *Server) registerWorkerStreams(router *gin.Engine) {
	router.GET(contract.WorkerConnectPath, s.connectWorker)
	router.POST(contract.WorkerAnswerPath, s.takeAnswer)
	router.GET(contract.WorkerContentPath, s.sendContent)
}

func (s *Server) workerOf(w workers.Worker) contract.Worker {
	shown := contract.Worker{
		Name: w.Name, Site: w.Site, State: w.State, Version: w.Version, System: w.System, From: w.Address, Created: w.CreatedAt,
		Joined: w.JoinedAt, Seen: w.SeenAt, CodeEnds: w.CodeEnds, Requests: w.Requests, Accounts: append([]string{}, w.For...),
		Granted: append([]string{}, w.Granted...), Managers: append([]string{}, w.Managers...), Parallel: w.Lanes, Items: w.Items,
		Load: w.Load, Processors: w.Processors, Memory: w.Memory,
	}
	shown.Remedy = messages.WorkerRemedy(w.State, w.Version, s.Version)
	return shown
}

func (s *Server) listWorkers(ctx context.Context, _ *none) (*body[[]contract.Worker], error) {
	all, err := s.Workers.List(ctx)
	shown := []contract.Worker{}
	for _, one := range all {
		shown = append(shown, s.workerFor(ctx, one))
	}
	return &body[[]contract.Worker]{shown}, err
}

// workerFor is a worker as the user may see it.
func (s *Server) workerFor(ctx context.Context, w workers.Worker) contract.Worker {
	w.For, w.Granted = s.visible(ctx, w.For), s.visible(ctx, w.Granted)
	who := person(ctx)
	manage := who.Role == access.Owner || who.Role == access.Operator && slices.Contains(w.Managers, who.Name)
	if !manage {
		w.Address, w.Managers = "", nil
	}
	shown := s.workerOf(w)
	shown.Manage = manage
	return shown
}

// checkManages refuses who may not change a worker: who is no owner, and does not manage it.
func (s *Server) checkManages(ctx context.Context, name string) error {
	who := person(ctx)
	if who.Role == access.Owner {
		return nil
	}
	manages, err := s.DB.ManagesWorker(ctx, who.User, name)
	if err != nil || manages {
		return err
	}
	denied := notAllowed()
	denied.Detail = who.Name + " does not manage this worker."
	denied.Remedy = "Ask an owner of the service to do it, or to assign the worker: heron worker assign NAME USER."
	return &denied
}

// visible returns the accounts that the user may see.
func (s *Server) visible(ctx context.Context, accounts []string) (visible []string) {
	for _, account := range accounts {
		if _, err := s.Accounts.ID(ctx, account); err == nil {
			visible = append(visible, account)
		}
	}
	return visible
}

func (s *Server) showSharing(context.Context, *none) (*body[contract.WorkerSharing], error) {
	return &body[contract.WorkerSharing]{contract.WorkerSharing{OnlyWorkers: s.Workers.Only()}}, nil
}

func (s *Server) setSharing(ctx context.Context, in *body[contract.WorkerSharing]) (*none, error) {
	return &none{}, s.Workers.SetOnly(ctx, in.Body.OnlyWorkers)
}

func (s *Server) createWorker(ctx context.Context, in *body[contract.NewWorker]) (*body[contract.WorkerCode], error) {
	worker, code, err := s.Workers.Create(ctx, in.Body.Name, in.Body.Site)
	if err != nil {
		return nil, err
	}
	return s.codeOf(worker, code), nil
}

func (s *Server) codeOf(worker workers.Worker, code string) *body[contract.WorkerCode] {
	return &body[contract.WorkerCode]{contract.WorkerCode{Worker: s.workerOf(worker), Code: code, Ends: *worker.CodeEnds,
		URL: cmp.Or(s.Public, s.BaseURL)}}
}

type workerInput struct {
	Name string `path:"name"`
}

func (s *Server) newWorkerCode(ctx context.Context, in *workerInput) (*body[contract.WorkerCode], error) {
	if err := s.checkManages(ctx, in.Name); err != nil {
		return nil, err
	}
	worker, code, err := s.Workers.Recode(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return s.codeOf(worker, code), nil
}

func (s *Server) changeWorker(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body contract.WorkerChange
}) (*body[contract.Worker], error) {
	if err := s.checkManages(ctx, in.Name); err != nil {
		return nil, err
	}
	if err := s.checkChange(ctx, in.Body); err != nil {
		return nil, err
	}
	name, change := in.Name, in.Body
	if change.Draining != nil {
		if _, err := s.Workers.Drain(ctx, name, *change.Draining); err != nil {
			return nil, err
		}
	}
	for _, step := range []struct {
		names  []string
		change func(ctx context.Context, name string, names []string, add bool) error
		add    bool
	}{{change.Grant, s.grantWorker, true}, {change.Revoke, s.grantWorker, false}, {change.Assign, s.assignWorker, true},
		{change.Unassign, s.assignWorker, false}} {
		if err := step.change(ctx, name, step.names, step.add); err != nil {
			return nil, err
		}
	}
	if change.Name != "" {
		if _, err := s.Workers.Rename(ctx, name, change.Name); err != nil {
			return nil, err
		}
		name = change.Name
	}
	changed, err := s.Workers.Show(ctx, name)
	return &body[contract.Worker]{s.workerFor(ctx, changed)}, err
}

// checkChange refuses a change that changes nothing, and one that only owners may make.
func (s *Server) checkChange(ctx context.Context, change contract.WorkerChange) error {
	ofOwners := len(change.Grant) + len(change.Revoke) + len(change.Assign) + len(change.Unassign)
	if ofOwners > 0 && person(ctx).Role != access.Owner {
		denied := notAllowed()
		denied.Detail = "Only owners of the service decide which accounts a worker may have, and who manages it."
		denied.Remedy = "Ask an owner of the service to do it."
		return &denied
	}
	if ofOwners == 0 && change.Draining == nil && change.Name == "" {
		return &contract.Problem{Status: http.StatusUnprocessableEntity, Title: http.StatusText(http.StatusUnprocessableEntity),
			Detail: "There is nothing to change.", Remedy: "Give another name, accounts, users, or whether to drain the worker."}
	}
	return nil
}

// assignWorker has users manage a worker, or takes that back. Owners manage all workers, and viewers change nothing.
func (s *Server) assignWorker(ctx context.Context, name string, users []string, assign bool) error {
	var rows []records.User
	for _, user := range users {
		row, err := s.DB.UserNamed(ctx, user)
		switch {
		case errors.Is(err, records.ErrNotFound):
			return store.Errorf(store.ErrNotFound, "there is no user %q; see: heron user list", user)
		case err != nil:
			return err
		case assign && access.Role(row.Role) != access.Operator:
			return store.Errorf(store.ErrRefused, "%s has the role %s; operators can manage a worker, and owners manage all", user, row.Role)
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil
	}
	return s.Workers.Assign(ctx, name, rows, assign)
}

// grantWorker lets a worker have accounts, or takes them back.
func (s *Server) grantWorker(ctx context.Context, name string, accounts []string, grant bool) error {
	var rows []records.Account
	for _, account := range accounts {
		if grant {
			if err := s.Accounts.CheckForWorkers(ctx, account); err != nil {
				return err
			}
		}
		id, err := s.Accounts.ID(ctx, account)
		if err != nil {
			return err
		}
		row, err := s.DB.AccountByID(ctx, id)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil
	}
	_, err := s.Workers.Grant(ctx, name, rows, grant)
	return err
}

func (s *Server) removeWorker(ctx context.Context, in *workerInput) (*body[contract.WorkerRemoved], error) {
	had, err := s.Workers.Remove(ctx, in.Name)
	return &body[contract.WorkerRemoved]{contract.WorkerRemoved{Secrets: append([]string{}, had...)}}, err
}

func (s *Server) joinWorker(ctx context.Context, in *body[contract.JoinWorker]) (*body[contract.JoinedWorker], error) {
	asked := in.Body
	joined, err := s.Workers.Join(ctx, workers.Joining{Code: asked.Code, Key: asked.Key, Recipient: asked.Recipient, Version: asked.Version,
		System: asked.System, Address: visitor(ctx).From, Protocol: asked.Protocol})
	if errors.Is(err, workers.ErrWrongCode) {
		return nil, s.signInFailed(ctx, "worker", &contract.Problem{Status: http.StatusUnauthorized,
			Title: http.StatusText(http.StatusUnauthorized), Detail: "The code was used already, is older than 15 minutes, or was mistyped.",
			Remedy: "Get a new one: heron worker code NAME."})
	}
	if err != nil {
		return nil, err
	}
	return &body[contract.JoinedWorker]{contract.JoinedWorker{ID: joined.ID, Name: joined.Name, Site: joined.Site, Instance: s.Instance}}, nil
}

// connectWorker carries the messages of a worker, which signs in within them.
func (s *Server) connectWorker(c *gin.Context) {
	if !s.Workers.Running() {
		refuse(c, &contract.Problem{Status: http.StatusNotFound, Detail: "This service has no workers.",
			Remedy: "Create one: heron worker create NAME."})
		return
	}
	if !s.Workers.Accepts() {
		refuse(c, &contract.Problem{Status: http.StatusTooManyRequests, Detail: "Too many workers connect at the same time.",
			Remedy: "The worker tries again automatically."})
		return
	}
	name := uuid.NewString()
	c.Writer.Header().Set(site.ConnectionHeader, name)
	connection, err := websocket.Accept(c.Writer, c.Request, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return // Accept has answered
	}
	connection.SetReadLimit(site.MostMessage + 64<<10)
	stream := websocket.NetConn(context.WithoutCancel(c.Request.Context()), connection, websocket.MessageBinary)
	if err := s.Workers.Relay(name, visitor(c.Request.Context()).From, stream); err != nil {
		s.Log.DebugContext(c.Request.Context(), "a connection of a worker ended", "error", err)
	}
}

// takeAnswer takes in an answer that is too large for a message.
func (s *Server) takeAnswer(c *gin.Context) {
	s.stream(c, s.Workers.TakeAnswer(bearer(c), c.Request.Body, http.NewResponseController(c.Writer)))
}

// sendContent sends the content that comes with a request to a worker.
func (s *Server) sendContent(c *gin.Context) {
	c.Header("Content-Type", "application/octet-stream")
	s.stream(c, s.Workers.SendContent(bearer(c), c.Writer, http.NewResponseController(c.Writer)))
}

// stream ends a stream of a worker. One that broke off is cut, so that it cannot be taken for whole.
func (s *Server) stream(c *gin.Context, err error) {
	switch {
	case err == nil && !c.Writer.Written():
		c.Status(http.StatusNoContent)
	case err == nil:
	case errors.Is(err, workers.ErrNoCall):
		refuse(c, &contract.Problem{Status: http.StatusGone, Detail: "Nobody waits for this answer any more."})
	default:
		panic(http.ErrAbortHandler)
	}
}

func bearer(c *gin.Context) string {
	return strings.TrimPrefix(c.GetHeader("Authorization"), "Bearer ")
}
