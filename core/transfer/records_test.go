package transfer_test

import (
	"cmp"
	"context"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"

	"deftheron/core/compare"
	"deftheron/core/history"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// large is what counts as large in these tests, in bytes.
const large = 1000

// memory is Records that outlive a run but not the test.
type memory struct {
	mu      sync.Mutex
	items   []transfer.Item
	ends    map[int64]transfer.Ending
	pairs   map[string]map[store.Key]compare.Pair
	uploads map[int64]*transfer.Upload
	planned bool
	totals  plan.Totals
	// dropFinish loses endings, as a process does that is killed before it
	// writes them down.
	dropFinish bool
	held       []transfer.HeldFile

	judged, asked int64
	lost          []transfer.Loss
	notes         map[int64]transfer.Note
	epochs        map[string]transfer.Epoch
	history       []history.Numbered
	listed        map[int64]bool
}

func newMemory() *memory {
	return &memory{
		ends: map[int64]transfer.Ending{}, pairs: map[string]map[store.Key]compare.Pair{}, uploads: map[int64]*transfer.Upload{},
	}
}

func (m *memory) Tally(context.Context, string) (transfer.Tally, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	t := transfer.Tally{Planned: m.planned, Items: int64(len(m.items)), Judged: m.judged, Asked: m.asked, Lost: m.lost}
	if m.planned {
		t.Totals, t.Unchanged = m.totals, m.totals.Unchanged.Items
	}
	for _, item := range m.items {
		t.LastSeq = max(t.LastSeq, item.Seq)
		if isHalf(item) {
			t.Items--
			continue
		}
		switch item.State {
		case transfer.Done:
			t.Done++
			t.Moved += m.ends[item.Seq].Moved
		case transfer.Skipped:
			t.Skipped++
			continue
		case transfer.Failed:
			t.Failed++
		}
		if !item.Action.Takes() && item.Action != plan.Refuse {
			t.Bytes += max(0, item.Size)
		}
		if item.State == transfer.Done && item.Action.Takes() && m.ends[item.Seq].Cause != plan.CauseMoved {
			t.Removed++
		}
	}
	return t, nil
}

func (m *memory) Forget(context.Context, string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.items = slices.DeleteFunc(m.items, func(i transfer.Item) bool { return i.State != transfer.Done })
	return nil
}

func (m *memory) ForgetUnjudged(context.Context, string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.items = slices.DeleteFunc(m.items, func(i transfer.Item) bool { return i.State == transfer.Waiting && i.Seq > m.judged })
	return nil
}

func (m *memory) Judge(_ context.Context, _ string, seq int64, lost []transfer.Loss, planned *plan.Totals) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if planned != nil {
		m.planned, m.totals = true, *planned
	}
	m.lost = slices.Clone(lost)
	m.judged = max(m.judged, seq)
	return nil
}

func (m *memory) Ask(_ context.Context, _ string, seq int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.asked = max(m.asked, seq)
	return nil
}

func (m *memory) Epoch(_ context.Context, scope string) (transfer.Epoch, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.epochs[scope], nil
}

func (m *memory) SetEpoch(_ context.Context, scope string, epoch transfer.Epoch) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.epochs == nil {
		m.epochs = map[string]transfer.Epoch{}
	}
	m.epochs[scope] = epoch
	return nil
}

func (m *memory) DistrustPairs(_ context.Context, scope string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for key, pair := range m.pairs[scope] {
		if pair.Kept {
			delete(m.pairs[scope], key)
			continue
		}
		m.pairs[scope][key] = compare.Pair{Key: key, To: pair.To, Source: compare.Nothing, Target: compare.Nothing}
	}
	delete(m.epochs, scope)
	return nil
}

// copy is what is kept besides the run, as it is now.
func (m *memory) copy() *memory {
	copied := newMemory()
	for scope, pairs := range m.pairs {
		copied.pairs[scope] = maps.Clone(pairs)
	}
	copied.epochs = maps.Clone(m.epochs)
	return copied
}

// restart forgets the run, and keeps what outlives it.
func (m *memory) restart() {
	m.items, m.planned, m.judged, m.asked, m.notes, m.lost = nil, false, 0, 0, nil, nil
}

func (m *memory) Enqueue(_ context.Context, _ string, items []transfer.Item) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.items = append(m.items, items...)
	return nil
}

func (m *memory) PairTo(_ context.Context, scope string, to store.Key) (*compare.Pair, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, pair := range m.pairs[scope] {
		if pair.To == to && to != "" {
			return &pair, nil
		}
	}
	return nil, nil
}

