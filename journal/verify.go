package journal

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"runtime"
	"slices"
	"time"

	"golang.org/x/mod/sumdb/tlog"
)

// Verified is what Verify found of a journal that is sound.
type Verified struct {
	Size int64 `json:"size" doc:"how many entries there are"`
	// Logs are the logs of the journal, one for each door that wrote to it.
	Logs []VerifiedLog `json:"logs" doc:"its logs, one for each door that wrote to it"`
	// Pruned is how many entries have their hash alone, and Prunings are what emptied them.
	Pruned   int64     `json:"pruned" doc:"how many entries have their hash alone"`
	Prunings []Pruning `json:"prunings,omitempty" doc:"what emptied them: until when, by whom, how many"`
	// Covered is how many the checkpoint covers, where one was given.
	Covered *int64 `json:"covered,omitempty" doc:"how many entries the checkpoint covers: they are as they were then"`
	Origin  string `json:"origin,omitzero" doc:"the name of the journal, as the checkpoint has it"`
}

// VerifiedLog is one log of a journal.
type VerifiedLog struct {
	Log  string `json:"log" doc:"its name, which is that of the door"`
	Size int64  `json:"size" doc:"how many entries it has"`
	Root string `json:"root" doc:"the root of their tree, in base64"`
	// Covered is how many of them the checkpoint covers, where one was given.
	Covered int64 `json:"covered,omitzero" doc:"how many of them the checkpoint covers, where one was given"`
}

// Record is a journal as a store keeps it.
type Record interface {
	Entries(ctx context.Context, f Filter) iter.Seq2[Entry, error]
	// Heads returns the ends of all its logs, in the order of their names.
	Heads(ctx context.Context) ([]Head, error)
}

// Verification says what Verify holds a journal against.
type Verification struct {
	// Checkpoint was kept elsewhere, and PublicKey is that of its signer. Nil holds the journal against its own heads alone.
	Checkpoint []byte
	PublicKey  string
	// Progress is told how many entries were looked at, of how many; nil is told nothing. It is called by one goroutine.
	Progress func(done, of int64)
}

// Unsound says what is not as it was recorded.
type Unsound struct{ text string }

// Error implements error.
func (u *Unsound) Error() string { return u.text }

func unsound(format string, args ...any) error { return &Unsound{fmt.Sprintf(format, args...)} }

// Verify reads a whole journal and holds each of its logs against its head and against what entries of other logs witness of
// it: each entry is as it was recorded, none is missing, and each that says nothing any more is named by an entry of the kind
// Pruned. With a checkpoint that was kept
// elsewhere no entry before it can have been edited, dropped or added unseen. The error is an Unsound where the journal is
// not as it was, else that of reading it. It may be called while the journal grows. It uses all processors that Go has.
func Verify(ctx context.Context, r Record, o Verification) (*Verified, error) {
	v := &verification{Verification: o, found: &Verified{Logs: []VerifiedLog{}}, logs: map[string]*logVerification{}}
	if o.Checkpoint != nil {
		origin, logs, err := openCheckpoint(o.Checkpoint, o.PublicKey)
		if err != nil {
			return nil, unsound("the checkpoint cannot be trusted: %v", err)
		}
		v.found.Origin, v.found.Covered = origin, new(int64)
		for i := range logs {
			*v.found.Covered += logs[i].Size
			v.log(logs[i].Log).covered = &logs[i]
		}
	}
	if err := v.readWitnesses(ctx, r); err != nil {
		return nil, err
	}
	heads, err := r.Heads(ctx)
	if err != nil {
		return nil, err
	}
	for {
		v.several = len(heads) > 1
		v.of = 0
		for i := range heads {
			v.of += heads[i].Size
			v.log(heads[i].Log)
		}
		for _, l := range v.logs {
			if err := l.read(ctx, r); err != nil {
				return nil, err
			}
		}
		for i := range heads {
			if l := v.log(heads[i].Log); l.grown.Size < heads[i].Size {
				return nil, unsound("%s has %d entries and says that it has %d: it is not as it was recorded", l, l.grown.Size, heads[i].Size)
			}
		}
		// The heads come after the entries, so that they have all of them.
		if heads, err = r.Heads(ctx); err != nil {
			return nil, err
		}
		if grew, err := v.against(heads); err != nil || !grew {
			return v.found, err
		}
	}
}

