package declared

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"deftheron/core/store"
)

// openUpload is the record of an open upload at a service that cannot list them: the
// values that the request to abort it needs.
type openUpload struct {
	Way int            `json:"way"` // the index of the way of writing
	In  map[string]any `json:"in"`
}

// keep records an upload that has started, until it has ended.
func (w *writer) keep(ctx context.Context) (drop func(), err error) {
	keeps := w.a.opening.Uploads
	if keeps == nil || !w.begun || w.giveUpOperation() == nil || w.a.definition.Leftovers != nil {
		return func() {}, nil
	}
	kept := openUpload{In: map[string]any{}}
	for i := range w.a.definition.Uploads {
		if &w.a.definition.Uploads[i] == w.upload {
			kept.Way = i
		}
	}
	fixed := w.a.fixed()
	for name, value := range w.in {
		if _, always := fixed[name]; !always {
			kept.In[name] = value
		}
	}
	text, err := json.Marshal(kept)
	if err != nil {
		return func() {}, err
	}
	id, err := keeps.Keep(ctx, text)
	if err != nil {
		return func() {}, err
	}
	return func() {
		if err := keeps.Drop(context.WithoutCancel(ctx), id); err != nil {
			w.a.opening.Log.Warn("the record of a finished upload could not be removed", "error", err)
		}
	}, nil
}

// abandonedTime bounds the time for aborting the uploads of an earlier process.
const abandonedTime = 2 * time.Minute

// giveUpAbandoned gives up the uploads that a former process left open. What cannot be
// given up now is tried when the account is opened the next time.
func (a *account) giveUpAbandoned(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, abandonedTime)
	defer cancel()
	log := a.opening.Log
	abandoned, err := a.opening.Uploads.Abandoned(ctx)
	if err != nil {
		log.Warn("could not list abandoned uploads", "error", err)
		return
	}
	for id, text := range abandoned {
		if err := a.giveUpKept(ctx, text); err != nil {
			log.Warn("an abandoned upload could not be cancelled", "error", err)
			continue
		}
		if err := a.opening.Uploads.Drop(ctx, id); err != nil {
			log.Warn("the record of a cancelled upload could not be removed", "error", err)
		}
	}
	if len(abandoned) > 0 {
		log.Info("abandoned uploads were cancelled", "count", len(abandoned))
	}
}

func (a *account) giveUpKept(ctx context.Context, text []byte) error {
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.UseNumber()
	var kept openUpload
	if err := decoder.Decode(&kept); err != nil {
		return err
	}
	if kept.Way >= len(a.definition.Uploads) {
		return nil // of a definition that was another then
	}
	w := &writer{a: a, upload: &a.definition.Uploads[kept.Way], in: a.fixed()}
	if w.giveUpOperation() == nil {
		return nil
	}
	for name, value := range kept.In {
		w.in[name] = value
	}
	_, err := a.do(ctx, "giving up an upload", w.giveUpOperation(), w.in, doing{})
	if kind := store.KindOf(err); kind == store.ErrNotFound || kind == store.ErrRefused {
		return nil // it is gone, or ended
	}
	return err
}
