package workers

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/google/uuid"
	"github.com/nats-io/nkeys"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/provider/site"
	"deftheron/service/records"
)

// CodeLasts is how long a worker may take to join.
const CodeLasts = 15 * time.Minute

// validName is what workers and sites are called.
var validName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func checkName(what, name string) error {
	if !validName.MatchString(name) {
		return remedy.Errorf("%q is not a name of a %s; use 1 to 63 lower-case letters, digits and hyphens", name, what)
	}
	return nil
}

// Create creates a worker at a site, which is called like the worker if none is given, and
// returns the code with which it joins, once.
func (w *Workers) Create(ctx context.Context, name, at string) (worker Worker, code string, err error) {
	at = cmp.Or(at, name)
	if name == "service" || at == "service" {
		return worker, "", remedy.Errorf("%q stands for the service itself; choose another name", "service")
	}
	if err := errors.Join(checkName("worker", name), checkName("site", at)); err != nil {
		return worker, "", err
	}
	if err := w.checkFree(ctx, name, at); err != nil {
		return worker, "", err
	}
	if err := w.start(); err != nil {
		return worker, "", err
	}
	code, hash, ends := w.newCode()
	id := strings.ReplaceAll(uuid.NewString(), "-", "")
	row := records.Worker{ID: id, Name: name, Site: at, Code: hash, CodeEnds: &ends, CreatedAt: w.now()}
	if err := w.db.AddWorker(ctx, &row); err != nil {
		if errors.Is(err, records.ErrTaken) {
			err = remedy.Errorf("a worker is called %q already; choose another name, or get a new code for that one", name)
		}
		return worker, "", err
	}
	w.log.InfoContext(ctx, "created a worker", "worker", name, "site", at)
	w.Changed()
	return w.shown(row), code, nil
}

// checkFree refuses a name of a worker that another site has, and the other way round: accounts
// are linked at either.
func (w *Workers) checkFree(ctx context.Context, name, at string) error {
	rows, err := w.db.Workers(ctx)
	for _, row := range rows {
		switch {
		case row.Site == name && at != name:
			return remedy.Errorf("a site is called %q already; choose another name for the worker", name)
		case row.Name == at && row.Site != at:
			return remedy.Errorf("a worker is called %q already; choose another name for the site", at)
		}
	}
	return err
}

// newCode returns a code of 100 random bits, its hash, and when it ends.
func (w *Workers) newCode() (code string, hash []byte, ends time.Time) {
	var random [13]byte
	rand.Read(random[:])
	text := base32.StdEncoding.EncodeToString(random[:])[:20]
	code = text[:5] + "-" + text[5:10] + "-" + text[10:15] + "-" + text[15:]
	return code, hashOf(code), w.now().Add(CodeLasts)
}

func hashOf(code string) []byte {
	sum := sha256.Sum256([]byte(strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))))
	return sum[:]
}

// Recode gives a worker a new code: one that has not joined, or whose machine is replaced. The keys
// that it had end.
func (w *Workers) Recode(ctx context.Context, name string) (worker Worker, code string, err error) {
	row, err := w.row(ctx, name)
	if err != nil {
		return worker, "", err
	}
	code, hash, ends := w.newCode()
	row.Code, row.CodeEnds, row.Key, row.Recipient, row.JoinedAt = hash, &ends, "", "", nil
	if err := w.db.SaveWorker(ctx, row, "Code", "CodeEnds", "Key", "Recipient", "JoinedAt"); err != nil {
		return worker, "", err
	}
	w.cutOff(row.ID)
	w.Changed()
	return w.shown(row), code, nil
}

// Joining is what a worker says to join.
type Joining struct {
	Code, Key, Recipient, Version, System, Address string
	Protocol                                       int
}

// ErrWrongCode says that a code is good for nothing.
var ErrWrongCode = errors.New("the code was used already, is older than 15 minutes, or was mistyped")

