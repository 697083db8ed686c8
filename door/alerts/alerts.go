// Package alerts is the room of a door that tells people what they asked to hear of the decisions that are made: alerts and digests of the
// book's section watch, by mail and by signed web hooks.
package alerts

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch"
	"github.com/briskwarden/briskwarden/watch/letter"
	"github.com/briskwarden/briskwarden/watch/lookout"
)

// Options say how letters name things to an administrator at a terminal, and how often it is looked. The zero Options do.
type Options struct {
	// Book is the folder of the book, and Journal the flags of journal list that find the journal.
	Book    string
	Journal []string
	// Every is how often it is looked whether there is something to tell; 0 is every second.
	Every time.Duration
}

// room is the room of a door.
type room struct {
	*door.Door
	options Options
	poster  *poster
	// looking lets one at a time look whether there is something to tell.
	looking sync.Mutex
	// watching is the book by which it is looked.
	watching atomic.Pointer[watching]
}

// watching is a book in force, with who hears of its decisions.
type watching struct {
	*briskwarden.Book
	// lookout is used by one goroutine.
	lookout *lookout.Lookout
}

// Room makes the room. It reads the files that `watch` of the configuration names, and connects to nobody.
func Room(o Options) door.Room {
	return func(of *door.Door) (*door.Opened, error) {
		return new(room).open(of, o)
	}
}

// open is what the room adds to a door.
func (d *room) open(of *door.Door, o Options) (*door.Opened, error) {
	d.Door, d.options = of, o
	d.options.Book, d.options.Every = cmp.Or(o.Book, "BOOK"), cmp.Or(o.Every, time.Second)
	var err error
	if d.poster, err = newPoster(d); err != nil {
		return nil, err
	}
	refuse := func(b *briskwarden.Book) error {
		_, err := lookout.New(b.Judge(), &b.Source().Watch)
		return err
	}
	return &door.Opened{Keys: []string{"watch"}, Refuse: refuse, Taken: d.taken, Run: d.run}, nil
}

// taken looks by a newer book from now on.
func (d *room) taken(b *briskwarden.Book) {
	w, err := lookout.New(b.Judge(), &b.Source().Watch)
	if err != nil {
		d.Log().Error("nobody is told of decisions by the newer book", "error", err) // which was refused before it came so far
		return
	}
	d.watching.Store(&watching{b, w})
	for _, why := range Unreached(d.Config(), &b.Source().Watch) {
		d.Log().Warn(why)
	}
}

// run looks, and sends letters, until the context ends.
func (d *room) run(ctx context.Context) {
	if d.Config().Journal.Mode == door.JournalOff {
		return
	}
	var sending sync.WaitGroup
	defer sending.Wait()
	sending.Go(func() { d.poster.outbox.Run(ctx) })
	d.watchDecisions(ctx)
}

// Unreached says which recipients of a scheme a door with this configuration cannot tell anything, and
// why; nil where it reaches all.
func Unreached(c *door.Config, scheme *watch.Scheme) (list []string) {
	if c.Journal.Mode == door.JournalOff && len(scheme.Alerts)+len(scheme.Digests) > 0 {
		list = append(list, "Nobody is told of alerts or digests: they rest on the journal, and journal.mode is off.")
	}
	for i := range scheme.Recipients {
		r := &scheme.Recipients[i]
		if len(r.Mail) > 0 && c.Watch.Mail.Address == "" {
			list = append(list, fmt.Sprintf("%s gets no mail: %s.", words.Capital(r.Name), errNoMail))
		}
		if r.Hook != "" && !slices.ContainsFunc(c.Watch.Hooks, func(h door.HookKey) bool { return h.Recipient == r.Name }) {
			list = append(list, fmt.Sprintf("The web hook of %s is told nothing: %s.", r.Name, errNoKey))
		}
	}
	return list
}

// afterFailure is how long the watch waits where it could not look.
const afterFailure = 30 * time.Second

