// Package reach reports which apps an account can open under given
// circumstances, and who can open an app.
package reach

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Circumstances are those under which accounts try apps.
type Circumstances struct {
	// Attempt is what all attempts have in common. Its account and app are set for
	// each.
	Attempt attempt.Attempt
	// OwnDevice lets each account sign on from the first registered device that is
	// its own, where it has one.
	OwnDevice bool
	// Unattended lets service accounts sign on unattended, with all that they have
	// enrolled just proven, since nobody can ask them.
	Unattended bool
}

// Access is what became of one account at one app.
type Access struct {
	App string `json:"app" doc:"the app"`
	// Verdict is grant or step_up where the app can be opened.
	Verdict decide.Verdict `json:"verdict" doc:"grant or step_up where the app can be opened, block where it cannot"`
	// Asks are the open demands in words, of a step-up.
	Asks []string `json:"asks" doc:"what is asked for, of a step-up"`
	// Terms are what the book asks for there, in words, whatever was proven; "" of a block.
	Terms string `json:"terms,omitzero" doc:"what the book asks for there, by the names of assurances, whatever was proven"`
	// Why is the first cause.
	Why string `json:"why" doc:"the first cause"`
	// WithShadow is the verdict were the shadow policies live.
	WithShadow decide.Verdict `json:"with_shadow" doc:"the verdict were the shadow policies live"`

	cause decide.Cause
}

// AccountReach is what an account can open.
type AccountReach struct {
	Account string   `json:"account" doc:"the account"`
	Assumed []string `json:"assumed" doc:"what was taken for granted"`
	Apps    []Access `json:"apps" doc:"each app, those that can be opened first"`
}

// Opens counts the apps that can be opened.
func (r *AccountReach) Opens() int {
	n := 0
	for _, a := range r.Apps {
		if a.Verdict != decide.Block {
			n++
		}
	}
	return n
}

// Answer is what becomes of several accounts alike at one app.
type Answer struct {
	Verdict  decide.Verdict `json:"verdict" doc:"grant or step_up where the app can be opened, block where it cannot"`
	Asks     []string       `json:"asks" doc:"what is asked for, of a step-up"`
	Terms    string         `json:"terms,omitzero" doc:"what the book asks for there, by the names of assurances, whatever was proven"`
	Why      string         `json:"why" doc:"the first cause, as it is for the first of the accounts"`
	Accounts []string       `json:"accounts" doc:"the accounts, sorted"`
}

// AppReach is who can open an app.
type AppReach struct {
	App     string   `json:"app" doc:"the app"`
	Assumed []string `json:"assumed" doc:"what was taken for granted"`
	Answers []Answer `json:"answers" doc:"accounts with the same answer, those that can open the app first"`
}

// Opens counts the accounts that can open the app, and all.
func (r *AppReach) Opens() (can, all int) {
	for _, a := range r.Answers {
		all += len(a.Accounts)
		if a.Verdict != decide.Block {
			can += len(a.Accounts)
		}
	}
	return can, all
}

// Matrix is a verdict for each group at each app.
type Matrix struct {
	Assumed []string `json:"assumed" doc:"what was taken for granted"`
	Apps    []string `json:"apps" doc:"the apps, one a column"`
	Rows    []Row    `json:"rows" doc:"the groups"`
	// Uncovered are the apps at which no live policy speaks on sign-ins.
	Uncovered []string `json:"uncovered" doc:"apps that no live policy covers"`
}

// Row is a group.
type Row struct {
	Group   string `json:"group" doc:"the group"`
	Members int    `json:"members" doc:"how many accounts are in it"`
	// Judged is less than Members in a group that is too large to judge whole; then
	// the first members in the order of the book were.
	Judged int    `json:"judged" doc:"how many of them were judged, the first in the order of the book"`
	Cells  []Cell `json:"cells" doc:"what becomes of them at each app"`
}

