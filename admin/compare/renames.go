package compare

import (
	"reflect"
	"slices"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// A definition that is called otherwise decides what it did. So the older book is compared
// under the names of the newer one, and a rename is told as that and nothing else. What draws
// a share is another matter: who falls into it depends on its name.

// renamings finds the definitions that the newer book calls otherwise: one that is gone and
// one that is new state the same, and no other one of either does.
func renamings(older, newer *book.Book) []book.Renaming {
	var all []book.Renaming
	was := older
	// What others name comes first, so that those are alike once it is renamed.
	for _, find := range []func(was, is *book.Book) []book.Renaming{
		renamedGroups,
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("network", was.Networks, is.Networks, func(n *directory.Network) *string { return &n.Name }, sameValue)
		},
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("region", was.Regions, is.Regions, func(r *directory.Region) *string { return &r.Name }, sameValue)
		},
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("window", was.Windows, is.Windows, func(w *directory.Window) *string { return &w.Name }, sameValue)
		},
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("posture", was.Postures, is.Postures, func(p *directory.Posture) *string { return &p.Name }, sameValue)
		},
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("assurance", was.Assurances, is.Assurances, func(a *decide.Assurance) *string { return &a.Name },
				func(a, b decide.Assurance) bool {
					a.At, b.At = condition.Position{}, condition.Position{}
					return sameValue(a, b)
				})
		},
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("policy", was.Policies, is.Policies, func(p *decide.Policy) *string { return &p.Name }, samePolicy)
		},
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("exemption", was.Exemptions, is.Exemptions, func(x *decide.Exemption) *string { return &x.Name }, sameExemption)
		},
		func(was, is *book.Book) []book.Renaming {
			return renamedOf("rollout", was.Rollouts, is.Rollouts, func(r *decide.Rollout) *string { return &r.Name }, sameRollout)
		},
	} {
		if fresh := find(was, newer); len(fresh) > 0 {
			all = append(all, fresh...)
			was = was.Renamed(fresh...)
		}
	}
	return all
}

func sameValue[T any](a, b T) bool { return reflect.DeepEqual(a, b) }

// renamedOf finds the definitions of one kind that are called otherwise.
func renamedOf[T any](what string, was, is []T, name func(*T) *string, same func(a, b T) bool) []book.Renaming {
	lone := func(list, other []T) []T {
		return slices.DeleteFunc(slices.Clone(list), func(x T) bool {
			return slices.ContainsFunc(other, func(y T) bool { return *name(&x) == *name(&y) })
		})
	}
	alike := func(x T, list []T) (found []T) {
		for _, y := range list {
			named := y
			*name(&named) = *name(&x)
			if same(x, named) {
				found = append(found, y)
			}
		}
		return found
	}
	gone, fresh := lone(was, is), lone(is, was)
	var all []book.Renaming
	for _, x := range gone {
		if now := alike(x, fresh); len(now) == 1 && len(alike(now[0], gone)) == 1 {
			all = append(all, book.Renaming{What: what, From: *name(&x), To: *name(&now[0])})
		}
	}
	return all
}

// renamedGroups finds groups with the same accounts. An outside directory names the groups of
// its accounts, and goes on to use the old name.
func renamedGroups(was, is *book.Book) []book.Renaming {
	if was.Settings.Directory == book.Outside || is.Settings.Directory == book.Outside {
		return nil
	}
	naming := func(b *book.Book, group string) (accounts []string) {
		for i := range b.Accounts {
			if slices.Contains(b.Accounts[i].Groups, group) {
				accounts = append(accounts, b.Accounts[i].Name)
			}
		}
		return accounts
	}
	all := renamedOf("group", was.Groups, is.Groups, func(g *directory.Group) *string { return &g.Name }, func(a, b directory.Group) bool {
		return !draws(a.Where) && fingerprint(a.Where) == fingerprint(b.Where) && (a.Where == nil) == (b.Where == nil) &&
			sameSet(a.Members, b.Members) && sameSet(a.Owners, b.Owners) && sameSet(a.Includes, b.Includes)
	})
	return slices.DeleteFunc(all, func(r book.Renaming) bool { return !sameSet(naming(was, r.From), naming(is, r.To)) })
}

// draws reports whether a condition asks for a share of the accounts.
func draws(n condition.Node) bool { return condition.Asks(n, engine.KeyShare) }

func samePolicy(a, b decide.Policy) bool {
	if len(a.Rules) != len(b.Rules) || (a.LiveFor == nil) != (b.LiveFor == nil) {
		return false
	}
	if draws(a.Who) || draws(a.LiveFor) || slices.ContainsFunc(a.Rules, func(r decide.Rule) bool { return draws(r.When) }) {
		return false
	}
	for i := range a.Rules {
		if a.Rules[i].Name != b.Rules[i].Name || !sameRule(a.Rules[i], b.Rules[i]) {
			return false
		}
	}
	for _, of := range []func(*decide.Policy) condition.Node{
		func(p *decide.Policy) condition.Node { return p.Who },
		func(p *decide.Policy) condition.Node { return p.Apps },
		func(p *decide.Policy) condition.Node { return p.LiveFor },
	} {
		if fingerprint(of(&a)) != fingerprint(of(&b)) {
			return false
		}
	}
	for _, p := range []*decide.Policy{&a, &b} {
		p.At, p.Rules, p.Who, p.Apps, p.LiveFor = condition.Position{}, nil, nil, nil, nil
	}
	return sameValue(a, b)
}

func sameExemption(a, b decide.Exemption) bool {
	if draws(a.Who) || draws(a.When) || fingerprint(a.Who) != fingerprint(b.Who) || fingerprint(a.When) != fingerprint(b.When) {
		return false
	}
	for _, x := range []*decide.Exemption{&a, &b} {
		x.At, x.Who, x.When = condition.Position{}, nil, nil
	}
	return sameValue(a, b)
}

func sameRollout(a, b decide.Rollout) bool {
	if draws(a.Who) || fingerprint(a.Who) != fingerprint(b.Who) {
		return false
	}
	for _, r := range []*decide.Rollout{&a, &b} {
		r.At, r.Who = condition.Position{}, nil
	}
	return sameValue(a, b)
}

// sameRule reports whether two rules say the same, whatever they are called.
func sameRule(a, b decide.Rule) bool {
	when := fingerprint(a.When) == fingerprint(b.When)
	for _, r := range []*decide.Rule{&a, &b} {
		r.At, r.Name, r.When = condition.Position{}, "", nil
	}
	return when && sameValue(a, b)
}

// underNewNames returns the rules of the older version of a policy, called as in the newer one
// where they are the same, and the old names of those by the new ones.
func underNewNames(was, is []decide.Rule) (renamed []decide.Rule, old map[string]string) {
	renamed, old = slices.Clone(was), map[string]string{}
	for _, r := range renamedOf("rule", was, is, func(r *decide.Rule) *string { return &r.Name }, sameRule) {
		i := slices.IndexFunc(renamed, func(x decide.Rule) bool { return x.Name == r.From })
		renamed[i].Name, old[r.To] = r.To, r.From
	}
	return renamed, old
}
