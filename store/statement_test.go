package store_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/store"
)

var at = time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC)

const ann = "ann@kestrelsound.example"

var (
	hr, payroll = store.CallerSource("hr"), store.CallerSource("payroll")
	feed, other = store.IssuerSource("https://feed.example"), store.IssuerSource("https://other.example")
	ragna       = store.AdministratorSource("ragna")
	yes, no     = attempt.BoolScalar(true), attempt.BoolScalar(false)
)

// said is a statement of so many minutes after the moment at which the tests begin.
func said(minute int, by store.Source, fact store.Fact, name string, value attempt.Scalar) store.Statement {
	return store.Statement{Fact: fact, Name: name, By: by, At: at.Add(time.Duration(minute) * time.Minute), Value: value}
}

func withdrawn(s store.Statement) store.Statement {
	s.Withdrawn = true
	return s
}

func because(s store.Statement, why string) store.Statement {
	s.Because = why
	return s
}

func text(s string) attempt.Scalar { return attempt.TextScalar(s) }

// listed is what the book says of ann.
func listed() store.Listed {
	changed := at.Add(-time.Hour)
	a := &directory.Account{Name: ann, Kind: directory.Person, Groups: []string{"crew", "deck"}, Methods: []string{"password", "push"},
		Attributes: map[string]attempt.Scalar{"team": text("red"), "floor": attempt.NumberScalar(3)}, PasswordChangedAt: &changed}
	return store.Listed{Account: a, Entry: func() string { return "entry" }}
}

// shown is what holds of an account, in few words.
func shown(a directory.Account, err error) string {
	if err != nil {
		return err.Error()
	}
	out := ""
	if a.Disabled {
		out += "disabled; "
	}
	if a.Kind != 0 && a.Kind != directory.Person {
		out += a.Kind.String() + "; "
	}
	slices.Sort(a.Groups)
	out += fmt.Sprint("in ", a.Groups)
	if a.MayBeIn != nil {
		out += fmt.Sprint(" perhaps ", a.MayBeIn)
	}
	if a.Methods == nil {
		out += " methods unknown"
	} else {
		slices.Sort(a.Methods)
		out += fmt.Sprint(" has ", a.Methods)
	}
	if r := a.AccountRisk; r != nil {
		out += fmt.Sprintf(" %s %q", r.Level, r.Because)
		if r.Since != nil {
			out += fmt.Sprintf(" since %d", int(r.Since.Sub(at).Minutes()))
		}
	}
	if team, has := a.Attributes["team"]; !has {
		out += " team unknown"
	} else if team != text("red") {
		out += " team " + team.String()
	}
	return out
}

