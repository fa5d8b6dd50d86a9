package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/compare"
	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/tree"
)

// compare streams a comparison of two addresses, one JSON value a line: the entries
// that differ (all=true: all entries), and at the end the summary. If it fails, it
// ends with a problem and has no summary.
func (s *Server) compare(c *gin.Context) {
	ctx := c.Request.Context()
	here, there, err := s.compareSides(ctx, c)
	if err != nil {
		refuse(c, problem(err))
		return
	}
	scope, err := s.Runner.Scope(ctx, here.Address, there.Address)
	if err != nil {
		refuse(c, problem(err))
		return
	}
	c.Header("Content-Type", "application/x-ndjson")
	c.Status(http.StatusOK)
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	flushed := time.Now()
	summary := contract.Summary{Evidence: map[string]int64{}}
	all, reading := c.Query("all") == "true", compare.Reported
	if c.Query("read") == "true" {
		reading = compare.Read
	}
	one, other := sidesOf(here, there)
	for one, err := range files.Compare(ctx, one, other, s.DB.Pairs(ctx, scope), reading) {
		if err != nil {
			_ = encoder.Encode(contract.Compared{Problem: problem(err)})
			return
		}
		count(&summary, one)
		if one.Outcome == files.Equal && !all {
			continue
		}
		if err := encoder.Encode(comparedOf(one, here, there)); err != nil {
			return // nobody listens any more
		}
		if time.Since(flushed) > 200*time.Millisecond {
			c.Writer.Flush()
			flushed = time.Now()
		}
	}
	_ = encoder.Encode(contract.Compared{Summary: &summary})
}

func (s *Server) compareSides(ctx context.Context, c *gin.Context) (here, there tree.Located, err error) {
	hereAt, thereAt := c.Query("here_at"), c.Query("there_at")
	if here, err = s.compareSide(ctx, c.Query("here"), hereAt); err != nil {
		return here, there, err
	}
	if there, err = s.compareSide(ctx, c.Query("there"), thereAt); err != nil {
		return here, there, err
	}
	if here.Address.String() == there.Address.String() && hereAt == thereAt {
		err = store.Errorf(store.ErrRefused, "both addresses are %s; name two different ones, or two times", here.Address)
	}
	return here, there, err
}

func (s *Server) compareSide(ctx context.Context, text, moment string) (tree.Located, error) {
	address, err := store.ParseAddress(text)
	if err != nil {
		return tree.Located{}, err
	}
	at, err := parseAt(moment)
	if err != nil {
		return tree.Located{}, err
	}
	located, err := s.Runner.TreeAt(at).Locate(ctx, address)
	if err != nil {
		return located, err
	}
	_, err = located.Store.Stat(ctx, located.Place)
	return located, s.explain(ctx, address, err)
}

func sidesOf(here, there tree.Located) (one, other files.Side) {
	same := here.Address.String() == there.Address.String()
	return files.Side{Store: here.Store, Place: here.Place, OnePlace: same}, files.Side{Store: there.Store, Place: there.Place, OnePlace: same}
}

func count(summary *contract.Summary, one files.Compared) {
	if one.Kind == store.KindFolder && one.Outcome == files.Equal {
		summary.Folders++
		return
	}
	entry := one.Here
	if entry == nil {
		entry = one.There
	}
	into := countOf(summary, one.Outcome)
	into.Items++
	into.Bytes += max(0, entry.Size)
	if one.Outcome == files.Equal {
		summary.Evidence[string(one.Evidence)]++
	}
}

func countOf(summary *contract.Summary, outcome files.Outcome) *contract.Count {
	switch outcome {
	case files.OnlyHere:
		return &summary.OnlyHere
	case files.OnlyThere:
		return &summary.OnlyThere
	case files.Differing:
		return &summary.Differing
	case files.Equal:
		return &summary.Equal
	case files.Untold:
		return &summary.Untold
	}
	return &summary.Unreadable
}

func comparedOf(one files.Compared, here, there tree.Located) contract.Compared {
	shown := contract.Compared{Kind: string(one.Kind), Outcome: string(one.Outcome), Evidence: string(one.Evidence), Why: one.Why}
	below, name := one.Key.Split(one.Kind)
	shown.Name = strings.TrimPrefix(below.Ref().String(), "/")
	if shown.Name != "" {
		shown.Name += "/"
	}
	shown.Name += name
	if one.Key == "" {
		shown.Name = here.Address.Name()
	}
	entry := func(located tree.Located, key store.Key, entry *store.Entry) *contract.Entry {
		if entry == nil {
			return nil
		}
		address := located.Address
		if key != "" {
			below, name := key.Split(one.Kind)
			for _, step := range append(below.Names(), name) {
				address = address.Child(step)
			}
		}
		shown := entryOf(tree.Node{Address: address, Entry: *entry})
		return &shown
	}
	shown.Here, shown.There = entry(here, one.Key, one.Here), entry(there, one.To, one.There)
	return shown
}
