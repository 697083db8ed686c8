package drill

import (
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Unlisted returns in sentences what an attempt names and the book does not have, such as
// an account that is misspelt. The decision on it says little of the policies: an unknown
// account is blocked whatever they are. A caller that expects a verdict, such as a drill,
// asks this first.
func Unlisted(judge *engine.Judge, a *attempt.Attempt, d *decide.Decision) []string {
	var unlisted []string
	for _, c := range d.Causes {
		switch c.Code {
		case decide.AccountUnknown:
			if judge.Directory().AreSwapped(a.Account, a.App) {
				unlisted = append(unlisted, c.Text+" "+a.Account+" is an app and "+a.App+" an account: swap them.")
				break
			}
			unlisted = append(unlisted, withNear(c.Text, judge.Directory().NearestAccounts(a.Account, 1)))
		case decide.AppUnknown:
			unlisted = append(unlisted, withNear(c.Text, judge.Directory().NearestApps(a.App, 1)))
		}
	}
	for _, n := range d.Notices {
		if n.Code == decide.NameUnknown {
			unlisted = append(unlisted, n.Text)
		}
	}
	return unlisted
}

// unlistedRequest is Unlisted of a request for consent.
func unlistedRequest(judge *engine.Judge, consents *consent.Judge, r *consent.Request, d *consent.Decision) []string {
	var unlisted []string
	for _, c := range d.Causes {
		if c.Code == consent.AccountUnknown {
			unlisted = append(unlisted, withNear(c.Text, judge.Directory().NearestAccounts(r.Account, 1)))
		}
	}
	if clients := consents.Clients(); clients[r.Client] == nil {
		var names []string
		for name := range clients {
			names = append(names, name)
		}
		unlisted = append(unlisted, withNear("The book has no outside program "+r.Client+".", nearest.Names(r.Client, names, 1)))
	}
	return unlisted
}

// withNear adds to a sentence the name that may have been meant.
func withNear(text string, near []string) string {
	if len(near) == 0 {
		return text
	}
	return text + " Did you mean " + near[0] + "?"
}
