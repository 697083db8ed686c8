package door

import (
	"context"
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// recorder writes what happened, in groups: all that waits is one transaction, so that many
// decisions share one wait for the disk.
type recorder struct {
	door  *Door
	facts *facts
	// log is the one that entries are appended to.
	log string
	// timeout bounds one transaction, so that a store that hangs does not hold callers for ever.
	timeout time.Duration

	// kept and failed are when a transaction with entries was last kept, and when one last failed, as nanoseconds of the system's
	// clock; probing guards probed and probe, the last time that it was tried out whether one can be kept, and what came of it.
	kept, failed atomic.Int64
	probing      sync.Mutex
	probed       time.Time
	probe        error

	// planning is held while a change is planned and made.
	planning sync.Mutex

	mu      sync.Mutex
	waiting []*job
	closed  bool
	wake    chan struct{}
	done    chan struct{}
}

// job is what is to be written together: entries of the journal, and changes of facts.
type job struct {
	entries []journal.Entry
	change  func(*Change) error
	// urgent says that somebody waits for a job without entries.
	urgent bool
	// own says that it is what a decision notes: other doors may hear of it a moment later.
	own bool
	// alone says that it is no part of a group.
	alone  bool
	result chan error
}

// mostTogether is how many jobs one transaction takes. It bounds how long the last of them
// waits for the others.
const mostTogether = 512

// linger is how long changes that nobody waits for are gathered.
const linger = 10 * time.Millisecond

// pace is how far apart groups begin while several jobs come at a time, for each door that is at work on the store: a group of ten
// costs little more than one of two, and so two doors that share the work cost little more than one that does it all.
const pace = 4 * time.Millisecond

// isAwaited reports whether somebody waits for the job: an entry of the journal is to be there
// before the decision is answered.
func (j *job) isAwaited() bool { return len(j.entries) > 0 || j.urgent }

func newRecorder(d *Door) *recorder {
	r := &recorder{
		door:    d,
		facts:   d.facts,
		log:     d.config.Journal.Door,
		timeout: time.Duration(d.config.Limits.Answer),
		wake:    make(chan struct{}, 1),
		done:    make(chan struct{}),
	}
	go r.run()
	return r
}

// mostWaiting is how many jobs may wait that nobody waits for. Beyond it those who hand in more wait
// with them, so that a store that is slower than its door is no queue without end.
const mostWaiting = 4 * mostTogether

// start hands in a job that nobody needs to wait for, and waits only where too many do.
func (r *recorder) start(j *job) {
	if r.add(j) > mostWaiting {
		<-j.result
	}
}

// add adds a job to those that wait, and returns how many there are. Its result comes on the channel
// of the job, once.
func (r *recorder) add(j *job) int {
	j.result = make(chan error, 1)
	r.mu.Lock()
	if r.closed {
		r.mu.Unlock()
		j.result <- errStopped
		return 0
	}
	r.waiting = append(r.waiting, j)
	n := len(r.waiting)
	r.mu.Unlock()
	select {
	case r.wake <- struct{}{}:
	default:
	}
	return n
}

// length is how many jobs wait.
func (r *recorder) length() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.waiting)
}

// do hands in a job and waits for it: at most for two transactions, the one that is being written
// and its own. The timeout bounds each.
func (r *recorder) do(j *job) error {
	r.add(j)
	return <-j.result
}

// close writes what waits, and refuses what comes later.
func (r *recorder) close() {
	r.mu.Lock()
	r.closed = true
	r.mu.Unlock()
	select {
	case r.wake <- struct{}{}:
	default:
	}
	<-r.done
}

func (r *recorder) run() {
	defer close(r.done)
	var begun time.Time
	busy := false // to one that comes alone nothing is added
	for range r.wake {
		for {
			if busy && r.length() < mostTogether {
				time.Sleep(time.Until(begun.Add(pace * time.Duration(1+r.facts.store.OthersAtWork()))))
			}
			r.mu.Lock()
			jobs, closed := r.waiting, r.closed
			if len(jobs) > 0 && len(jobs) < mostTogether && !closed && !slices.ContainsFunc(jobs, (*job).isAwaited) {
				r.mu.Unlock()
				time.Sleep(linger)
				r.mu.Lock()
				jobs, closed = r.waiting, r.closed
			}
			jobs = firstOf(jobs)
			r.waiting = r.waiting[len(jobs):]
			r.mu.Unlock()
			if len(jobs) == 0 {
				if closed {
					return
				}
				break
			}
			begun = time.Now()
			r.write(jobs)
			busy = len(jobs) > 1 || r.length() > 0
		}
	}
}

