package report

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Source says where the decisions of a report are from, for the commands that show what is behind a
// number.
type Source struct {
	// Book is the folder of the book.
	Book string
	// Flags name the journal or the history: --config door.yaml.
	Flags []string
	// List is the path of a page that lists decisions by the flags of journal list as a query, such as
	// /watch/decisions. Where it is given, the report links there and names no commands of journal list.
	List string
}

// with returns a command with the book.
func (s *Source) with(command string) string {
	return strings.Join(
		append(append(terminal.Command("briskwarden"), strings.Fields(command)...), terminal.Command("--book %s", s.Book)...),
		" ",
	)
}

// filter is what a command lists.
type filter struct {
	account, policy, rule, cause, ip, verdicts string
	from, to                                   time.Time
}

// command returns the command that lists the decisions behind a number.
func (r *Report) command(f filter) string {
	from, to := f.from, f.to
	if from.IsZero() {
		from, to = r.From, r.To
	}
	moment := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.In(r.zone).Format(time.RFC3339)
	}
	words, query := append(terminal.Command("briskwarden journal list"), r.source.Flags...), url.Values{}
	for _, x := range []struct{ flag, value string }{{"account", f.account}, {"policy", f.policy}, {"rule", f.rule}, {"cause", f.cause},
		{"ip", f.ip}, {"verdict", f.verdicts}, {"from", moment(from)}, {"to", moment(to)}} {
		if x.value != "" {
			words = append(words, terminal.Command("--"+x.flag+" %s", x.value)...)
			query.Set(x.flag, x.value)
		}
	}
	if r.source.List != "" {
		return r.source.List + "?" + query.Encode()
	}
	return strings.Join(words, " ")
}

// Options say what a report is of.
type Options struct {
	// From is included, To is not; what is zero does not bound.
	From, To time.Time
	// At is the moment for which enrolment, exemptions and the score are told.
	At     time.Time
	Source Source
	// Programs are the outside programs of the acts on consent, where there are any.
	Programs []acts.Entry
}

// OfJournal reports on the decisions of a store's journal, and on its accounts with a standing risk. The
// book tells who is enrolled, and what is exempted. Decisions that were recorded before there were briefs
// are read whole, which takes longer; those that were pruned are not counted.
func OfJournal(ctx context.Context, b *book.Book, s store.Store, o Options) (*Report, error) {
	judge, err := b.Compile()
	if err != nil {
		return nil, err
	}
	c := newCollector(b.Settings.Zone)
	asked := journal.Filter{From: o.From, To: o.To}
	decisions := asked
	decisions.Kind = journal.Decision
	if err := c.counted(whole(ctx, s, decisions)); err != nil {
		return nil, err
	}
	r := newReport(b, o)
	if err := r.addScores(ctx, s, asked); err != nil {
		return nil, err
	}
	managed, err := store.Managed(ctx, s)
	if err != nil {
		return nil, err
	}
	inBook := knownTo(b)
	known := func(a *store.Account) (directory.Account, error) {
		listed, err := inBook(a.Name)
		switch {
		case err == nil && !a.States():
			return listed, nil
		case err == nil:
			joined, _, err := a.Join(store.Listed{Account: &listed, Entry: func() string { return engine.Fingerprint(listed) }}, managed, o.At)
			return joined, err
		case !a.States():
			return listed, err
		}
		joined, _, err := a.Join(store.Listed{}, managed, o.At)
		return joined, err
	}
	if err := r.addStanding(ctx, s, known); err != nil {
		return nil, err
	}
	return r, r.finish(ctx, b, judge, c, o, func(name string) (directory.Account, error) {
		a := &store.Account{Name: name}
		if err := store.Load(ctx, s, a); err != nil && !errors.Is(err, store.ErrNotFound) {
			return directory.Account{}, err
		}
		return known(a)
	})
}

// countAll counts the decisions that come on a channel.
func (c *collector) countAll(batches <-chan []journal.Entry) (failed error) {
	said := journal.Briefs{}
	kept := new(journal.Brief)
	for entries := range batches {
		for i := range entries {
			e := &entries[i]
			brief, err := kept, error(nil)
			if e.Brief != nil {
				err = said.Read(e.Brief, brief)
			} else { // it was recorded before there were briefs
				brief, err = e.ReadBrief()
			}
			if err != nil && failed == nil {
				failed = fmt.Errorf("entry %d: %w", e.Number, err)
			}
			if failed == nil {
				c.see(e.At, e.Account, brief)
			}
		}
	}
	return failed
}

// OfHistory judges a history by a book, as replay does, and reports on what comes of it.
func OfHistory(ctx context.Context, b *book.Book, sources []replay.Source, ro replay.Options, o Options) (*Report, error) {
	judge, err := b.Compile()
	if err != nil {
		return nil, err
	}
	judges, err := ro.Judges([]*engine.Judge{judge})
	if err != nil {
		return nil, err
	}
	c := newCollector(b.Settings.Zone)
	var counted replay.Counter
	ordered := replay.InOrder{Take: func(j *replay.Judged) { c.see(j.At, j.Account, j.Brief) }}
	reading, failed := replay.Walk(ctx, judges, sources, ro, func() replay.Visit {
		var short engine.Brief
		return func(ctx context.Context, number int64, filled []*attempt.Attempt) {
			a := filled[0]
			if !o.From.IsZero() && a.At.Before(o.From) || !o.To.IsZero() && !a.At.Before(o.To) {
				return
			}
			ordered.Add(replay.JudgedBy(ctx, judges[0], number, a, &short))
			counted.Count(a, &short)
		}
	})
	ordered.Flush()
	r := newReport(b, o)
	basis := counted.Basis(reading, ro)
	r.Basis = &basis
	for i := range b.Accounts {
		r.stands(&b.Accounts[i])
	}
	if err := r.finish(ctx, b, judge, c, o, knownTo(b)); err != nil {
		return nil, err
	}
	return r, failed
}