// verification is a Verify that goes on.
type verification struct {
	Verification
	found *Verified
	logs  map[string]*logVerification
	// several says that the journal has more than one log, so that messages name them.
	several  bool
	done, of int64
}

// logVerification is a Verify of one log.
type logVerification struct {
	v       *verification
	covered *covered
	// witnessed is how the log stood at times, the shortest first, as others say.
	witnessed []witnessed
	grown     Head
	// emptied are the entries that say nothing any more, named those that entries of the kind Pruned name, and unnamed how
	// many those emptied that name none, of entries before a moment.
	emptied, named []Stretch
	unnamed        int64
	unnamedBefore  time.Time
	// latest has the time of emptied entries, the latest of each stretch.
	latest []time.Time
}

// witnessed is how long a log was and its root, and which entry says so.
type witnessed struct {
	covered
	by string
}

// longest is how long the log was at most, of what others say that was not met yet.
func (l *logVerification) longest() *witnessed { return &l.witnessed[len(l.witnessed)-1] }

// readWitnesses reads what entries say of other logs than their own. That they are as they were recorded is found with the rest.
func (v *verification) readWitnesses(ctx context.Context, r Record) error {
	for e, err := range r.Entries(ctx, Filter{Kind: Witness}) {
		if err != nil {
			return err
		}
		if e.Kind != Witness || e.Leaf == nil {
			continue // it was pruned
		}
		var w Witnessed
		c, err := e.Content()
		if err == nil {
			err = json.Unmarshal(c.Witness, &w)
		}
		root, wrong := tlog.ParseHash(w.Root)
		if err != nil || wrong != nil || CheckLog(w.Log) != nil {
			return unsound("entry %d of the log %s cannot be read: it says nothing of another log", e.Number, e.Log)
		}
		l := v.log(w.Log)
		l.witnessed = append(l.witnessed, witnessed{covered{w.Log, w.Size, root}, fmt.Sprintf("entry %d of the log %s", e.Number, e.Log)})
	}
	for _, l := range v.logs {
		slices.SortFunc(l.witnessed, func(a, b witnessed) int { return cmp.Compare(a.Size, b.Size) })
	}
	return nil
}

// log returns the log of a name, a new one where it was not heard of.
func (v *verification) log(name string) *logVerification {
	l := v.logs[name]
	if l == nil {
		l = &logVerification{v: v, grown: Head{Log: name}}
		v.logs[name] = l
	}
	return l
}

// String names the log in messages: the journal where there is no other.
func (l *logVerification) String() string {
	if l.v.several {
		return "the log " + l.grown.Log
	}
	return "the journal"
}

// entry names an entry in messages.
func (l *logVerification) entry(number int64) string {
	if l.v.several {
		return fmt.Sprintf("entry %d of the log %s", number, l.grown.Log)
	}
	return fmt.Sprintf("entry %d", number)
}

// inBatch is how many entries go from the goroutine that reads to one that checks at a time.
const inBatch = 512

// batch is entries that were read, and what is wrong with each by itself, once done is closed.
type batch struct {
	entries []Entry
	wrong   []error
	unread  error
	done    chan struct{}
}

