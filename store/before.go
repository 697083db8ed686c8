package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/journal"
)

// What a version of this program kept that did not note its sources is carried over by CarryOver. Its facts are
// statements of the source Before.

// accountBefore is an account as it was kept then.
type accountBefore struct {
	Shown
	Previous *attempt.Previous    `json:"previous"`
	Failures []time.Time          `json:"failures"`
	Accepted []attempt.Acceptance `json:"accepted"`
	Since    time.Time            `json:"since"`
	Pushed   *Pushed              `json:"pushed"`
}

// statements are what was kept, as of a moment. That an account is disabled may have been said by a feed or by an event, so
// an administrator alone takes it back.
func (b *accountBefore) statements(at time.Time) (list []Statement) {
	say := func(fact Fact, name string, value attempt.Scalar) *Statement {
		list = append(list, Statement{Fact: fact, Name: name, By: Before, At: at, Value: value})
		return &list[len(list)-1]
	}
	if b.Disabled {
		say(Disabled, "", attempt.BoolScalar(true))
	}
	if b.Kind != 0 {
		say(AccountKind, "", attempt.TextScalar(b.Kind.String()))
	}
	for _, g := range b.Groups {
		say(Membership, g, attempt.BoolScalar(true))
	}
	for name, value := range b.Attributes {
		say(Attribute, name, value)
	}
	if b.Joined != nil {
		say(Joined, "", attempt.TextScalar(b.Joined.String()))
	}
	if b.Methods != nil {
		say(Methods, "", attempt.BoolScalar(true))
		for _, m := range b.Methods {
			say(Method, m, attempt.BoolScalar(true))
		}
	}
	if t := b.PasswordChangedAt; t != nil {
		say(Password, "", attempt.TextScalar(t.UTC().Format(time.RFC3339Nano)))
	}
	if r := b.Risk; r != nil {
		s := say(StandingRisk, "", attempt.TextScalar(r.Level.String()))
		s.Because = r.Because
		if r.Since != nil {
			s.At = *r.Since
		}
	}
	slices.SortFunc(list, func(x, y Statement) int {
		return bytes.Compare([]byte(string(x.Fact)+"\n"+x.Name), []byte(string(y.Fact)+"\n"+y.Name))
	})
	return list
}

// deviceBefore is a device as it was kept then, as far as it differs.
type deviceBefore struct {
	Compliance *Compliance `json:"compliance"`
	SeenWith   []string    `json:"seen_with"`
}

// groupBefore is a group as it was kept then.
type groupBefore struct {
	Name    string   `json:"name"`
	Members []string `json:"members"`
	Pushed  *Pushed  `json:"pushed"`
}

// carried is how many rows CarryOver changes together.
const carried = 1000

// CarryOver brings rows of a version before to the form of this one, once: it is to be called before a store is used, and
// costs reading one row where there is nothing to do. It returns how many rows it changed. What a failure left undone is
// done by calling it again.
func CarryOver(ctx context.Context, s Store, at time.Time) (rows int, err error) {
	done, kinds := &Form{Name: "facts", Form: factsForm}, []Kind{Accounts, Devices, Groups, Watch, Sessions}
	switch err := Load(ctx, s, done); {
	case err == nil && done.Form > factsForm:
		return 0, fmt.Errorf("the store is of a newer version of this program (facts of form %d, and this one knows %d)", done.Form, factsForm)
	case err == nil && done.Form == factsForm:
		return 0, nil
	case err == nil:
		kinds = []Kind{Sessions}
	case !errors.Is(err, ErrNotFound):
		return 0, err
	}
	for _, kind := range kinds {
		for after, more := "", true; more; {
			err := s.Update(ctx, func(tx Tx) error {
				list, err := tx.List(ctx, Query{Kind: kind, After: after, Limit: carried})
				if err != nil {
					return err
				}
				if more = len(list) == carried; len(list) > 0 {
					after = list[len(list)-1].Key.Key
				}
				for _, row := range list {
					if err := carryRow(ctx, tx, row, at); err != nil {
						return fmt.Errorf("the %s %q cannot be carried over: %w", kind, row.Key.Key, err)
					}
				}
				rows += len(list)
				return nil
			})
			if err != nil {
				return rows, err
			}
		}
	}
	return rows, s.Update(ctx, func(tx Tx) error { return Save(tx, &Form{Name: "facts", Form: factsForm}) })
}

