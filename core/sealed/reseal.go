package sealed

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/zeebo/blake3"

	"deftheron/core/store"
)

// setOf returns a name for a set of recipients, by which files sealed to another set are
// found.
func setOf(recipients []string) string {
	sorted := slices.Sorted(slices.Values(recipients))
	sum := blake3.Sum256([]byte(strings.Join(sorted, "\n")))
	return hex.EncodeToString(sum[:4])
}

// Recipients are those that the place is sealed to.
func (p *Place) Recipients() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.keys.recipients)
}

// sealedTo returns the keys that are sealed to now, and the name of their set.
func (p *Place) sealedTo() (Keys, string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.keys, setOf(p.keys.recipients)
}

// SetRecipients has everything that is written from now on sealed to one's own key and to
// others. What is there already is sealed again by [Place.ResealManifests] and
// [Place.ResealContents].
func (p *Place) SetRecipients(ctx context.Context, others []string) error {
	for _, other := range others {
		if _, err := age.ParseX25519Recipient(other); err != nil {
			return store.Errorf(store.ErrRefused, "%q is not a recipient, which begins with age1; give the public key", other)
		}
	}
	recipients := p.keys.own()
	for _, other := range others {
		if !slices.Contains(recipients, other) {
			recipients = append(recipients, other)
		}
	}
	return p.change(ctx, func(is *about) { is.Recipients = recipients })
}

// change changes the file of the place, on condition that it has not changed meanwhile.
func (p *Place) change(ctx context.Context, change func(*about)) error {
	ctx = p.admit(ctx)
	there, err := p.base.Stat(ctx, p.at(placeFile))
	if err != nil {
		return err
	}
	is, err := p.readAbout(ctx)
	if err != nil {
		return err
	}
	change(&is)
	text, err := json.Marshal(is)
	if err != nil {
		return err
	}
	keys := Keys{identities: p.keys.identities, recipients: is.Recipients}
	sealed, err := sealText(keys, text)
	if err != nil {
		return err
	}
	if err := p.put(ctx, p.at(placeFile), store.AtRevision(there.Revision), sealed); err != nil {
		return err
	}
	p.mu.Lock()
	p.keys, p.manifestsFor = keys, is.Manifests
	p.mu.Unlock()
	return store.Sync(ctx, p.base)
}

// NeedsReseal reports whether manifests are sealed to recipients of before.
func (p *Place) NeedsReseal() bool {
	_, set := p.sealedTo()
	p.mu.Lock()
	defer p.mu.Unlock()
	return !p.readOnly && p.manifestsFor != set
}

// ResealManifests seals all manifests to the present recipients. If it was interrupted, the next
// call continues: finished folders are not sealed again.
func (p *Place) ResealManifests(ctx context.Context) (folders int, err error) {
	_, set := p.sealedTo()
	err = p.walk(ctx, func(f *folder, _ store.Path) error {
		stale := slices.ContainsFunc(f.segments, func(s *segment) bool { return s.For != set })
		if !stale {
			return nil
		}
		folders++
		f.mu.Unlock()
		defer f.mu.Lock()
		p.flushing.Lock()
		defer p.flushing.Unlock()
		return p.commitWhole(p.admit(ctx), f)
	})
	if err != nil {
		return folders, err
	}
	return folders, p.change(ctx, func(is *about) { is.Manifests = set })
}

// commitWhole writes a segment that stands for all others.
func (p *Place) commitWhole(ctx context.Context, f *folder) error {
	f.mu.Lock()
	f.whole = true
	f.mu.Unlock()
	err := p.commit(ctx, f, nil)
	f.mu.Lock()
	f.whole = false
	f.mu.Unlock()
	return err
}

