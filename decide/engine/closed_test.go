package engine_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// TestZeroValuesAreTheStrictest holds that nothing that was left out lets
// somebody in.
func TestZeroValuesAreTheStrictest(t *testing.T) {
	require.Equal(t, decide.Block, decide.Verdict(0))
	require.Equal(t, decide.Block, decide.Decision{}.Verdict)
	require.Equal(t, decide.Block, decide.Decision{}.ToPerson.Verdict)
	require.Equal(t, decide.Block, engine.Brief{}.Verdict)
	require.True(t, decide.Outcome{}.Blocks())
	require.Equal(t, decide.OutcomeBlock, decide.Outcome{}.Kind())
	require.Equal(t, attempt.CheckFailed, attempt.CheckResult(0))
	require.Equal(t, attempt.Refused, attempt.FailureReason(0))
	require.Equal(t, consent.Refuse, consent.Decision{}.Outcome)
	require.Equal(t, engine.Unfit, engine.Fitness(0))
	require.Negative(t, decide.Block.Compare(decide.StepUp))
	require.Negative(t, decide.StepUp.Compare(decide.Grant))
}

// people supplies accounts from a map, and what is asked for by an error.
type people map[string]any

func (p people) Account(_ context.Context, name string) (directory.Account, error) {
	switch found := p[name].(type) {
	case directory.Account:
		found.Name = cmp.Or(found.Name, name)
		return found, nil
	case error:
		return directory.Account{}, found
	}
	return directory.Account{}, fmt.Errorf("the map: %w", directory.ErrNotFound)
}

type machines map[string]any

func (m machines) Device(_ context.Context, id string) (directory.Device, error) {
	switch found := m[id].(type) {
	case directory.Device:
		found.Name = cmp.Or(found.Name, id)
		return found, nil
	case error:
		return directory.Device{}, found
	}
	return directory.Device{}, directory.ErrNotFound
}

// zero supplies what nobody filled in.
type zero struct{}

func (zero) Account(context.Context, string) (directory.Account, error) {
	return directory.Account{}, nil
}

func (zero) Device(context.Context, string) (directory.Device, error) { return directory.Device{}, nil }

// lookup finds every address in one place, or panics, or fails.
type lookup struct {
	code attempt.CountryCode
	err  error
}

func (l lookup) Locate(context.Context, netip.Addr) (directory.Whereabouts, error) {
	if l.code == "panic" {
		panic("a locator that fails")
	}
	return directory.Whereabouts{Country: l.code}, l.err
}

// riskEngine reports one signal.
type riskEngine struct {
	holds attempt.Fact[bool]
	err   error
}

func (e riskEngine) Signal(context.Context, *attempt.Attempt, string) (attempt.Fact[bool], error) {
	return e.holds, e.err
}

// rulebook is a small one, made in Go: a proof of one's own for everybody, and a
// block for those who come from Brazil or look odd.
func rulebook() decide.Rulebook {
	test := func(key condition.Key, values ...string) condition.Node {
		return &condition.Test{Key: key, Values: values}
	}
	prove := func(methods ...string) []decide.Prove { return []decide.Prove{{AnyOf: methods}} }
	return decide.Rulebook{
		Directory: directory.Contents{
			Accounts: []directory.Account{{Name: "ann", Methods: []string{"password"}, Groups: []string{"crew"}}},
			Groups:   []directory.Group{{Name: "crew"}, {Name: "office"}},
			Apps:     []directory.App{{Name: "mail"}, {Name: "books", OpenTo: []string{"office"}}},
			Devices:  []directory.Device{{Name: "till", Managed: true}},
		},
		Risk:       risk.Scheme{Signals: []risk.Signal{{Name: "odd", Points: 90}}},
		Assurances: []decide.Assurance{{Name: "own", Prove: prove("password")}, {Name: "held", Prove: prove("push", "otp-app")}},
		Policies: []decide.Policy{
			{Name: "base", Stage: decide.Live, Who: test(engine.KeyAnyone, "true"), Apps: test(engine.KeyEvery, "true"),
				Rules: []decide.Rule{
					{Name: "odd", When: test(engine.KeyRiskAtLeast, "high")},
					{Name: "far", When: test(engine.KeyCountries, "BR")},
					{Name: "all", Then: decide.Require("own")},
				}},
			{Name: "office", Stage: decide.Live, Who: test(engine.KeyGroups, "office"), Apps: test(engine.KeyEvery, "true"),
				Rules: []decide.Rule{
					{Name: "managed", When: test(engine.KeyDevice, "managed"), Then: decide.Outcome{Grant: true}},
					{Name: "all", Then: decide.Require("held")},
				}},
		},
	}
}