// Join takes in the keys of the worker whose code it is.
func (w *Workers) Join(ctx context.Context, joining Joining) (Worker, error) {
	if err := w.checkProtocol(joining.Protocol, joining.Version); err != nil {
		return Worker{}, err
	}
	if _, err := nkeys.FromPublicKey(joining.Key); err != nil || !nkeys.IsValidPublicUserKey(joining.Key) {
		return Worker{}, remedy.Errorf("the key of the worker is not an NKey of a user; update the worker")
	}
	if _, err := age.ParseX25519Recipient(joining.Recipient); err != nil {
		return Worker{}, remedy.Errorf("the recipient of the worker is not one of age; update the worker")
	}
	row, err := w.db.JoinWorker(ctx, hashOf(joining.Code), w.now(), records.Worker{Key: joining.Key, Recipient: joining.Recipient,
		Version: joining.Version, System: joining.System, Address: joining.Address})
	switch {
	case errors.Is(err, records.ErrNotFound):
		return Worker{}, ErrWrongCode
	case errors.Is(err, records.ErrTaken):
		return Worker{}, remedy.Errorf("a worker has joined with this key already; have the worker make new ones")
	case err != nil:
		return Worker{}, err
	}
	w.log.InfoContext(ctx, "a worker joined", "worker", row.Name, "site", row.Site, "from", joining.Address)
	w.Changed()
	return w.shown(row), nil
}

// checkProtocol refuses a worker that the service does not understand.
func (w *Workers) checkProtocol(protocol int, version string) error {
	if protocol == site.Protocol {
		return nil
	}
	older := "the worker"
	if protocol > site.Protocol {
		older = "the service"
	}
	return remedy.Errorf("the service is version %s and the worker %s, which do not understand each other; update %s", w.Version, version,
		older)
}

// Rename gives a worker another name.
func (w *Workers) Rename(ctx context.Context, name, to string) (Worker, error) {
	row, err := w.row(ctx, name)
	if err != nil {
		return Worker{}, err
	}
	if err := checkName("worker", to); err != nil {
		return Worker{}, err
	}
	if err := w.checkFree(ctx, to, row.Site); err != nil {
		return Worker{}, err
	}
	row.Name = to
	if err := w.db.SaveWorker(ctx, row, "Name"); err != nil {
		if errors.Is(err, records.ErrTaken) {
			err = remedy.Errorf("a worker is called %q already; choose another name", to)
		}
		return Worker{}, err
	}
	w.Changed()
	return w.shown(row), nil
}

// Drain has a worker finish what it does and take nothing new, or take work again.
func (w *Workers) Drain(ctx context.Context, name string, drain bool) (Worker, error) {
	row, err := w.row(ctx, name)
	if err != nil {
		return Worker{}, err
	}
	row.Draining, row.Distrusted = drain, ""
	if err := w.db.SaveWorker(ctx, row, "Draining", "Distrusted"); err != nil {
		return Worker{}, err
	}
	w.mu.Lock()
	if p := w.there[row.ID]; p != nil {
		p.draining = drain
		w.signal()
	}
	w.mu.Unlock()
	w.Changed()
	return w.shown(row), nil
}

// Remove forgets a worker and cuts it off: its keys are good for nothing from then on. It returns
// the accounts whose secrets the worker may have had. An account that only this worker reaches has
// to be unlinked first.
func (w *Workers) Remove(ctx context.Context, name string) (had []string, err error) {
	row, err := w.row(ctx, name)
	if err != nil {
		return nil, err
	}
	accounts, err := w.db.AccountsAtSite(ctx, row.Site)
	if err != nil {
		return nil, err
	}
	all, err := w.db.Workers(ctx)
	if err != nil {
		return nil, err
	}
	alone := true
	for _, other := range all {
		alone = alone && (other.ID == row.ID || other.Site != row.Site)
	}
	for _, account := range accounts {
		if account.Worker == row.ID || account.Worker == "" && alone {
			return nil, store.Errorf(store.ErrRefused, "/%s is reached through the worker %s alone; unlink that account first, "+
				"or create another worker at the site %s", account.Name, name, row.Site)
		}
		if len(account.Secret) > 0 || account.SignedIn != "" {
			had = append(had, account.Name)
		}
	}
	granted, err := w.granted(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	had = append(had, granted...)
	slices.Sort(had)
	if err := w.db.RemoveWorker(ctx, row.ID); err != nil {
		return nil, err
	}
	w.cutOff(row.ID)
	if err := w.loadGrants(ctx); err != nil {
		return nil, err
	}
	w.log.InfoContext(ctx, "removed a worker", "worker", name)
	w.Changed()
	return had, nil
}

func (w *Workers) row(ctx context.Context, name string) (records.Worker, error) {
	row, err := w.db.Worker(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		err = missing(name)
	}
	return row, err
}