func TestSourcesAreJoined(t *testing.T) {
	managed := map[string]store.Source{"deck": hr}
	for name, c := range map[string]struct {
		book  store.Listed
		made  store.Making
		facts []store.Statement
		want  string
	}{
		"the book alone": {listed(), store.Making{}, nil, "in [crew] has [password push]"},
		"disabled by one of two": {listed(), store.Making{}, []store.Statement{said(1, feed, store.Disabled, "", yes), said(2, hr,
			store.Disabled, "", no)}, "disabled; in [crew] has [password push]"},
		"enabled by the one who disabled": {listed(), store.Making{}, []store.Statement{said(1, feed, store.Disabled, "", yes), said(2, feed,
			store.Disabled, "", no)}, "in [crew] has [password push]"},
		"deleted by a feed": {listed(), store.Making{}, []store.Statement{said(1, hr, store.Gone, "", yes), said(2, feed,
			store.Disabled, "", no)}, "disabled; in [crew] has [password push]"},
		"in what its feed manages": {listed(), store.Making{}, []store.Statement{said(1, hr, store.Membership, "deck", yes)},
			"in [crew deck] has [password push]"},
		"in what another manages": {listed(), store.Making{}, []store.Statement{said(1, payroll, store.Membership, "deck", yes), said(1,
			payroll, store.Membership, "admins", yes)}, "in [crew] has [password push]"},
		"the higher of two risks": {listed(), store.Making{}, []store.Statement{because(said(3, feed, store.StandingRisk, "", text("low")), "b"),
			because(said(1, other, store.StandingRisk, "", text("high")), "a")}, `in [crew] has [password push] high "a" since 3`},
		"of one level what no password puts right": {listed(), store.Making{}, []store.Statement{
			because(said(1, other, store.StandingRisk, "", text("high")), directory.LeakedPassword),
			because(said(2, feed, store.StandingRisk, "", text("high")), "odd"),
			because(said(3, hr, store.StandingRisk, "", text("low")), "a")}, `in [crew] has [password push] high "odd" since 3`},
		"each lowers its own": {listed(), store.Making{}, []store.Statement{because(said(1, other, store.StandingRisk, "", text("high")), "a"),
			because(said(3, feed, store.StandingRisk, "", text("none")), "")}, `in [crew] has [password push] high "a" since 1`},
		"a new password puts right what leaked": {listed(), store.Making{}, []store.Statement{
			because(said(1, feed, store.StandingRisk, "", text("high")), directory.LeakedPassword),
			because(said(2, other, store.StandingRisk, "", text("medium")), "odd"),
			said(5, feed, store.Password, "", text(at.Add(5*time.Minute).Format(time.RFC3339)))},
			`in [crew] has [password push] medium "odd" since 2`},
		"and then there is no risk": {listed(), store.Making{}, []store.Statement{
			because(said(1, feed, store.StandingRisk, "", text("high")), directory.LeakedPassword),
			said(5, feed, store.Password, "", text(at.Add(5*time.Minute).Format(time.RFC3339)))}, "in [crew] has [password push]"},
		"and not what leaked later": {listed(), store.Making{}, []store.Statement{
			because(said(6, feed, store.StandingRisk, "", text("high")), directory.LeakedPassword),
			said(5, feed, store.Password, "", text(at.Add(5*time.Minute).Format(time.RFC3339)))},
			`in [crew] has [password push] high "leaked-password" since 6`},
		"a level that is none is high": {listed(), store.Making{}, []store.Statement{said(1, feed, store.StandingRisk, "",
			text("severe"))}, `in [crew] has [password push] high "" since 1`},
		"a method of a feed": {listed(), store.Making{}, []store.Statement{said(1, feed, store.Method, "passkey", yes)},
			"in [crew] has [passkey password push]"},
		"revoked by any": {listed(), store.Making{}, []store.Statement{said(1, feed, store.Revocation, "push", yes)},
			"in [crew] has [password]"},
		"enrolled after it": {listed(), store.Making{}, []store.Statement{said(1, feed, store.Revocation, "push", yes),
			said(2, hr, store.Method, "push", yes)}, "in [crew] has [password push]"},
		"enrolled at once with it": {listed(), store.Making{}, []store.Statement{said(1, feed, store.Revocation, "push", yes),
			said(1, hr, store.Method, "push", yes)}, "in [crew] has [password]"},
		"taken back by the one who stated it": {listed(), store.Making{}, []store.Statement{said(1, hr, store.Method, "passkey", yes), said(2,
			hr, store.Method, "passkey", no)}, "in [crew] has [password push]"},
		"the newest attribute": {listed(), store.Making{}, []store.Statement{said(1, hr, store.Attribute, "team",
			text("blue")), said(2, payroll, store.Attribute, "team", text("green"))}, "in [crew] has [password push] team green"},
		"which the one before was withdrawn": {listed(), store.Making{}, []store.Statement{said(1, hr, store.Attribute, "team",
			text("blue")), withdrawn(said(2, payroll, store.Attribute, "team", text("green")))}, "in [crew] has [password push] team blue"},
		"nobody stated its methods": {store.Listed{}, store.Making{}, []store.Statement{said(1, hr, store.Disabled, "", no)},
			"in [] methods unknown team unknown"},
		"an event is no list of them": {store.Listed{}, store.Making{}, []store.Statement{said(1, feed, store.Method, "push", yes)},
			"in [] methods unknown team unknown"},
		"an empty list is one": {store.Listed{}, store.Making{}, []store.Statement{said(1, hr, store.Methods, "", yes)},
			"in [] has [] team unknown"},
		"a service by a feed": {store.Listed{}, store.Making{}, []store.Statement{said(1, hr, store.AccountKind, "",
			text("service"))}, "service; in [] methods unknown team unknown"},
		"a kind that the book has otherwise": {listed(), store.Making{}, []store.Statement{said(1, hr, store.AccountKind, "",
			text("service"))}, "in [crew] has [password push]"},
		"an emergency account of a feed's": {store.Listed{}, store.Making{}, []store.Statement{said(1, hr, store.AccountKind, "",
			text("emergency"))}, "caller hr says that it is an emergency account, which the book alone may say"},
		"made anew: what was shown is void": {listed(), store.Making{At: at.Add(5 * time.Minute), By: hr, Entry: "entry"},
			[]store.Statement{said(1, feed, store.Method, "passkey", yes), said(6, hr, store.Methods, "", yes)}, "in [crew] has []"},
		"but not what disables or endangers": {listed(), store.Making{At: at.Add(5 * time.Minute), By: hr, Entry: "entry"},
			[]store.Statement{said(1, feed, store.Disabled, "", yes), said(1, other, store.StandingRisk, "", text("low"))},
			`disabled; in [crew] methods unknown low "" since 1`},
		"what other feeds said is unknown": {listed(), store.Making{At: at.Add(5 * time.Minute), By: payroll, Entry: "entry"},
			[]store.Statement{said(1, hr, store.Membership, "deck", yes), said(1, hr, store.Attribute, "team", text("blue"))},
			"in [crew] perhaps [deck] methods unknown team unknown"},
		"what the maker said before is void": {listed(), store.Making{At: at.Add(5 * time.Minute), By: hr, Entry: "entry"},
			[]store.Statement{said(1, hr, store.Membership, "deck", yes), said(1, hr, store.Attribute, "team", text("blue"))},
			"in [crew] methods unknown"},
		"the book's entry changed since": {listed(), store.Making{At: at.Add(5 * time.Minute), By: hr, Entry: "an older entry"}, nil,
			"in [crew] has [password push]"},
		"deleted by a feed that did not make": {listed(), store.Making{At: at.Add(5 * time.Minute), By: hr, Entry: "entry"},
			[]store.Statement{said(1, payroll, store.Gone, "", yes)}, "disabled; in [crew] methods unknown"},
	} {
		t.Run(name, func(t *testing.T) {
			a := &store.Account{Name: ann, Made: c.made}
			for _, s := range c.facts {
				a.Say(s)
			}
			joined, _, err := a.Join(c.book, managed, at.Add(time.Hour))
			require.Equal(t, c.want, shown(joined, err))
		})
	}
	t.Run("of an emergency account the book and administrators alone", func(t *testing.T) {
		safe := store.Listed{Account: &directory.Account{Name: "safe", Kind: directory.Emergency}}
		a := &store.Account{Name: "safe", Stated: []store.Statement{said(1, feed, store.Disabled, "", yes), said(1, hr, store.Gone, "", yes)}}
		joined, _, err := a.Join(safe, nil, at)
		require.NoError(t, err)
		require.False(t, joined.Disabled)
		a.Say(said(2, ragna, store.Disabled, "", yes))
		joined, from, err := a.Join(safe, nil, at)
		require.NoError(t, err)
		require.True(t, joined.Disabled)
		require.Equal(t, []store.Origin{{Fact: "disabled", By: ragna}}, from)
	})
	t.Run("where facts are from", func(t *testing.T) {
		a := &store.Account{Name: ann, Stated: []store.Statement{said(1, feed, store.Revocation, "push", yes), said(1, hr, store.Method,
			"passkey", yes)}}
		_, from, err := a.Join(listed(), managed, at)
		require.NoError(t, err)
		require.Equal(t, []store.Origin{{Fact: "revocation push", By: feed}, {Fact: "method passkey", By: hr}}, from)
		require.Equal(t, at.Add(time.Minute), a.RevokedAt("push"))
		a.Say(withdrawn(said(2, feed, store.Revocation, "push", yes)))
		require.True(t, a.RevokedAt("push").IsZero())
	})
	t.Run("one that is made anew keeps nothing that the door noted", func(t *testing.T) {
		a := &store.Account{Name: ann, AskedAt: &at, Previous: &attempt.Previous{At: at}, Failures: []time.Time{at},
			Accepted: []attempt.Acceptance{{Document: "d"}}}
		require.NoError(t, new(store.Memory).Update(t.Context(), func(tx store.Tx) error { return a.MakeAnew(t.Context(), tx, at, hr, "entry") }))
		require.Equal(t, &store.Account{Name: ann, Made: store.Making{At: at, By: hr, Entry: "entry"}}, a)
	})
	t.Run("of a name that nobody bore before nothing is a former bearer's", func(t *testing.T) {
		made := store.Making{At: at, By: hr, IsFirst: true}
		require.False(t, made.IsFormer(at.Add(-time.Hour)))
		made.IsFirst = false
		require.True(t, made.IsFormer(at.Add(-time.Hour)))
		require.False(t, made.IsFormer(at))
	})
	t.Run("feeds have to say again that one who is made anew is a member", func(t *testing.T) {
		s := new(store.Memory)
		require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
			return errors.Join(store.Save(tx, &store.Member{Group: "deck", Account: ann}),
				store.Save(tx, &store.Member{Group: "deck", Account: "bob"}),
				(&store.Account{Name: ann}).MakeAnew(t.Context(), tx, at, hr, ""))
		}))
		for name, doubted := range map[string]bool{ann: true, "bob": false} {
			m := &store.Member{Group: "deck", Account: name}
			require.NoError(t, store.Load(t.Context(), s, m))
			require.Equal(t, doubted, m.IsDoubted, name)
		}
	})
	t.Run("a store that was put back voids what was until then, and is to be resynced with each source", func(t *testing.T) {
		r := &store.Restored{At: at, Resynced: []store.Source{hr}}
		require.True(t, r.Voids(at))
		require.False(t, r.Voids(at.Add(1)))
		require.True(t, r.Owes(feed))
		require.False(t, r.Owes(hr))
		r = new(store.Restored)
		require.False(t, r.Voids(time.Time{}))
		require.False(t, r.Owes(feed), "it never was")
	})
	t.Run("what a source says next is after all that it said", func(t *testing.T) {
		a := &store.Account{Name: ann, Stated: []store.Statement{said(1, feed, store.Disabled, "", yes), said(9, other, store.Disabled, "", yes)}}
		require.Equal(t, at.Add(time.Minute+time.Microsecond), a.After(feed, at.Add(time.Minute)))
		require.Equal(t, at.Add(2*time.Minute), a.After(feed, at.Add(2*time.Minute)))
	})
	t.Run("what is said changes no list in place", func(t *testing.T) {
		a := &store.Account{Name: ann, Stated: []store.Statement{said(1, feed, store.Disabled, "", yes)}}
		copied := *a
		a.Say(said(2, feed, store.Disabled, "", no))
		require.Equal(t, yes, copied.Stated[0].Value)
	})
	t.Run("a group is managed once its feed stated the members", func(t *testing.T) {
		s := new(store.Memory)
		require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
			return errors.Join(store.Save(tx, &store.Group{Name: "deck", By: hr, IsManaged: true}), store.Save(tx, &store.Group{Name: "crew",
				By: hr}))
		}))
		is, err := store.Managed(t.Context(), s)
		require.NoError(t, err)
		require.Equal(t, managed, is)
	})
	t.Run("a password of the former puts nothing right", func(t *testing.T) {
		a := &store.Account{Name: ann, Made: store.Making{At: at.Add(5 * time.Minute), By: hr, Entry: "entry"},
			Stated: []store.Statement{said(3, feed, store.Password, "", text(at.Add(3*time.Minute).Format(time.RFC3339)))}}
		joined, _, err := a.Join(listed(), nil, at)
		require.NoError(t, err)
		require.Nil(t, joined.PasswordChangedAt)
		a.Say(said(6, other, store.Password, "", text(at.Add(4*time.Minute).Format(time.RFC3339))))
		joined, _, err = a.Join(listed(), nil, at)
		require.NoError(t, err)
		require.Nil(t, joined.PasswordChangedAt, "whenever it is said")
	})
}

