package compare_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/synth"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// TestNothingMovesUntold: where an attempt comes to something milder by the newer
// book, some change is told that loosens, or may; and the same for what is stricter.
// Attempts carry a proof of a method that the account has in both books, since a rule
// that asks for nothing is taken for the mildest, though it asks for any one proof.
func TestNothingMovesUntold(t *testing.T) {
	at := time.Date(2026, time.March, 29, 12, 0, 0, 0, time.UTC)
	attempts := 600
	moved := 0
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		older, newer, was, is, changed := versions(chance)
		if newer == nil {
			return // the small change broke the book
		}
		r, err := compare.Books(older, newer, at)
		require.NoError(t, err)
		for range attempts {
			a := provenAttempt(chance, at, was, is)
			if a == nil {
				continue
			}
			before, after := was.Verdict(context.Background(), a), is.Verdict(context.Background(), a)
			if before == after {
				continue
			}
			moved++
			untold := compare.Loosens
			if after < before {
				untold = compare.Tightens
			}
			if r.With(untold)+r.With(compare.Either) == 0 {
				t.Fatalf(
					"%+v: %s became %s, and %+v reports nothing that %s\n%v\n%v\n%v",
					*a,
					before,
					after,
					r.Changed,
					untold,
					is.Decide(context.Background(), a).Causes,
					was.Decide(context.Background(), a).Causes,
					changed.Files(chance, 1),
				)
			}
		}
	})
	require.Positive(t, moved)
}

// versions returns a generated book and a changed version of it, none where the change broke it.
func versions(chance *rand.Rand) (older, newer *book.Book, was, is *engine.Judge, changed synth.Book) {
	small := synth.Small(chance, 4)
	older, was = small.Open(chance)
	changed = small.Redrawn(chance, synth.Small(chance, 4), 1+chance.IntN(2))
	if chance.IntN(4) > 0 {
		changed, _ = small.Nudged(chance)
	}
	if chance.IntN(4) == 0 {
		changed = changed.Called(chance)
	}
	newer, is, _ = changed.Try(chance)
	return older, newer, was, is, changed
}

// provenAttempt returns an attempt within some months of an account that both books have, with a proof by a method that
// it has in both; nil of other accounts.
func provenAttempt(chance *rand.Rand, at time.Time, was, is *engine.Judge) *attempt.Attempt {
	a := synth.Attempt(chance)
	if chance.IntN(3) == 0 {
		a.App = synth.Route(chance)
	}
	a.At = at.Add(time.Duration(chance.IntN(12)) * time.Hour)
	if chance.IntN(2) == 0 {
		a.At = a.At.AddDate(0, 0, chance.IntN(90)) // time passes
	}
	if chance.IntN(2) == 0 {
		a.Action = attempt.Action(chance.IntN(len(attempt.Actions())))
	}
	n, known := was.Directory().FindAccount(a.Account)
	m, knownToo := is.Directory().FindAccount(a.Account)
	if !known || !knownToo {
		return nil
	}
	has := slices.DeleteFunc(is.MethodNames(is.Directory().Profile(m).Enrolled()), func(name string) bool {
		return !slices.Contains(was.MethodNames(was.Directory().Profile(n).Enrolled()), name)
	})
	if len(has) > 0 {
		a.Proofs = append(a.Proofs, attempt.Proof{Method: has[chance.IntN(len(has))]})
	}
	if len(has) == 0 || chance.IntN(4) == 0 {
		a.Proofs = append(a.Proofs, attempt.Proof{Method: "desk-pass"})
	}
	for i := range a.Proofs {
		a.Proofs[i].At = a.At
	}
	return a
}

