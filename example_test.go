package briskwarden_test

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

//go:embed testdata/book
var files embed.FS

// staff supplies accounts from a map that changes while the program runs.
type staff struct {
	mutex    sync.RWMutex
	accounts map[string]directory.Account
}

func (s *staff) Account(_ context.Context, name string) (directory.Account, error) {
	s.mutex.RLock()
	defer s.mutex.RUnlock()
	a, ok := s.accounts[name]
	if !ok {
		return directory.Account{}, directory.ErrNotFound
	}
	return a, nil
}

func (s *staff) set(a directory.Account) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.accounts[a.Name] = a
}

// A program opens a book that is built into it, supplies its own people, decides,
// and says why. A method that somebody enrols counts in the next decision, with
// nothing opened again.
func Example() {
	book, err := fs.Sub(files, "testdata/book")
	if err != nil {
		fmt.Println(err)
		return
	}
	people := &staff{accounts: map[string]directory.Account{}}
	people.set(directory.Account{Name: "ingrid", Groups: []string{"office"}, Methods: []string{"password"}})
	opened, err := briskwarden.OpenFS(book, briskwarden.WithAccounts(people))
	if err != nil {
		fmt.Println(err) // all that is wrong with the book, each with its place
		return
	}
	warden := briskwarden.New(opened)

	a := &attempt.Attempt{At: time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC), Account: "ingrid", App: "accounts-ledger",
		Through: attempt.Known(attempt.Browser), Proofs: []attempt.Proof{{Method: "password"}}}
	decision := warden.Decide(context.Background(), a)
	fmt.Println(decision.Verdict, decision.ToPerson.Repairs)

	people.set(directory.Account{Name: "ingrid", Groups: []string{"office"}, Methods: []string{"password", "push"}})
	a.Proofs = append(a.Proofs, attempt.Proof{Method: "push"})
	decision = warden.Decide(context.Background(), a)
	fmt.Println(decision.Verdict, decision.Causes[0].Text)

	a.Account = "nobody"
	fmt.Println(warden.Decide(context.Background(), a).Causes[0].Code)
	// Output:
	// step_up [Enrol otp-app or push.]
	// grant everyone / all is met: all that it asks for was shown.
	// account_unknown
}

// A newer book takes the place of the one in force in one step.
func ExampleWarden_Swap() {
	book, _ := fs.Sub(files, "testdata/book")
	people := &staff{accounts: map[string]directory.Account{"liv": {Name: "liv"}}}
	older, err := briskwarden.OpenFS(book, briskwarden.WithAccounts(people))
	if err != nil {
		fmt.Println(err)
		return
	}
	warden := briskwarden.New(older)
	a := &attempt.Attempt{
		At:      time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC),
		Account: "liv",
		App:     "mail",
		Proofs:  []attempt.Proof{{Method: "password"}},
	}
	fmt.Println(warden.Verdict(context.Background(), a))

	newer, err := briskwarden.OpenFS(book, briskwarden.WithAccounts(people), briskwarden.WithChange("policies.everyone.stage", "draft"))
	if err != nil {
		fmt.Println(err)
		return
	}
	if newer.Differs(warden.Book()) {
		warden.Swap(newer)
	}
	fmt.Println(warden.Verdict(context.Background(), a))
	// Output:
	// grant
	// block
}

// riskEngine is a risk engine of one's own: it reports the signals that the book weighs.
type riskEngine struct{}

func (riskEngine) Signal(_ context.Context, a *attempt.Attempt, name string) (attempt.Fact[bool], error) {
	if name != "sanctioned-address" {
		return attempt.Fact[bool]{}, nil // unknown, which makes the score a span
	}
	ip, known := a.IP.Get()
	return attempt.Known(known && ip.String() == "192.0.2.66"), nil
}

// A risk engine says of each signal of the book whether it holds, does not, or is
// not known to.
func ExampleWithReports() {
	book, _ := fs.Sub(files, "testdata/book")
	opened, err := briskwarden.OpenFS(book, briskwarden.WithReports(riskEngine{}),
		briskwarden.WithAccounts(&staff{accounts: map[string]directory.Account{"liv": {Name: "liv"}}}))
	if err != nil {
		fmt.Println(err)
		return
	}
	a := &attempt.Attempt{At: time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC), Account: "liv", App: "mail"}
	for _, ip := range []string{"192.0.2.7", "192.0.2.66"} {
		a.IP = attempt.Known(netip.MustParseAddr(ip))
		fmt.Println(ip, opened.Decide(context.Background(), a).Risk.Level)
	}
	// Output:
	// 192.0.2.7 none
	// 192.0.2.66 high
}

// places knows where addresses are, and says so where it cannot find out.
type places struct{ down bool }

func (p places) Locate(_ context.Context, address netip.Addr) (directory.Whereabouts, error) {
	if p.down {
		return directory.Whereabouts{}, errors.New("the database is being replaced")
	}
	return directory.Whereabouts{Country: "NO"}, nil
}

// A locator is asked where neither the attempt nor a network of the book says where
// an address is. Where it fails the country is unknown, and the decision says so.
func ExampleWithLocator() {
	book, _ := fs.Sub(files, "testdata/book")
	a := &attempt.Attempt{At: time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC), Account: "liv", App: "mail",
		IP: attempt.Known(netip.MustParseAddr("192.0.2.7")), Proofs: []attempt.Proof{{Method: "password"}}}
	for _, locator := range []places{{}, {down: true}} {
		opened, err := briskwarden.OpenFS(
			book,
			briskwarden.WithLocator(locator),
			briskwarden.WithAccounts(&staff{accounts: map[string]directory.Account{"liv": {Name: "liv", Methods: []string{"password"}}}}),
			briskwarden.WithChange(
				"policies.everyone.rules",
				"[{name: home, when: {countries: [NO]}, then: {require: [own-password]}}, {name: abroad, then: block}]",
			),
		)
		if err != nil {
			fmt.Println(err)
			return
		}
		d := opened.Decide(context.Background(), a)
		fmt.Println(d.Verdict, len(d.Notices))
	}
	// Output:
	// grant 0
	// block 1
}

// An outside check is made by the program, which states its result; the book names
// it in an assurance.
func ExampleBook_Decide_outsideCheck() {
	book, _ := fs.Sub(files, "testdata/book")
	opened, err := briskwarden.OpenFS(book, briskwarden.WithAccounts(&staff{accounts: map[string]directory.Account{"liv": {Name: "liv"}}}),
		briskwarden.WithChange("assurances.own-password", "{external: badge-reader}"))
	if err != nil {
		fmt.Println(err)
		return
	}
	a := &attempt.Attempt{
		At:      time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC),
		Account: "liv",
		App:     "mail",
		Proofs:  []attempt.Proof{{Method: "password"}},
	}
	fmt.Println(opened.Verdict(context.Background(), a))
	a.External = map[string]attempt.CheckResult{"badge-reader": attempt.CheckPassed}
	fmt.Println(opened.Verdict(context.Background(), a))
	a.External["badge-reader"] = attempt.CheckFailed
	fmt.Println(opened.Verdict(context.Background(), a))
	// Output:
	// step_up
	// grant
	// block
}
