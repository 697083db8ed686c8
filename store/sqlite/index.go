package sqlite

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// The index finds entries by their name and by their account. It is made of runs, each over a
// stretch of entries and written once, behind the entries: many small writes at places of no order,
// which an index of the database would be, become few large ones. Runs of one level become one of
// the next where there are fanOut of them (a log-structured merge tree: O'Neil et al., Acta
// Informatica 33, 1996). The entries behind the last run are the tail; they are looked through.

const (
	// usualRun is how many entries a run of the lowest level has at least.
	usualRun = 4096
	// fanBits and fanOut are how many runs become one of the next level, as a power of two and as it is.
	fanBits = 4
	fanOut  = 1 << fanBits
	// lowestBits is how many buckets a run of the lowest level has, as a power of two. One of the next
	// level has fanOut times as many.
	lowestBits = 5
	// highest is the highest level. There may be any number of its runs.
	highest = 4
	// bucketBits is where the number of a bucket ends and that of its run begins.
	bucketBits = 24
	// together is how many buckets of a level are merged in one transaction, so that no decision waits
	// long for it.
	together = 4
	// mostInTail is how long the tail may grow where runs cannot be written.
	mostInTail = 64 * usualRun
)

// seek says that the entry of a number may have a key.
type seek struct {
	key    uint64
	number int64
}

const seekSize = 16

// keyOf is FNV-1a with the last steps of MurmurHash3, which spread it over all bits. Two names may
// have one key: what is found is looked at.
func keyOf(kind byte, name string) uint64 {
	const basis, prime = 14695981039346656037, 1099511628211
	h := (uint64(basis) ^ uint64(kind)) * prime
	for i := range len(name) {
		h = (h ^ uint64(name[i])) * prime
	}
	h = (h ^ h>>33) * 0xff51afd7ed558ccd
	h = (h ^ h>>33) * 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}

func keyOfID(id string) uint64        { return keyOf('i', id) }
func keyOfAccount(name string) uint64 { return keyOf('a', name) }

// bucketOf returns the bucket of a key in a run of a level.
func bucketOf(key uint64, level int) int64 { return int64(key >> (64 - lowestBits - fanBits*level)) }

func bucketNumber(run, bucket int64) int64 { return run<<bucketBits | bucket }

func encodeSeeks(seeks []seek) []byte {
	slices.SortFunc(seeks, func(a, b seek) int { return cmp.Or(cmp.Compare(a.key, b.key), cmp.Compare(a.number, b.number)) })
	text := make([]byte, 0, seekSize*len(seeks))
	for _, s := range seeks {
		text = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(text, s.key), uint64(s.number))
	}
	return text
}

func decodeSeeks(text []byte, into []seek) []seek {
	for ; len(text) >= seekSize; text = text[seekSize:] {
		into = append(into, seek{binary.BigEndian.Uint64(text), int64(binary.BigEndian.Uint64(text[8:]))})
	}
	return into
}

// lookUp returns the numbers of entries that may have a key, in order, and the first entry that no
// run covers.
func (v view) lookUp(key uint64) (numbers []int64, indexed int64, err error) {
	runs, err := readRuns(v.ctx, v.from)
	if err != nil {
		return nil, 0, err
	}
	for _, r := range runs {
		indexed = max(indexed, r.beyond)
		var text []byte
		err := v.from.QueryRowContext(v.ctx, "SELECT seeks FROM buckets WHERE number = ?", bucketNumber(r.number, bucketOf(key, r.level))).
			Scan(&text)
		if errors.Is(err, sql.ErrNoRows) {
			continue // an empty one
		}
		if err != nil {
			return nil, 0, err
		}
		seeks := decodeSeeks(text, nil)
		i, _ := slices.BinarySearchFunc(seeks, key, func(s seek, key uint64) int { return cmp.Compare(s.key, key) })
		for ; i < len(seeks) && seeks[i].key == key; i++ {
			numbers = append(numbers, seeks[i].number)
		}
	}
	slices.Sort(numbers)
	return numbers, indexed, nil
}

// run is a part of the index that is ready to be read.
type run struct {
	number int64
	level  int
	// beyond is the first entry behind those that it covers, and lastID the greatest of their names.
	beyond int64
	lastID string
}

// readRuns returns the runs that are ready, from the first entries to the last.
func readRuns(ctx context.Context, from querier) ([]run, error) {
	rows, err := from.QueryContext(ctx, "SELECT number, level, beyond, last_id FROM runs WHERE ready = 1 ORDER BY beyond")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var runs []run
	for rows.Next() {
		var r run
		if err := rows.Scan(&r.number, &r.level, &r.beyond, &r.lastID); err != nil {
			return nil, err
		}
		runs = append(runs, r)
	}
	return runs, rows.Err()
}

// tail are the entries that no run covers.
type tail struct {
	from int64
	// order has their names in order, and ids the same.
	order []string
	ids   map[string]bool
	seeks []seek
	// lastID is the greatest of their names, and lastIndexed that of the entries that runs cover.
	lastID, lastIndexed string
}

