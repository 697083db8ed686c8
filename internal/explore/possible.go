package explore

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// Question asks whether something can come about in some circumstances.
type Question struct {
	// Accounts and Apps are those in question, by number. Actions are too; none are all.
	Accounts engine.Audience
	Apps     []int
	Actions  []attempt.Action
	// From and Until bound the moments in question: neither before From, nor at or after Until. Nil bounds nothing.
	From, Until *time.Time
	// Each of Holds, bound by Bind, surely holds, and none of Unless surely does.
	Holds, Unless []condition.Node
}

// mostAsked bounds the ways to answer tests that are looked at for one question. A search for an attempt counts for
// several.
const mostAsked = 20_000

// IsPossible reports whether there are circumstances as a question asks for. What accounts have enrolled, their attributes and
// how they stand is taken to be any, since it changes from day to day. Where there is too much to look at the circumstances are
// taken to be possible, and so they are where the context ends. Of a space of two books it is about the older one.
func (s *Space) IsPossible(ctx context.Context, q *Question) bool {
	one := s.sides[0]
	tests := one.testsOf(one.testsOf(nil, "", q.Holds...), "", q.Unless...)
	if len(onDimension(tests, free)) > 0 {
		// What brings about a score, and what was proven, looks at more than the tests.
		for _, signal := range one.asking.Risk().Signals {
			tests = one.testsOf(tests, "risk", signal.When)
		}
		tests = append(tests, s.postureTests...)
	}
	tests = distinct(tests)
	var onAccounts, onApps, onTime []test
	for _, t := range tests {
		switch {
		case t.isOn(condition.AboutAccount):
			onAccounts = append(onAccounts, t)
		case t.isOn(condition.AboutApp):
			onApps = append(onApps, t)
		case t.Key == engine.KeyDuring:
			onTime = append(onTime, t)
		}
	}
	moments := s.datedFor(q, onTime)
	actions := q.Actions
	if actions == nil {
		actions = allActions
	}
	look := s.cutFor(tests)
	left := mostAsked
	for _, app := range one.appsToldApart(q.Apps, onApps) {
		for _, account := range s.toldApartBy(q.Accounts, onAccounts) {
			for _, at := range moments {
				for _, action := range actions {
					cell := &Cell{Account: one.directory.Accounts[account].Name, App: one.directory.Apps[app].Name, Action: action, At: at}
					if look.comesAbout(ctx, cell, q, &left) {
						return true
					}
				}
			}
		}
	}
	return false
}

// comesAbout reports whether the tests of a question can be answered, for a kind of account, app, action and moment, as it
// asks for. What it looks at it takes from what is left.
func (s *Space) comesAbout(ctx context.Context, kind *Cell, q *Question, left *int) bool {
	one := s.sides[0]
	p := newPath(ctx, s)
	p.side, p.sharesRisk = one, true
	asker := &changing{path: p}
	a := &attempt.Attempt{At: kind.At, Account: kind.Account, App: kind.App, Action: kind.Action}
	for more := true; more; more = p.again() {
		if *left--; *left < 0 || ctx.Err() != nil {
			return true
		}
		p.begin()
		asker.begin()
		if !one.asking.Fulfils(asker, a, q.Holds, q.Unless) {
			continue
		}
		c := *kind
		if c.path = p; !c.IsFree() || s.signalsPass {
			return true
		}
		*left -= search
		asker.shown = true
		found, settled := c.Witness(func(a *attempt.Attempt) bool { return one.asking.Fulfils(asker, a, q.Holds, q.Unless) })
		if found != nil || !settled {
			return true
		}
	}
	return false
}

// changing answers tests along a path, but those on what changes of an account from day to day either way. It implements
// engine.Asker: along the path, and on an attempt that is to show what was answered.
type changing struct {
	*path
	// answered are the answers to tests on what changes, and shown says that an attempt shows the others.
	answered map[string]condition.Truth
	shown    bool
}

func (c *changing) begin() {
	c.answered, c.shown = map[string]condition.Truth{}, false
}

// Answer implements engine.Asker.
func (c *changing) Answer(t *condition.Test, held func() condition.Truth) condition.Truth {
	if !c.side.changes(t) {
		if c.shown {
			return held()
		}
		return c.path.Answer(t, held)
	}
	id := c.side.idOfFree(t)
	truth, known := c.answered[id]
	switch {
	case known:
		return truth
	case c.shown:
		return held()
	}
	truth = c.choose(surely)
	c.answered[id] = truth
	return truth
}

// surely are the answers where nothing is missing.
var surely = []condition.Truth{condition.False, condition.True}

// changes reports whether what a test looks at changes of an account from day to day.
func (b *side) changes(t *condition.Test) bool {
	switch t.Key {
	case engine.KeyEnrolled, engine.KeyAttributes, engine.KeyJoinedWithin, engine.KeyAccountRiskAtLeast, engine.KeyShare:
		return true
	case engine.KeyProved:
		return slices.ContainsFunc(t.Values, func(name string) bool {
			x := b.judge.FindAssurance(name)
			return x != nil && (len(x.Enrol) > 0 || x.ChangePassword)
		})
	}
	return false
}