// read reads what came behind the entries that were read before. One goroutine reads, as many as there are processors check
// entries by themselves, and the caller takes them in order.
func (l *logVerification) read(ctx context.Context, r Record) error {
	ctx, cancel := context.WithCancel(ctx)
	workers := runtime.GOMAXPROCS(0)
	work, order := make(chan *batch), make(chan *batch, 4*workers)
	go func() {
		defer close(order)
		defer close(work)
		next := &batch{done: make(chan struct{})}
		hand := func() {
			select {
			case order <- next:
				work <- next
			case <-ctx.Done():
			}
			next = &batch{done: make(chan struct{})}
		}
		for e, err := range r.Entries(ctx, Filter{Log: l.grown.Log, After: l.grown.Size}) {
			if next.unread = err; err != nil {
				break
			}
			if next.entries = append(next.entries, e); len(next.entries) == inBatch {
				hand()
			}
			if ctx.Err() != nil {
				return
			}
		}
		hand()
	}()
	for range workers {
		go func() {
			for b := range work {
				b.wrong = make([]error, len(b.entries))
				for i := range b.entries {
					b.wrong[i] = l.sound(&b.entries[i])
				}
				close(b.done)
			}
		}()
	}
	defer func() { // so that no goroutine is left, and none reads when this has returned
		cancel()
		for range order {
		}
	}()
	for b := range order {
		<-b.done
		for i := range b.entries {
			if err := l.add(&b.entries[i], b.wrong[i]); err != nil {
				return err
			}
		}
		l.v.done += int64(len(b.entries))
		if l.v.Progress != nil {
			l.v.Progress(l.v.done, max(l.v.of, l.v.done))
		}
		if b.unread != nil {
			return b.unread
		}
	}
	return ctx.Err()
}

// sound reports what is wrong with an entry by itself.
func (l *logVerification) sound(e *Entry) error {
	switch {
	case e.Leaf == nil && (e.Account != "" || e.Brief != nil):
		return unsound("%s says nothing any more, and is found all the same as one of %q", l.entry(e.Number), e.Account)
	case e.Leaf == nil:
		return nil
	case tlog.RecordHash(e.Leaf) != e.Hash:
		return unsound("%s (%s) is not as it was recorded", l.entry(e.Number), e.ID)
	}
	if err := e.agrees(); err != nil {
		return unsound("%s %v", l.entry(e.Number), err)
	}
	return nil
}

// add holds one entry against what came before.
func (l *logVerification) add(e *Entry, wrong error) error {
	switch {
	case e.Number != l.grown.Size:
		return unsound("%s is missing", l.entry(l.grown.Size))
	case wrong != nil:
		return wrong
	case e.Leaf == nil:
		l.empty(e)
	case e.Kind == Pruned:
		if err := l.prunes(e); err != nil {
			return err
		}
	}
	l.grown.add(e.Hash)
	for len(l.witnessed) > 0 && l.witnessed[0].Size <= l.grown.Size {
		if w := &l.witnessed[0]; w.Size == l.grown.Size && w.Root != l.grown.Root() {
			return unsound("the first %d entries of %s are not those that %s is of: one was edited, dropped or added", w.Size, l, w.by)
		}
		l.witnessed = l.witnessed[1:]
	}
	if c := l.covered; c != nil && l.grown.Size == c.Size && l.grown.Root() != c.Root {
		return unsound("the first %d entries of %s are not those that the checkpoint covers: one was edited, dropped or added", c.Size, l)
	}
	return nil
}

// empty notes an entry that says nothing any more.
func (l *logVerification) empty(e *Entry) {
	l.v.found.Pruned++
	if last := len(l.emptied) - 1; last >= 0 && l.emptied[last][1]+1 == e.Number {
		l.emptied[last][1] = e.Number
		if e.At.After(l.latest[last]) {
			l.latest[last] = e.At
		}
		return
	}
	l.emptied, l.latest = append(l.emptied, Stretch{e.Number, e.Number}), append(l.latest, e.At)
}