// TestHistoryIsBothReplaysSubtracted: what a comparison counts is what replaying each
// book counts, and its shadow is the newer book with its shadow policies live.
func TestHistoryIsBothReplaysSubtracted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		small := synth.Small(chance, 4)
		older, was := small.Open(chance)
		newer, is := small.Redrawn(chance, synth.Small(chance, 4), 3).Open(chance)
		var text strings.Builder
		for range chance.IntN(200) {
			line, err := json.Marshal(synth.Attempt(chance))
			require.NoError(t, err)
			text.Write(append(line, '\n'))
		}
		sources := []replay.Source{
			{Name: "h", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text.String())), nil }},
		}
		r, err := compare.Books(older, newer, monday)
		require.NoError(t, err)
		require.NoError(t, r.AddHistory(context.Background(), sources, replay.Options{Workers: 3}))
		both, err := replay.Each(context.Background(), []*engine.Judge{was, is}, sources, replay.Options{})
		require.NoError(t, err)
		h := r.History
		require.Equal(t, []replay.Counts{both[0].Verdicts, both[1].Verdicts}, []replay.Counts{h.Was, h.Is})
		require.Equal(t, []float64{both[0].Prompts, both[1].Prompts}, []float64{h.PromptsWas, h.PromptsIs})
		var into, outOf [3]int64
		for _, m := range h.Moves {
			into[m.To] += m.Attempts
			outOf[m.From] += m.Attempts
		}
		require.Equal(t, both[1].Verdicts.Grant-both[0].Verdicts.Grant, into[decide.Grant]-outOf[decide.Grant])
		require.Equal(t, both[1].Verdicts.Block-both[0].Verdicts.Block, into[decide.Block]-outOf[decide.Block])
		require.Equal(t, h.Blocked.Attempts, into[decide.Block])
		require.Equal(t, h.LetIn.Attempts, outOf[decide.Block])
		for _, a := range []compare.Affected{h.Blocked, h.Asked, h.LetIn, h.Spared, h.NoMethod, h.Unattended, h.LockedOut} {
			require.LessOrEqual(t, len(a.Examples), 3)
			for _, e := range a.Examples {
				require.Equal(t, e.Is, is.Verdict(context.Background(), e.Attempt))
			}
		}
		if r.Shadow != nil {
			require.Equal(t, both[0].Verdicts, r.Shadow.Was)
			require.Equal(t, both[1].Shadow, r.Shadow.Is)
		}
		alone, err := compare.Books(older, newer, monday)
		require.NoError(t, err)
		require.NoError(t, alone.AddHistory(context.Background(), sources, replay.Options{Workers: 1}))
		require.Equal(t, alone.History, r.History, "however many goroutines there are")
		same, err := compare.Books(older, older, monday)
		require.NoError(t, err)
		require.Empty(t, same.Changed)
	})
}

// TestNoConsentMovesUntold: where a request for consent is answered otherwise by the
// newer book, some change is told that may bring that about.
func TestNoConsentMovesUntold(t *testing.T) {
	at := time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC)
	moved := 0
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		one := func(of ...string) string { return of[chance.IntN(len(of))] }
		draw := func() *book.Book {
			var rules []string
			for i := range 1 + chance.IntN(3) {
				when := one(
					"scopes_within: [mild]",
					"scopes_within: [grave]",
					"client_tags: [crew]",
					"standing: [approved]",
					"publisher_vetted: true",
					"scopes: [mail.read]",
					"groups: [deck]",
					"not: {clients: [tides]}",
					"resource: [own]",
					"owns_group: true",
					"scopes: ['mail.*'], standing: [unreviewed]",
				)
				rules = append(rules, fmt.Sprintf("{name: r%d, when: {%s}, then: %s}", i, when, one("allow", "review", "refuse")))
			}
			text := fmt.Sprintf(`briskwarden: 1
accounts: [{name: ann, groups: [deck], methods: [password]}, {name: bo, methods: [password]}]
groups: [{name: deck%s}]
apps: [{name: mail}]
scopes: {mild: {gravity: 1, scopes: [openid%s]}, grave: {gravity: 2, scopes: ["mail.*"]}}
clients:
  - {name: tides, standing: %s, publisher: {title: Tides, domain: tides.example, vetted: %s},
     redirect_uris: ["https://tides.example/cb"], tags: [%s]}
consent: {rules: [%s]}
`, one("", ", owners: [ann]", ", owners: [bo]"), one("", ", profile"), one("unreviewed", "approved", "barred"), one("true", "false"), one(
				"crew", "other"), strings.Join(rules, ", "))
			b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(text)}})
			require.NoError(t, err)
			return b
		}
		older, newer := draw(), draw()
		r, err := compare.Books(older, newer, at)
		require.NoError(t, err)
		answers := func(b *book.Book) (all []consent.Outcome) {
			judge, err := b.Compile()
			require.NoError(t, err)
			consents, err := b.CompileConsent(judge)
			require.NoError(t, err)
			for _, account := range []string{"ann", "bo"} {
				for _, scope := range []string{"openid", "profile", "mail.read", "files.write"} {
					for _, resource := range []consent.Resource{{}, {Group: "deck"}} {
						d, err := consents.Decide(
							context.Background(),
							&consent.Request{
								At:          at,
								Account:     account,
								Client:      "tides",
								Scopes:      []string{scope},
								Resource:    resource,
								RedirectURI: "https://tides.example/cb",
							},
							consent.Known{},
						)
						require.NoError(t, err)
						all = append(all, d.Outcome)
					}
				}
			}
			return all
		}
		was, is := answers(older), answers(newer)
		for i := range was {
			switch {
			case is[i] > was[i]:
				moved++
				require.Positive(t, r.With(compare.Loosens)+r.With(compare.Either), "%+v", r.Changed)
			case is[i] < was[i]:
				moved++
				require.Positive(t, r.With(compare.Tightens)+r.With(compare.Either), "%+v", r.Changed)
			}
		}
	})
	require.Positive(t, moved)
}
