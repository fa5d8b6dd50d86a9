package access

import (
	"cmp"
	"context"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"iter"
	"log/slog"
	"slices"
	"sync"
	"time"

	"deftheron/service/records"
)

// The audit log says who did what: everything that changes something or reads content. It is
// append-only. Each entry has an HMAC-SHA256 of itself and of the MAC before, by a key that is
// derived from the key of the data folder and is not in the records: whoever alters, removes or
// inserts an entry without that key breaks the chain. The head, which is the last MAC, is written to
// the service's log now and then, so that a log that was cut off at its end shows as well.

// Event is an action of a person.
type Event struct {
	Person  Person
	Visitor Visitor
	Action  string // the id of the operation
	Subject string // addresses and names; never a secret
	Outcome string // "done", or why not
	// Coalesced events of one person, action and subject within coalesceTime are one entry.
	Coalesced bool
}

const (
	coalesceTime = 10 * time.Minute
	// flushEvery is how often coalesced events that are new are written down.
	flushEvery = 2 * time.Second
	// headEvery is how often the head is written to the service's log.
	headEvery = time.Hour
	// mostCoalesced is how many of them are remembered; beyond that some are written more than once.
	mostCoalesced  = 5000
	longestSubject = 500
	// chainStart stands in place of the MAC before the first entry.
	chainStart = "the audit log begins"
	// checkpointName is the name of the record with the MAC before the first entry that is kept.
	checkpointName = "audit-checkpoint"
	// headName is under which they have how many entries there are, and the last MAC, sealed.
	headName = "audit-head"
)

// Audit writes and verifies the audit log.
type Audit struct {
	db     *records.DB
	key    []byte
	sealer *Sealer
	log    *slog.Logger
	now    func() time.Time

	mu      sync.Mutex
	last    []byte // the MAC of the last entry; nil: not read yet
	seq     int64
	told    time.Time // when the head was logged
	waiting map[string]*waiting
}

// waiting is an entry of coalesced events; entry.Times of them are not recorded yet.
type waiting struct {
	entry records.AuditEntry
	until time.Time
	// written is set if earlier ones are recorded.
	written bool
}

// NewAudit returns the audit log of a service.
func NewAudit(db *records.DB, sealer *Sealer, log *slog.Logger) (*Audit, error) {
	key, err := hkdf.Key(sha256.New, sealer.key, nil, "audit log", sha256.Size)
	return &Audit{db: db, key: key, sealer: sealer, log: log, now: time.Now, waiting: map[string]*waiting{}}, err
}

// Record writes an event down. It returns once the entry is safe, unless the event is coalesced: the
// first of these are written within two seconds, and those that follow once ten minutes are over.
func (a *Audit) Record(ctx context.Context, event Event) error {
	entry := entryOf(event, a.now())
	a.mu.Lock()
	defer a.mu.Unlock()
	if event.Coalesced {
		if len(a.waiting) >= mostCoalesced {
			if err := a.flush(ctx, true); err != nil {
				return err
			}
		}
		key := fmt.Sprintf("%q %q %q %q %q", entry.User, entry.Kind, entry.Action, entry.Subject, entry.Outcome)
		if open := a.waiting[key]; open != nil {
			open.entry.Times++
			return nil
		}
		a.waiting[key] = &waiting{entry: entry, until: entry.At.Add(coalesceTime)}
		return nil
	}
	return a.append(ctx, []records.AuditEntry{entry})
}

func entryOf(event Event, at time.Time) records.AuditEntry {
	kind := event.Person.Kind
	if kind == KindToken || kind == KindShareLink {
		kind += " " + event.Person.Token
	}
	subject := event.Subject
	if len(subject) > longestSubject {
		subject = subject[:longestSubject] + "…"
	}
	return records.AuditEntry{At: at.UTC().Truncate(time.Millisecond), User: event.Person.Name, Kind: kind, From: event.Visitor.From,
		Client: event.Visitor.Client, Action: event.Action, Subject: subject, Outcome: event.Outcome, Times: 1}
}

