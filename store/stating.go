package store

import (
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/internal/jsontext"
)

// Stating takes in what one source states at one moment, and notes what that changed, so that the record says of each fact
// from what it came to what.
type Stating struct {
	By Source
	// At is the time of statements that bear none of their own.
	At time.Time
	// Changes are what was changed so far.
	Changes []Changed
	// left are the facts that were left out, since the source may not state them.
	left map[string]bool
}

// Changed is a fact that was changed, as entries of the journal have it.
type Changed struct {
	Fact    Fact
	Name    string
	Account string
	// From and To are nil where nothing was stated, or is any more.
	From, To *Statement
}

// LeaveOut notes a fact that is left out.
func (c *Stating) LeaveOut(what string) {
	if c.left == nil {
		c.left = map[string]bool{}
	}
	c.left[what] = true
}

// Left returns the facts that were left out, in order.
func (c *Stating) Left() []string { return slices.Sorted(maps.Keys(c.left)) }

// Say takes a statement of the source in.
func (c *Stating) Say(a *Account, s Statement) {
	s.By = c.By
	if s.At.IsZero() {
		s.At = c.At
	}
	s.At = s.At.UTC().Truncate(time.Microsecond)
	if (s.Fact == Disabled || s.Fact == Gone) && !s.Withdrawn && s.Value == attempt.BoolScalar(true) {
		a.Revoke(s.At, c.By) // who is let in again signs on again
	}
	was, is := a.Say(s)
	if !is || was != nil && was.Withdrawn && s.Withdrawn {
		return
	}
	note := Changed{Fact: s.Fact, Name: s.Name}
	if was != nil && !was.Withdrawn {
		note.From = was
	}
	if !s.Withdrawn {
		note.To = &s
	}
	if note.From != nil && note.To != nil && note.From.Value == note.To.Value && note.From.Because == note.To.Because {
		return // the same, once more
	}
	c.Changes = append(c.Changes, note)
}

// State makes all that the source states of an account, but for its groups, what a list says: what it repeats keeps its
// time, and what it leaves out is withdrawn. A method that is left out of a list is taken back. That an account is disabled
// or gone is not withdrawn by saying nothing.
func (c *Stating) State(a *Account, list []Statement) {
	listsMethods := slices.ContainsFunc(list, func(s Statement) bool { return s.Fact == Methods })
	for _, s := range slices.Clone(a.Stated) {
		if s.By != c.By || s.Withdrawn || slices.Contains([]Fact{Disabled, Gone, Membership, Revocation}, s.Fact) ||
			slices.ContainsFunc(list, func(x Statement) bool { return x.Fact == s.Fact && x.Name == s.Name }) {
			continue
		}
		if s.Fact == Method && listsMethods {
			if s.Value == attempt.BoolScalar(true) {
				c.Say(a, Statement{Fact: Method, Name: s.Name, Value: attempt.BoolScalar(false)})
			}
			continue
		}
		c.Say(a, Statement{Fact: s.Fact, Name: s.Name, Value: s.Value, Withdrawn: true})
	}
	for _, s := range list {
		same := slices.ContainsFunc(a.Stated, func(x Statement) bool {
			return x.By == c.By && x.Fact == s.Fact && x.Name == s.Name && !x.Withdrawn && x.Value == s.Value && x.Because == s.Because &&
				x.Since.Equal(s.Since) && !a.Made.IsFormer(x.At)
		})
		if !same {
			c.Say(a, s)
		}
	}
}

// WithdrawAll withdraws all that the source states of an account.
func (c *Stating) WithdrawAll(a *Account) {
	for _, s := range slices.Clone(a.Stated) {
		if s.By == c.By && !s.Withdrawn {
			c.Say(a, Statement{Fact: s.Fact, Name: s.Name, Value: s.Value, Because: s.Because, Withdrawn: true})
		}
	}
}

// AppendChanges appends changes to an object.
func AppendChanges(text []byte, list []Changed) []byte {
	if len(list) == 0 {
		return text
	}
	return jsontext.List(jsontext.Key(text, "changes"), list, func(text []byte, c *Changed) []byte {
		text = jsontext.String(jsontext.Key(append(text, '{'), "fact"), string(c.Fact))
		text = jsontext.Text(jsontext.Text(text, "name", c.Name), "account", c.Account)
		side := func(name string, s *Statement) {
			if s == nil {
				return
			}
			text = s.Value.AppendJSON(jsontext.Key(text, name))
			if s.Because != "" {
				text = jsontext.String(jsontext.Key(text, name+"_because"), s.Because)
			}
		}
		side("from", c.From)
		side("to", c.To)
		return append(text, '}')
	})
}