// TestWhatIsSuppliedFailsClosed goes through what a program supplies while a
// decision is made: found, not there, and not to be found out.
func TestWhatIsSuppliedFailsClosed(t *testing.T) {
	ann := &attempt.Attempt{
		At:      time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC),
		Account: "ann",
		App:     "mail",
		IP:      attempt.Known(netip.MustParseAddr("192.0.2.7")),
		Country: attempt.Known[attempt.CountryCode]("NO"),
		Proofs:  []attempt.Proof{{Method: "password"}},
		Device:  attempt.Known(attempt.Device{ID: attempt.Known("till")}),
	}
	with := func(change func(a *attempt.Attempt)) *attempt.Attempt {
		a := *ann
		change(&a)
		return &a
	}
	unknown := with(func(a *attempt.Attempt) { a.Country = attempt.Fact[attempt.CountryCode]{} })
	down := errors.New("the line is down")
	office := directory.Account{Groups: []string{"office"}}
	for _, c := range []struct {
		name    string
		set     func(r *decide.Rulebook)
		attempt *attempt.Attempt
		want    string
	}{
		{"the book alone", func(*decide.Rulebook) {}, ann, "grant demands_met"},
		{"an account that only the program knows", func(r *decide.Rulebook) {
			r.Accounts = people{"bob": directory.Account{Methods: []string{
				"password"}}}
		}, with(func(a *attempt.Attempt) { a.Account = "bob" }), "grant demands_met"},
		{"an account that nobody knows", func(r *decide.Rulebook) { r.Accounts = people{} }, with(func(a *attempt.Attempt) { a.Account = "eve" }),
			"block account_unknown"},
		{"not there, so the book's", func(r *decide.Rulebook) { r.Accounts = people{} }, ann, "grant demands_met"},
		{"not to be found out", func(r *decide.Rulebook) { r.Accounts = people{"ann": down} }, ann, "block account_unavailable"},
		{"an answer for another", func(r *decide.Rulebook) { r.Accounts = people{"ann": directory.Account{Name: "bob"}} }, ann,
			"block account_unavailable"},
		{"a kind that there is not", func(r *decide.Rulebook) { r.Accounts = people{"ann": directory.Account{Kind: 9}} }, ann,
			"block account_unavailable"},
		{"disabled by the program", func(r *decide.Rulebook) { r.Accounts = people{"ann": directory.Account{Disabled: true}} }, ann,
			"block account_disabled"},
		{"disabled by the book", func(r *decide.Rulebook) {
			r.Directory.Accounts[0].Disabled = true
			r.Accounts = people{"ann": directory.Account{Methods: []string{"password"}}}
		}, ann, "block account_disabled"},
		{"a key that is stated wins", func(r *decide.Rulebook) { r.Accounts, r.Devices = people{"ann": office}, machines{} }, ann,
			"grant demands_met demands_met"},
		{"and one that is not stays", func(r *decide.Rulebook) {
			r.Accounts = people{"ann": directory.Account{Methods: []string{"password", "push"}}}
		}, with(func(a *attempt.Attempt) { a.App = "books" }), "block app_not_open"},
		{"a group that opens an app", func(r *decide.Rulebook) { r.Accounts = people{"ann": office} }, with(func(a *attempt.Attempt) {
			a.App = "books"
		}), "grant demands_met demands_met"},
		{"a group that nobody declared", func(r *decide.Rulebook) { r.Accounts = people{"ann": directory.Account{Groups: []string{"chiefs"}}} },
			with(func(a *attempt.Attempt) { a.App = "books" }), "block app_not_open"},
		{"an account that only a policy names", func(r *decide.Rulebook) {
			r.Accounts = people{"bob": directory.Account{Methods: []string{"password"}}}
			r.Policies[0].Who = &condition.Test{Key: engine.KeyAccounts, Values: []string{"bob"}}
		}, with(func(a *attempt.Attempt) { a.Account = "bob" }), "grant demands_met"},
		{"a device of the program's", func(r *decide.Rulebook) {
			r.Accounts, r.Devices = people{"ann": office}, machines{"till": directory.Device{}}
		}, ann, "step_up demand_open"},
		{"a device not to be found out", func(r *decide.Rulebook) { r.Accounts, r.Devices = people{"ann": office}, machines{"till": down} }, ann,
			"step_up demand_open"},
		{"a place that is looked up", func(r *decide.Rulebook) { r.Locator = lookup{code: "BR"} }, unknown, "block rule_blocks"},
		{"in another country", func(r *decide.Rulebook) { r.Locator = lookup{code: "NO"} }, unknown, "grant demands_met"},
		{"in lower case", func(r *decide.Rulebook) { r.Locator = lookup{code: "br"} }, unknown, "block rule_may_block"},
		{"in three letters", func(r *decide.Rulebook) { r.Locator = lookup{code: "BRA"} }, unknown, "block rule_may_block"},
		{"in a code that is not assigned", func(r *decide.Rulebook) { r.Locator = lookup{code: "EU"} }, unknown, "block rule_may_block"},
		{"not to be looked up", func(r *decide.Rulebook) { r.Locator = lookup{code: "NO", err: down} }, unknown, "block rule_may_block"},
		{"a signal that an engine reports", func(r *decide.Rulebook) { r.Reports = riskEngine{holds: attempt.Known(true)} }, ann,
			"block rule_blocks"},
		{"one that it does not", func(r *decide.Rulebook) { r.Reports = riskEngine{holds: attempt.Known(false)} }, ann, "grant demands_met"},
		{"one that it does not know", func(r *decide.Rulebook) { r.Reports = riskEngine{holds: attempt.None[bool]()} }, ann,
			"block rule_may_block"},
		{"an engine that says nothing", func(r *decide.Rulebook) { r.Reports = riskEngine{} }, ann, "block rule_may_block"},
		{"an account without a name", func(r *decide.Rulebook) { r.Accounts = zero{} }, ann, "block account_unavailable"},
		{"a device without a name", func(r *decide.Rulebook) { r.Accounts, r.Devices = people{"ann": office}, zero{} }, ann,
			"step_up demand_open"},
		{"a risk without a level", func(r *decide.Rulebook) {
			r.Accounts = people{"ann": directory.Account{AccountRisk: &directory.AccountRisk{}}}
			r.Policies[0].Rules[0].When = &condition.Test{Key: engine.KeyAccountRiskAtLeast, Values: []string{"high"}}
		}, ann, "block rule_blocks"},
		{"an engine that is down", func(r *decide.Rulebook) { r.Reports = riskEngine{err: down} }, ann, "block rule_may_block"},
		{"no time", func(*decide.Rulebook) {}, with(func(a *attempt.Attempt) { a.At = time.Time{} }), "block attempt_invalid"},
		{"no account", func(*decide.Rulebook) {}, with(func(a *attempt.Attempt) { a.Account = "" }), "block attempt_invalid"},
		{"an action that there is not", func(*decide.Rulebook) {}, with(func(a *attempt.Attempt) { a.Action = 99 }), "block attempt_invalid"},
		{"a reason that there is not", func(*decide.Rulebook) {}, with(func(a *attempt.Attempt) {
			a.Failed = []attempt.Failure{{Method: "push",
				Reason: 9}}
		}), "block attempt_invalid"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := rulebook()
			c.set(&r)
			judge, err := engine.Compile(r)
			require.NoError(t, err)
			d := judge.Decide(context.Background(), c.attempt)
			got := d.Verdict.String()
			for _, cause := range d.Causes {
				got += " " + string(cause.Code)
			}
			require.Equal(t, c.want, got, "%v", d.Causes)
			require.Equal(t, d.Verdict, judge.Verdict(context.Background(), c.attempt))
			var brief engine.Brief
			judge.Brief(context.Background(), c.attempt, &brief)
			require.Equal(t, d.Verdict, brief.Verdict)
			require.Len(t, brief.Causes, len(d.Causes))
		})
	}
}