// append writes entries after the last. a.mu is held.
func (a *Audit) append(ctx context.Context, entries []records.AuditEntry) error {
	ctx = context.WithoutCancel(ctx)
	if a.last == nil {
		if err := a.readHead(ctx); err != nil {
			return err
		}
	}
	last, seq := a.last, a.seq
	for i := range entries {
		seq++
		entries[i].Seq = seq
		entries[i].MAC = a.mac(last, entries[i])
		last = entries[i].MAC
	}
	head := a.sealer.Seal(headName, fmt.Appendf(nil, "%d %x", seq, last))
	if err := a.db.AppendAudit(ctx, entries, headName, hex.EncodeToString(head)); err != nil {
		return err
	}
	a.last, a.seq = last, seq
	if now := a.now(); now.Sub(a.told) >= headEvery {
		a.told = now
		a.log.InfoContext(ctx, "audit log", "entries", seq, "head", hex.EncodeToString(last))
	}
	return nil
}

// readHead reads where the log ends. a.mu is held.
func (a *Audit) readHead(ctx context.Context) error {
	last, err := a.db.LastAudit(ctx)
	if err != nil {
		return err
	}
	if a.seq, a.last = last.Seq, last.MAC; last.Seq == 0 {
		point, err := a.checkpoint(ctx)
		if err != nil {
			return err
		}
		a.seq, a.last = point.Seq, point.MAC
	}
	// What was written and is gone leaves a gap, which shows for as long as the log is kept.
	switch seq, mac, err := a.head(ctx); {
	case err != nil, seq == 0 && last.Seq > 0:
		a.log.ErrorContext(ctx, "the head of the audit log is missing or not as it was written", "error", err)
		a.seq++
	case seq > a.seq:
		a.log.ErrorContext(ctx, "the audit log was cut off", "written", seq, "left", a.seq)
		a.seq, a.last = seq, mac
	}
	return nil
}

// mac returns the MAC of an entry that follows one with the MAC before.
func (a *Audit) mac(before []byte, entry records.AuditEntry) []byte {
	mac := hmac.New(sha256.New, a.key)
	mac.Write(before)
	text, _ := json.Marshal([]any{entry.Seq, entry.At.UTC().UnixMilli(), entry.User, entry.Kind, entry.From, entry.Client, entry.Action,
		entry.Subject, entry.Outcome, entry.Times})
	mac.Write(text)
	return mac.Sum(nil)
}

// checkpoint is where the log that is kept begins: the number and the MAC of the entry before.
type checkpoint struct {
	Seq int64
	MAC []byte
	// Proof is a MAC of both, so that the beginning cannot be moved.
	Proof []byte
}

func (a *Audit) checkpoint(ctx context.Context) (point checkpoint, err error) {
	text, err := a.db.Meta(ctx, checkpointName)
	if err != nil || text == "" {
		return checkpoint{MAC: []byte(chainStart)}, err
	}
	if err := json.Unmarshal([]byte(text), &point); err != nil || !hmac.Equal(point.Proof, a.proof(point)) {
		return point, fmt.Errorf("the checkpoint of the audit log is not as it was written")
	}
	return point, nil
}

func (a *Audit) proof(point checkpoint) []byte {
	mac := hmac.New(sha256.New, a.key)
	fmt.Fprintf(mac, "checkpoint %d %x", point.Seq, point.MAC)
	return mac.Sum(nil)
}

// Flush writes the coalesced events down that are due; all of them if all says so.
func (a *Audit) Flush(ctx context.Context, all bool) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.flush(ctx, all)
}

// flush is Flush. a.mu is held.
func (a *Audit) flush(ctx context.Context, all bool) error {
	var due []records.AuditEntry
	for key, one := range a.waiting {
		over := all || !a.now().Before(one.until)
		if one.entry.Times > 0 && (over || !one.written) {
			due = append(due, one.entry)
			one.entry.Times, one.written = 0, true
		}
		if over {
			delete(a.waiting, key)
		}
	}
	if len(due) == 0 {
		return nil
	}
	sortEntries(due)
	return a.append(ctx, due)
}

// Thin removes the entries from before a time, and leaves a checkpoint in their place.
func (a *Audit) Thin(ctx context.Context, before time.Time) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	last, err := a.db.LastAuditBefore(ctx, before)
	if err != nil || last.Seq == 0 {
		return err
	}
	point := checkpoint{Seq: last.Seq, MAC: last.MAC}
	point.Proof = a.proof(point)
	text, err := json.Marshal(point)
	if err != nil {
		return err
	}
	return a.db.ThinAudit(ctx, last.Seq, checkpointName, string(text))
}

