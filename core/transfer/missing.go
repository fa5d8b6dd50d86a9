package transfer

import (
	"context"
	"io"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"deftheron/core/compare"
	"deftheron/core/store"
	"deftheron/core/unit"
)

// missing are the parts of a file that are still to be written, by this process and by the crew.
type missing struct {
	*attempt
	writer  store.PartWriter
	writing store.Writing
	upload  Upload // as it was begun

	mu      sync.Mutex
	numbers []int
	written []store.Part
}

// bytesOfRange is up to how many bytes of parts are one unit, and mostOfRange how many parts.
const bytesOfRange, mostOfRange = 32 << 20, 16

// move writes all parts; this process writes at most atOnce of them in parallel.
func (m *missing) move(ctx context.Context, atOnce int) error {
	crew := 0
	between := m.route.Source.Account != m.route.Target.Account && m.siblings[m.item.Route] < 2
	if m.Crew != nil && m.from == nil && m.Rules.At.IsZero() && between {
		_, crew = m.Crew.Lanes(m.item.Route)
	}
	group, working := errgroup.WithContext(ctx)
	for range min(crew, len(m.numbers)) {
		group.Go(func() error { return m.moveByCrew(working) })
	}
	own := func(group *errgroup.Group, ctx context.Context) {
		for range min(atOnce, len(m.left())) {
			group.Go(func() error { return m.moveHere(ctx) })
		}
	}
	if crew == 0 || !m.Crew.Only() {
		own(group, working)
	}
	if err := group.Wait(); err != nil {
		return err
	}
	group, working = errgroup.WithContext(ctx)
	own(group, working) // what the crew has left
	return group.Wait()
}

func (m *missing) left() []int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.numbers
}

// take takes the next parts to be written, at most so many.
func (m *missing) take(most int) []int {
	m.mu.Lock()
	defer m.mu.Unlock()
	n := min(most, len(m.numbers))
	taken := m.numbers[:n:n]
	m.numbers = m.numbers[n:]
	return taken
}

// giveBack has parts be written by somebody else.
func (m *missing) giveBack(numbers []int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.numbers = append(m.numbers, numbers...)
}

// keep records a part that was written.
func (m *missing) keep(ctx context.Context, part store.Part) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.written = append(m.written, part)
	return m.uploads().SavePart(ctx, m.ID, m.item.Seq, part)
}

// moveHere writes parts in this process.
func (m *missing) moveHere(ctx context.Context) error {
	for {
		taken := m.take(1)
		if len(taken) == 0 {
			return nil
		}
		started := time.Now()
		part, err := m.movePart(ctx, m.writer, m.writing, m.upload, taken[0])
		m.progress.waits.worked.Add(int64(time.Since(started)))
		if err != nil {
			return err
		}
		if err := m.keep(ctx, part); err != nil {
			return err
		}
	}
}

// moveByCrew has parts written by the crew, as long as it does.
func (m *missing) moveByCrew(ctx context.Context) error {
	for {
		taken := m.take(int(max(1, min(mostOfRange, bytesOfRange/m.upload.PartSize))))
		if len(taken) == 0 {
			return nil
		}
		u := unit.Unit{Run: m.ID, Verification: m.Rules.Verification,
			Parts: &unit.Parts{Upload: m.upload.ID, Size: m.upload.PartSize, Numbers: taken},
			Copies: []unit.Copy{{Seq: m.item.Seq, From: m.source(), To: m.writing.Place, Revision: m.item.Source.Revision, Size: m.writing.Size,
				Modified: m.writing.Modified, If: m.writing.If}}}
		by, copied, err := m.Crew.Carry(ctx, m.item.Route, u)
		parts := map[int]store.Part{}
		for _, one := range copied {
			for _, part := range one.Parts {
				parts[part.Number] = part
			}
		}
		if err == nil {
			err = m.samplePart(ctx, by, parts)
		}
		if err != nil {
			clear(parts)
		}
		var rest []int
		for _, number := range taken {
			part, ok := parts[number]
			if !ok || part.Size != m.sizeOf(number) {
				rest = append(rest, number)
				continue
			}
			m.counted(int(part.Size))
			if err := m.keep(ctx, part); err != nil {
				return err
			}
		}
		if len(rest) > 0 { // why is found out here
			m.broke.Store(true)
			m.Log.Debug("parts were not carried", "run", m.ID, "item", m.route.SourceAddress(*m.item), "by", by, "parts", rest, "error", err)
			m.giveBack(rest)
			return ctx.Err()
		}
	}
}

// sizeOf is the size of a part in bytes.
func (m *missing) sizeOf(number int) int64 {
	return min(m.upload.PartSize, m.writing.Size-int64(number-1)*m.upload.PartSize)
}

// samplePart reads the first part that somebody of the crew has copied in this run, and compares its hash.
func (m *missing) samplePart(ctx context.Context, by string, parts map[int]store.Part) error {
	for number, part := range parts {
		if part.Hash == "" || !m.samples.isFirst(by) {
			return nil
		}
		body, err := m.route.Source.Store.Open(ctx, store.Reading{Place: m.source(), Revision: m.item.Source.Revision,
			Offset: int64(number-1) * m.upload.PartSize, Length: m.sizeOf(number)})
		if err != nil {
			return compare.NewSourceError(err)
		}
		stream := store.NewStream(body, m.verificationKind(), nil)
		_, err = io.Copy(io.Discard, stream)
		stream.Close()
		if err == nil && stream.Sum().Hex != part.Hash {
			err = store.Errorf(store.ErrTryAgain, "part %d of %s holds another content than the source: %w", number, m.writing.Place,
				store.ErrVerification)
			m.Crew.Distrust(ctx, by, err)
		}
		return err
	}
	return nil
}
