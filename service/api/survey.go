package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/survey"
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
		done, err := s.takeSurvey(ctx, located, target, nil)
		if err != nil {
			refuse(c, problem(err))
			return
		}
		c.Header("Content-Type", report.HTML.ContentType())
		if err := report.WriteSurvey(c.Writer, done); err != nil {
			s.Log.Error("a survey broke off", "error", err)
		}
		return
	}
	c.Header("Content-Type", "application/x-ndjson")
	c.Status(http.StatusOK)
	c.Writer.Flush()
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	said := time.Now()
	done, err := s.takeSurvey(ctx, located, target, func(entries int64) {
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
	if located, err = s.compareSide(ctx, address); err != nil {
		return located, nil, err
	}
	if entry, err := located.Store.Stat(ctx, located.Place); err != nil || entry.Kind != store.KindFolder {
		return located, nil, store.Errorf(store.ErrRefused, "%s is no folder; survey the folder that it is in", located.Address)
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

// takeSurvey surveys what is at an address.
func (s *Server) takeSurvey(ctx context.Context, located tree.Located, target *tree.Located, told func(int64)) (contract.Survey, error) {
	shown := contract.Survey{Address: located.Address.String(), At: time.Now(), Free: -1}
	var to *survey.Target
	if target != nil {
		shown.For = target.Address.String()
		to = &survey.Target{Traits: target.Store.Traits(), Path: target.Place.AsFolder().Path.Child(located.Address.Name())}
		if space, err := store.SpaceOf(ctx, target.Store); err == nil {
			shown.Free = space.Free
		}
	}
	result, err := survey.Take(ctx, store.AsFiles(located.Store, plan.NoExports()), located.Place, to, shown.At, told)
	if err != nil {
		return shown, err
	}
	address := func(key store.Key, kind store.Kind) string {
		below, name := key.Split(kind)
		at := located.Address
		for _, step := range append(below.Names(), name) {
			at = at.Child(step)
		}
		return at.String()
	}
	files := func(all []survey.File) []contract.Surveyed {
		list := []contract.Surveyed{}
		for _, one := range all {
			list = append(list, contract.Surveyed{Address: address(one.Key, one.Kind), Kind: string(one.Kind), Size: one.Size, Depth: one.Depth})
		}
		return list
	}
	groups := func(all []survey.Group) []contract.Group {
		list := []contract.Group{}
		for _, one := range all {
			list = append(list, contract.Group(one))
		}
		return list
	}
	shown.Files, shown.Folders, shown.Others, shown.Bytes = result.Files, result.Folders, result.Others, result.Bytes
	shown.Unsized, shown.EmptyFiles, shown.EmptyFolders = result.Unsized, result.EmptyFiles, result.EmptyFolders
	shown.Types, shown.Ages, shown.Documents = groups(result.Types), groups(result.Ages), groups(result.Documents)
	shown.Largest, shown.Deepest, shown.Oversized = files(result.Largest), files(result.Deepest), files(result.TooLargeFiles)
	shown.Translated, shown.Twins, shown.Refused = result.Translated, result.Twins, result.Refused
	shown.TooLarge = contract.Count{Items: result.TooLarge.Items, Bytes: result.TooLarge.Bytes}
	shown.Hashed, shown.Repeated = result.Hashed, contract.Count{Items: result.Repeated.Items, Bytes: result.Repeated.Bytes}
	shown.Names, shown.Duplicates, shown.Exports = []contract.Surveyed{}, []contract.Duplicated{}, []contract.Exporting{}
	for _, one := range result.Names {
		name := files([]survey.File{one.File})[0]
		name.Why = one.Why
		if one.To != "" {
			_, name.Target = one.To.Split(one.Kind)
		}
		shown.Names = append(shown.Names, name)
	}
	for _, one := range result.Duplicates {
		duplicated := contract.Duplicated{Hash: one.Hash, Size: one.Size, Items: one.Items}
		for _, key := range one.Examples {
			duplicated.Examples = append(duplicated.Examples, address(key, store.KindFile))
		}
		shown.Duplicates = append(shown.Duplicates, duplicated)
	}
	for _, one := range result.Documents {
		if kind, ok := store.ExportsOf(located.Store, store.Entry{Kind: store.KindDocument, Document: one.Name}); ok {
			shown.Exports = append(shown.Exports, contract.Exporting{Document: one.Name, Format: kind.Formats[0].Name, Items: one.Items})
		}
	}
	return shown, nil
}
