package explore

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// Shut is a stretch of time in which an account gets in nowhere.
type Shut struct{ From, To time.Time }

// Quiet returns the space in which nothing odd is noticed, and people sign on without a device or on one of some, which has
// just reported.
func (s *Space) Quiet(devices []attempt.Device) *Space {
	settings := []setting{{"", func(*attempt.Attempt) {}}}
	for _, d := range devices {
		settings = append(settings, setting{"one of those", func(a *attempt.Attempt) {
			d.ReportedAt = attempt.Known(a.At)
			a.Device = attempt.Known(d)
		}})
	}
	look := *s
	look.dimensions[device] = s.distinctAtoms(device, s.tests, settings, true)
	look.risks, look.noticed = s.risks[:1], new(sync.Map)
	return &look
}

// ShutOut returns the first stretch of time, longer than a given one, in which an account gets in nowhere: at no app, in no
// circumstances in which a condition of the space, bound, surely holds, whatever it proves by what it has enrolled.
// Ok is false where there is none, and where the context ends. Of a space of two books it is about the older one.
func (s *Space) ShutOut(ctx context.Context, account string, where condition.Node, longest time.Duration) (shut Shut, ok bool) {
	one := s.sides[0]
	n, has := one.directory.FindAccount(account)
	if !has {
		return Shut{s.from, s.to}, true
	}
	kind := &accountKind{names: []string{account}}
	kind.profiles[0] = one.directory.Profile(n)
	var open []Shut // the stretches in which it gets in somewhere
	for _, app := range s.apps {
		if ctx.Err() != nil {
			return Shut{}, false
		}
		if condition.Eval(where, one.directory.FactsOfApp(app.numbers[0])) == condition.False {
			continue
		}
		onAccounts, onTime := s.testsAt(app, where)
		moments := s.momentsOf(s.datedAt(app, onTime), kind, onAccounts)
		opens := map[int]bool{}
		for i, m := range moments {
			is, known := opens[m.kind]
			if !known {
				is = s.opens(&Cell{Account: account, Accounts: kind.names, App: app.name, Action: attempt.SignIn, At: m.at}, where)
				opens[m.kind] = is
			}
			if is {
				to := s.to
				if i+1 < len(moments) {
					to = moments[i+1].at
				}
				open = append(open, Shut{m.at, to})
			}
		}
		if _, still := s.firstShut(open, longest); !still {
			return Shut{}, false
		}
	}
	return s.firstShut(open, longest)
}

// firstShut returns the first stretch without an open one that is longer than a given one.
func (s *Space) firstShut(open []Shut, longest time.Duration) (Shut, bool) {
	slices.SortFunc(open, func(a, b Shut) int { return a.From.Compare(b.From) })
	since := s.from
	for _, o := range append(slices.Clone(open), Shut{s.to, s.to}) {
		if o.From.Sub(since) > longest {
			return Shut{since, o.From}, true
		}
		if o.To.After(since) {
			since = o.To
		}
	}
	return Shut{}, false
}

// opens reports whether in some circumstances of a kind the account gets in by what it has.
func (s *Space) opens(kind *Cell, where condition.Node) (opens bool) {
	s.split(kind, where, func(c *Cell) bool {
		if c.Where != condition.True || !c.Terms.WithinReach() {
			return true
		}
		if c.IsFree() {
			// What nobody can bring about opens nothing.
			a, _ := c.Witness(func(a *attempt.Attempt) bool {
				t := s.sides[0].judge.Terms(context.Background(), a)
				return t.Same(&c.Terms)
			})
			if a == nil {
				return true
			}
		}
		opens = true
		return false
	})
	return opens
}