// Run flushes and thins the log until the context ends. keep is how long entries are kept; 0 is for
// good.
func (a *Audit) Run(ctx context.Context, keep time.Duration) {
	ticker := time.NewTicker(flushEvery)
	defer ticker.Stop()
	var thinned time.Time
	for {
		select {
		case <-ctx.Done():
			if err := a.Flush(context.WithoutCancel(ctx), true); err != nil {
				a.log.ErrorContext(ctx, "could not write the audit log", "error", err)
			}
			return
		case now := <-ticker.C:
			if err := a.Flush(ctx, false); err != nil {
				a.log.ErrorContext(ctx, "could not write the audit log", "error", err)
			}
			if keep > 0 && now.Sub(thinned) > time.Hour {
				thinned = now
				if err := a.Thin(ctx, now.Add(-keep)); err != nil {
					a.log.ErrorContext(ctx, "could not thin the audit log", "error", err)
				}
			}
		}
	}
}

// Checked is what came of verifying the log.
type Checked struct {
	Entries, First, Last int64
	Head                 []byte
	Since                time.Time
	// Broken is the number of the first entry that was changed; 0 for none. Why says what is
	// wrong.
	Broken int64
	Why    string
}

// Verify reads the whole log and compares each entry with its MAC.
func (a *Audit) Verify(ctx context.Context) (checked Checked, err error) {
	if err := a.Flush(ctx, true); err != nil {
		return checked, err
	}
	point, err := a.checkpoint(ctx)
	if err != nil {
		checked.Broken, checked.Why = 1, "The checkpoint that stands for the entries thinned out is not as it was written."
		return checked, nil
	}
	before, seq := point.MAC, point.Seq
	for entry, err := range a.db.Audit(ctx) {
		if err != nil {
			return checked, err
		}
		if checked.Entries++; checked.First == 0 {
			checked.First, checked.Since = entry.Seq, entry.At
		}
		checked.Last = entry.Seq
		switch {
		case entry.Seq != seq+1:
			checked.Broken, checked.Why = seq+1, fmt.Sprintf("Entries %d to %d are missing.", seq+1, entry.Seq-1)
		case !hmac.Equal(entry.MAC, a.mac(before, entry)):
			checked.Broken, checked.Why = entry.Seq, fmt.Sprintf("Entry %d was changed, or an entry before it was changed or removed.", entry.Seq)
		}
		if checked.Broken > 0 {
			return checked, nil
		}
		before, seq = entry.MAC, entry.Seq
	}
	checked.Head = before
	if most, head, err := a.head(ctx); err != nil || most > seq || most == seq && most > point.Seq && !hmac.Equal(head, before) {
		checked.Broken, checked.Why = seq+1, fmt.Sprintf("The log ends at entry %d, and %d were written.", seq, most)
		if err != nil {
			checked.Why = "The head of the log is missing or not as it was written."
		}
	}
	return checked, nil
}

// head returns the number and the MAC of the last entry, as they were sealed when it was written.
func (a *Audit) head(ctx context.Context) (seq int64, mac []byte, err error) {
	text, err := a.db.Meta(ctx, headName)
	if err != nil || text == "" {
		return 0, nil, err
	}
	sealed, err := hex.DecodeString(text)
	if err != nil {
		return 0, nil, err
	}
	opened, err := a.sealer.Open(headName, sealed)
	if err != nil {
		return 0, nil, err
	}
	_, err = fmt.Sscanf(string(opened), "%d %x", &seq, &mac)
	return seq, mac, err
}

// Entries yields the log from its beginning.
func (a *Audit) Entries(ctx context.Context) iter.Seq2[records.AuditEntry, error] {
	if err := a.Flush(ctx, true); err != nil {
		return func(yield func(records.AuditEntry, error) bool) { yield(records.AuditEntry{}, err) }
	}
	return a.db.Audit(ctx)
}

// Find returns a page of the entries that a filter takes, newest first, and the number to go on
// before; 0 at the end.
func (a *Audit) Find(ctx context.Context, filter records.AuditFilter, before int64, most int) ([]records.AuditEntry, int64, error) {
	if err := a.Flush(ctx, true); err != nil {
		return nil, 0, err
	}
	return a.db.FindAudit(ctx, filter, before, most)
}

// sortEntries orders entries that were waiting by their time.
func sortEntries(entries []records.AuditEntry) {
	slices.SortStableFunc(entries, func(a, b records.AuditEntry) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Action, b.Action), cmp.Compare(a.Subject, b.Subject))
	})
}