// TestAPanicLeavesNothingBehind lets what a program supplies panic in the middle of
// each kind of evaluation, and judges again.
func TestAPanicLeavesNothingBehind(t *testing.T) {
	r := rulebook()
	r.Locator = lookup{code: "panic"}
	judge, err := engine.Compile(r)
	require.NoError(t, err)
	far := &attempt.Attempt{
		At:      time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC),
		Account: "ann",
		App:     "mail",
		IP:      attempt.Known(netip.MustParseAddr("192.0.2.7")),
	}
	near := *far
	near.Country = attempt.Known[attempt.CountryCode]("NO")
	for range 20 {
		require.Panics(t, func() { judge.Verdict(context.Background(), far) })
		require.Panics(t, func() { judge.Decide(context.Background(), far) })
		require.Panics(t, func() { judge.Brief(context.Background(), far, new(engine.Brief)) })
		d := judge.Decide(context.Background(), &near)
		require.Equal(t, decide.StepUp, d.Verdict, "nothing was proven")
		require.NotEmpty(t, d.Causes)
		require.Equal(t, decide.StepUp, judge.Verdict(context.Background(), &near))
	}
}

// TestWhatIsToldBeforeAProofLooksNobodyUp holds that the opening is the same for
// everybody and asks nobody.
func TestWhatIsToldBeforeAProofLooksNobodyUp(t *testing.T) {
	r := rulebook()
	r.Accounts = people{"ann": errors.New("nobody may ask")}
	judge, err := engine.Compile(r)
	require.NoError(t, err)
	a := &attempt.Attempt{At: time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC), Account: "ann", App: "mail"}
	for _, name := range []string{"ann", "eve"} {
		a.Account = name
		require.Equal(t, judge.Decide(context.Background(), a).ToPerson, judge.Opening(a))
	}
	require.Equal(t, []string{"otp-app", "password"}, judge.Opening(a).Offer)
	a.Through = attempt.Known(attempt.Unattended)
	require.Equal(t, decide.Block, judge.Opening(a).Verdict)
}