// TestOrderOfArrivalDoesNotMatter: whatever order statements arrive in, and however often, the same holds.
func TestOrderOfArrivalDoesNotMatter(t *testing.T) {
	values := map[store.Fact][]attempt.Scalar{
		store.Disabled: {yes, no}, store.Gone: {yes, no}, store.Membership: {yes, no}, store.Attribute: {text("red"), text("blue"), {}},
		store.Methods: {yes}, store.Method: {yes, no}, store.Revocation: {yes}, store.StandingRisk: {text("none"), text("low"), text("high")},
		store.Password: {text(at.Format(time.RFC3339)), text(at.Add(3 * time.Minute).Format(time.RFC3339))},
		store.Joined:   {text("2026-01-01"), text("2026-02-01")}, store.AccountKind: {text("person"), text("service")},
	}
	kinds := []store.Fact{store.Disabled, store.Gone, store.Membership, store.Attribute, store.Methods, store.Method, store.Revocation,
		store.StandingRisk, store.Password, store.Joined, store.AccountKind}
	seen := map[string]bool{}
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 7))
		one := func(list ...string) string { return list[r.IntN(len(list))] }
		var list []store.Statement
		for range 1 + r.IntN(8) {
			fact := kinds[r.IntN(len(kinds))]
			s := said(r.IntN(4), []store.Source{hr, payroll, feed}[r.IntN(3)], fact, "", values[fact][r.IntN(len(values[fact]))])
			switch fact {
			case store.Membership:
				s.Name = one("deck", "crew")
			case store.Attribute:
				s.Name = "team"
			case store.Method, store.Revocation:
				s.Name = one("push", "passkey")
			case store.StandingRisk:
				s.Because = one("", directory.LeakedPassword, "odd", "strange")
			}
			s.Withdrawn = r.IntN(5) == 0
			list = append(list, s)
		}
		book := []store.Listed{{}, listed()}[r.IntN(2)]
		made := []store.Making{{}, {At: at.Add(90 * time.Second), By: hr, Entry: "entry"}}[r.IntN(2)]
		want := ""
		for turn := range 6 {
			a := &store.Account{Name: ann, Made: made}
			for _, s := range append(slices.Clone(list), list[:r.IntN(len(list))]...) {
				a.Say(s)
			}
			joined, _, err := a.Join(book, map[string]store.Source{"deck": hr}, at.Add(time.Hour))
			got := shown(joined, err) + fmt.Sprint(joined.Joined, joined.PasswordChangedAt)
			if turn == 0 {
				want = got
			}
			require.Equal(t, want, got, "seed %d: %+v", seed, list)
			r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		}
		seen[want] = true
	}
	require.Greater(t, len(seen), 300)
}

