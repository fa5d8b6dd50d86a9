package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/report"
)

// surveyFolder streams a survey: a line now and then of how far it has come, and last the
// survey or a problem. With format=html it is a page, when it is complete.
func (s *Server) surveyFolder(c *gin.Context) {
	ctx := c.Request.Context()
	located, target, err := s.surveySides(ctx, c.Query("address"), c.Query("for"))
	if err != nil {
		refuse(c, problem(err))
		return
	}
	if c.Query("format") == "html" {
		done, err := s.Runner.Survey(ctx, located, target, nil)
		if err != nil {
			refuse(c, problem(err))
			return
		}
		c.Header("Content-Type", report.HTML.ContentType())
		c.Header("Content-Security-Policy", paperPolicy)
		if err := report.WriteSurvey(c.Writer, done); err != nil {
			s.Log.ErrorContext(c.Request.Context(), "a survey broke off", "error", err)
		}
		return
	}
	c.Header("Content-Type", "application/x-ndjson")
	c.Status(http.StatusOK)
	c.Writer.Flush()
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	said := time.Now()
	done, err := s.Runner.Survey(ctx, located, target, func(entries int64) {
		if time.Since(said) > 500*time.Millisecond {
			said = time.Now()
			_ = encoder.Encode(contract.Surveying{Entries: entries})
			c.Writer.Flush()
		}
	})
	if err != nil {
		_ = encoder.Encode(contract.Surveying{Problem: problem(err)})
		return
	}
	_ = encoder.Encode(contract.Surveying{Survey: &done})
}

func (s *Server) surveySides(ctx context.Context, address, target string) (located tree.Located, to *tree.Located, err error) {
	if located, err = s.compareSide(ctx, address, ""); err != nil {
		return located, nil, err
	}
	if entry, err := located.Store.Stat(ctx, located.Place); err != nil || entry.Kind != store.KindFolder {
		return located, nil, store.Errorf(store.ErrRefused, "%s is not a folder; survey the folder that it is in", located.Address)
	}
	if target == "" {
		return located, nil, nil
	}
	parsed, err := store.ParseAddress(target)
	if err != nil {
		return located, nil, err
	}
	if parsed.IsRoot() {
		return located, nil, store.Errorf(store.ErrRefused, "the target / is the root of all accounts; name an account, as in /desk")
	}
	there, err := s.Tree.Locate(ctx, parsed)
	return located, &there, err
}