// Cell counts what becomes of the members of a group at an app.
type Cell struct {
	Grant  int `json:"grant" doc:"members that are granted"`
	StepUp int `json:"step_up" doc:"members that are asked for more"`
	Block  int `json:"block" doc:"members that are blocked"`
	// NotOpen are those of the blocked to whom the app is not given at all.
	NotOpen int `json:"not_open" doc:"those of the blocked to whom the app is not given at all"`
	// Disabled are those of the blocked who may sign on nowhere.
	Disabled int `json:"disabled" doc:"those of the blocked who are disabled"`
}

// Mildest returns the mildest verdict in the cell, and whether it is that of all members
// that are not disabled. It returns false for open where the app is given to none.
func (c Cell) Mildest() (verdict decide.Verdict, all, open bool) {
	members := c.Grant + c.StepUp + c.Block - c.Disabled
	given := members - c.NotOpen
	switch {
	case given == 0:
		return decide.Block, true, false
	case c.Grant > 0:
		return decide.Grant, c.Grant == members, true
	case c.StepUp > 0:
		return decide.StepUp, c.StepUp == members, true
	}
	return decide.Block, c.NotOpen == 0, true
}

// OfAccount reports which apps an account can open. The error suggests the
// nearest names.
func OfAccount(judge *engine.Judge, c Circumstances, assumed []string, name string) (*AccountReach, error) {
	e := judge.Directory()
	n, ok := e.FindAccount(name)
	if !ok {
		return nil, unknown("account", name, e.NearestAccounts(name, 3))
	}
	r := &AccountReach{Account: name, Assumed: assumed, Apps: []Access{}}
	for app := range e.Apps {
		r.Apps = append(r.Apps, access(judge, e.Apps[app].Name, c.attempt(judge, n, app)))
	}
	slices.SortStableFunc(r.Apps, func(a, b Access) int { return cmp.Or(b.Verdict.Compare(a.Verdict), strings.Compare(a.App, b.App)) })
	return r, nil
}

