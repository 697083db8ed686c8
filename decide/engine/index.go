package engine

import (
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// index finds the policies that may be for an account and an app without asking
// each one. A policy is posted under something that every account it is for must
// have: a group, a kind, a domain or its own name. Who is found so is still
// asked whether it really is for the account.
type index struct {
	// everyone lists for each app the policies aimed at it for which nothing of the
	// kind is known.
	everyone [][]int32
	// others lists for each app the other policies aimed at it. Where they are few
	// they are asked one by one, which touches less memory than to look under all
	// that the account has.
	others [][]int32
	// The others list policies by the number of what accounts must have.
	byAccount       map[int32][]int32
	byDomain        map[string][]int32
	byGroup, byKind [][]int32
	// aimed has a bit for each policy that is aimed at an app and is no draft.
	aimed [][]uint64
	// traces has for each app the reasons that are the same for every attempt at it.
	// Only small books keep them, for they grow with policies and apps.
	traces []appTrace
	// apps holds what a verdict looks at of an app, close together.
	apps []appBounds
}

// appBounds is what an app itself says of its sessions.
type appBounds struct {
	limits limits
	public bool
}

func newIndex(j *Judge) index {
	x := index{
		byAccount: make(map[int32][]int32), byGroup: make([][]int32, len(j.directory.Groups)),
		byDomain: make(map[string][]int32), byKind: make([][]int32, directory.Emergency+1),
		aimed: make([][]uint64, len(j.directory.Apps)), everyone: make([][]int32, len(j.directory.Apps)),
		others: make([][]int32, len(j.directory.Apps)),
	}
	for app := range x.aimed {
		x.aimed[app] = make([]uint64, (len(j.policies)+63)/64)
		facts := j.directory.FactsOfApp(app)
		for i := range j.policies {
			// Nothing about an app changes after compilation.
			if j.policies[i].Stage != decide.Draft && condition.Eval(j.policies[i].apps, facts) != condition.False {
				x.aimed[app][i/64] |= 1 << (i % 64)
			}
		}
	}
	if len(j.policies)*len(j.directory.Apps) <= mostTraces {
		x.keepTraces(j)
	}
	for i := range j.directory.Apps {
		x.apps = append(x.apps, appBounds{limitsOf(j.directory.Apps[i].Limits), j.directory.Apps[i].Public})
	}
	for i := range j.policies {
		if j.policies[i].Stage != decide.Draft {
			x.post(int32(i), j.policies[i].who)
		}
	}
	return x
}

// mostTraces is how many pairs of policies and apps may have their traces kept,
// which is some megabytes.
const mostTraces = 1 << 15

// appTrace has the reasons for which policies do not apply, whatever the attempt at an
// app is. Those of one policy end where its number in ends says, and begin where those
// of the policy before it end.
type appTrace struct {
	reasons []string
	ends    []int32
}

// keepTraces puts into words why policies are not aimed at apps: nothing about an app
// changes after compilation.
func (x *index) keepTraces(j *Judge) {
	x.traces = make([]appTrace, len(j.directory.Apps))
	for app := range x.traces {
		kept, facts := &x.traces[app], j.directory.FactsOfApp(app)
		for i := range j.policies {
			if j.policies[i].stage == decide.Draft {
				kept.reasons = append(kept.reasons, reasonDraft)
			} else {
				for _, reason := range condition.Why(j.policies[i].apps, facts) {
					kept.reasons = append(kept.reasons, reason.String())
				}
			}
			kept.ends = append(kept.ends, int32(len(kept.reasons)))
		}
	}
}

// post enters a policy under what its `who` needs.
func (x *index) post(policy int32, who condition.Node) {
	tests, ok := needed(who)
	lists := x.others
	if !ok {
		lists = x.everyone
	}
	for app := range lists {
		if x.isAimed(app, policy) {
			lists[app] = append(lists[app], policy)
		}
	}
	if !ok {
		return
	}
	for _, t := range tests {
		switch t.Key {
		case KeyDomains:
			for _, domain := range t.Texts() {
				x.byDomain[domain] = append(x.byDomain[domain], policy)
			}
		case KeyAccounts:
			for _, n := range t.Numbers() {
				x.byAccount[n] = append(x.byAccount[n], policy)
			}
		case KeyGroups:
			for _, n := range t.Numbers() {
				x.byGroup[n] = append(x.byGroup[n], policy)
			}
		case KeyKinds:
			for _, n := range t.Numbers() {
				x.byKind[n] = append(x.byKind[n], policy)
			}
		}
	}
}

// needed returns tests of a condition; one of them holds, or may, where that does;
// false where there are no such tests.
func needed(node condition.Node) ([]*condition.Test, bool) {
	switch n := node.(type) {
	case *condition.Test:
		switch n.Key {
		case KeyAccounts, KeyGroups, KeyDomains, KeyKinds:
			return []*condition.Test{n}, true
		}
	case *condition.All:
		// Any one of them will do; the one that names accounts leaves fewest.
		var best []*condition.Test
		for _, kid := range n.Of {
			if tests, ok := needed(kid); ok && (best == nil || breadth(tests) < breadth(best)) {
				best = tests
			}
		}
		return best, best != nil
	case *condition.Any:
		var all []*condition.Test
		for _, kid := range n.Of {
			tests, ok := needed(kid)
			if !ok {
				return nil, false
			}
			all = append(all, tests...)
		}
		return all, len(all) > 0
	}
	return nil, false
}

// breadth orders lists of tests by how many accounts they are likely to leave.
func breadth(tests []*condition.Test) int {
	widest := 0
	for _, t := range tests {
		width := map[condition.Key]int{KeyAccounts: 0, KeyGroups: 1, KeyDomains: 2, KeyKinds: 3}[t.Key]
		widest = max(widest, width)
	}
	return widest
}

// isAimed reports whether a policy is aimed at an app.
func (x *index) isAimed(app int, policy int32) bool {
	return x.aimed[app][policy/64]&(1<<(policy%64)) != 0
}