// TestOfOneTimeTheStricterStands: of two statements of one source at one time.
func TestOfOneTimeTheStricterStands(t *testing.T) {
	for name, c := range map[string]struct{ milder, stricter store.Statement }{
		"disabled": {said(1, hr, store.Disabled, "", no), said(1, hr, store.Disabled, "", yes)},
		"gone":     {said(1, hr, store.Gone, "", no), said(1, hr, store.Gone, "", yes)},
		"no longer disabled": {withdrawn(said(1, hr, store.Disabled, "", yes)),
			said(1, hr, store.Disabled, "", yes)},
		"a risk":             {said(1, hr, store.StandingRisk, "", text("low")), said(1, hr, store.StandingRisk, "", text("medium"))},
		"a method":           {said(1, hr, store.Method, "push", yes), said(1, hr, store.Method, "push", no)},
		"a method withdrawn": {said(1, hr, store.Method, "push", yes), withdrawn(said(1, hr, store.Method, "push", yes))},
		"a member":           {said(1, hr, store.Membership, "deck", yes), said(1, hr, store.Membership, "deck", no)},
		"a newcomer":         {said(1, hr, store.Joined, "", text("2026-02-01")), said(1, hr, store.Joined, "", text("2026-01-01"))},
	} {
		t.Run(name, func(t *testing.T) {
			for _, order := range [][]store.Statement{{c.milder, c.stricter}, {c.stricter, c.milder}} {
				a := new(store.Account)
				a.Say(order[0])
				a.Say(order[1])
				require.Equal(t, []store.Statement{c.stricter}, a.Stated)
			}
		})
	}
}

