package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/store"
)

// verifyCertificate reads every file of a certificate at the target and compares its
// BLAKE3 with the certified one: a line of JSON for each that is not so, and at its end
// the summary. One that breaks off ends with a problem and has no summary.
func (s *Server) verifyCertificate(c *gin.Context) {
	ctx, id := c.Request.Context(), c.Param("id")
	if err := s.hasCertificate(ctx, id); err != nil {
		refuse(c, problem(err))
		return
	}
	c.Header("Content-Type", "application/x-ndjson")
	c.Status(http.StatusOK)
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	summary, flushed := contract.VerifiedSummary{}, time.Now()
	for file, err := range s.Runner.CertifiedFiles(ctx, id, false) {
		line := contract.VerifiedFile{Target: file.Target}
		if err == nil {
			line.Outcome, err = s.verifyFile(ctx, file)
		}
		if ctx.Err() != nil || store.WaitsForPerson(err) || file.Target == "" {
			_ = encoder.Encode(contract.VerifiedFile{Problem: problem(errors.Join(ctx.Err(), err))})
			return
		}
		into := map[string]*contract.Count{
			"": &summary.Holds, "differs": &summary.Differs, "missing": &summary.Missing, "unreadable": &summary.Unreadable,
			"not-certified": &summary.NotCertified,
		}[line.Outcome]
		into.Items++
		into.Bytes += max(0, file.Bytes)
		if line.Outcome == "" {
			continue
		}
		if err != nil {
			line.Why = err.Error()
		}
		if err := encoder.Encode(line); err != nil {
			return // nobody listens any more
		}
		if time.Since(flushed) > 200*time.Millisecond {
			c.Writer.Flush()
			flushed = time.Now()
		}
	}
	_ = encoder.Encode(contract.VerifiedFile{Summary: &summary})
}

// verifyFile compares one file; the outcome is empty where it holds what is certified.
func (s *Server) verifyFile(ctx context.Context, file contract.CertifiedFile) (string, error) {
	wanted, ok := store.ParseHash(file.Digest)
	if !ok {
		return "not-certified", nil
	}
	address, err := store.ParseAddress(file.Target)
	if err != nil {
		return "unreadable", err
	}
	located, err := s.Tree.Locate(ctx, address)
	if err != nil {
		return "unreadable", err
	}
	sum, _, err := store.ReadBack(ctx, located.Store, located.Place.As(store.KindFile), "", wanted.Kind)
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return "missing", nil
	case err != nil:
		return "unreadable", err
	case sum != wanted:
		return "differs", nil
	}
	return "", nil
}