// prunes notes which entries an entry says were emptied: of its own log such as came before it alone.
func (l *logVerification) prunes(e *Entry) error {
	c, err := e.Content()
	var p Pruning
	if err == nil {
		err = json.Unmarshal(c.Pruned, &p)
	}
	if err != nil {
		return unsound("%s cannot be read: %v", l.entry(e.Number), err)
	}
	of := l
	if p.Log != "" {
		of = l.v.log(p.Log)
	}
	for _, s := range p.Emptied {
		if of == l && s[1] >= e.Number {
			return unsound("%s says that entry %d was emptied, which came after it", l.entry(e.Number), s[1])
		}
	}
	if len(p.Emptied) == 0 {
		of.unnamed += p.Entries
		if p.Before.After(of.unnamedBefore) {
			of.unnamedBefore = p.Before
		}
	}
	of.named = append(of.named, p.Emptied...)
	p.Log, p.Emptied = of.grown.Log, nil
	found := &l.v.found.Prunings
	if i := slices.IndexFunc(*found, func(x Pruning) bool { return x.Log == p.Log && x.Before.Equal(p.Before) && x.By == p.By }); i >= 0 {
		(*found)[i].Entries += p.Entries // one pruning, a part at a time
		return nil
	}
	*found = append(*found, p)
	return nil
}

// against holds the whole against its heads, and reports whether it grew meanwhile.
func (v *verification) against(heads []Head) (grew bool, err error) {
	byLog := map[string]*Head{}
	for i := range heads {
		byLog[heads[i].Log] = &heads[i]
	}
	for name, l := range v.logs {
		head := byLog[name]
		if head == nil {
			head = &Head{Log: name}
		}
		switch {
		case head.Size > l.grown.Size:
			grew = true
		case head.Size < l.grown.Size:
			return false, unsound("%s has %d entries and says that it has %d: it is not as it was recorded", l, l.grown.Size, head.Size)
		case l.covered != nil && l.covered.Size > head.Size:
			return false, unsound("the checkpoint covers %d entries of %s, which has %d: %d are gone", l.covered.Size, l, head.Size,
				l.covered.Size-head.Size)
		case len(l.witnessed) > 0 && l.longest().Size > head.Size:
			return false, unsound("%s says that the log %s had %d entries, and it has %d: %d are gone", l.longest().by, name, l.longest().Size,
				head.Size, l.longest().Size-head.Size)
		case l.grown.Root() != head.Root():
			return false, unsound("the entries of %s are not those that its head is of: it is not as it was recorded", l)
		}
	}
	if grew || len(byLog) > len(v.logs) {
		return true, nil
	}
	for _, head := range heads {
		l := v.logs[head.Log]
		if err := l.finish(); err != nil {
			return false, err
		}
		v.found.Size += head.Size
		verified := VerifiedLog{Log: head.Log, Size: head.Size, Root: head.Root().String()}
		if l.covered != nil {
			verified.Covered = l.covered.Size
		}
		v.found.Logs = append(v.found.Logs, verified)
	}
	return false, nil
}

// finish reports an entry that was emptied and that none names.
func (l *logVerification) finish() error {
	slices.SortFunc(l.named, func(a, b Stretch) int { return cmp.Compare(a[0], b[0]) })
	next := 0
	for i, s := range l.emptied {
		for number := s[0]; number <= s[1]; {
			for next < len(l.named) && l.named[next][1] < number {
				next++
			}
			if next < len(l.named) && l.named[next][0] <= number {
				number = l.named[next][1] + 1
				continue
			}
			// One that an entry without numbers may have emptied.
			if l.unnamed == 0 || !l.latest[i].Before(l.unnamedBefore) {
				return unsound("%s was emptied, and no entry of the journal says so", l.entry(number))
			}
			l.unnamed--
			number++
		}
	}
	return nil
}

// agrees reports where what is kept beside a leaf to find it by is other than what the leaf says.
func (e *Entry) agrees() error {
	c, err := e.Content()
	switch {
	case err != nil:
		return fmt.Errorf("cannot be read: %w", err)
	case c.ID != e.ID || c.Kind != e.Kind || c.Account != e.Account || !c.At.Equal(e.At):
		return fmt.Errorf("is found as %s of %s and says that it is %s of %s", e.ID, e.Account, c.ID, c.Account)
	case e.Brief == nil:
		return nil
	}
	brief, err := c.brief()
	if err != nil {
		return fmt.Errorf("has a brief and cannot be read: %w", err)
	}
	if again, _ := brief.AppendBinary(nil); !bytes.Equal(again, e.Brief) {
		return fmt.Errorf("(%s) has a brief that is not what it says", e.ID)
	}
	return nil
}