// appsToldApart returns of apps the first of each that tests tell apart.
func (b *side) appsToldApart(apps []int, tests []test) (first []int) {
	seen := map[string]bool{}
	for _, n := range apps {
		key := ""
		for _, t := range tests {
			key += t.on(b.directory.FactsOfApp(n)).String()
		}
		if !seen[key] {
			seen[key] = true
			first = append(first, n)
		}
	}
	return first
}

// toldApartBy returns of accounts the first of each that tests on accounts tell apart at the first moment.
func (s *Space) toldApartBy(accounts engine.Audience, tests []test) (first []int) {
	parts := []engine.Audience{accounts.Possibly()}
	all := len(s.sides[0].directory.Accounts)
	for _, t := range tests {
		holds := s.crowd.of(s, t.Test)
		var finer []engine.Audience
		for _, part := range parts {
			for _, kind := range []engine.Audience{holds.Surely(), holds.Possibly().And(holds.Surely().Not(all)), holds.Possibly().Not(all)} {
				if both := part.And(kind); !both.IsEmpty() {
					finer = append(finer, both)
				}
			}
		}
		parts = finer
	}
	for _, part := range parts {
		for account := range part.All() {
			first = append(first, account)
			break
		}
	}
	return first
}

// crowd finds the accounts of tests at the first moment of a space.
type crowd struct {
	mu       sync.Mutex
	gathered *engine.Gathering
}

// of returns the accounts for which a test holds.
func (c *crowd) of(s *Space, t *condition.Test) engine.Audience {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.gathered == nil {
		c.gathered = s.sides[0].directory.GatherFrom(s.from)
	}
	return c.gathered.Of(t)
}

// datedFor returns the first moment of each kind that tests of a question on time tell apart, within its bounds: of those up
// to the end of the space, and where a window is for dates alone of those beyond.
func (s *Space) datedFor(q *Question, onTime []test) (first []time.Time) {
	one := s.sides[0]
	moments := []time.Time{s.from}
	if q.From != nil && q.From.After(s.from) {
		moments[0] = *q.From
	}
	for _, t := range onTime {
		for _, w := range t.Numbers() {
			moments = append(moments, s.turnsOf(int(w))...)
		}
	}
	slices.SortFunc(moments, time.Time.Compare)
	seen := map[string]bool{}
	for _, at := range slices.CompactFunc(moments, time.Time.Equal) {
		if q.From != nil && at.Before(*q.From) || q.Until != nil && !at.Before(*q.Until) {
			continue
		}
		f := engine.Facts{Directory: one.directory, Moment: at, At: at}
		key := make([]byte, len(onTime))
		for i, t := range onTime {
			key[i] = byte('0' + t.on(&f))
		}
		if !seen[string(key)] {
			seen[string(key)] = true
			first = append(first, at)
		}
	}
	return first
}

// farthest is how far ahead, in years, the dates of windows are looked at.
const farthest = 20

// turnsOf returns the moments at which a window of the older book opens or closes.
func (s *Space) turnsOf(window int) []time.Time {
	if known, ok := s.cuts.turns.Load(window); ok {
		return known.([]time.Time)
	}
	d, end := s.sides[0].directory, s.to
	for _, r := range d.Windows[window].Dates {
		if last := r.Last.Start(d.Zone).Add(48 * time.Hour); last.After(end) && last.Before(s.from.AddDate(farthest, 0, 0)) {
			end = last
		}
	}
	turns := d.WindowTurns(window, s.from, end)
	s.cuts.turns.Store(window, turns)
	return turns
}

// cuts are the dimensions of questions, and what they are made of.
type cuts struct {
	mu         sync.Mutex
	dimensions map[string]*dimension
	turns      sync.Map // of window to []time.Time
}

// cutFor returns the space as a few tests tell it apart, which is less than all tests of the book do.
func (s *Space) cutFor(tests []test) *Space {
	look := *s
	for of := range look.dimensions {
		look.dimensions[of] = s.cutOf(of, tests)
	}
	return &look
}

// cutOf returns a dimension as tests tell it apart.
func (s *Space) cutOf(of int, tests []test) *dimension {
	risky := len(onDimension(tests, free)) > 0
	key := fmt.Sprint(of, risky)
	var ids []string
	for _, t := range onDimension(tests, of) {
		ids = append(ids, t.id)
	}
	slices.Sort(ids)
	key += strings.Join(ids, "\x00")
	s.cuts.mu.Lock()
	defer s.cuts.mu.Unlock()
	d, known := s.cuts.dimensions[key]
	if !known {
		d = s.cut(of, tests, risky)
		s.cuts.dimensions[key] = d
	}
	return d
}