// walk visits every folder, each before its content. The folder is locked during the visit,
// and may be unlocked for a moment.
func (p *Place) walk(ctx context.Context, visit func(f *folder, path store.Path) error) error {
	type place struct {
		id   string
		path store.Path
	}
	left := []place{{p.root, ""}}
	for len(left) > 0 {
		at := left[len(left)-1]
		left = left[:len(left)-1]
		f, err := p.enter(ctx, at.id, freshLook)
		if err != nil {
			return err
		}
		f.depth = len(at.path.Names())
		if !f.gone {
			err = visit(f, at.path)
		}
		segments, newer := f.segments, f.changes()
		f.mu.Unlock()
		if err != nil {
			return err
		}
		for one, err := range merge(segments, newer) {
			if err != nil {
				return err
			}
			if one.Folder != "" && one.Removed == "" {
				left = append(left, place{one.Folder, at.path.Child(one.name())})
			}
		}
	}
	return nil
}

// Reseal implements store.Sealing.
func (p *Place) Reseal(ctx context.Context, contents bool, progress func(store.Resealed)) (store.Resealed, error) {
	folders, err := p.ResealManifests(ctx)
	if err != nil || !contents {
		return store.Resealed{Folders: int64(folders)}, err
	}
	done, err := p.ResealContents(ctx, progress)
	done.Folders = int64(folders)
	return done, err
}

// ResealContents seals every content that is sealed to former recipients again, with
// another key. It goes on where a process has ended. progress, where it is not nil, is
// called after each file.
func (p *Place) ResealContents(ctx context.Context, progress func(store.Resealed)) (done store.Resealed, err error) {
	if _, err := p.clean(ctx, store.Cleaning{Run: resealRun}); err != nil { // of a process that ended
		return done, err
	}
	_, set := p.sealedTo()
	last := time.Now()
	err = p.walk(ctx, func(f *folder, path store.Path) error {
		segments, newer := f.segments, f.changes()
		f.mu.Unlock()
		defer f.mu.Lock()
		for one, err := range merge(segments, newer) {
			if err != nil {
				return err
			}
			if one.Content == "" || one.Removed != "" || one.For == set {
				continue
			}
			err = p.resealOne(ctx, store.Folder{Path: path}.Ref(one.name()).As(store.KindFile), one)
			switch store.KindOf(err) {
			case nil:
				if err != nil {
					return err
				}
				done.Files, done.Bytes = done.Files+1, done.Bytes+one.Size
			case store.ErrChanged, store.ErrNotFound: // somebody has written it since, as it is to be
			case store.ErrRefused:
				p.log.Warn("a content could not be sealed again", "file", path.Ref().String(), "error", err)
				done.Left++
			default:
				return err
			}
			if time.Since(last) > 250*time.Millisecond {
				if err := p.Sync(ctx); err != nil {
					return err
				}
				last = time.Now()
			}
			if progress != nil {
				progress(done)
			}
		}
		return nil
	})
	if err != nil {
		return done, err
	}
	return done, p.Sync(ctx)
}

// resealRun marks the contents that are on their way.
const resealRun = "reseal"

// resealOne writes a content again, to the recipients of now, in place of itself.
func (p *Place) resealOne(ctx context.Context, ref store.Ref, one *entry) error {
	written, err := p.Write(ctx, store.Writing{
		Place: ref, Size: one.Size, Modified: one.Modified, If: store.AtRevision(one.Content), Run: resealRun, Content: again{p, one},
	})
	if err != nil {
		return err
	}
	had, has, shared := store.Shared(one.shown().Hashes, written.Hashes)
	if shared && had != has {
		return store.Errorf(store.ErrRefused, "%s was read with %s, and had %s", ref, has, had)
	}
	return nil
}

// again is the content of an entry.
type again struct {
	place *Place
	one   *entry
}

// Open implements store.Content.
func (a again) Open(ctx context.Context) (*store.Stream, error) {
	body, err := a.place.openContent(ctx, a.one, 0)
	if err != nil {
		return nil, err
	}
	return store.NewStream(whole{body}, store.CRC64NVME, nil), nil
}

// whole is a body, without what else it can do.
type whole struct{ io.ReadCloser }