func TestWhatIsDatedAhead(t *testing.T) {
	for name, c := range map[string]struct {
		s     store.Statement
		taken bool
	}{
		"in time":          {said(0, hr, store.Disabled, "", no), true},
		"within the skew":  {store.Statement{Fact: store.Disabled, Value: no, At: at.Add(30 * time.Second)}, true},
		"disabled":         {said(9, hr, store.Disabled, "", yes), true},
		"enabled":          {said(9, hr, store.Disabled, "", no), false},
		"a risk raised":    {said(9, hr, store.StandingRisk, "", text("high")), true},
		"a risk of medium": {said(9, hr, store.StandingRisk, "", text("medium")), true},
		"a risk lowered":   {said(9, hr, store.StandingRisk, "", text("low")), false},
		"a method revoked": {said(9, hr, store.Revocation, "push", yes), true},
		"a method made":    {said(9, hr, store.Method, "push", yes), false},
		"a new password":   {said(9, hr, store.Password, "", text("2026-11-23T12:09:00Z")), false},
		"no longer stated": {withdrawn(said(9, hr, store.Disabled, "", yes)), false},
	} {
		t.Run(name, func(t *testing.T) {
			s := c.s
			require.Equal(t, c.taken, s.Arrived(at))
			if c.taken && c.s.At.After(at.Add(time.Minute)) {
				require.Equal(t, at, s.At)
			}
		})
	}
}