// watchDecisions tells who is to hear of decisions, until the context ends.
func (d *room) watchDecisions(ctx context.Context) {
	wait := time.NewTimer(d.options.Every)
	defer wait.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-wait.C:
		}
		next := d.options.Every
		switch more, err := d.lookOnce(ctx); {
		case more:
			next = 0
		case err != nil && ctx.Err() == nil:
			d.Log().Error("the watch could not look at what was decided; it looks again", "error", err)
			next = afterFailure
		}
		wait.Reset(next)
	}
}

// watchedTogether is how many entries the watch looks at before it keeps how far it is, and keepEvery how
// many it may see again after a crash where nothing rang.
const (
	watchedTogether = 5000
	keepEvery       = 2000
)

var errOther = errors.New("another door was first")

// lookOnce takes in what was decided since it looked last, and hands what is to be told to the outbox. What
// was seen and what is to be told are kept in one step, so that each is told once, whatever stops the door.
// It reports whether there is more to take in.
func (d *room) lookOnce(ctx context.Context) (more bool, err error) {
	d.looking.Lock()
	defer d.looking.Unlock()
	b := d.watching.Load()
	scheme := &b.Source().Watch
	was := new(store.Watched)
	row, err := d.Store().Get(ctx, store.Key{Kind: store.Watch, Key: "watch"})
	fresh := errors.Is(err, store.ErrNotFound)
	switch {
	case err != nil && !fresh:
		return false, err
	case len(scheme.Alerts)+len(scheme.Digests) == 0:
		if !fresh { // where there is something to watch again, it begins then
			return false, d.Store().Update(ctx, func(tx store.Tx) error { return store.Drop(tx, was) })
		}
		return false, nil
	case !fresh:
		if err := store.Read(row, was); err != nil {
			return false, err
		}
	}
	heads, err := d.Store().Heads(ctx)
	if err != nil {
		return false, err
	}
	state := new(lookout.State)
	if fresh {
		was.Next = map[string]int64{}
		for i := range heads {
			was.Next[heads[i].Log] = heads[i].Size
		}
	} else if err := json.Unmarshal(was.State, state); err != nil {
		return false, fmt.Errorf("what the watch remembers cannot be read: %w", err)
	}
	now := d.Now()
	next, seen, full, err := d.takeIn(ctx, b.lookout, state, was.Next, heads)
	if err != nil {
		return false, err
	}
	posts := b.lookout.Tell(state, now)
	if slices.ContainsFunc(posts, func(p lookout.Post) bool { return p.Digest != "" }) {
		if was.Busy.After(now) {
			return false, nil // another door makes it
		}
		was.Busy = now.Add(longestDigest)
		if err := d.keepWatched(ctx, row, fresh, was, nil); err != nil {
			return false, ignored(err, errOther)
		}
		row, fresh = store.RowOf(was), false
	}
	letters, err := d.word(ctx, b, posts, now)
	if err != nil {
		return false, err
	}
	remembered, err := json.Marshal(state)
	if err != nil {
		return false, err
	}
	if !fresh && len(letters) == 0 && seen < keepEvery && bytes.Equal(remembered, was.State) {
		return false, nil
	}
	kept := &store.Watched{Next: next, State: remembered}
	if err := d.keepWatched(ctx, row, fresh, kept, letters); err != nil {
		return false, ignored(err, errOther)
	}
	if len(letters) > 0 {
		d.poster.outbox.Ring()
	}
	return full, nil
}

// longestDigest is how long a door may take for its digests before another tries.
const longestDigest = 2 * time.Minute

// ignored returns an error, but for one.
func ignored(err, but error) error {
	if errors.Is(err, but) {
		return nil
	}
	return err
}

// keepWatched keeps how far the watch is, with the letters, unless another door was first.
func (d *room) keepWatched(ctx context.Context, was store.Row, fresh bool, w *store.Watched, letters []*store.Outgoing) error {
	if w.State == nil {
		w.State = []byte("{}")
	}
	return d.Store().Update(ctx, func(tx store.Tx) error {
		now, err := tx.Get(ctx, store.RowOf(w).Key)
		switch {
		case errors.Is(err, store.ErrNotFound) != fresh:
			return errOther
		case err != nil && !fresh:
			return err
		case !fresh && !bytes.Equal(now.Value, was.Value):
			return errOther
		}
		for _, l := range letters {
			if err := store.Save(tx, l); err != nil {
				return err
			}
		}
		return store.Save(tx, w)
	})
}

