package store

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// Making is when an account was last made anew: it is another person from then on, who inherits nothing that was shown,
// reported or consented.
type Making struct {
	At time.Time `json:"at,omitzero" doc:"when the account was made"`
	By Source    `json:"by,omitzero" doc:"who made it"`
	// Entry is the fingerprint of the book's own entry of the account then, "" where it had none: the methods that
	// it lists are the former's until it changes.
	Entry string `json:"entry,omitzero" doc:"the fingerprint of the book's entry of the account then"`
	// IsFirst says that nobody was known to bear the name before.
	IsFirst bool `json:"first,omitzero" doc:"true where nobody was known to bear the name before"`
}

// IsFormer reports whether what was shown or stated at a moment is that of a former bearer of the name.
func (m *Making) IsFormer(at time.Time) bool { return !m.IsFirst && at.Before(m.At) }

// Listed is what the book says of an account: nothing where it is zero.
type Listed struct {
	// Account is the book's own entry of the account, nil where it has none. Its groups are those that the
	// entry itself lists. Nobody changes it.
	Account *directory.Account
	// Entry returns the fingerprint of the book's own entry; nil where it has none.
	Entry func() string
}

// Origin says which source a fact of a joined account is from.
type Origin struct {
	Fact string `json:"fact"`
	By   Source `json:"by"`
}

// Join joins what all sources say of an account into what holds of it, the strictest where they differ:
//
//	disabled, gone     where any source says so
//	standing risk      the highest that no later password has put right, as of the latest
//	kind               the book's, else what is stated; emergency is the book's alone
//	groups             of a group that a feed manages what that feed says, else the book
//	attributes, joined the newest statement, else the book's
//	methods            each that some source says is enrolled, and none has revoked since
//	password           the newest
//
// What was stated of a former bearer of the name is void, but for disabled and risk; what other feeds than the one
// that made the account anew said of its groups and attributes is unknown. Of an emergency account that the book lists
// no source counts but the book and administrators. Managed says which feed manages which group.
// Origins are those of facts that are not the book's. What is put right by a password is seen as at a moment. The error
// says that nobody can tell what the account is.
func (a *Account) Join(book Listed, managed map[string]Source, at time.Time) (joined directory.Account, from []Origin, err error) {
	j := joining{account: a, book: book, at: at}
	if listed := book.Account; listed != nil {
		j.Account = *listed
		j.protected = book.isProtected()
	}
	j.Name, j.IsWhole = a.Name, true
	j.join(managed)
	return j.Account, j.from, j.err
}

// joining is a join that goes on: the account as far as it is joined.
type joining struct {
	directory.Account
	account   *Account
	book      Listed
	at        time.Time
	protected bool
	from      []Origin
	err       error
}

// note notes where a fact is from.
func (j *joining) note(fact Fact, name string, by Source) {
	j.from = append(j.from, Origin{(&Statement{Fact: fact, Name: name}).Label(), by})
}

// Counts reports whether a statement counts in Join at all, by what the book says of the account.
func (a *Account) Counts(s *Statement, book Listed) bool {
	counts, _ := (&joining{account: a, protected: book.isProtected()}).counts(s)
	return counts
}

// isProtected reports whether no source counts but the book and administrators.
func (l *Listed) isProtected() bool { return l.Account != nil && l.Account.Kind == directory.Emergency }

// counts reports whether a statement counts at all, and whether what it says is unknown, since it was said of another
// person.
func (j *joining) counts(s *Statement) (counts, unknown bool) {
	switch of := ofFacts[s.Fact]; {
	case s.Withdrawn, j.protected && !s.By.IsAdministrator():
		return false, false
	case of.stays || !j.account.Made.IsFormer(s.At):
		return true, false
	case of.doubted && s.By != j.account.Made.By:
		return true, true
	}
	return false, false
}

func (j *joining) join(managed map[string]Source) {
	groups, unsure := j.listedGroups(managed), slices.Clone(j.MayBeIn)
	attributes := newest{}
	var joined, kind *Statement
	risks := riskOf(j.book.Account)
	for i := range j.account.Stated {
		s := &j.account.Stated[i]
		counts, unknown := j.counts(s)
		if !counts {
			continue
		}
		switch s.Fact {
		case Disabled, Gone:
			if isTrue(s.Value, s.Value) {
				j.Disabled = true
				j.note(s.Fact, "", s.By)
			}
		case AccountKind:
			if s.Value.String() == directory.Emergency.String() {
				j.err = fmt.Errorf("%s says that it is an emergency account, which the book alone may say", s.By)
			}
			kind = later(kind, s)
		case Membership:
			switch {
			case managed[s.Name] != s.By:
			case unknown:
				unsure = append(unsure, s.Name)
				j.note(s.Fact, s.Name, s.By)
			case isTrue(s.Value, s.Value):
				groups = append(groups, s.Name)
				j.note(s.Fact, s.Name, s.By)
			}
		case Attribute:
			attributes.add(s, unknown)
		case Joined:
			joined = later(joined, s)
		case Password:
			j.passwordAt(s)
		case StandingRisk:
			if level := levelOf(s.Value); level > directory.NoRisk {
				since := s.At
				if !s.Since.IsZero() {
					since = s.Since
				}
				risks = append(risks, stated{directory.AccountRisk{Level: level, Because: s.Because, Since: &since}, s.By})
			}
		}
	}
	j.Groups, j.MayBeIn = groups, unsure
	j.attributes(attributes)
	if joined != nil {
		day := new(directory.Date)
		if err := day.UnmarshalText([]byte(joined.Value.String())); err == nil {
			j.Joined = day
			j.note(Joined, "", joined.By)
		}
	}
	if j.book.Account == nil && kind != nil && j.err == nil {
		j.err = j.Kind.UnmarshalText([]byte(kind.Value.String()))
		j.note(AccountKind, "", kind.By)
	}
	if asked := j.account.AskedAt; asked != nil && !j.account.Made.IsFormer(*asked) && (j.AskedAt == nil || asked.After(*j.AskedAt)) {
		j.AskedAt = asked
	}
	j.methods()
	j.risk(risks)
}

