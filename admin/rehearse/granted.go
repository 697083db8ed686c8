package rehearse

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Ways are the smallest sets of changes that would turn an attempt into a grant.
type Ways struct {
	// Granted says that the attempt is granted as it is.
	Granted bool `json:"granted" doc:"true where the attempt is granted as it is"`
	// Ways are all of the same size, the easiest first. There is none where the
	// attempt is granted, and where no change of the attempt alone would help.
	Ways [][]string `json:"ways" doc:"sets of changes, none smaller than another, the easiest first"`
	// Tried is up to how many changes at once were tried.
	Tried int `json:"tried" doc:"up to how many changes at once were tried"`
}

// move is a change of an attempt, or of the account. Of those of one kind, unless it is
// empty, only one can be made.
type move struct {
	candidate
	kind string
	// effort orders moves by how hard they are on people.
	effort int
	// person changes the account, where the move does.
	person func(*person)
}

// size is how many changes a move counts for: an enrolment is followed by a proof.
func (m *move) size() int {
	if m.kind == enrolment {
		return 2
	}
	return 1
}

// enrolment is the kind of those moves that enrol a method.
const enrolment = "enrolment"

const (
	mostMoves = 5
	mostWays  = 3
	// mostVerdicts bounds the search; it is a fraction of a second.
	mostVerdicts = 200_000
)

// UntilGranted looks for the smallest sets of changes to the attempt that would
// turn it into a grant: proofs, devices and their repair, places, times, documents, checks,
// a changed password and an enrolment. It does not change policies. The error is that of
// compiling the judge's rulebook once more, with an account that can change.
func UntilGranted(judge *engine.Judge, a *attempt.Attempt) (*Ways, error) {
	w := &Ways{Ways: [][]string{}}
	if judge.Verdict(context.Background(), a) == decide.Grant {
		w.Granted = true
		return w, nil
	}
	rules := judge.Rulebook()
	rules.Accounts = changeable{judge}
	changing, err := engine.Compile(rules)
	if err != nil {
		return nil, err
	}
	moves := movesOf(judge, a)
	left := mostVerdicts
	for size := 1; size <= mostMoves; size++ {
		type way struct {
			words  []string
			kinds  string
			effort int
		}
		var found []way
		verdict := func(changed *attempt.Attempt, who *person) decide.Verdict {
			if who == nil {
				return judge.Verdict(context.Background(), changed)
			}
			return changing.Verdict(context.WithValue(context.Background(), personKey{}, who), changed)
		}
		var search func(from, more, effort int, changed attempt.Attempt, who *person, chosen []move)
		search = func(from, more, effort int, changed attempt.Attempt, who *person, chosen []move) {
			if left <= 0 {
				return
			}
			if more == 0 {
				if left--; verdict(&changed, who) == decide.Grant {
					f := way{effort: effort}
					for _, m := range chosen {
						f.words = append(f.words, m.words)
						f.kinds += cmp.Or(m.kind, m.words) + ";"
					}
					found = append(found, f)
				}
				return
			}
			for i := from; i < len(moves); i++ {
				m := moves[i]
				if m.size() > more || m.kind != "" && slices.ContainsFunc(chosen, func(c move) bool { return c.kind == m.kind }) {
					continue
				}
				next, nextWho := changed, who
				m.set(&next)
				if m.person != nil {
					nextWho = who.with(m.person, next.At)
				}
				search(i+1, more-m.size(), effort+m.effort, next, nextWho, append(slices.Clip(chosen), m))
			}
		}
		search(0, size, 0, *a, nil, nil)
		if left <= 0 && len(found) == 0 {
			return w, nil
		}
		w.Tried = size
		if len(found) > 0 {
			// Of the same effort, moves come in their own order: what is sooner first.
			slices.SortStableFunc(found, func(a, b way) int { return cmp.Compare(a.effort, b.effort) })
			// Another place or device of the same kind is no other way.
			told := map[string]bool{}
			for _, f := range found {
				if !told[f.kinds] && len(w.Ways) < mostWays {
					told[f.kinds] = true
					w.Ways = append(w.Ways, f.words)
				}
			}
			return w, nil
		}
	}
	return w, nil
}

// person is what an account did beside the attempt.
type person struct {
	at       time.Time
	enrolled []string
	// passwordChanged says that the password was changed at the moment of the attempt.
	passwordChanged bool
}

// with returns a copy of a person, nil for one who did nothing, to which a change was made.
func (p *person) with(change func(*person), at time.Time) *person {
	changed := person{}
	if p != nil {
		changed = *p
	}
	changed.at = at
	change(&changed)
	return &changed
}

// personKey is the key of the person in a context.
type personKey struct{}

// changeable supplies accounts as a judge knows them, with what the person in the context
// did.
type changeable struct{ judge *engine.Judge }