// factsForm is the form of the rows of accounts, devices, groups and sessions.
const factsForm = 3

// carryRow changes one row.
func carryRow(ctx context.Context, tx Tx, row Row, at time.Time) error {
	var has map[string]json.RawMessage
	if err := json.Unmarshal(row.Value, &has); err != nil {
		return err
	}
	switch row.Kind {
	case Accounts:
		if has["stated"] != nil || has["made"] != nil {
			return nil // it was carried over already
		}
		var b accountBefore
		if has["pushed"] != nil && !bytes.Contains(has["pushed"], []byte(`"attributes"`)) {
			return nil
		}
		if err := json.Unmarshal(row.Value, &b); err != nil {
			return err
		}
		a := &Account{Name: b.Name, AskedAt: b.AskedAt, Previous: b.Previous, Failures: b.Failures, Accepted: b.Accepted}
		stated := at
		if b.Pushed != nil {
			a.SetPushed(Before, b.Pushed)
			stated = b.Pushed.Changed
		}
		if !b.Since.IsZero() {
			a.Made = Making{At: b.Since, By: Before, IsFirst: true}
			if !stated.After(b.Since) {
				stated = b.Since.Add(time.Microsecond)
			}
		}
		a.Stated = b.statements(stated)
		return Save(tx, a)
	case Devices:
		var b deviceBefore
		if json.Unmarshal(row.Value, &b) != nil {
			return nil // it was carried over already
		}
		delete(has, "compliance")
		delete(has, "seen_with")
		text, err := json.Marshal(has)
		if err != nil {
			return err
		}
		d := new(Device)
		if err := json.Unmarshal(text, d); err != nil {
			return err
		}
		if b.Compliance != nil {
			b.Compliance.By = Before
			d.Compliance = []Compliance{*b.Compliance}
		}
		for _, name := range b.SeenWith {
			d.SeenWith = append(d.SeenWith, SeenAccount{Account: name, At: at})
		}
		return Save(tx, d)
	case Watch:
		if has["next"] == nil {
			return nil
		}
		w := &Watched{Next: map[string]int64{}, State: has["state"]}
		var next int64
		if err := json.Unmarshal(has["next"], &next); err != nil {
			return err
		}
		w.Next[journal.BeforeLog] = next
		return Save(tx, w)
	case Sessions:
		// Form 2 named a session by its sid alone. Whose it was the account alone says: its end holds on, and one that was open begins
		// again with the next token.
		if has["sid"] != nil {
			return nil
		}
		s := new(Session)
		if err := json.Unmarshal(row.Value, s); err != nil {
			return err
		}
		ended := s.Ended
		if s.VoidUntil.After(ended) {
			ended = s.VoidUntil
		}
		if err := tx.Delete(row.Key); err != nil || ended.IsZero() {
			return err
		}
		a := &Account{Name: s.Account}
		if err := Load(ctx, tx, a); err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		a.EndSID(s.ID, ended)
		return Save(tx, a)
	case Groups:
		if has["members"] == nil {
			return nil
		}
		var b groupBefore
		if err := json.Unmarshal(row.Value, &b); err != nil {
			return err
		}
		for _, m := range b.Members {
			if err := Save(tx, &Member{Group: b.Name, Account: m, Since: at}); err != nil {
				return err
			}
		}
		return Save(tx, &Group{Name: b.Name, By: Before, IsManaged: true, Pushed: b.Pushed})
	}
	return nil
}
