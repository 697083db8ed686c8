package briskwarden_test

import (
	"context"
	"io/fs"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

func open(t *testing.T, options ...briskwarden.Option) *briskwarden.Book {
	t.Helper()
	book, err := fs.Sub(files, "testdata/book")
	require.NoError(t, err)
	b, err := briskwarden.OpenFS(book, options...)
	require.NoError(t, err)
	return b
}

func signOn(account string) *attempt.Attempt {
	return &attempt.Attempt{
		At:      time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC),
		Account: account,
		App:     "mail",
		Proofs:  []attempt.Proof{{Method: "password"}},
	}
}

// TestAWardenWithoutABookBlocks: the zero Warden, and one whose book was taken
// away.
func TestAWardenWithoutABookBlocks(t *testing.T) {
	swapped := briskwarden.New(open(t))
	require.NotNil(t, swapped.Swap(nil))
	for name, w := range map[string]*briskwarden.Warden{"zero": {}, "swapped for nothing": swapped} {
		t.Run(name, func(t *testing.T) {
			d := w.Decide(context.Background(), signOn("liv"))
			require.Equal(t, decide.Block, d.Verdict)
			require.Equal(t, decide.NoBook, d.Causes[0].Code)
			require.Equal(t, decide.Block, w.Verdict(context.Background(), signOn("liv")))
			answer, err := w.DecideConsent(context.Background(), &consent.Request{}, consent.Known{})
			require.NoError(t, err)
			require.Equal(t, consent.Refuse, answer.Outcome)
			require.Nil(t, w.Book())
		})
	}
}

func TestDiffers(t *testing.T) {
	b := open(t)
	require.False(t, b.Differs(open(t)))
	require.True(t, b.Differs(nil))
	require.True(t, b.Differs(open(t, briskwarden.WithChange("policies.office.stage", "shadow"))))
	_, err := briskwarden.Open("no/such/folder")
	require.ErrorContains(t, err, "there is no folder")
}

// TestConcurrentSwaps: decisions are made by one book or the other, and people come
// and go meanwhile.
func TestConcurrentSwaps(t *testing.T) {
	people := &staff{accounts: map[string]directory.Account{}}
	books := []*briskwarden.Book{
		open(t, briskwarden.WithAccounts(people)),
		open(t, briskwarden.WithAccounts(people), briskwarden.WithChange("policies.everyone.stage", "draft")),
	}
	w := briskwarden.New(books[0])
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for range 200 {
				d := w.Decide(context.Background(), signOn("liv"))
				cause := map[string]decide.Verdict{books[0].Judge().Rules(): decide.Grant, books[1].Judge().Rules(): decide.Block}
				if d.Causes[0].Code != decide.AccountUnknown && d.Verdict != cause[d.JudgedBy.Rules] {
					t.Errorf("%s by %s: %v", d.Verdict, d.JudgedBy.Rules, d.Causes)
				}
			}
		})
	}
	for i := range 200 {
		people.set(directory.Account{Name: "liv", Methods: []string{"password"}})
		w.Swap(books[i%2])
	}
	group.Wait()
}

// TestWhatADecidingProgramLinks: no driver and no command line.
func TestWhatADecidingProgramLinks(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", ".").Output()
	require.NoError(t, err)
	linked := strings.Fields(string(out))
	require.Contains(t, linked, "github.com/briskwarden/briskwarden/decide")
	for _, name := range linked {
		for _, driver := range []string{"modernc.org", "maxminddb", "klauspost", "cobra", "lipgloss", "net/http", "database/sql",
			"briskwarden/admin", "briskwarden/internal/cli"} {
			require.NotContains(t, name, driver, "the face links %s", name)
		}
	}
}

// TestMisuse: what nobody filled in blocks, or says what is missing.
func TestMisuse(t *testing.T) {
	ctx := context.Background()
	var zero briskwarden.Book
	a := &attempt.Attempt{At: time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC), Account: "liv", App: "mail"}
	require.Equal(t, decide.Block, zero.Decide(ctx, a).Verdict)
	require.Equal(t, decide.Block, zero.Verdict(ctx, a))
	require.Equal(t, decide.Block, zero.Opening(a).Verdict)
	_, err := zero.DecideConsent(ctx, nil, consent.Known{})
	require.ErrorContains(t, err, "no book")
	require.True(t, zero.Differs(&zero))
	require.Empty(t, zero.Digest())
	_, err = briskwarden.OpenFS(nil)
	require.ErrorContains(t, err, "nil")
	book, err := fs.Sub(files, "testdata/book")
	require.NoError(t, err)
	opened, err := briskwarden.OpenFS(book, nil)
	require.NoError(t, err)
	d := opened.Decide(ctx, nil)
	require.Equal(t, decide.AttemptInvalid, d.Causes[0].Code)
	require.Equal(t, decide.Block, opened.Verdict(ctx, nil))
	_, err = opened.DecideConsent(ctx, nil, consent.Known{})
	require.ErrorContains(t, err, "no request")
	require.PanicsWithValue(t, "engine: this Judge was not made by Compile", func() { new(engine.Judge).Verdict(ctx, a) })
	for _, text := range []string{decide.Verdict(99).String(), decide.DemandKind(99).String(), decide.Stage(99).String(),
		risk.Detector(99).String(),
		consent.Outcome(99).String(), consent.Standing(99).String(), directory.Trait(99).String(), attempt.Action(99).String()} {
		require.Equal(t, "invalid (99)", text)
	}
}