// TestNoticesTellWhatCountsForNothing goes through what an attempt may state in
// vain.
func TestNoticesTellWhatCountsForNothing(t *testing.T) {
	judge, err := engine.Compile(rulebook())
	require.NoError(t, err)
	at := time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC)
	later := at.Add(2 * time.Minute)
	for _, c := range []struct {
		name string
		set  func(a *attempt.Attempt)
		code decide.NoticeCode
		text string
	}{
		{"a method that there is not", func(a *attempt.Attempt) { a.Proofs = []attempt.Proof{{Method: "smoke"}} }, decide.NameUnknown,
			"no such method"},
		{"a method not enrolled", func(a *attempt.Attempt) { a.Proofs = []attempt.Proof{{Method: "push"}} }, decide.ProofNotEnrolled,
			"has not enrolled it"},
		{"a failed method that there is not", func(a *attempt.Attempt) { a.Failed = []attempt.Failure{{Method: "smoke"}} }, decide.NameUnknown,
			"smoke"},
		{"a signal that there is not", func(a *attempt.Attempt) { a.Signals = []string{"ood"} }, decide.NameUnknown, "ood"},
		{"a check that there is not", func(a *attempt.Attempt) { a.External = map[string]attempt.CheckResult{"yard": attempt.CheckPassed} },
			decide.NameUnknown, "yard"},
		{"a country that there is not", func(a *attempt.Attempt) { a.Country = attempt.Known[attempt.CountryCode]("UK") },
			decide.CountryUnassigned, "UK"},
		{"a proof made later", func(a *attempt.Attempt) { a.Proofs = []attempt.Proof{{Method: "password", At: later}} }, decide.DatedLater,
			"The proof of password"},
		{"a session begun later", func(a *attempt.Attempt) { a.Session.Started = later }, decide.DatedLater, "The session's start"},
		{"a document accepted later", func(a *attempt.Attempt) { a.Accepted = []attempt.Acceptance{{Document: "rules", At: later}} },
			decide.DatedLater, "rules"},
		{"a report made later", func(a *attempt.Attempt) { a.Device = attempt.Known(attempt.Device{ReportedAt: attempt.Known(later)}) },
			decide.DatedLater, "report"},
		{"a sign-in before that came after", func(a *attempt.Attempt) { a.Previous = attempt.Known(attempt.Previous{At: later}) },
			decide.DatedLater, "The sign-in before"},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := &attempt.Attempt{At: at, Account: "ann", App: "mail"}
			c.set(a)
			d := judge.Decide(context.Background(), a)
			require.Len(t, d.Notices, 1)
			require.Equal(t, c.code, d.Notices[0].Code)
			require.True(t, strings.Contains(d.Notices[0].Text, c.text), d.Notices[0].Text)
			require.NotEqual(t, decide.Grant, d.Verdict)
		})
	}
}

