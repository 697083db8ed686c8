package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// KnownFacts is what sources state of an account, and what holds of it.
type KnownFacts struct {
	Account string `json:"account" doc:"the account"`
	// Listed says that the book lists it.
	Listed bool          `json:"listed" doc:"true where the book lists it"`
	Made   *store.Making `json:"made,omitempty" doc:"when it was last made anew"`
	// Holds is what all sources say together, and From where each fact is from that is not the book's. Why says why nobody
	// can tell.
	Holds  *store.Shown   `json:"holds,omitempty" doc:"what all sources say together"`
	From   []store.Origin `json:"from" doc:"where facts are from that are not the book's"`
	Why    string         `json:"why,omitzero" doc:"why nobody can tell what holds"`
	Stated []StatedFact   `json:"stated" doc:"what each source states"`
}

// StatedFact is one statement, with what keeps it from counting.
type StatedFact struct {
	store.Statement
	// Void says why it does not count, "" where it does.
	Void string `json:"void,omitzero" doc:"why it does not count"`
}

// Facts reads what is known of an account to the door of a configuration, by the book in a folder.
func Facts(ctx context.Context, dir string, c *door.Config, name string, at time.Time) (known *KnownFacts, err error) {
	opened, err := Loader(dir)()
	if err != nil {
		return nil, err
	}
	s, err := ReadStore(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	managed, err := store.Managed(ctx, s)
	if err != nil {
		return nil, err
	}
	a := &store.Account{Name: name}
	if err := store.Load(ctx, s, a); err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	known = &KnownFacts{Account: name, From: []store.Origin{}, Stated: []StatedFact{}}
	listed := listedIn(opened.Judge().Directory().Accounts, name)
	known.Listed = listed.Account != nil
	if !known.Listed && !a.States() {
		return nil, fmt.Errorf("neither the book nor a source knows an account %q", name)
	}
	if !a.Made.At.IsZero() {
		known.Made = &a.Made
	}
	joined, from, wrong := a.Join(listed, managed, at)
	if wrong != nil {
		known.Why = wrong.Error()
	} else {
		known.Holds, known.From = store.ShownOf(&joined), append(known.From, from...)
	}
	for i := range a.Stated {
		st := StatedFact{Statement: a.Stated[i]}
		switch {
		case st.Withdrawn:
			st.Void = "withdrawn"
		case !a.Counts(&st.Statement, listed):
			st.Void = "of who bore the name before"
			if listed.Account != nil && listed.Account.Kind == directory.Emergency && !st.By.IsAdministrator() {
				st.Void = "the book and administrators alone speak for an emergency account"
			}
		case st.Fact == store.Membership && managed[st.Name] != st.By:
			st.Void = "it does not manage the group"
		}
		known.Stated = append(known.Stated, st)
	}
	slices.SortStableFunc(known.Stated, func(x, y StatedFact) int {
		return strings.Compare(x.Label()+"\n"+string(x.By), y.Label()+"\n"+string(y.By))
	})
	return known, nil
}

func listedIn(accounts []directory.Account, name string) store.Listed {
	i := slices.IndexFunc(accounts, func(a directory.Account) bool { return a.Name == name })
	if i < 0 {
		return store.Listed{}
	}
	return store.Listed{Account: &accounts[i], Entry: func() string { return engine.Fingerprint(accounts[i]) }}
}

// Withdrawal is what an administrator takes back, in the name of whom it was said by, and why.
type Withdrawal struct {
	// Account or Group says of what.
	Account, Group string
	// Fact is taken back of an account, as Statement.Label has it, of the source Of. Anew makes the account anew.
	Fact string
	Of   store.Source
	Anew bool
	// As is who does it, and Because why.
	As, Because string
}

// Check reports what is missing.
func (w *Withdrawal) Check() error {
	switch {
	case w.As == "" || w.Because == "":
		return errors.New("say who does it and why, for the record: --as NAME --because TEXT")
	case w.Group != "" && (w.Of == "" || w.Fact != "" || w.Anew || w.Account != ""):
		return errors.New("a group is given back to the book by --group NAME --withdraw --of SOURCE")
	case w.Group == "" && w.Account == "":
		return errors.New("name an account, or a group by --group")
	case w.Group == "" && !w.Anew && (w.Fact == "" || w.Of == ""):
		return errors.New("say what is taken back, and of whom: --withdraw FACT --of SOURCE, such as " +
			`--withdraw disabled --of "issuer https://feed.example"`)
	}
	return directory.CheckName(w.As)
}

// Withdraw takes a statement back, makes an account anew or gives a group back, in one step that is recorded. It returns
// what it changed, in sentences. A store in a SQLite file must not be open for a door.
func Withdraw(ctx context.Context, dir string, c *door.Config, w *Withdrawal, at time.Time) (done []string, err error) {
	if err := w.Check(); err != nil {
		return nil, err
	}
	opened, err := Loader(dir)()
	if err != nil {
		return nil, err
	}
	s, err := JoinStore(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	at = at.UTC().Truncate(time.Microsecond)
	if _, err := store.CarryOver(ctx, s, at); err != nil {
		return nil, err
	}
	err = s.Update(ctx, func(tx store.Tx) error {
		done = nil
		x := &withdrawing{Withdrawal: w, ctx: ctx, tx: tx, at: at}
		var err error
		switch {
		case w.Group != "":
			err = x.group()
		default:
			err = x.account(listedIn(opened.Judge().Directory().Accounts, w.Account))
		}
		if err != nil {
			return err
		}
		done = x.done
		return x.record()
	})
	return done, err
}

// withdrawing is a withdrawal within a transaction.
type withdrawing struct {
	*Withdrawal
	ctx  context.Context
	tx   store.Tx
	at   time.Time
	done []string
}

// withdraw takes statements of an account back that a function chooses, and returns how many.
func (x *withdrawing) withdraw(a *store.Account, chosen func(*store.Statement) bool) (n int) {
	for _, s := range slices.Clone(a.Stated) {
		if s.Withdrawn || !chosen(&s) {
			continue
		}
		x.done = append(x.done, fmt.Sprintf("%s of %s is no longer stated by %s (it was %s).", s.Label(), a.Name, s.By, s.Value))
		s.Withdrawn = true
		s.At = a.After(s.By, x.at)
		a.Say(s)
		n++
	}
	return n
}

func (x *withdrawing) account(listed store.Listed) error {
	a := &store.Account{Name: x.Account}
	if err := store.Load(x.ctx, x.tx, a); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if listed.Account == nil && !a.States() {
		return fmt.Errorf("neither the book nor a source knows an account %q", x.Account)
	}
	if x.Anew {
		x.withdraw(a, func(s *store.Statement) bool { return s.Fact == store.Gone })
		entry := ""
		if listed.Entry != nil {
			entry = listed.Entry()
		}
		if err := a.MakeAnew(x.ctx, x.tx, x.at, store.AdministratorSource(x.As), entry); err != nil {
			return err
		}
		x.done = append(x.done, fmt.Sprintf("%s is made anew: nothing that was shown, reported or consented before counts any more.", a.Name))
		if err := x.endSessions(); err != nil {
			return err
		}
	}
	if x.Fact != "" {
		if x.withdraw(a, func(s *store.Statement) bool { return s.Label() == x.Fact && s.By == x.Of }) == 0 {
			return fmt.Errorf("%s does not state %q of %s; `serve facts %s` lists what is stated", x.Of, x.Fact, x.Account, x.Account)
		}
	}
	return store.Save(x.tx, a)
}

// endSessions ends the open sessions of the account.
func (x *withdrawing) endSessions() error {
	for row, err := range store.All(x.ctx, x.tx, store.Query{Kind: store.Sessions, Account: x.Account}) {
		if err != nil {
			return err
		}
		s := new(store.Session)
		if err := store.Read(row, s); err != nil {
			return err
		}
		if !s.Ended.IsZero() {
			continue
		}
		s.End(x.at, "the account was made anew")
		if err := store.Save(x.tx, s); err != nil {
			return err
		}
		x.done = append(x.done, fmt.Sprintf("The session %s is ended.", s.ID))
	}
	return nil
}

func (x *withdrawing) group() error {
	g := &store.Group{Name: x.Group}
	switch err := store.Load(x.ctx, x.tx, g); {
	case errors.Is(err, store.ErrNotFound):
		return fmt.Errorf("no feed manages a group %q", x.Group)
	case err != nil:
		return err
	case g.By != x.Of:
		return fmt.Errorf("%s is managed by %s", x.Group, g.By)
	}
	for row, err := range store.All(x.ctx, x.tx, store.MembersOf(x.Group)) {
		if err != nil {
			return err
		}
		a := &store.Account{Name: row.Account}
		if err := errors.Join(store.Load(x.ctx, x.tx, a), x.tx.Delete(row.Key)); err != nil {
			return err
		}
		x.withdraw(a, func(s *store.Statement) bool { return s.Fact == store.Membership && s.Name == x.Group && s.By == x.Of })
		if err := store.Save(x.tx, a); err != nil {
			return err
		}
	}
	x.done = append(x.done, fmt.Sprintf("%s is the book's again.", x.Group))
	return store.Drop(x.tx, g)
}

// record enters what was done in the journal.
func (x *withdrawing) record() error {
	detail, err := json.Marshal(struct {
		Resource string       `json:"resource"`
		Name     string       `json:"name"`
		Change   string       `json:"change"`
		Fact     string       `json:"fact,omitzero"`
		Of       store.Source `json:"of,omitzero"`
		By       string       `json:"by"`
		Because  string       `json:"because"`
		Done     []string     `json:"done"`
	}{map[bool]string{true: "group", false: "user"}[x.Group != ""], x.Group + x.Account, map[bool]string{true: "made_anew",
		false: "withdrawn"}[x.Anew],
		x.Fact, x.Of, x.As, x.Because, x.done})
	if err != nil {
		return err
	}
	e := journal.Make(journal.People, journal.NewID(), x.at, x.As, x.Account, "people", detail)
	return x.tx.Append(store.TerminalLog, []journal.Entry{e})
}
