package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/live"
)

// heartbeat keeps a connection known to be alive by those in between.
const heartbeat = 15 * time.Second

// live streams events (HTML Standard, section 9.2, server-sent events).
func (s *Server) live(c *gin.Context) {
	last := c.GetHeader("Last-Event-ID")
	if last == "" {
		last = c.Query("last")
	}
	who := person(c.Request.Context()).TokenID
	if !s.streams.open(who) {
		c.Header("Retry-After", "30")
		refuse(c, &contract.Problem{Status: http.StatusServiceUnavailable, Detail: "Too many pages follow this service at once.",
			Remedy: "Close some of them, and reload this one."})
		return
	}
	defer s.streams.close(who)
	control := http.NewResponseController(c.Writer)
	events, stop := s.Hub.Listen(last)
	defer stop()
	c.Header("Content-Type", "text/event-stream")
	c.Header("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	c.Writer.Flush()
	ticker := time.NewTicker(heartbeat)
	defer ticker.Stop()
	for {
		_ = control.SetWriteDeadline(time.Now().Add(quietTime))
		select {
		case <-c.Request.Context().Done():
			return
		case <-s.Done:
			return
		case <-ticker.C:
			if _, err := s.Access.Who(c.Request.Context(), s.tokenOf(c.Request)); err != nil {
				return // it has expired
			}
			if _, err := fmt.Fprint(c.Writer, ": still here\n\n"); err != nil {
				return
			}
		case event, open := <-events:
			if !open {
				return // too slow; it comes back by the last id that it saw
			}
			seen, ok := s.seenEvent(s.scopeNow(c), event)
			if !ok {
				continue
			}
			data, err := json.Marshal(ofRuns(seen, c.Query("runs")))
			if err != nil {
				s.Log.ErrorContext(c.Request.Context(), "an event cannot be sent", "event", event.Name, "error", err)
				continue
			}
			if event.ID != "" {
				fmt.Fprintf(c.Writer, "id: %s\n", event.ID)
			}
			if _, err := fmt.Fprintf(c.Writer, "event: %s\ndata: %s\n\n", event.Name, data); err != nil {
				return
			}
		}
		c.Writer.Flush()
	}
}

// scopeNow is the context of a stream with what its listener sees by now: grants, and the names of
// accounts, may have changed since it began.
func (s *Server) scopeNow(c *gin.Context) context.Context {
	ctx := c.Request.Context()
	if tree.ScopeOf(ctx) == nil {
		return ctx
	}
	who, err := s.Access.Who(ctx, s.tokenOf(c.Request))
	if err != nil {
		return tree.WithScope(ctx, access.Nothing)
	}
	return tree.WithScope(ctx, who.Scope)
}

// seenEvent returns the data of an event as who listens sees it; false if it is about what they do
// not see.
func (s *Server) seenEvent(ctx context.Context, event live.Event) (any, bool) {
	if tree.ScopeOf(ctx) == nil {
		return event.Data, true
	}
	switch data := event.Data.(type) {
	case contract.Run:
		return data, s.Runner.SeesRun(ctx, data)
	case contract.Progress:
		return s.seenProgress(ctx, data), true
	case string: // a folder's address, or a job's name
		if event.Name == live.Folder {
			address, err := store.ParseAddress(data)
			return data, err == nil && tree.Sees(ctx, address) != tree.Hidden
		}
		return data, s.Runner.CheckJobSeen(ctx, data, false) == nil
	}
	return event.Data, event.Name == live.Again || event.Name == live.Accounts
}

// seenProgress is the progress of the runs and the transfers that who listens sees.
func (s *Server) seenProgress(ctx context.Context, all contract.Progress) contract.Progress {
	seen := contract.Progress{Running: []string{}, Runs: []contract.Run{}, Transfers: []contract.Transfer{}}
	for _, one := range all.Runs {
		if s.Runner.SeesRun(ctx, one) {
			seen.Running, seen.Runs = append(seen.Running, one.ID), append(seen.Runs, one)
			if one.Now != nil {
				seen.Rate += one.Now.Rate
			}
		}
	}
	for _, one := range all.Transfers {
		if address, err := store.ParseAddress(one.Address); err == nil && tree.CheckSeen(ctx, address) == nil {
			seen.Transfers = append(seen.Transfers, one)
		}
	}
	return seen
}

// ofRuns is the data of an event with the progress of some runs alone: all (also if empty), none,
// or one by its id.
func ofRuns(data any, runs string) any {
	progress, ok := data.(contract.Progress)
	if !ok || runs == "" || runs == "all" {
		return data
	}
	chosen := []contract.Run{}
	for _, run := range progress.Runs {
		if run.ID == runs {
			chosen = append(chosen, run)
		}
	}
	progress.Runs = chosen
	return progress
}

// console serves the built console. What is not a file of it is a page of it, and
// gets its index; what is asked of the API is not there.
func (s *Server) console() gin.HandlerFunc {
	files := http.FS(s.Console)
	return func(c *gin.Context) {
		name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		if strings.HasPrefix(name, "api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			refuse(c, &contract.Problem{Status: http.StatusNotFound, Detail: "There is nothing at " + c.Request.URL.Path + ".",
				Remedy: "See " + contract.Root + "/openapi.json for what there is."})
			return
		}
		info, err := fs.Stat(s.Console, name)
		if err == nil && !info.IsDir() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			c.FileFromFS(name, files)
			return
		}
		index, err := fs.ReadFile(s.Console, "index.html")
		if err != nil {
			refuse(c, &contract.Problem{Status: http.StatusNotFound, Detail: "This program was built without its console.",
				Remedy: "Build it with: make build."})
			return
		}
		nonce := rand.Text()
		index = bytes.Replace(index, []byte(`<meta name="nonce" content=""`), []byte(`<meta name="nonce" content="`+nonce+`"`), 1)
		c.Header("Content-Security-Policy", policy(nonce))
		c.Header("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", index)
	}
}
