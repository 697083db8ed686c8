package door

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/store"
)

// changes take in what one source states at one moment, and note what that changed, so that the record says of each fact
// from what it came to what.
type changes struct {
	by store.Source
	// at is the time of statements that bear none of their own.
	at   time.Time
	list []changed
	// left are the facts that were left out, since the source may not state them.
	left map[string]bool
}

// changed is a fact that was changed, as entries of the journal have it.
type changed struct {
	Fact    store.Fact
	Name    string
	Account string
	// From and To are nil where nothing was stated, or is any more.
	From, To *store.Statement
}

// leaveOut notes a fact that is left out.
func (c *changes) leaveOut(what string) {
	if c.left == nil {
		c.left = map[string]bool{}
	}
	c.left[what] = true
}

// say takes a statement of the source in.
func (c *changes) say(a *store.Account, s store.Statement) {
	s.By = c.by
	if s.At.IsZero() {
		s.At = c.at
	}
	s.At = s.At.UTC().Truncate(time.Microsecond)
	if (s.Fact == store.Disabled || s.Fact == store.Gone) && !s.Withdrawn && s.Value == attempt.BoolScalar(true) {
		a.Revoke(s.At, c.by) // who is let in again signs on again
	}
	was, is := a.Say(s)
	if !is || was != nil && was.Withdrawn && s.Withdrawn {
		return
	}
	note := changed{Fact: s.Fact, Name: s.Name}
	if was != nil && !was.Withdrawn {
		note.From = was
	}
	if !s.Withdrawn {
		note.To = &s
	}
	if note.From != nil && note.To != nil && note.From.Value == note.To.Value && note.From.Because == note.To.Because {
		return // the same, once more
	}
	c.list = append(c.list, note)
}

// state makes all that the source states of an account, but for its groups, what a list says: what it repeats keeps its
// time, and what it leaves out is withdrawn. A method that is left out of a list is taken back. That an account is disabled
// or gone is not withdrawn by saying nothing.
func (c *changes) state(a *store.Account, list []store.Statement) {
	listsMethods := slices.ContainsFunc(list, func(s store.Statement) bool { return s.Fact == store.Methods })
	for _, s := range slices.Clone(a.Stated) {
		if s.By != c.by || s.Withdrawn || slices.Contains([]store.Fact{store.Disabled, store.Gone, store.Membership, store.Revocation}, s.Fact) ||
			slices.ContainsFunc(list, func(x store.Statement) bool { return x.Fact == s.Fact && x.Name == s.Name }) {
			continue
		}
		if s.Fact == store.Method && listsMethods {
			if s.Value == attempt.BoolScalar(true) {
				c.say(a, store.Statement{Fact: store.Method, Name: s.Name, Value: attempt.BoolScalar(false)})
			}
			continue
		}
		c.say(a, store.Statement{Fact: s.Fact, Name: s.Name, Value: s.Value, Withdrawn: true})
	}
	for _, s := range list {
		same := slices.ContainsFunc(a.Stated, func(x store.Statement) bool {
			return x.By == c.by && x.Fact == s.Fact && x.Name == s.Name && !x.Withdrawn && x.Value == s.Value && x.Because == s.Because &&
				x.Since.Equal(s.Since) && !a.Made.IsFormer(x.At)
		})
		if !same {
			c.say(a, s)
		}
	}
}

// withdrawAll withdraws all that the source states of an account.
func (c *changes) withdrawAll(a *store.Account) {
	for _, s := range slices.Clone(a.Stated) {
		if s.By == c.by && !s.Withdrawn {
			c.say(a, store.Statement{Fact: s.Fact, Name: s.Name, Value: s.Value, Because: s.Because, Withdrawn: true})
		}
	}
}

// appendChanges appends changes to an object.
func appendChanges(text []byte, list []changed) []byte {
	if len(list) == 0 {
		return text
	}
	return jsontext.List(jsontext.Key(text, "changes"), list, func(text []byte, c *changed) []byte {
		text = jsontext.String(jsontext.Key(append(text, '{'), "fact"), string(c.Fact))
		text = jsontext.Text(jsontext.Text(text, "name", c.Name), "account", c.Account)
		side := func(name string, s *store.Statement) {
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
