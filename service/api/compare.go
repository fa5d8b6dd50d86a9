package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/tree"
)

// compare streams a comparison of two addresses, one JSON value a line: what is
// not equal (all=true: everything), and at its end the summary. One that breaks
// off ends with a problem and has no summary.
func (s *Server) compare(c *gin.Context) {
	ctx := c.Request.Context()
	here, there, err := s.compareSides(ctx, c.Query("here"), c.Query("there"))
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
	all, reading := c.Query("all") == "true", c.Query("read") == "true"
	for one, err := range files.Compare(ctx, sideOf(here), sideOf(there), s.DB.Pairs(ctx, scope), reading) {
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

func (s *Server) compareSides(ctx context.Context, hereText, thereText string) (here, there tree.Located, err error) {
	for text, located := range map[string]*tree.Located{hereText: &here, thereText: &there} {
		address, err := store.ParseAddress(text)
		if err != nil {
			return here, there, err
		}
		if *located, err = s.Tree.Locate(ctx, address); err != nil {
			return here, there, err
		}
		if _, err := located.Store.Stat(ctx, located.Place); err != nil {
			return here, there, s.explain(ctx, address, err)
		}
	}
	if hereText == thereText {
		there = here
	}
	if here.Address.String() == there.Address.String() {
		return here, there, store.Errorf(store.ErrRefused, "both addresses are %s; name two different ones", here.Address)
	}
	return here, there, nil
}

func sideOf(located tree.Located) files.Side {
	return files.Side{Store: located.Store, Place: located.Place}
}

func count(summary *contract.Summary, one files.Compared) {
	if one.Kind == store.KindFolder {
		if one.Outcome == files.Equal {
			summary.Folders++
			return
		}
	}
	into := map[files.Outcome]*contract.Count{
		files.OnlyHere: &summary.OnlyHere, files.OnlyThere: &summary.OnlyThere, files.Differing: &summary.Differing,
		files.Equal: &summary.Equal, files.Untold: &summary.Untold, files.Unreadable: &summary.Unreadable,
	}[one.Outcome]
	into.Items++
	if entry := one.Here; entry != nil {
		into.Bytes += max(0, entry.Size)
	} else if one.There != nil {
		into.Bytes += max(0, one.There.Size)
	}
	if one.Outcome == files.Equal {
		summary.Evidence[string(one.Evidence)]++
	}
}

func comparedOf(one files.Compared, here, there tree.Located) contract.Compared {
	shown := contract.Compared{Kind: string(one.Kind), Outcome: string(one.Outcome), Evidence: string(one.Evidence), Why: one.Why}
	below, name := one.Key.Split(one.Kind)
	shown.Name = strings.TrimPrefix(below.Place().String(), "/")
	if shown.Name != "" {
		shown.Name += "/"
	}
	shown.Name += name
	if one.Key == "" {
		shown.Name = here.Address.Name()
	}
	entry := func(located tree.Located, entry *store.Entry) *contract.Entry {
		if entry == nil {
			return nil
		}
		address := located.Address
		if one.Key != "" {
			for _, step := range append(below.Names(), name) {
				address = address.Child(step)
			}
		}
		shown := entryOf(tree.Node{Address: address, Entry: *entry})
		return &shown
	}
	shown.Here, shown.There = entry(here, one.Here), entry(there, one.There)
	return shown
}