func (m *memory) Pair(_ context.Context, scope string, key store.Key) (*compare.Pair, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if pair, ok := m.pairs[scope][key]; ok {
		return &pair, nil
	}
	return nil, nil
}

func (m *memory) PairsUnder(ctx context.Context, scope string, path store.Path) iter.Seq2[compare.Pair, error] {
	return func(yield func(compare.Pair, error) bool) {
		for pair, err := range m.Pairs(ctx, scope) {
			if strings.HasPrefix(strings.TrimSuffix(string(pair.Key), "/")+"/", string(path)) && !yield(pair, err) {
				return
			}
		}
	}
}

func (m *memory) Known(_ context.Context, scope string) (files int64, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for key, pair := range m.pairs[scope] {
		if !pair.Kept && !strings.HasSuffix(string(key), "/") {
			files++
		}
	}
	return files, nil
}

func (m *memory) Removing(_ context.Context, _ string, route int, at store.Key) (bool, error) {
	return m.awaits(plan.PhaseRemove, route, at), nil
}

func (m *memory) MarkMoved(_ context.Context, _ string, route int, at []store.Key) (marked int64, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, key := range at {
		for i := range m.items {
			item := &m.items[i]
			if item.State == transfer.Waiting && item.Cause == "" && item.Action == plan.Remove && item.Kind != store.KindFolder &&
				item.Route == route && cmp.Or(item.To, item.Key) == key {
				item.Cause = plan.CauseMoved
				marked++
			}
		}
	}
	return marked, nil
}

// isHalf reports whether an item is the removal of a file that has moved.
func isHalf(item transfer.Item) bool {
	return item.State == transfer.Waiting && item.Cause == plan.CauseMoved
}

func (m *memory) Overwriting(_ context.Context, _ string, route int, at store.Key) (bool, error) {
	return m.awaits(plan.PhaseWrite, route, at), nil
}

func (m *memory) awaits(phase plan.Phase, route int, at store.Key) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.ContainsFunc(m.items, func(item transfer.Item) bool {
		return item.State == transfer.Waiting && item.Action.Phase(item.Kind) == phase && item.Route == route &&
			(item.To == at || item.To == "" && item.Key == at)
	})
}

func (m *memory) Find(_ context.Context, scope, mark string, back bool) (*plan.Origin, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for key, pair := range m.pairs[scope] {
		if back {
			if pair.TargetMark == mark && !pair.Kept {
				return &plan.Origin{Key: key, Revision: pair.Source.Revision, Hash: pair.Verification}, nil
			}
			continue
		}
		if pair.Mark == mark && !pair.Kept {
			if pair.To != "" {
				key = pair.To
			}
			return &plan.Origin{Key: key, Revision: pair.Target.Revision, Hash: pair.Verification}, nil
		}
	}
	return nil, nil
}

func (m *memory) Planned(_ context.Context, _ string, totals plan.Totals) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.planned, m.totals = true, totals
	return nil
}

func (m *memory) Claim(_ context.Context, _ string, phase plan.Phase, after int64, most int) (claimed []transfer.Item, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	items := slices.Clone(m.items)
	if phase == plan.PhaseFolders {
		slices.Reverse(items)
	}
	for _, item := range items {
		next := item.Seq > after
		if phase == plan.PhaseFolders {
			next = after == 0 || item.Seq < after
		}
		if phase > plan.PhaseCreate && item.Seq > m.judged {
			continue
		}
		if item.State == transfer.Waiting && next && item.Action.Phase(item.Kind) == phase && len(claimed) < most {
			claimed = append(claimed, item)
		}
	}
	return claimed, nil
}

func (m *memory) Largest(_ context.Context, _ string, phase plan.Phase, most int) (largest []transfer.Item, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, item := range m.items {
		if item.State == transfer.Waiting && item.Action.Phase(item.Kind) == phase && item.Size >= large &&
			(phase == plan.PhaseCreate || item.Seq <= m.judged) {
			largest = append(largest, item)
		}
	}
	slices.SortFunc(largest, func(a, b transfer.Item) int { return cmp.Compare(b.Size, a.Size) })
	return largest[:min(most, len(largest))], nil
}