// Account implements directory.Accounts.
func (c changeable) Account(ctx context.Context, name string) (directory.Account, error) {
	account, err := directory.Account{}, directory.ErrNotFound
	if from := c.judge.Accounts(); from != nil {
		account, err = from.Account(ctx, name)
	}
	if err != nil && !errors.Is(err, directory.ErrNotFound) {
		return account, err
	}
	profile, known := c.judge.Directory().Find(name)
	p, changed := ctx.Value(personKey{}).(*person)
	if !changed || err != nil && !known {
		return account, err
	}
	if account.Methods == nil && known {
		account.Methods = c.judge.MethodNames(profile.Enrolled())
	}
	account.Name, account.Methods = name, slices.Concat(account.Methods, p.enrolled)
	if p.passwordChanged {
		account.PasswordChangedAt = &p.at
	}
	return account, nil
}

// movesOf returns the changes that could help, those that shift the time first,
// so that what is proven is proven then.
func movesOf(judge *engine.Judge, a *attempt.Attempt) []move {
	moves := times(judge, a)
	moves = append(moves, places(judge, a)...)
	moves = append(moves, betterDevices(judge, a)...)
	for _, m := range enrolledBy(judge, a) {
		if !slices.ContainsFunc(a.Proofs, func(p attempt.Proof) bool { return p.Method == m }) {
			moves = append(moves, move{candidate: proving("prove "+m, m), effort: 1})
		}
	}
	moves = append(moves, enrolments(judge, a)...)
	if slices.ContainsFunc(judge.Assurances(), func(x decide.Assurance) bool { return x.ChangePassword }) {
		moves = append(moves, move{candidate: candidate{"change the password", func(*attempt.Attempt) {}}, effort: 2,
			person: func(p *person) { p.passwordChanged = true }})
	}
	for _, assurance := range judge.Assurances() {
		if d := assurance.Accept; d != nil {
			moves = append(moves, move{candidate{fmt.Sprintf("accept %s, version %d", d.Document, d.Version), func(a *attempt.Attempt) {
				a.Accepted = append(slices.Clip(a.Accepted), attempt.Acceptance{Document: d.Document, Version: d.Version, At: a.At})
			}}, "", 2, nil})
		}
		if check := assurance.External; check != "" && a.External[check] != attempt.CheckFailed {
			moves = append(moves, move{candidate{"pass the outside check " + check, func(a *attempt.Attempt) {
				results := map[string]attempt.CheckResult{check: attempt.CheckPassed}
				for name, r := range a.External {
					if name != check {
						results[name] = r
					}
				}
				a.External = results
			}}, "", 3, nil})
		}
	}
	if through, ok := a.Through.Get(); !ok || !through.CanBeAsked() {
		moves = append(
			moves,
			move{
				candidate{"sign on through a browser", func(a *attempt.Attempt) { a.Through = attempt.Known(attempt.Browser) }},
				"through",
				4,
				nil,
			},
		)
	}
	for _, name := range a.Signals {
		moves = append(moves, move{candidate{"the signal " + name + " is cleared", func(a *attempt.Attempt) {
			a.Signals = slices.DeleteFunc(slices.Clone(a.Signals), func(s string) bool { return s == name })
		}}, "", 6, nil})
	}
	if len(a.Failed) > 0 {
		moves = append(moves, move{candidate{"no proof fails", func(a *attempt.Attempt) { a.Failed = nil }}, "", 6, nil})
	}
	if _, ok := a.Previous.Get(); ok || a.Previous.IsUnknown() {
		moves = append(
			moves,
			move{
				candidate{
					"nothing odd about the sign-in before",
					func(a *attempt.Attempt) { a.Previous = attempt.None[attempt.Previous]() },
				},
				"",
				6,
				nil,
			},
		)
	}
	if _, ok := a.Failures.Get(); ok || a.Failures.IsUnknown() {
		moves = append(
			moves,
			move{candidate{"no failed sign-ins before", func(a *attempt.Attempt) { a.Failures = attempt.None[[]time.Time]() }}, "", 6, nil},
		)
	}
	return moves
}

// proving proves a method in the attempt.
func proving(words, method string) candidate {
	return candidate{words, func(a *attempt.Attempt) {
		a.Proofs = append(slices.Clip(a.Proofs), attempt.Proof{Method: method, At: a.At})
	}}
}

// mostEnrolments is how many methods are tried that the account has not enrolled.
const mostEnrolments = 8

// enrolments returns the methods that the attempt is asked for and that the account has not
// enrolled, each enrolled and proven.
func enrolments(judge *engine.Judge, a *attempt.Attempt) []move {
	var found []move
	enrolled := enrolledBy(judge, a)
	add := func(method string) {
		words := "enrol " + method + " and prove it"
		known := slices.Contains(enrolled, method) || slices.ContainsFunc(found, func(m move) bool { return m.words == words })
		if known || len(found) == mostEnrolments {
			return
		}
		found = append(found, move{candidate: proving(words, method), kind: enrolment, effort: 4,
			person: func(p *person) { p.enrolled = append(slices.Clip(p.enrolled), method) }})
	}
	var walk func(demands []decide.Demand)
	walk = func(demands []decide.Demand) {
		for _, d := range demands {
			for _, method := range d.AnyOf {
				add(method)
			}
			for _, way := range d.Ways {
				walk(way)
			}
		}
	}
	walk(judge.Outline(context.Background(), a).Demands)
	return found
}