func (l *tail) add(entries []journal.Entry) {
	for i := range entries {
		e := &entries[i]
		l.order = append(l.order, e.ID)
		l.ids[e.ID] = true
		l.lastID = max(l.lastID, e.ID)
		l.seeks = append(l.seeks, seek{keyOfID(e.ID), e.Number})
		if e.Account != "" {
			l.seeks = append(l.seeks, seek{keyOfAccount(e.Account), e.Number})
		}
	}
}

// indexed notes that a run covers the first entries, so many of them with so many seeks.
func (l *tail) indexed(r run, entries, seeks int) {
	for _, id := range l.order[:entries] {
		delete(l.ids, id)
	}
	l.from, l.lastIndexed = r.beyond, max(l.lastIndexed, r.lastID)
	l.order, l.seeks = slices.Clone(l.order[entries:]), slices.Clone(l.seeks[seeks:])
}

// loadTail reads the tail from the file.
func (s *Store) loadTail(ctx context.Context) error {
	s.tail = tail{ids: map[string]bool{}}
	v := view{ctx, s.conn}
	runs, err := readRuns(ctx, s.conn)
	if err != nil {
		return err
	}
	for _, r := range runs {
		s.tail.from, s.tail.lastIndexed = max(s.tail.from, r.beyond), max(s.tail.lastIndexed, r.lastID)
	}
	return v.walk(stretch{from: s.tail.from, to: lastEntry, kinds: allKinds}, func(entries []journal.Entry, _ []byte) error {
		s.tail.add(entries)
		return nil
	})
}

// checkIDs refuses an entry whose name stands already. A name that is greater than all in the runs,
// as one is that was just made, can stand in the tail only.
func (t *tx) checkIDs() error {
	seen := make(map[string]bool, len(t.entries))
	for i := range t.entries {
		id := t.entries[i].ID
		twice := seen[id] || t.s.tail.ids[id]
		if !twice && id <= t.s.tail.lastIndexed {
			_, err := view{t.ctx, t.s.conn}.entry(id)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			twice = err == nil
		}
		if twice {
			return fmt.Errorf("the journal has an entry %s", id)
		}
		seen[id] = true
	}
	return nil
}

// indexer writes runs behind the entries.
type indexer struct {
	// inRun is how many entries a run of the lowest level has at least.
	inRun int
	wakes chan struct{}
	done  chan struct{}
	mu    sync.Mutex
	err   error
}

func (x *indexer) start(s *Store) {
	wakes, done := make(chan struct{}, 1), make(chan struct{})
	x.wakes, x.done = wakes, done
	go func() {
		defer close(done)
		for range wakes {
			err := s.index(context.Background())
			x.mu.Lock()
			x.err = err
			x.mu.Unlock()
		}
	}()
	x.wake(&s.tail)
}

// wake has runs written where the tail is long enough. The store's lock is held.
func (x *indexer) wake(l *tail) {
	if x.wakes == nil || len(l.order) < x.inRun {
		return
	}
	select {
	case x.wakes <- struct{}{}:
	default:
	}
}

