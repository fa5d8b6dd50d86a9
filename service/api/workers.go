package api

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/coder/websocket"
	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"deftheron/contract"
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
		Granted: append([]string{}, w.Granted...), Parallel: w.Lanes, Items: w.Items, Load: w.Load, Processors: w.Processors, Memory: w.Memory,
	}
	shown.Remedy = messages.WorkerRemedy(w.State, w.Version, s.Version)
	return shown
}

func (s *Server) listWorkers(ctx context.Context, _ *none) (*body[[]contract.Worker], error) {
	all, err := s.Workers.List(ctx)
	shown := []contract.Worker{}
	for _, one := range all {
		one.For, one.Granted = s.visible(ctx, one.For), s.visible(ctx, one.Granted)
		if person(ctx).Role != access.Owner { // who looks after the machines
			one.Address = ""
		}
		shown = append(shown, s.workerOf(one))
	}
	return &body[[]contract.Worker]{shown}, err
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
	name := in.Name
	var changed workers.Worker
	var err error
	if in.Body.Draining != nil {
		if changed, err = s.Workers.Drain(ctx, name, *in.Body.Draining); err != nil {
			return nil, err
		}
	}
	for _, asked := range []struct {
		accounts []string
		grant    bool
	}{{in.Body.Grant, true}, {in.Body.Revoke, false}} {
		if len(asked.accounts) == 0 {
			continue
		}
		if changed, err = s.grantWorker(ctx, name, asked.accounts, asked.grant); err != nil {
			return nil, err
		}
	}
	if in.Body.Name != "" {
		changed, err = s.Workers.Rename(ctx, name, in.Body.Name)
	}
	if err == nil && changed.ID == "" {
		return nil, &contract.Problem{Status: http.StatusUnprocessableEntity, Title: http.StatusText(http.StatusUnprocessableEntity),
			Detail: "There is nothing to change.", Remedy: "Give another name, whether the worker is to be drained, or accounts."}
	}
	return &body[contract.Worker]{s.workerOf(changed)}, err
}

// grantWorker lets a worker have accounts, or takes them back.
func (s *Server) grantWorker(ctx context.Context, name string, accounts []string, grant bool) (workers.Worker, error) {
	var rows []records.Account
	for _, account := range accounts {
		if grant {
			if err := s.Accounts.CheckForWorkers(ctx, account); err != nil {
				return workers.Worker{}, err
			}
		}
		id, err := s.Accounts.ID(ctx, account)
		if err != nil {
			return workers.Worker{}, err
		}
		row, err := s.DB.AccountByID(ctx, id)
		if err != nil {
			return workers.Worker{}, err
		}
		rows = append(rows, row)
	}
	return s.Workers.Grant(ctx, name, rows, grant)
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
			Remedy: "The worker tries again by itself."})
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