func unknown(what, name string, near []string) error {
	hint := ""
	if len(near) > 0 {
		hint = "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return fmt.Errorf("the book has no %s %q%s", what, name, hint)
}

// access sums up what becomes of an attempt at an app.
func access(judge *engine.Judge, app string, a *attempt.Attempt) Access {
	d := judge.Outline(context.Background(), a)
	found := Access{App: app, Verdict: d.Verdict, Asks: []string{}, Why: d.Causes[0].Text, WithShadow: d.WithShadow.Verdict,
		cause: d.Causes[0]}
	if d.Verdict != decide.Block {
		terms := judge.Terms(context.Background(), a)
		found.Terms = terms.String()
	}
	if d.Verdict == decide.StepUp {
		for _, demand := range d.Demands {
			if !demand.Met {
				found.Asks = append(found.Asks, demand.String())
			}
		}
	}
	return found
}

// attempt makes the attempt of an account at an app, both by number.
func (c Circumstances) attempt(judge *engine.Judge, account, app int) *attempt.Attempt {
	e := judge.Directory()
	a := c.Attempt
	a.Account, a.App = e.Accounts[account].Name, e.Apps[app].Name
	if c.OwnDevice {
		for i := range e.Devices {
			if e.Devices[i].Owner == a.Account {
				a.Device = attempt.Known(attempt.Device{ID: attempt.Known(e.Devices[i].Name)})
				break
			}
		}
	}
	if c.Unattended && e.Profile(account).Kind() == directory.Service {
		a.Through = attempt.Known(attempt.Unattended)
		a.Proofs = slices.Clone(a.Proofs)
		for _, m := range judge.MethodNames(e.Profile(account).Enrolled()) {
			a.Proofs = append(a.Proofs, attempt.Proof{Method: m, At: a.At})
		}
	}
	return &a
}

// OfApp reports who can open an app. Accounts with the same answer are told
// together. The error suggests the nearest names.
func OfApp(judge *engine.Judge, c Circumstances, assumed []string, name string) (*AppReach, error) {
	e := judge.Directory()
	app, ok := e.FindApp(name)
	if !ok {
		return nil, unknown("app", name, e.NearestApps(name, 3))
	}
	r := &AppReach{App: e.Apps[app].Name, Assumed: assumed, Answers: []Answer{}}
	index := map[string]int{}
	for n := range e.Accounts {
		a := c.attempt(judge, n, app)
		found := access(judge, a.App, a)
		cause := found.cause
		switch cause.Code { // the text of these names the account
		case decide.AppNotOpen:
			found.Why = fmt.Sprintf(
				"%s is open to %s, and these are surely in none of them.",
				a.App,
				strings.Join(e.Apps[app].OpenTo, ", "),
			)
		case decide.AccountDisabled:
			found.Why = "The account is disabled."
		}
		key := fmt.Sprint(found.Verdict, found.Asks, found.Terms, cause.Code, cause.Policy, cause.Rule)
		i, known := index[key]
		if !known {
			i = len(r.Answers)
			index[key] = i
			r.Answers = append(r.Answers, Answer{Verdict: found.Verdict, Asks: found.Asks, Terms: found.Terms, Why: found.Why, Accounts: []string{}})
		}
		r.Answers[i].Accounts = append(r.Answers[i].Accounts, a.Account)
	}
	for i := range r.Answers {
		slices.Sort(r.Answers[i].Accounts)
	}
	slices.SortStableFunc(r.Answers, func(a, b Answer) int {
		return cmp.Or(
			b.Verdict.Compare(a.Verdict),
			cmp.Compare(len(b.Accounts), len(a.Accounts)),
			strings.Compare(a.Accounts[0], b.Accounts[0]),
		)
	})
	return r, nil
}

// mostVerdicts bounds how many attempts a matrix judges. A book that has more
// members at more apps has the first members of each group judged.
const mostVerdicts = 1_000_000

// OfGroups tells what becomes of the members of each group at each app.
func OfGroups(judge *engine.Judge, c Circumstances, assumed []string) *Matrix {
	e := judge.Directory()
	crowd := e.Gather(c.Attempt.At)
	m := &Matrix{Assumed: assumed, Apps: []string{}, Rows: make([]Row, len(e.Groups)), Uncovered: []string{}}
	for app, covered := range judge.Covered(crowd, c.Attempt.At) {
		m.Apps = append(m.Apps, e.Apps[app].Name)
		if !covered && !e.Apps[app].Public {
			m.Uncovered = append(m.Uncovered, e.Apps[app].Name)
		}
	}
	most := max(1, mostVerdicts/max(1, len(e.Groups)*len(e.Apps)))
	groups := make(chan int)
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for group := range groups {
				m.Rows[group] = row(judge, c, group, crowd.Members(group), most)
			}
		})
	}
	for group := range e.Groups {
		groups <- group
	}
	close(groups)
	workers.Wait()
	return m
}

func row(judge *engine.Judge, c Circumstances, group int, members []int32, most int) Row {
	e := judge.Directory()
	r := Row{Group: e.Groups[group].Name, Members: len(members), Judged: min(most, len(members)), Cells: make([]Cell, len(e.Apps))}
	for _, n := range members[:r.Judged] {
		for app := range e.Apps {
			cell := &r.Cells[app]
			switch judge.Verdict(context.Background(), c.attempt(judge, int(n), app)) {
			case decide.Grant:
				cell.Grant++
			case decide.StepUp:
				cell.StepUp++
			default:
				cell.Block++
				switch profile := e.Profile(int(n)); {
				case profile.Disabled():
					cell.Disabled++
				case profile.Kind() != directory.Emergency && !e.IsOpenTo(app, profile):
					cell.NotOpen++
				}
			}
		}
	}
	return r
}
