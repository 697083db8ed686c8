package book_test

import (
	"context"
	"errors"
	"iter"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/reach"
	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/directory"
)

const (
	listedAccounts = `accounts:
  - {name: ann, groups: [crew], methods: [password, push], joined: 2024-03-01}
  - {name: bob, groups: [crew], methods: [password]}
  - {name: key, kind: emergency, methods: [security-key]}
`
	outsideRules = `briskwarden: 1
settings: {zone: Europe/Oslo, directory: DIRECTORY}
networks: {pier: {ranges: [203.0.113.0/24], ours: true, country: NO}}
assurances: {two: {prove: [{any_of: [password]}, {any_of: [push]}]}, strong: {prove: [{traits: [phishing_resistant]}]}}
policies:
  - {name: base, stage: live, who: {anyone: true, except: {accounts: [bob]}}, apps: every, rules: [{name: all, then: {require: [two]}}]}
  - {name: bobs, stage: live, who: {accounts: [bob]}, apps: every, rules: [{name: all, then: {require: [two]}}]}
  - {name: keys, stage: live, who: {kinds: [emergency]}, apps: every, rules: [{name: all, then: {require: [strong]}}]}
groups: [{name: crew}]
apps: [{name: mail}, {name: till, open_to: [crew]}]
rollouts: [{name: second, who: {groups: [crew]}, methods: [push], eases: [two],
     opens: 2026-11-01, ask_by: 2026-11-08, enforced: 2026-12-01}]
`
)

func openRules(t *testing.T, where, accounts string) *book.Book {
	t.Helper()
	b, err := book.OpenFS(fstest.MapFS{"a.yaml": {Data: []byte(strings.Replace(outsideRules, "DIRECTORY", where, 1) + accounts)}})
	require.NoError(t, err)
	return b
}

// sequence yields accounts and then an error, nil for none.
func sequence(accounts []directory.Account, broken error) iter.Seq2[directory.Account, error] {
	return func(yield func(directory.Account, error) bool) {
		for _, a := range accounts {
			if !yield(a, nil) {
				return
			}
		}
		if broken != nil {
			yield(directory.Account{}, broken)
		}
	}
}

// TestAListingIsAsGoodAsTheBooksOwn looks at a book with the eyes of each package that
// looks at all accounts: with its accounts inside, and listed from outside.
func TestAListingIsAsGoodAsTheBooksOwn(t *testing.T) {
	inside, outside := openRules(t, "inside", listedAccounts), openRules(t, "outside", "")
	require.True(t, inside.ListsAll())
	require.False(t, outside.ListsAll())
	listed, err := outside.Listing(sequence(inside.Accounts, nil))
	require.NoError(t, err)
	require.True(t, listed.ListsAll())
	require.Empty(t, outside.Accounts, "the book itself stays as it is")
	at := time.Date(2026, 11, 23, 13, 0, 0, 0, time.UTC)
	for name, look := range map[string]func(b *book.Book) any{
		"inspect": func(b *book.Book) any {
			r, err := inspect.Inspect(t.Context(), b, at)
			require.NoError(t, err)
			found := []string{}
			for _, f := range r.Findings {
				found = append(found, f.Name+": "+f.Text)
			}
			return found
		},
		"reach": func(b *book.Book) any {
			judge, err := b.Compile()
			require.NoError(t, err)
			return reach.OfGroups(judge, reach.Circumstances{Attempt: attempt.Attempt{At: at}}, nil)
		},
		"readiness": func(b *book.Book) any {
			judge, err := b.Compile()
			require.NoError(t, err)
			r, err := readiness.Of(judge, "", nil, at)
			require.NoError(t, err)
			return r
		},
		"describe": func(b *book.Book) any {
			judge, err := b.Compile()
			require.NoError(t, err)
			d, err := describe.Account(judge, "bob", at)
			require.NoError(t, err)
			return []string{d.Markdown(), describe.Book(judge, describe.Grouping(0), at).Markdown()}
		},
		"compare": func(b *book.Book) any {
			changed := *b
			changed.Policies = slices.Clone(b.Policies)[1:]
			r, err := compare.Books(b, &changed, at)
			require.NoError(t, err)
			return r.Markdown()
		},
	} {
		t.Run(name, func(t *testing.T) { require.Equal(t, look(inside), look(listed)) })
	}
	r, err := inspect.Inspect(t.Context(), outside, at)
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(r.Findings, func(f inspect.Finding) bool { return f.Name == "accounts-unlisted:book" }),
		"what nobody listed was not looked at")
}

// TestAListingCompletesAndRefuses lists accounts that the book has too, or that are
// none.
func TestAListingCompletesAndRefuses(t *testing.T) {
	outside := openRules(t, "outside", "accounts: [{name: ann, groups: [crew], methods: [password, push]}]\n")
	listed, err := outside.Listing(
		sequence([]directory.Account{{Name: "ann", Methods: []string{"push", "smoke"}}, {Name: "new", Groups: []string{"gone"}}}, nil),
	)
	require.NoError(t, err)
	require.Equal(
		t,
		[]directory.Account{{Name: "ann", Groups: []string{"crew"}, Methods: []string{"push"}}, {Name: "new", Groups: []string{}}},
		listed.Accounts,
	)
	judge, err := listed.Compile()
	require.NoError(t, err)
	a := attempt.Attempt{At: time.Date(2026, 11, 23, 13, 0, 0, 0, time.UTC), Account: "ann", App: "till"}
	require.Equal(t, "step_up", judge.Verdict(context.Background(), &a).String())
	for wrong, accounts := range map[string]iter.Seq2[directory.Account, error]{
		"broke off after 1: no line": sequence([]directory.Account{{Name: "ann"}}, errors.New("no line")),
		"has ann twice":              sequence([]directory.Account{{Name: "ann"}, {Name: "ann"}}, nil),
		"a name cannot be empty":     sequence([]directory.Account{{}}, nil),
	} {
		t.Run(wrong, func(t *testing.T) {
			none, err := outside.Listing(accounts)
			require.ErrorContains(t, err, wrong)
			require.Nil(t, none)
		})
	}
}