// firstOf returns the first of some jobs that are written together.
func firstOf(jobs []*job) []*job {
	n := min(len(jobs), mostTogether)
	for i, j := range jobs[:n] {
		if j.alone {
			n = max(i, 1)
			break
		}
	}
	return jobs[:n:n]
}

// write writes some jobs in one transaction. Where one of them cannot be done, each is tried
// alone, so that it takes none down with it.
func (r *recorder) write(jobs []*job) {
	begun := time.Now()
	err := r.transact(jobs)
	if errors.Is(err, store.ErrOutdated) { // which is no fault of the store
		jobs[0].result <- err
		return
	}
	for _, m := range r.door.meters {
		m.Wrote(time.Since(begun), len(jobs), err)
	}
	if err != nil {
		r.failed.Store(time.Now().UnixNano())
	} else if slices.ContainsFunc(jobs, func(j *job) bool { return len(j.entries) > 0 }) {
		r.kept.Store(time.Now().UnixNano())
	}
	if err != nil && len(jobs) > 1 && r.answers() {
		for _, j := range jobs {
			j.result <- r.transact([]*job{j})
		}
		return
	}
	for _, j := range jobs {
		j.result <- err
	}
}

// answers reports whether the store can be read.
func (r *recorder) answers() bool {
	ctx, cancel := context.WithTimeout(context.Background(), r.timeout)
	defer cancel()
	_, err := r.facts.store.List(ctx, store.Query{Kind: store.Forms, Limit: 1})
	return err == nil
}

// timesAlone is how many times as long a job may take that is alone: it may be a group with all its members.
const timesAlone = 10

func (r *recorder) transact(jobs []*job) error {
	timeout := r.timeout
	if jobs[0].alone {
		timeout *= timesAlone
	}
	ctx, cancel := context.WithTimeout(context.Background(), timeout)
	defer cancel()
	var b *Change
	err := r.facts.store.Update(ctx, func(tx store.Tx) error {
		b = &Change{door: r.door, ctx: ctx, tx: tx, aside: tx, facts: r.facts}
		if !slices.ContainsFunc(jobs, func(j *job) bool { return !j.own }) {
			tx.TellLater()
		}
		var entries []journal.Entry
		for _, j := range jobs {
			entries = append(entries, j.entries...)
			if j.change == nil {
				continue
			}
			if err := j.change(b); err != nil {
				return err
			}
		}
		entries = append(entries, b.entries...)
		if err := b.save(); err != nil {
			return err
		}
		if len(entries) == 0 {
			return nil
		}
		return tx.Append(r.log, entries)
	})
	if err != nil {
		if b != nil {
			b.forget()
		}
		return err
	}
	b.remember()
	for _, after := range b.after {
		after()
	}
	return nil
}

// Change changes facts within one transaction of the store: each is read once, and written once at the end. It is handed to what
// [Door.Change] is given, which may be called again with another, and is of no use after that. What it returns of an account, a device or
// a session is a copy, whose lists are appended to as they are.
type Change struct {
	door     *Door
	ctx      context.Context
	tx       store.Tx
	aside    store.Reader
	facts    *facts
	accounts map[string]*store.Account
	devices  map[string]*store.Device
	sessions map[string]*store.Session // nil is one that was dropped
	texts    map[store.Key][]byte
	// were are accounts as they were read; nil where nobody asks.
	were map[string][]byte
	// groupsChanged says that what feeds manage has changed.
	groupsChanged bool
	// entries are those that changes made themselves.
	entries []journal.Entry
	// after is called once all was kept.
	after []func()
}

// fetch returns a value to be changed: a copy of what is remembered, on which the transaction rests then, else as it reads
// it. Where there is none it returns nil.
func fetch[V any](b *Change, k *kept[V], name string) (*V, error) {
	r, remembered := k.rows.Get(name)
	if !remembered || !b.tx.Rests(store.Key{Kind: k.kind, Key: name}, r.stamp) {
		var err error
		if r, err = k.look(b.ctx, b.tx, name); err != nil {
			return nil, err
		}
	}
	if r.value == nil {
		return nil, nil
	}
	copied := *r.value
	return &copied, nil
}