// takeIn shows the lookout the decisions that came behind some numbers, each of a log, those of all logs by time. It returns
// the numbers behind the last that it read, how many it read, and whether there may be more.
func (d *room) takeIn(ctx context.Context, w *lookout.Lookout, state *lookout.State, from map[string]int64, heads []journal.Head) (
	next map[string]int64, seen int64, full bool, err error) {
	next = maps.Clone(from)
	if next == nil {
		next = map[string]int64{}
	}
	briefs := journal.Briefs{}
	var decisions []lookout.Decision
	for i := range heads {
		log, first := heads[i].Log, next[heads[i].Log]
		if first >= heads[i].Size {
			continue
		}
		for e, err := range d.Store().Entries(ctx, journal.Filter{Log: log, After: first, Limit: watchedTogether, Bare: true}) {
			if err != nil {
				return from, 0, false, err
			}
			next[log] = e.Number + 1
			if e.Kind != journal.Decision || e.Brief == nil {
				continue
			}
			brief := new(journal.Brief)
			if err := briefs.Read(e.Brief, brief); err != nil {
				return from, 0, false, fmt.Errorf("entry %d of the log %s: %w", e.Number, log, err)
			}
			decisions = append(decisions, lookout.Decision{Number: e.Number, At: e.At, Account: strings.Clone(e.Account), Brief: brief})
		}
		seen, full = seen+next[log]-first, full || next[log]-first == watchedTogether
	}
	slices.SortStableFunc(decisions, func(a, b lookout.Decision) int { return a.At.Compare(b.At) })
	w.Take(ctx, state, decisions)
	return next, seen, full, nil
}

// word makes letters of what is to be told: one for each way that a recipient has.
func (d *room) word(ctx context.Context, b *watching, posts []lookout.Post, now time.Time) (letters []*store.Outgoing, err error) {
	scheme := &b.Source().Watch
	o := letter.Options{Zone: b.Source().Settings.Zone, Door: strings.TrimSuffix(d.Config().Watch.Door, "/"), Commands: d.options.Journal}
	reports := map[[2]time.Time]*report.Report{}
	for i := range posts {
		p := &posts[i]
		var l *letter.Letter
		if p.Digest == "" {
			l = letter.OfRings(p, scheme, now, o)
		} else {
			at := [2]time.Time{p.From, p.Until}
			if reports[at] == nil {
				if reports[at], err = d.digest(ctx, b, p); err != nil {
					return nil, err
				}
			}
			l = letter.OfDigest(p, reports[at], now, o)
		}
		to := slices.IndexFunc(scheme.Recipients, func(r watch.Recipient) bool { return r.Name == p.To })
		if to < 0 {
			d.Log().Error("a letter has no recipient any more; nobody was told", "recipient", p.To, "subject", l.Subject)
			continue
		}
		for _, way := range []struct {
			by   string
			goes bool
		}{{byMail, len(scheme.Recipients[to].Mail) > 0}, {byHook, scheme.Recipients[to].Hook != ""}} {
			if !way.goes {
				continue
			}
			l.ID = journal.NewID()
			text, err := json.Marshal(l)
			if err != nil {
				return nil, err
			}
			letters = append(letters, &store.Outgoing{Kind: store.Letters, ID: l.ID, To: p.To, By: way.by, Letter: text, Next: now})
		}
	}
	return letters, nil
}

// digest makes the report that a digest sums up.
func (d *room) digest(ctx context.Context, b *watching, p *lookout.Post) (*report.Report, error) {
	source := report.Source{Book: d.options.Book, Flags: d.options.Journal}
	if d.Config().Watch.Door != "" {
		source.List = "/watch/decisions"
	}
	o := report.Options{From: p.From, To: p.Until, At: p.Until, Source: source}
	var err error
	if o.Programs, err = d.Programs(ctx, p.Until); err != nil {
		return nil, err
	}
	return report.OfJournal(ctx, b.Source(), d.Store(), o)
}
