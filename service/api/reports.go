package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/remedy"
	"deftheron/service/records"
	"deftheron/service/report"
)

// paper is something that is handed out about a run: what it is, and how it is
// written.
type paper struct {
	kind, name string
	write      func(ctx context.Context, w io.Writer, id string, format report.Format) error
}

// report hands out the record of a run; of one that has surveyed, the survey.
func (s *Server) report(c *gin.Context) {
	run, err := s.Runner.Run(c.Request.Context(), c.Param("id"))
	if err != nil {
		refuse(c, problem(noRun(c.Param("id"), err)))
		return
	}
	one := paper{"report", "run", func(ctx context.Context, w io.Writer, id string, format report.Format) error {
		return report.Write(ctx, w, s.Runner, id, format)
	}}
	if run.Step == job.Survey {
		one = paper{"survey", "survey", func(ctx context.Context, w io.Writer, id string, format report.Format) error {
			surveys, err := s.Runner.Surveys(ctx, id)
			if err != nil {
				return err
			}
			return report.WriteSurveys(w, surveys, format)
		}}
	}
	s.handOut(c, run.ID, one)
}

// certificate hands out the certificate of a final pass.
func (s *Server) certificate(c *gin.Context) {
	id := c.Param("id")
	if err := s.hasCertificate(c.Request.Context(), id); err != nil {
		refuse(c, problem(err))
		return
	}
	s.handOut(c, id, paper{"certificate", "certificate", func(ctx context.Context, w io.Writer, id string, format report.Format) error {
		return report.WriteCertificate(ctx, w, s.Runner, id, format)
	}})
}

// hasCertificate returns an error if a run has no certificate.
func (s *Server) hasCertificate(ctx context.Context, id string) error {
	_, err := s.Runner.Certificate(ctx, id)
	if !errors.Is(err, records.ErrNotFound) {
		return err
	}
	if _, missing := s.Runner.Run(ctx, id); missing != nil {
		return noRun(id, missing)
	}
	return &contract.Problem{
		Status: http.StatusNotFound, Title: "Not Found",
		Detail: fmt.Sprintf("The run %s has no certificate: the final pass of a migration has one, when it has come to its end.", id),
		Remedy: "Get the report of the run instead.", Commands: []string{"heron run report " + id},
	}
}

// handOut writes a paper, and keeps by its hash that it was handed out.
func (s *Server) handOut(c *gin.Context, run string, one paper) {
	format := report.Format(c.DefaultQuery("format", string(report.HTML)))
	formats := []report.Format{report.HTML, report.CSV, report.JSON}
	if one.kind == "certificate" {
		formats = append(formats, report.PeopleCSV)
	}
	if !slices.Contains(formats, format) {
		refuse(c, problem(remedy.Errorf("%q is not a format of a %s; use html, csv or json", format, one.kind)))
		return
	}
	c.Header("Content-Type", format.ContentType())
	if format == report.HTML {
		c.Header("Content-Security-Policy", paperPolicy)
	} else {
		c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"%s-%s.%s\"", one.name, run,
			strings.ReplaceAll(string(format), "people-csv", "people.csv")))
	}
	ctx, sum := c.Request.Context(), sha256.New()
	err := one.write(ctx, io.MultiWriter(c.Writer, sum), run, format)
	if err == nil {
		err = s.Runner.HandedOut(ctx, run, one.kind, string(format), hex.EncodeToString(sum.Sum(nil)))
	}
	if err != nil {
		// Part of it may be on its way: broken off, it cannot be taken for whole.
		s.Log.ErrorContext(c.Request.Context(), "a paper broke off", "kind", one.kind, "run", run, "error", err)
		panic(http.ErrAbortHandler)
	}
}

func (s *Server) checkPaper(ctx context.Context, in *body[contract.Checking]) (*body[contract.Checked], error) {
	checked, err := s.Runner.CheckPaper(ctx, in.Body.SHA256)
	if err == nil && checked.Run != "" && s.Runner.CheckRunSeen(ctx, checked.Run, false) != nil {
		checked = contract.Checked{} // as if it were not one of ours
	}
	return &body[contract.Checked]{checked}, err
}

// paperPolicy is the policy of a page that people keep: its style is inside, and it needs
// nothing else.
const paperPolicy = "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'"