// Account returns the record of an account to be changed, a new one where there is none.
func (b *Change) Account(name string) (*store.Account, error) {
	if a := b.accounts[name]; a != nil {
		return a, nil
	}
	a, err := b.Look(name)
	if err != nil {
		return nil, err
	}
	if b.were != nil {
		b.were[name] = store.RowOf(a).Value
	}
	if b.accounts == nil {
		b.accounts = map[string]*store.Account{}
	}
	b.accounts[name] = a
	return a, nil
}

// Look returns the record of an account to be read, one that says nothing where there is none. Unless Account returned it too, it is not
// written.
func (b *Change) Look(name string) (*store.Account, error) {
	if a := b.accounts[name]; a != nil {
		return a, nil
	}
	a, err := fetch(b, b.facts.accounts, name)
	if err != nil || a != nil {
		return a, err
	}
	return &store.Account{Name: name}, nil
}

// device is Account for a device.
func (b *Change) device(id string) (device *store.Device, err error) {
	err = b.ChangeDevice(id, func(d *store.Device) bool { device = d; return true })
	return device, err
}

// ChangeDevice changes the record of a device, a new one where there is none. It is written only where
// change says that something is other than it was.
func (b *Change) ChangeDevice(id string, change func(*store.Device) bool) error {
	d := b.devices[id]
	if d == nil {
		var err error
		if d, err = fetch(b, b.facts.devices, id); err != nil {
			return err
		}
	}
	if d == nil {
		d = &store.Device{ID: id}
	}
	if !change(d) {
		return nil
	}
	if b.devices == nil {
		b.devices = map[string]*store.Device{}
	}
	b.devices[id] = d
	return nil
}

// Session returns an open session to be changed, nil where there is none.
func (b *Change) Session(id string) (*store.Session, error) {
	if s, changed := b.sessions[id]; changed {
		return s, nil
	}
	s, err := fetch(b, b.facts.sessions, id)
	if s != nil {
		b.SetSession(id, s)
	}
	return s, err
}

// SetSession puts a session in place of the one of that ID; nil drops it.
func (b *Change) SetSession(id string, s *store.Session) {
	if b.sessions == nil {
		b.sessions = map[string]*store.Session{}
	}
	b.sessions[id] = s
}

// put writes a value. The text of a device is remembered, since decisions show it.
func (b *Change) put(v store.Value) error {
	row := store.RowOf(v)
	if row.Kind == store.Devices {
		if b.texts == nil {
			b.texts = map[store.Key][]byte{}
		}
		b.texts[row.Key] = row.Value
	}
	return b.tx.Put(row)
}

// save writes what was changed.
func (b *Change) save() error {
	for _, a := range b.accounts {
		if err := b.put(a); err != nil {
			return err
		}
	}
	for _, d := range b.devices {
		if err := b.put(d); err != nil {
			return err
		}
	}
	for id, s := range b.sessions {
		if s == nil {
			if err := store.Drop(b.tx, &store.Session{ID: id}); err != nil {
				return err
			}
		} else if err := b.put(s); err != nil {
			return err
		}
	}
	return nil
}

// remember remembers what was written.
func (b *Change) remember() {
	if b.groupsChanged {
		b.facts.managed.forget()
	}
	for name, a := range b.accounts {
		b.facts.accounts.set(name, remembered[store.Account]{value: a, stamp: b.tx.Stamp()})
	}
	for id, d := range b.devices {
		b.facts.devices.set(id, remembered[store.Device]{d, b.texts[store.Key{Kind: store.Devices, Key: id}], b.tx.Stamp()})
	}
	for id, s := range b.sessions {
		r := remembered[store.Session]{value: s, stamp: b.tx.Stamp()}
		if s == nil {
			r.stamp = 0
		}
		b.facts.sessions.set(id, r)
	}
}

// forget drops what may have been written, or not.
func (b *Change) forget() {
	if b.groupsChanged {
		b.facts.managed.forget()
	}
	for name := range b.accounts {
		b.facts.accounts.forget(name)
	}
	for id := range b.devices {
		b.facts.devices.forget(id)
	}
	for id := range b.sessions {
		b.facts.sessions.forget(id)
	}
}
