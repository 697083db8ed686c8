package replay

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
)

// tally counts what one goroutine judged. Accounts, apps and groups are counted
// by their numbers in the estate; what the book does not have is counted last.
type tally struct {
	judge       *decide.Judge
	verdicts    Counts
	shadow      Counts
	rules       map[[2]string]*RuleCount
	apps        []Counts
	groups      []Counts
	accounts    []Counts
	countries   map[attempt.CountryCode]*Counts
	hours       [24]Counts
	first, last time.Time
	bad         []BadLine
	badAll      int64
}

func newTally(judge *decide.Judge) *tally {
	e := judge.Estate()
	return &tally{judge: judge, rules: map[[2]string]*RuleCount{}, countries: map[attempt.CountryCode]*Counts{},
		apps: make([]Counts, len(e.Apps)+1), groups: make([]Counts, len(e.Groups)), accounts: make([]Counts, len(e.Accounts)+1)}
}

func (t *tally) judgeAll(b *batch) {
	for _, a := range b.attempts {
		t.judgeOne(a)
	}
	t.badAll += int64(len(b.bad))
	t.keep(b.bad)
}

// keep keeps the first bad lines.
func (t *tally) keep(bad []BadLine) {
	t.bad = append(t.bad, bad...)
	slices.SortFunc(t.bad, func(a, b BadLine) int { return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line)) })
	t.bad = t.bad[:min(mostBad, len(t.bad))]
}

func (t *tally) judgeOne(a *attempt.Attempt) {
	e, d := t.judge.Estate(), t.judge.Outline(a)
	v := d.Verdict
	t.verdicts.add(v)
	t.shadow.add(d.WithShadow.Verdict)
	t.hours[a.At.In(e.Zone).Hour()].add(v)
	if t.first.IsZero() || a.At.Before(t.first) {
		t.first = a.At
	}
	if a.At.After(t.last) {
		t.last = a.At
	}
	app, ok := e.FindApp(a.App)
	if !ok {
		app = len(t.apps) - 1
	}
	t.apps[app].add(v)
	account, ok := e.FindAccount(a.Account)
	if !ok {
		account = len(t.accounts) - 1
	} else {
		sure, _, _ := e.Memberships(account)
		for _, g := range sure {
			t.groups[g].add(v)
		}
	}
	t.accounts[account].add(v)
	country, _ := t.judge.Country(a)
	if t.countries[country] == nil {
		t.countries[country] = new(Counts)
	}
	t.countries[country].add(v)
	if v == decide.Grant {
		return
	}
	for _, c := range d.Causes {
		key := [2]string{c.Policy, c.Rule}
		if c.Policy == "" {
			key[1] = string(c.Code)
		}
		if t.rules[key] == nil {
			t.rules[key] = &RuleCount{Policy: key[0], Rule: key[1]}
		}
		if v == decide.StepUp {
			t.rules[key].Asked++
		} else {
			t.rules[key].Blocks++
		}
	}
}

// join adds what another goroutine counted.
func (t *tally) join(u *tally) {
	t.verdicts.join(u.verdicts)
	t.shadow.join(u.shadow)
	for i := range t.apps {
		t.apps[i].join(u.apps[i])
	}
	for i := range t.groups {
		t.groups[i].join(u.groups[i])
	}
	for i := range t.accounts {
		t.accounts[i].join(u.accounts[i])
	}
	for i := range t.hours {
		t.hours[i].join(u.hours[i])
	}
	for code, c := range u.countries {
		if t.countries[code] == nil {
			t.countries[code] = new(Counts)
		}
		t.countries[code].join(*c)
	}
	for key, r := range u.rules {
		if t.rules[key] == nil {
			t.rules[key] = &RuleCount{Policy: r.Policy, Rule: r.Rule}
		}
		t.rules[key].Asked += r.Asked
		t.rules[key].Blocks += r.Blocks
	}
	if !u.first.IsZero() && (t.first.IsZero() || u.first.Before(t.first)) {
		t.first = u.first
	}
	if u.last.After(t.last) {
		t.last = u.last
	}
	t.badAll += u.badAll
	t.keep(u.bad)
}

const (
	// mostStopped is how many of the accounts that were blocked most are told, and
	// unlisted what is called that the book does not have.
	mostStopped = 20
	unlisted    = "not in the book"
)

// sum makes the report, with so many days on which somebody made attempts.
func (t *tally) sum(personDays int64) *Report {
	e := t.judge.Estate()
	r := &Report{Attempts: t.verdicts.All(), First: t.first, Last: t.last, Verdicts: t.verdicts, Shadow: t.shadow, Hours: t.hours,
		Rules: []RuleCount{}, Bad: append([]BadLine{}, t.bad...), BadAll: t.badAll}
	r.Apps = named(t.apps, len(e.Apps), func(i int) string { return e.Apps[i].Name })
	r.Groups = named(t.groups, len(e.Groups), func(i int) string { return e.Groups[i].Name })
	r.Countries = []NamedCount{}
	for code, c := range t.countries {
		r.Countries = append(r.Countries, NamedCount{cmp.Or(string(code), "not known"), *c})
	}
	sortCounts(r.Countries, Counts.All)
	blocked := func(c Counts) int64 { return c.Block }
	r.Stopped = named(t.accounts, len(e.Accounts), func(i int) string { return e.Accounts[i].Name })
	r.Stopped = slices.DeleteFunc(r.Stopped, func(c NamedCount) bool { return c.Counts.Block == 0 })
	sortCounts(r.Stopped, blocked)
	r.Stopped = r.Stopped[:min(mostStopped, len(r.Stopped))]
	for _, rule := range t.rules {
		r.Rules = append(r.Rules, *rule)
	}
	slices.SortFunc(r.Rules, func(a, b RuleCount) int {
		return cmp.Or(cmp.Compare(b.Asked+b.Blocks, a.Asked+a.Blocks), strings.Compare(a.Policy, b.Policy), strings.Compare(a.Rule, b.Rule))
	})
	if personDays > 0 {
		r.Prompts = float64(t.verdicts.StepUp) / float64(personDays)
	}
	return r
}

// named lists counts that are not empty by name, those with most attempts first.
// What stands behind all that have a name is what the book does not have.
func named(counts []Counts, names int, nameOf func(int) string) []NamedCount {
	list := []NamedCount{}
	for i, c := range counts {
		if c.All() == 0 {
			continue
		}
		name := unlisted
		if i < names {
			name = nameOf(i)
		}
		list = append(list, NamedCount{name, c})
	}
	sortCounts(list, Counts.All)
	return list
}

func sortCounts(list []NamedCount, by func(Counts) int64) {
	slices.SortFunc(list, func(a, b NamedCount) int {
		return cmp.Or(cmp.Compare(by(b.Counts), by(a.Counts)), strings.Compare(a.Name, b.Name))
	})
}