// broken returns why runs cannot be written, where the tail has grown too long for that reason.
func (x *indexer) broken(l *tail) error {
	if len(l.order) < mostInTail {
		return nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.err
}

// stopIndexing waits until what is being indexed is done, and begins no more.
func (s *Store) stopIndexing() {
	s.mu.Lock()
	wakes, done := s.indexer.wakes, s.indexer.done
	s.indexer.wakes = nil
	s.mu.Unlock()
	if wakes != nil {
		close(wakes)
		<-done
	}
}

// background runs a transaction that nobody waits for.
func (s *Store) background(ctx context.Context, work func(*tx) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.unsure {
		return errors.New("what the file has is to be read again first")
	}
	return s.transact(ctx, work)
}

// index writes runs until the tail is short, and merges those of a level that there are enough of.
func (s *Store) index(ctx context.Context) error {
	for {
		written, err := s.writeRun(ctx)
		if err != nil {
			return err
		}
		if !written {
			return s.mergeRuns(ctx)
		}
	}
}

// writeRun makes a run of the tail where that is long enough. It holds the lock only while it writes.
func (s *Store) writeRun(ctx context.Context) (bool, error) {
	s.mu.Lock()
	entries, seeks, from := len(s.tail.order), s.tail.seeks, s.tail.from // what is appended later leaves these as they are
	r := run{beyond: from + int64(entries), lastID: s.tail.lastID}
	s.mu.Unlock()
	if entries < s.indexer.inRun {
		return false, nil
	}
	buckets := inBuckets(seeks, 0)
	return true, s.background(ctx, func(t *tx) error {
		if s.tail.from != from {
			return errors.New("what is to be indexed is other than it was")
		}
		number, err := t.insertRun(r, true)
		if err != nil {
			return err
		}
		t.afterwards = func() { s.tail.indexed(r, entries, len(seeks)) }
		return t.insertBuckets(number, buckets)
	})
}

// inBuckets returns the buckets of a level, packed.
func inBuckets(seeks []seek, level int) map[int64][]byte {
	buckets := map[int64][]seek{}
	for _, s := range seeks {
		b := bucketOf(s.key, level)
		buckets[b] = append(buckets[b], s)
	}
	packed := make(map[int64][]byte, len(buckets))
	for b, seeks := range buckets {
		packed[b] = encodeSeeks(seeks)
	}
	return packed
}

func (t *tx) insertRun(r run, ready bool) (number int64, err error) {
	result, err := t.exec("INSERT INTO runs VALUES (NULL, ?, ?, ?, ?)", r.level, r.beyond, r.lastID, ready)
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

func (t *tx) insertBuckets(run int64, buckets map[int64][]byte) error {
	for bucket, seeks := range buckets {
		if _, err := t.exec("INSERT INTO buckets VALUES (?, ?)", bucketNumber(run, bucket), seeks); err != nil {
			return err
		}
	}
	return nil
}

// mergeRuns merges runs as long as there are enough of a level.
func (s *Store) mergeRuns(ctx context.Context) error {
	for {
		runs, err := readRuns(ctx, s.db)
		if err != nil {
			return err
		}
		byLevel := map[int][]run{}
		for _, r := range runs {
			byLevel[r.level] = append(byLevel[r.level], r)
		}
		merged := false
		for level := range highest {
			if len(byLevel[level]) >= fanOut {
				if err := s.merge(ctx, byLevel[level][:fanOut]); err != nil {
					return err
				}
				merged = true
			}
		}
		if !merged {
			return nil
		}
	}
}

// merge makes one run of some that follow each other. Until it is whole they are read, and it is not.
func (s *Store) merge(ctx context.Context, runs []run) error {
	level := runs[0].level
	last := runs[len(runs)-1]
	into := run{level: level + 1, beyond: last.beyond}
	for _, r := range runs {
		into.lastID = max(into.lastID, r.lastID)
	}
	err := s.background(ctx, func(t *tx) (err error) {
		into.number, err = t.insertRun(into, false)
		return err
	})
	if err != nil {
		return err
	}
	size := int64(1) << (lowestBits + fanBits*level)
	for from := int64(0); from < size; from += together {
		err := s.background(ctx, func(t *tx) error {
			for bucket := from; bucket < min(from+together, size); bucket++ {
				if err := t.mergeBucket(runs, bucket, into); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	err = s.background(ctx, func(t *tx) error {
		for _, r := range runs {
			if _, err := t.exec("UPDATE runs SET ready = 0 WHERE number = ?", r.number); err != nil {
				return err
			}
		}
		_, err := t.exec("UPDATE runs SET ready = 1 WHERE number = ?", into.number)
		return err
	})
	if err != nil {
		return err
	}
	return s.removeRuns(ctx, runs, s.background)
}

// mergeBucket merges one bucket of some runs into those of a run of the next level.
func (t *tx) mergeBucket(runs []run, bucket int64, into run) error {
	statement, err := t.prepare("SELECT seeks FROM buckets WHERE number = ?")
	if err != nil {
		return err
	}
	var seeks []seek
	for _, r := range runs {
		var text []byte
		err := statement.QueryRowContext(t.ctx, bucketNumber(r.number, bucket)).Scan(&text)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		seeks = decodeSeeks(text, seeks)
	}
	return t.insertBuckets(into.number, inBuckets(seeks, into.level))
}

// removeRuns removes runs that nobody reads any more.
func (s *Store) removeRuns(ctx context.Context, runs []run, transact func(context.Context, func(*tx) error) error) error {
	const atOnce = 512
	for _, r := range runs {
		for from := int64(0); from < 1<<(lowestBits+fanBits*r.level); from += atOnce {
			err := transact(ctx, func(t *tx) error {
				_, err := t.exec("DELETE FROM buckets WHERE number >= ? AND number < ?", bucketNumber(r.number, from),
					bucketNumber(r.number, from+atOnce))
				return err
			})
			if err != nil {
				return err
			}
		}
		err := transact(ctx, func(t *tx) error {
			_, err := t.exec("DELETE FROM runs WHERE number = ?", r.number)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// sweepRuns removes what a merge left behind that did not end. The store's lock is held.
func (s *Store) sweepRuns(ctx context.Context) error {
	rows, err := s.conn.QueryContext(ctx, "SELECT number, level FROM runs WHERE ready = 0")
	if err != nil {
		return err
	}
	var left []run
	for rows.Next() {
		var r run
		if err := rows.Scan(&r.number, &r.level); err != nil {
			return errors.Join(err, rows.Close())
		}
		left = append(left, r)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	return s.removeRuns(ctx, left, s.transact)
}