// later returns the later of two statements; of one time that of the source whose name comes first.
func later(one, other *Statement) *Statement {
	if one == nil || other.At.After(one.At) || other.At.Equal(one.At) && other.By < one.By {
		return other
	}
	return one
}

// listedGroups returns the groups that the book's entry names and no feed manages.
func (j *joining) listedGroups(managed map[string]Source) []string {
	groups := []string{}
	for _, name := range j.Groups {
		if managed[name] == "" {
			groups = append(groups, name)
		}
	}
	return groups
}

// newest has the newest statement of each attribute, with whether it is unknown what it would be.
type newest map[string]struct {
	s       *Statement
	unknown bool
}

func (n newest) add(s *Statement, unknown bool) {
	was := n[s.Name]
	if later(was.s, s) == s {
		was.s, was.unknown = s, unknown
		n[s.Name] = was
	}
}

func (j *joining) attributes(stated newest) {
	if len(stated) == 0 {
		return
	}
	j.Attributes = maps.Clone(j.Attributes)
	if j.Attributes == nil {
		j.Attributes = map[string]attempt.Scalar{}
	}
	for _, name := range slices.Sorted(maps.Keys(stated)) {
		x := stated[name]
		if x.unknown {
			delete(j.Attributes, name) // which is unknown
		} else {
			j.Attributes[name] = x.s.Value
		}
		j.note(Attribute, name, x.s.By)
	}
}

// passwordAt takes a change of the password that is later than what is known.
func (j *joining) passwordAt(s *Statement) {
	at, err := time.Parse(time.RFC3339Nano, s.Value.String())
	if err != nil || j.PasswordChangedAt != nil && !at.After(*j.PasswordChangedAt) {
		return
	}
	j.PasswordChangedAt = &at
	j.from = slices.DeleteFunc(j.from, func(o Origin) bool { return o.Fact == string(Password) })
	j.note(Password, "", s.By)
}

// methods joins the methods. They are nil where nobody stated them: neither the book for this bearer of the name, nor
// a source that stated all that the account has.
func (j *joining) methods() {
	made := &j.account.Made
	if !made.At.IsZero() && (j.book.Entry == nil || made.Entry == j.book.Entry()) {
		j.Methods = nil // which are the former's
	}
	if at := j.PasswordChangedAt; at != nil && made.IsFormer(*at) {
		j.PasswordChangedAt = nil
	}
	if at := j.AskedAt; at != nil && made.IsFormer(*at) {
		j.AskedAt = nil
	}
	stated := j.Methods != nil
	enrolled, revoked := map[string]*Statement{}, map[string]*Statement{}
	for i := range j.account.Stated {
		s := &j.account.Stated[i]
		if counts, _ := j.counts(s); !counts {
			continue
		}
		switch s.Fact {
		case Methods:
			stated = true
		case Method:
			if isTrue(s.Value, s.Value) {
				enrolled[s.Name] = later(enrolled[s.Name], s)
			}
		case Revocation:
			revoked[s.Name] = later(revoked[s.Name], s)
		}
	}
	if !stated {
		return
	}
	held := []string{}
	for _, name := range j.Methods {
		if r := revoked[name]; r != nil && enrolled[name] == nil {
			j.note(Revocation, name, r.By)
		} else if r == nil && !slices.Contains(held, name) {
			held = append(held, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(enrolled)) {
		e, r := enrolled[name], revoked[name]
		switch {
		case r != nil && !e.At.After(r.At):
			j.note(Revocation, name, r.By)
		case !slices.Contains(held, name):
			held = append(held, name)
			j.note(Method, name, e.By)
		}
	}
	j.Methods = held
}

// stated is a risk with who states it.
type stated struct {
	directory.AccountRisk
	by Source
}

// isGraver reports whether of two reasons of risks of one level the one is told: another than what a password puts right,
// and else that which comes first, so that the order of arrival does not matter.
func isGraver(one, other string) bool {
	if isLeaked := one == directory.LeakedPassword; isLeaked != (other == directory.LeakedPassword) {
		return !isLeaked
	}
	return one < other
}

func riskOf(listed *directory.Account) []stated {
	if listed == nil || listed.AccountRisk == nil {
		return nil
	}
	return []stated{{*listed.AccountRisk, Book}}
}

// risk joins the standing risks that no change of the password has put right: the highest level with its reason, as of
// the latest, since what was remembered before one of them rests on none.
func (j *joining) risk(all []stated) {
	j.AccountRisk = nil
	var by Source
	for i := range all {
		r := &all[i]
		one := directory.Account{AccountRisk: &r.AccountRisk, PasswordChangedAt: j.PasswordChangedAt}
		level := one.RiskAt(j.at)
		if level == directory.NoRisk {
			continue
		}
		if r.by != Book {
			by = r.by
		}
		if j.AccountRisk == nil {
			j.AccountRisk = &directory.AccountRisk{Level: level, Because: r.Because, Since: r.Since}
			continue
		}
		joined := j.AccountRisk
		if level > joined.Level || level == joined.Level && isGraver(r.Because, joined.Because) {
			joined.Because = r.Because
		}
		joined.Level = max(joined.Level, level)
		if joined.Since != nil && (r.Since == nil || r.Since.After(*joined.Since)) {
			joined.Since = r.Since
		}
	}
	if by != "" {
		j.note(StandingRisk, "", by)
	}
}