// times returns the moments of the coming week at which a window opens or closes.
func times(judge *engine.Judge, a *attempt.Attempt) []move {
	e := judge.Directory()
	var turns []time.Time
	for w := range e.Windows {
		turns = append(turns, e.WindowTurns(w, a.At, a.At.AddDate(0, 0, 8))...)
	}
	slices.SortFunc(turns, time.Time.Compare)
	var found []move
	states := map[string]bool{statesAt(e, a.At): true}
	for _, t := range turns {
		if state := statesAt(e, t); !states[state] {
			states[state] = true
			found = append(found, move{at(e, "wait until "+t.In(e.Zone).Format("Mon 2006-01-02 15:04"), a.At, t), "time", 4, nil})
		}
	}
	return found
}

// statesAt reports which windows are open at a moment.
func statesAt(e *engine.Directory, t time.Time) string {
	var state []byte
	for w := range e.Windows {
		if e.InWindow(w, t) {
			state = append(state, 'o')
		} else {
			state = append(state, '-')
		}
	}
	return string(state)
}

// mostPlaces is how many networks are tried.
const mostPlaces = 12

// places returns addresses in the networks that could matter, the own ones first,
// and the countries that the book names where no network settles that.
func places(judge *engine.Judge, a *attempt.Attempt) []move {
	e := judge.Directory()
	named := judge.Values(engine.KeyNetworks)
	var found []move
	add := func(n directory.Network) {
		ip := n.Ranges[0].Sample()
		found = append(found, move{candidate{fmt.Sprintf("come from %s (%s)", n.Name, ip), func(a *attempt.Attempt) {
			a.IP, a.Country, a.Location = attempt.Known(ip), attempt.Fact[attempt.CountryCode]{}, attempt.Fact[attempt.Location]{}
		}}, "place", 3, nil})
	}
	for _, ours := range []bool{true, false} {
		for _, n := range e.Networks {
			if n.Ours == ours && len(n.Ranges) > 0 && (ours || slices.Contains(named, n.Name)) && len(found) < mostPlaces {
				add(n)
			}
		}
	}
	for _, c := range countries(judge) {
		if c.words == "any other" || len(found) >= 2*mostPlaces {
			continue
		}
		set := c.set
		found = append(found, move{candidate{"come from " + c.words, func(a *attempt.Attempt) {
			if ip, ok := a.IP.Get(); !ok || e.Place(ip).Country != "" || e.Place(ip).Torn {
				if elsewhere, found := e.AddressElsewhere(); found {
					a.IP = attempt.Known(elsewhere)
				}
			}
			a.Location = attempt.Fact[attempt.Location]{}
			set(a)
		}}, "place", 5, nil})
	}
	return found
}

// betterDevices returns the registered devices, those of the account first, and
// a new report of the one in hand.
func betterDevices(judge *engine.Judge, a *attempt.Attempt) []move {
	e := judge.Directory()
	var found []move
	d, _ := a.Device.Get()
	if id, ok := d.ID.Get(); ok {
		found = append(found, move{candidate{"let " + id + " report", func(a *attempt.Attempt) {
			e.LetReport(a, a.At)
		}}, "device", 1, nil})
		tried := *a
		if repaired := e.Repair(&tried, a.At); len(repaired) > 0 {
			found = append(found, move{candidate{fmt.Sprintf("put %s right (%s) and let it report", id, strings.Join(repaired, ", ")),
				func(a *attempt.Attempt) { e.Repair(a, a.At) }}, "device", 2, nil})
		}
	}
	for _, own := range []bool{true, false} {
		for _, d := range e.Devices {
			if (d.Owner == a.Account) != own || !own && d.Owner != "" || len(found) > mostPlaces {
				continue
			}
			found = append(found, move{candidate{"sign on from " + d.Name, func(a *attempt.Attempt) {
				a.Device = attempt.Known(attempt.Device{ID: attempt.Known(d.Name)})
			}}, "device", map[bool]int{true: 2, false: 4}[own], nil},
				move{candidate{"sign on from " + d.Name + ", which has just reported", func(a *attempt.Attempt) {
					a.Device = attempt.Known(attempt.Device{ID: attempt.Known(d.Name)})
					e.LetReport(a, a.At)
				}}, "device", map[bool]int{true: 3, false: 5}[own], nil})
		}
	}
	return found
}

// String says what would bring a grant.
func (w *Ways) String() string {
	switch {
	case w.Granted:
		return "It is granted as it is."
	case len(w.Ways) == 0:
		return fmt.Sprintf(
			"No %d changes of the attempt bring a grant, repairs and enrolments among them: it takes another account or another book.",
			w.Tried,
		)
	}
	var ways []string
	for _, way := range w.Ways {
		ways = append(ways, strings.Join(way, ", and "))
	}
	text := strings.Join(ways, "; or ")
	return strings.ToUpper(text[:1]) + text[1:] + "."
}