// TestTheRulesHaveADigest: a rulebook that a program changed is another one, and
// what makes no difference makes none.
func TestTheRulesHaveADigest(t *testing.T) {
	digest := func(change func(r *decide.Rulebook)) string {
		r := rulebook()
		change(&r)
		judge, err := engine.Compile(r)
		require.NoError(t, err)
		return judge.Decide(context.Background(), &attempt.Attempt{}).JudgedBy.Rules
	}
	same := digest(func(*decide.Rulebook) {})
	seen, at := map[string]string{same: "unchanged"}, time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC)
	require.Equal(t, same, digest(func(r *decide.Rulebook) { r.Policies[0].At.Line = 9; r.Accounts = people{} }))
	for name, change := range map[string]func(r *decide.Rulebook){
		"an outcome": func(r *decide.Rulebook) { r.Policies[0].Rules[0].Then = decide.Outcome{Grant: true} },
		"a condition": func(r *decide.Rulebook) {
			r.Policies[0].Rules[1].When = &condition.Not{Of: r.Policies[0].Rules[1].When}
		},
		"a value":    func(r *decide.Rulebook) { r.Policies[0].Rules[1].When.(*condition.Test).Values[0] = "NO" },
		"a stage":    func(r *decide.Rulebook) { r.Policies[0].Stage = decide.Shadow },
		"an account": func(r *decide.Rulebook) { r.Directory.Accounts[0].Disabled = true },
		"a group":    func(r *decide.Rulebook) { r.Directory.Accounts[0].Groups = []string{"office"} },
		"an attribute": func(r *decide.Rulebook) {
			r.Directory.Accounts[0].Attributes = map[string]attempt.Scalar{"floor": attempt.NumberScalar(3)}
		},
		"a moment":       func(r *decide.Rulebook) { r.Directory.Accounts[0].AskedAt = &at },
		"another moment": func(r *decide.Rulebook) { r.Directory.Accounts[0].PasswordChangedAt = &at },
		"a device":       func(r *decide.Rulebook) { r.Directory.Devices[0].Managed = false },
		"points":         func(r *decide.Rulebook) { r.Risk.Signals[0].Points = 10 },
		"otherwise":      func(r *decide.Rulebook) { r.Otherwise = decide.Outcome{Grant: true} },
	} {
		t.Run(fmt.Sprint(name), func(t *testing.T) {
			is := digest(change)
			require.Empty(t, seen[is], "%s makes no other rules", name)
			seen[is] = name
		})
	}
}