func (m *memory) Finish(_ context.Context, _ string, scopes []string, endings []transfer.Ending) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.dropFinish {
		return nil
	}
	for _, ending := range endings {
		if ending.Drop {
			m.items = slices.DeleteFunc(m.items, func(item transfer.Item) bool { return item.Seq == ending.Seq })
		}
		for i := range m.items {
			if m.items[i].Seq == ending.Seq {
				m.items[i].State, m.items[i].Cause, m.items[i].Why = ending.State, ending.Cause, ending.Why
			}
		}
		m.ends[ending.Seq] = ending
		m.held = append(m.held, ending.Held...)
		for _, change := range ending.Changes {
			m.history = append(m.history, history.Numbered{Change: change, Number: int64(len(m.history) + 1), Part: "part"})
		}
		scope := scopes[ending.Route]
		for _, key := range ending.Forget {
			delete(m.pairs[scope], key)
		}
		pairs := ending.Also
		if ending.Pair != nil {
			pairs = append(pairs, *ending.Pair)
		}
		for _, pair := range pairs {
			if m.pairs[scope] == nil {
				m.pairs[scope] = map[store.Key]compare.Pair{}
			}
			m.pairs[scope][pair.Key] = pair
		}
	}
	return nil
}

func (m *memory) Note(_ string, note transfer.Note) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.notes == nil {
		m.notes = map[int64]transfer.Note{}
	}
	m.notes[note.Seq] = note
	return nil
}

func (m *memory) Noted(context.Context, string) (noted []transfer.Noted, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, item := range m.items {
		if note, ok := m.notes[item.Seq]; ok && item.State == transfer.Waiting {
			noted = append(noted, transfer.Noted{Item: item, Note: note})
		}
	}
	return noted, nil
}

func (m *memory) HeldOfSize(_ context.Context, scope string, size int64) (bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.ContainsFunc(m.held, func(held transfer.HeldFile) bool { return held.Scope == scope && held.Size == size }), nil
}

func (m *memory) HeldContent(_ context.Context, scope string, size int64, hash string) (*transfer.HeldFile, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, held := range slices.Backward(m.held) {
		if held.Scope == scope && held.Size == size && held.Hash == hash {
			return &m.held[i], nil
		}
	}
	return nil, nil
}

func (m *memory) EndRest(_ context.Context, _ string, state transfer.State, cause plan.Cause) (n int64, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.items = slices.DeleteFunc(m.items, isHalf)
	for i := range m.items {
		if m.items[i].State == transfer.Waiting {
			m.items[i].State, m.items[i].Cause = state, cause
			n++
		}
	}
	return n, nil
}

func (m *memory) SaveUpload(_ context.Context, _ string, seq int64, upload transfer.Upload) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.uploads[seq] = &upload
	return nil
}

func (m *memory) SavePart(_ context.Context, _ string, seq int64, part store.Part) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.uploads[seq].Parts = append(m.uploads[seq].Parts, part)
	return nil
}

func (m *memory) LoadUpload(_ context.Context, _ string, seq int64) (transfer.Upload, bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if upload := m.uploads[seq]; upload != nil {
		copied := *upload
		copied.Parts = slices.Clone(upload.Parts)
		return copied, true, nil
	}
	return transfer.Upload{}, false, nil
}

func (m *memory) DropUpload(_ context.Context, _ string, seq int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.uploads, seq)
	return nil
}

func (m *memory) Uploads(context.Context, string) (pending []transfer.PendingUpload, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, item := range m.items {
		if upload := m.uploads[item.Seq]; upload != nil && item.State == transfer.Waiting {
			pending = append(pending, transfer.PendingUpload{Item: item, Upload: *upload})
		}
	}
	return pending, nil
}

func (m *memory) Pairs(_ context.Context, scope string) iter.Seq2[compare.Pair, error] {
	return func(yield func(compare.Pair, error) bool) {
		m.mu.Lock()
		var pairs []compare.Pair
		for _, pair := range m.pairs[scope] {
			pairs = append(pairs, pair)
		}
		m.mu.Unlock()
		slices.SortFunc(pairs, func(a, b compare.Pair) int { return strings.Compare(string(a.Key), string(b.Key)) })
		for _, pair := range pairs {
			if !yield(pair, nil) {
				return
			}
		}
	}
}

// item returns the item of a key and how it ended.
func (m *memory) item(key string) (transfer.Item, transfer.Ending) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, item := range m.items {
		if string(item.Key) == key {
			return item, m.ends[item.Seq]
		}
	}
	return transfer.Item{}, transfer.Ending{}
}

// Unlisted implements history.Unlisted.
func (m *memory) Unlisted(_ context.Context, account, _ string, most int) (unlisted []history.Numbered, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, change := range m.history {
		if change.Account == account && !m.listed[change.Number] && len(unlisted) < most {
			unlisted = append(unlisted, change)
		}
	}
	return unlisted, nil
}

// Listed implements history.Unlisted.
func (m *memory) Listed(_ context.Context, _ string, changes []history.Numbered) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.listed == nil {
		m.listed = map[int64]bool{}
	}
	for _, change := range changes {
		m.listed[change.Number] = true
	}
	return nil
}