func TestWhatTheDoorNotes(t *testing.T) {
	t.Run("failures: the latest are kept, in order", func(t *testing.T) {
		a := new(store.Account)
		for i := range 120 {
			a.AddFailure(at.Add(time.Duration(119-i) * time.Minute))
		}
		a.AddFailure(at.Add(119 * time.Minute))
		require.Len(t, a.Failures, 100)
		require.Equal(t, at.Add(20*time.Minute), a.Failures[0])
		require.Equal(t, at.Add(119*time.Minute), a.Failures[99])
	})
	t.Run("acceptances: the newest version at its latest time", func(t *testing.T) {
		accept := func(list ...attempt.Acceptance) []attempt.Acceptance {
			a := new(store.Account)
			for _, x := range list {
				a.Accept(x)
			}
			return a.Accepted
		}
		old, same := attempt.Acceptance{Document: "d", Version: 1, At: at.Add(time.Hour)}, attempt.Acceptance{Document: "d", Version: 2, At: at}
		later := attempt.Acceptance{Document: "d", Version: 2, At: at.Add(time.Minute)}
		require.Equal(t, []attempt.Acceptance{later}, accept(old, same, later))
		require.Equal(t, []attempt.Acceptance{later}, accept(later, same, old))
	})
	t.Run("devices: who was seen, since when, and who is remembered", func(t *testing.T) {
		d, made := new(store.Device), &store.Making{At: at.Add(time.Minute)}
		require.True(t, d.See(ann, at, new(store.Making)))
		require.False(t, d.See(ann, at.Add(time.Hour), new(store.Making)))
		require.True(t, d.WasSeenWith(ann, new(store.Making)))
		require.False(t, d.WasSeenWith(ann, made), "the one who bore the name before")
		require.True(t, d.See(ann, at.Add(time.Hour), made))
		require.True(t, d.WasSeenWith(ann, made))
		for i := range 220 {
			d.See(fmt.Sprint(i), at, new(store.Making))
		}
		require.Len(t, d.SeenWith, 200)
		require.Equal(t, "219", d.SeenWith[199].Account)
		first, second := attempt.Remembered{Account: ann, Method: "push", At: at}, attempt.Remembered{Account: ann, Method: "push", At: at.Add(1)}
		require.True(t, d.Remember(first))
		require.True(t, d.Remember(second))
		require.False(t, d.Remember(first))
		require.Equal(t, []attempt.Remembered{second}, d.Remembered)
		fit := store.Compliance{By: feed, Compliant: true, At: at}
		require.True(t, d.Find(fit))
		require.False(t, d.Find(fit), "the same is no news")
	})
	t.Run("compliance: not, where any says not", func(t *testing.T) {
		reported := at
		find := func(list ...store.Compliance) string {
			d := &store.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: &reported}
			for _, c := range list {
				d.Find(c)
			}
			facts, when := d.Reported()
			return fmt.Sprint(facts["compliant"], facts["firewall"], when.Sub(at))
		}
		fit := func(minute int, by store.Source, is bool) store.Compliance {
			return store.Compliance{By: by, Compliant: is, At: at.Add(time.Duration(minute) * time.Minute)}
		}
		for name, c := range map[string]struct {
			list []store.Compliance
			want string
		}{
			"nobody":                          {nil, "nothing true 0s"},
			"one says so":                     {[]store.Compliance{fit(1, feed, true)}, "true true 0s"},
			"before the report":               {[]store.Compliance{fit(-1, feed, true)}, "nothing true 0s"},
			"one says not, before the report": {[]store.Compliance{fit(-1, feed, false)}, "false true 0s"},
			"one of two says not":             {[]store.Compliance{fit(1, feed, false), fit(2, other, true)}, "false true 0s"},
			"found anew by the same":          {[]store.Compliance{fit(1, feed, false), fit(2, feed, true)}, "true true 0s"},
			"out of order":                    {[]store.Compliance{fit(2, feed, true), fit(1, feed, false)}, "true true 0s"},
			"at one time":                     {[]store.Compliance{fit(1, feed, true), fit(1, feed, false)}, "false true 0s"},
			"at one time, the other way":      {[]store.Compliance{fit(1, feed, false), fit(1, feed, true)}, "false true 0s"},
		} {
			t.Run(name, func(t *testing.T) { require.Equal(t, c.want, find(c.list...)) })
		}
	})
}

// TestASessionEndsNoEarlierThanItBegan, nor than it was ended before, whichever clock says so.
func TestASessionEndsNoEarlierThanItBegan(t *testing.T) {
	began := time.Date(2026, time.June, 8, 9, 0, 0, 0, time.UTC)
	s := &store.Session{Started: began}
	for _, c := range []struct{ at, ended time.Duration }{{-time.Minute, 0}, {time.Hour, time.Hour}, {time.Minute, time.Hour}} {
		s.End(began.Add(c.at), "she called")
		require.Equal(t, began.Add(c.ended), s.Ended)
		require.True(t, s.Voids(began))
	}
}