// addScores notes what inspect said of the books that were taken into force.
func (r *Report) addScores(ctx context.Context, s store.Store, f journal.Filter) error {
	f.Kind = journal.Inspection
	for e, err := range s.Entries(ctx, f) {
		if err != nil {
			return err
		}
		if e.Leaf == nil {
			continue // it was pruned
		}
		var said journal.Inspected
		c, err := e.Content()
		if err == nil {
			err = json.Unmarshal(c.Inspection, &said)
		}
		if err != nil {
			return fmt.Errorf("the entry %s: %w", e.ID, err)
		}
		r.Score.Moved = append(r.Score.Moved, ScoreAt{e.At, said.Book, said.Reached, said.Possible})
	}
	return nil
}

// addStanding notes the accounts of a store that have a standing risk. It reads all accounts.
func (r *Report) addStanding(ctx context.Context, s store.Reader, known func(*store.Account) (directory.Account, error)) error {
	for row, err := range store.All(ctx, s, store.Query{Kind: store.Accounts}) {
		if err != nil {
			return err
		}
		if !bytes.Contains(row.Value, []byte(`"fact":"risk"`)) {
			continue
		}
		a := new(store.Account)
		if err := store.Read(row, a); err != nil {
			return err
		}
		joined, err := known(a)
		if err != nil {
			return err
		}
		r.stands(&joined)
	}
	return nil
}

// knownTo returns what a book knows of an account.
func knownTo(b *book.Book) func(string) (directory.Account, error) {
	accounts := make(map[string]*directory.Account, len(b.Accounts))
	for i := range b.Accounts {
		accounts[b.Accounts[i].Name] = &b.Accounts[i]
	}
	return func(name string) (directory.Account, error) {
		if a := accounts[name]; a != nil {
			return *a, nil
		}
		return directory.Account{}, directory.ErrNotFound
	}
}

func newReport(b *book.Book, o Options) *Report {
	return &Report{Book: b.Digest, Zone: b.Settings.Zone.String(), Made: o.At, From: o.From, To: o.To, Standing: []Standing{},
		Score: &Score{Moved: []ScoreAt{}},
		zone:  b.Settings.Zone, source: o.Source}
}

// stands notes the standing risk of an account.
func (r *Report) stands(a *directory.Account) {
	if k := a.AccountRisk; k != nil {
		r.Standing = append(r.Standing, Standing{a.Name, k.Level, k.Because, k.Since, a.RiskAt(r.Made) < k.Level})
	}
}

// finish fills in what the book says, what is known of accounts with risk, and what follows from the whole.
func (r *Report) finish(ctx context.Context, b *book.Book, judge *engine.Judge, c *collector, o Options,
	knownAs func(account string) (directory.Account, error)) error {
	c.sum(r)
	ready, err := readiness.Of(judge, "", nil, o.At)
	if err != nil {
		return err
	}
	r.Rollouts = []Rollout{}
	for _, x := range ready.Rollouts {
		rollout := Rollout{Name: x.Name, Enforced: x.Enforced, DaysLeft: daysTo(x.Enforced, o.At, r.zone), Counts: x.Counts, Groups: x.Groups,
			Left: x.Accounts, Eased: []DayCount{}, Command: r.source.with("readiness " + x.Name)}
		if eased := c.eased.all[x.Name]; eased != nil {
			for i, accounts := range eased.values {
				rollout.Eased = append(rollout.Eased, DayCount{dateOf(eased.first + i), len(accounts)})
			}
		}
		rollout.Enrolled = c.enrolment(x, r.Days)
		r.Rollouts = append(r.Rollouts, rollout)
	}
	r.Exemptions = []Exemption{}
	for i := range b.Exemptions {
		x := &b.Exemptions[i]
		e := Exemption{Name: x.Name, From: x.From, Because: x.Because, Until: x.Until}
		e.Ended = x.Until != nil && daysTo(*x.Until, o.At, r.zone) < 0
		if use := c.excused.all[x.Name]; use != nil {
			e.Times, e.Last = use.times, use.last
		}
		r.Exemptions = append(r.Exemptions, e)
	}
	for i := range r.AccountsWithRisk {
		a := &r.AccountsWithRisk[i]
		known, err := knownAs(a.Account)
		switch {
		case errors.Is(err, directory.ErrNotFound):
			continue
		case err != nil:
			return err
		}
		changed := known.PasswordChangedAt
		a.PutRight = changed != nil && changed.After(a.Last)
		if a.own != nil {
			a.own.PutRight, a.own.machine = a.PutRight, known.Kind == directory.Service
		}
	}
	r.AccountsBefore, r.AttemptsBefore, r.NoticedBefore = r.AccountsWithRisk, r.AttemptsWithRisk, r.Noticed
	r.Programs = append([]acts.Entry{}, o.Programs...)
	found, err := inspect.Inspect(ctx, b, o.At)
	if err != nil {
		return err
	}
	r.Score.take(found)
	r.findTroubles()
	r.steps(o.At)
	r.Plots = r.plots()
	r.sentences()
	return nil
}
