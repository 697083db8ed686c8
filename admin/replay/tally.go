package replay

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// tally counts what one goroutine judged. Accounts, apps and groups are counted
// by their numbers in the directory; what the book does not have is counted last.
type tally struct {
	judge     *engine.Judge
	verdicts  Counts
	shadow    Counts
	rules     RuleTally
	apps      []Counts
	groups    []Counts
	accounts  []Counts
	countries [numberOfCodes]Counts
	hours     [24]Counts
	period    Period
	strangers int64
	brief     engine.Brief
	directory *engine.Directory
}

// numberOfCodes is how many country codes there can be, and none.
const numberOfCodes = 26*26 + 1

// codeNumber numbers the country codes; none is the last.
func codeNumber(code attempt.CountryCode) int {
	if len(code) != 2 || min(code[0], code[1]) < 'A' || max(code[0], code[1]) > 'Z' {
		return numberOfCodes - 1
	}
	return int(code[0]-'A')*26 + int(code[1]-'A')
}

func codeName(number int) string {
	if number == numberOfCodes-1 {
		return "not known"
	}
	return string([]byte{'A' + byte(number/26), 'A' + byte(number%26)})
}

func newTally(judge *engine.Judge) *tally {
	e := judge.Directory()
	return &tally{judge: judge, directory: e, rules: RuleTally{},
		apps: make([]Counts, len(e.Apps)+1), groups: make([]Counts, len(e.Groups)), accounts: make([]Counts, len(e.Accounts)+1)}
}

func (t *tally) judgeOne(ctx context.Context, a *attempt.Attempt) {
	e, d := t.directory, &t.brief
	t.judge.Brief(ctx, a, d)
	v := d.Verdict
	t.verdicts.Add(v, 1)
	t.shadow.Add(d.WithShadow, 1)
	t.hours[a.At.In(e.Zone).Hour()].Add(v, 1)
	t.period.Include(a.At)
	app, account := len(t.apps)-1, len(t.accounts)-1
	if n, ok := e.FindApp(d.App); ok {
		app = n
	}
	t.apps[app].Add(v, 1)
	if listed, ok := e.Find(a.Account); ok && d.Listed {
		account = int(listed.Number())
		sure, _ := listed.Memberships()
		for _, g := range sure {
			t.groups[g].Add(v, 1)
		}
	}
	t.accounts[account].Add(v, 1)
	t.countries[codeNumber(d.Country)].Add(v, 1)
	if v == decide.Grant {
		return
	}
	t.rules.Count(d.Causes, v)
	if IsStranger(d) {
		t.strangers++
	}
}

// join adds what another goroutine counted.
func (t *tally) join(u *tally) {
	t.verdicts.Join(u.verdicts)
	t.shadow.Join(u.shadow)
	for i := range t.apps {
		t.apps[i].Join(u.apps[i])
	}
	for i := range t.groups {
		t.groups[i].Join(u.groups[i])
	}
	for i := range t.accounts {
		t.accounts[i].Join(u.accounts[i])
	}
	for i := range t.hours {
		t.hours[i].Join(u.hours[i])
	}
	for i := range t.countries {
		t.countries[i].Join(u.countries[i])
	}
	t.rules.Join(u.rules)
	t.period.Join(u.period)
	t.strangers += u.strangers
}

const (
	// mostStopped is how many of the accounts that were blocked most are told, and
	// unlisted what is called that the book does not have.
	mostStopped = 20
	unlisted    = "not in the book"
)

// sum makes the report, with so many days on which somebody made attempts.
func (t *tally) sum(personDays int64) *Report {
	e := t.judge.Directory()
	r := &Report{
		Verdicts: t.verdicts,
		Shadow:   t.shadow,
		Hours:    t.hours,
	}
	r.Apps = named(t.apps, len(e.Apps), func(i int) string { return e.Apps[i].Name })
	r.Groups = named(t.groups, len(e.Groups), func(i int) string { return e.Groups[i].Name })
	r.Countries = []NamedCount{}
	for i, c := range t.countries {
		if c.All() > 0 {
			r.Countries = append(r.Countries, NamedCount{codeName(i), c})
		}
	}
	SortCounts(r.Countries, Counts.All)
	blocked := func(c Counts) int64 { return c.Block }
	r.Stopped = named(t.accounts, len(e.Accounts), func(i int) string { return e.Accounts[i].Name })
	r.Stopped = slices.DeleteFunc(r.Stopped, func(c NamedCount) bool { return c.Counts.Block == 0 })
	SortCounts(r.Stopped, blocked)
	r.Stopped = r.Stopped[:min(mostStopped, len(r.Stopped))]
	r.Rules = t.rules.Sorted()
	r.Prompts = Prompts(t.verdicts, personDays)
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
	SortCounts(list, Counts.All)
	return list
}

// SortCounts sorts by a number of each, the greatest first.
func SortCounts(list []NamedCount, by func(Counts) int64) {
	slices.SortFunc(list, func(a, b NamedCount) int {
		return cmp.Or(cmp.Compare(by(b.Counts), by(a.Counts)), strings.Compare(a.Name, b.Name))
	})
}
