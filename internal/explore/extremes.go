package explore

import (
	"context"
	"fmt"
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// Extremes are the terms that an account may come upon at apps when it signs in.
type Extremes struct {
	Apps []string
	// Mildest are terms, in words, than which none is milder, and Strictest those than which none but a block is
	// stricter; none where nobody gets in.
	Mildest, Strictest []string
	// Blocks says that in some circumstances nobody gets in.
	Blocks bool
}

// mostLooked bounds the cells that are looked at, and a search for an attempt counts for some.
const mostLooked, search = 20_000, 20

// mostUnshown is how many cells of the same terms are tried for an attempt that shows them. Then they are taken to be
// possible.
const mostUnshown = 50

// Extremes returns the terms of an account at each app that is open to it, apps with the same together. Ok is false where
// there is too much to look at, or no such account. It is of a space of one book.
func (s *Space) Extremes(account string) (list []Extremes, ok bool) {
	one := s.sides[0]
	n, has := one.directory.FindAccount(account)
	if !has {
		return nil, false
	}
	left := mostLooked
	kind := &accountKind{names: []string{account}}
	kind.profiles[0] = one.directory.Profile(n)
	byText := map[string]int{}
	for _, app := range s.apps {
		found := s.termsAt(app, kind, &left)
		if left < 0 {
			return nil, false
		}
		x := extremesOf(found)
		if len(found) == 0 {
			continue
		}
		key := fmt.Sprint(x)
		i, known := byText[key]
		if !known {
			i = len(list)
			byText[key], list = i, append(list, x)
		}
		list[i].Apps = append(list[i].Apps, app.name)
	}
	return list, true
}

// termsAt returns the different terms of an account at an app, none where it is refused before any policy is asked. What it
// looks at it takes from what is left, and ends where that is below zero.
func (s *Space) termsAt(app subject, kind *accountKind, left *int) (found []engine.Terms) {
	onAccounts, onTime := s.testsAt(app, nil)
	unshown := map[string]int{}
	seen := map[string]bool{}
	for _, at := range s.momentKinds(s.datedAt(app, onTime), kind, onAccounts) {
		cell := &Cell{Account: kind.names[0], Accounts: kind.names, App: app.name, Action: attempt.SignIn, At: at}
		s.split(cell, nil, func(c *Cell) bool {
			if *left--; *left < 0 {
				return false
			}
			text := c.Terms.String()
			if seen[text] || c.Terms.Refused != "" {
				return c.Terms.Refused == ""
			}
			if c.IsFree() && unshown[text] < mostUnshown {
				*left -= search
				a, _ := c.Witness(func(a *attempt.Attempt) bool {
					t := s.sides[0].judge.Terms(context.Background(), a)
					return t.Same(&c.Terms)
				})
				if a == nil {
					unshown[text]++
					return true
				}
			}
			seen[text] = true
			found = append(found, c.Terms)
			return true
		})
	}
	return found
}

// extremesOf picks the mildest and the strictest of terms.
func extremesOf(found []engine.Terms) (x Extremes) {
	for i := range found {
		t := &found[i]
		if t.Block {
			x.Blocks = true
			continue
		}
		mildest, strictest := true, true
		for k := range found {
			o := &found[k]
			if o.Block || i == k {
				continue
			}
			mildest = mildest && (!t.Implies(o) || o.Implies(t))
			strictest = strictest && (!o.Implies(t) || t.Implies(o))
		}
		if mildest {
			x.Mildest = append(x.Mildest, t.String())
		}
		if strictest {
			x.Strictest = append(x.Strictest, t.String())
		}
	}
	slices.Sort(x.Mildest)
	slices.Sort(x.Strictest)
	return x
}
