// Package storetest has the tests that each implementation of store.Store must pass.
package storetest

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

var at = time.Date(2026, time.November, 23, 13, 10, 0, 123456000, time.UTC)

// Entry makes an entry of the journal, so many seconds after the first.
func Entry(seconds int, kind journal.Kind, account string) journal.Entry {
	return journal.Make(kind, journal.NewID(), at.Add(time.Duration(seconds)*time.Second), "gateway", account, "answer",
		[]byte(`{"verdict":"grant"}`))
}

// log is the one that tests append to.
const log = "door"

// Head returns the end of the log that tests append to, one without entries where there is none.
func Head(t *testing.T, s store.Store) journal.Head {
	heads, err := s.Heads(t.Context())
	require.NoError(t, err)
	for _, head := range heads {
		if head.Log == log {
			return head
		}
	}
	return journal.Head{Log: log}
}

func put(s store.Store, rows ...store.Row) error {
	return s.Update(context.Background(), func(tx store.Tx) error {
		for _, row := range rows {
			if err := tx.Put(row); err != nil {
				return err
			}
		}
		return nil
	})
}

func collect(t *testing.T, entries iter.Seq2[journal.Entry, error]) []journal.Entry {
	var list []journal.Entry
	for e, err := range entries {
		require.NoError(t, err)
		list = append(list, e)
	}
	return list
}

func keys(rows []store.Row) []string {
	list := []string{}
	for _, row := range rows {
		list = append(list, row.Key.Key)
	}
	return list
}

// Run runs all tests, each on an empty store from empty. Where the store lasts, again opens what
// was closed once more; for one that does not it is nil.
func Run(t *testing.T, empty func(*testing.T) store.Store, again func(*testing.T, store.Store) store.Store) {
	ctx := context.Background()
	t.Run("rows", func(t *testing.T) { rows(t, empty(t)) })
	t.Run("values come back as they were", func(t *testing.T) { values(t, empty(t)) })
	t.Run("a transaction is kept whole or not at all", func(t *testing.T) { whole(t, empty(t)) })
	t.Run("what was planned is done on what it rests on, or not at all", func(t *testing.T) { plans(t, empty) })
	t.Run("as a map", func(t *testing.T) { model(t, empty(t)) })
	t.Run("journal", func(t *testing.T) { entries(t, empty(t)) })
	t.Run("logs are one journal", func(t *testing.T) { logs(t, empty(t)) })
	t.Run("Concurrent changes follow one another", func(t *testing.T) { concurrent(t, empty(t)) })
	if again == nil {
		return
	}
	t.Run("what was kept is there again", func(t *testing.T) {
		s := empty(t)
		require.NoError(t, put(s, store.Row{Key: store.Key{Kind: store.Devices, Key: "till-04"}, Value: []byte(`{"id":"till-04"}`)}))
		first := Entry(0, journal.Reload, "")
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(log, []journal.Entry{first}) }))
		head := Head(t, s)
		s = again(t, s)
		device := store.Device{ID: "till-04"}
		require.NoError(t, store.Load(ctx, s, &device))
		e, err := s.Entry(ctx, first.ID)
		require.NoError(t, err)
		require.Equal(t, first.Leaf, e.Leaf)
		same := Head(t, s)
		require.Equal(t, head, same)
	})
}

func rows(t *testing.T, s store.Store) {
	ctx := context.Background()
	odd := "a\"'\n;é\u00a0" + strings.Repeat("x", 180)
	key := func(name string) store.Key { return store.Key{Kind: store.Sessions, Key: name} }
	require.NoError(t, put(s,
		store.Row{Key: key("b"), Account: "oskar", Due: at, Value: []byte(`1`)},
		store.Row{Key: key("a"), Account: "liv", Device: "till-04", Due: at.Add(time.Hour), Value: []byte(`{"a":  2}`)},
		store.Row{Key: key(odd), Account: "oskar", Value: []byte(`3`)},
		store.Row{Key: store.Key{Kind: store.Accounts, Key: "a"}, Value: []byte(`4`)},
	))
	row, err := s.Get(ctx, key("a"))
	require.NoError(t, err)
	row.Stamp = 0 // which is the store's
	require.Equal(t, store.Row{Key: key("a"), Account: "liv", Device: "till-04", Due: at.Add(time.Hour), Value: []byte(`{"a":  2}`)}, row)
	row.Value[0] = '?'
	row, err = s.Get(ctx, key("a"))
	require.NoError(t, err)
	require.Equal(t, `{"a":  2}`, string(row.Value), "what was returned is the caller's")
	_, err = s.Get(ctx, key("B"))
	require.ErrorIs(t, err, store.ErrNotFound, "keys are told apart by their bytes")
	row, err = s.Get(ctx, key(odd))
	require.NoError(t, err)
	require.True(t, row.Due.IsZero())
	for name, c := range map[string]struct {
		q    store.Query
		want []string
	}{
		"a kind":     {store.Query{Kind: store.Sessions}, []string{"a", odd, "b"}},
		"another":    {store.Query{Kind: store.Groups}, []string{}},
		"an account": {store.Query{Kind: store.Sessions, Account: "oskar"}, []string{odd, "b"}},
		"a device":   {store.Query{Kind: store.Sessions, Device: "till-04"}, []string{"a"}},
		"due":        {store.Query{Kind: store.Sessions, DueBy: at}, []string{"b"}},
		"a prefix":   {store.Query{Kind: store.Sessions, Prefix: "a\""}, []string{odd}},
		"a page":     {store.Query{Kind: store.Sessions, After: "a", Limit: 1}, []string{odd}},
	} {
		t.Run(name, func(t *testing.T) {
			found, err := s.List(ctx, c.q)
			require.NoError(t, err)
			require.Equal(t, c.want, keys(found))
		})
	}
	require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
		return errors.Join(tx.Delete(key("a")), tx.Delete(key("was never")), tx.Put(store.Row{Key: key("b"), Value: []byte(`5`)}))
	}))
	found, err := s.List(ctx, store.Query{Kind: store.Sessions})
	require.NoError(t, err)
	require.Equal(t, []string{odd, "b"}, keys(found))
	require.Equal(t, []byte(`5`), found[1].Value)
	require.Empty(t, found[1].Account, "a row takes the place of the one of its key whole")
}

func values(t *testing.T, s store.Store) {
	ctx := context.Background()
	list := []store.Value{
		&store.Account{Name: "liv", Made: store.Making{At: at, By: store.CallerSource("hr"), Entry: "e", IsFirst: true},
			Revoked: at, RevokedHere: at, EndedSIDs: []store.EndedSID{{SID: "9", At: at}}, Changed: map[string]time.Time{"password": at},
			Stated: []store.Statement{
				{Fact: store.Attribute, Name: "rank", By: store.Before, At: at, Value: attempt.NumberScalar(2)},
				{Fact: store.StandingRisk, By: store.IssuerSource("https://feed.example"), At: at, Value: attempt.TextScalar("high"), Because: "odd"},
				{Fact: store.Disabled, By: store.AdministratorSource("ragna"), At: at, Value: attempt.BoolScalar(true), Withdrawn: true},
			}, AskedAt: &at,
			Previous: &attempt.Previous{At: at, Country: attempt.Known(attempt.CountryCode("NO"))}, Failures: []time.Time{at},
			Accepted: []attempt.Acceptance{{Document: "crew-handbook", Version: 3, At: at}},
			Pushed: map[store.Source]*store.Pushed{store.CallerSource("hr"): {ExternalID: "7", Attributes: json.RawMessage(`{"userName":"liv"}`),
				Created: at, Changed: at, Version: 2}}},
		&store.Device{ID: "till-04", Platform: "windows", Facts: map[string]attempt.Scalar{"firewall": attempt.BoolScalar(true)},
			ReportedAt: &at, Compliance: []store.Compliance{{By: store.Before, Compliant: true, At: at}},
			SeenWith:   []store.SeenAccount{{Account: "liv", At: at}},
			Remembered: []attempt.Remembered{{Account: "liv", Method: "push", At: at}}},
		&store.Group{Name: "deck", By: store.CallerSource("hr"),
			Pushed: &store.Pushed{Attributes: json.RawMessage(`{}`), Created: at, Changed: at, Version: 1}},
		&store.Member{Group: "deck", Account: "liv", Since: at, IsDoubted: true},
		&store.Form{Name: "facts", Form: 2},
		&store.Restored{At: at, By: "ragna", Because: "the disk failed", Resynced: []store.Source{store.Administrators}},
		&store.Challenge{Whom: store.ChallengeOf("https://idp.example", "liv", "web"), SID: "s-9", App: "till", Authenticated: at, First: at,
			Last: at, Met: at},
		&store.Session{ID: "s-9", Issuer: "https://idp.example", SID: "9", Account: "liv", Started: at, Spared: at, PasswordChange: at,
			VoidUntil: at, Proofs: []attempt.Proof{{Method: "password", At: at, App: "mail", Fallback: true}},
			Apps: []store.Granted{
				{App: "mail", At: at, Attempt: json.RawMessage(`{"account":"liv"}`), Ends: at, Decision: "d", Authenticated: at,
					Idle: directory.Span(time.Minute), Used: at},
				{App: "till", At: at, Decision: "e", Ended: at, Because: "it was revoked"},
			}, Device: "till-04", Seen: at, Ended: at,
			Because: "it was revoked", Next: at},
		&store.Outgoing{ID: "1", To: "idp", Session: "s-9", Token: "e30", Tries: 2, Next: at},
		&store.SeenToken{Issuer: "https://feed.example", JTI: "j", At: at},
	}
	require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
		for _, v := range list {
			if err := store.Save(tx, v); err != nil {
				return err
			}
		}
		return nil
	}))
	for _, want := range list {
		t.Run(fmt.Sprintf("%T", want), func(t *testing.T) {
			got := map[bool]store.Value{}
			switch v := want.(type) {
			case *store.Account:
				got[true] = &store.Account{Name: v.Name}
			case *store.Device:
				got[true] = &store.Device{ID: v.ID}
			case *store.Group:
				got[true] = &store.Group{Name: v.Name}
			case *store.Member:
				got[true] = &store.Member{Group: v.Group, Account: v.Account}
			case *store.Form:
				got[true] = &store.Form{Name: v.Name}
			case *store.Restored:
				got[true] = new(store.Restored)
			case *store.Challenge:
				got[true] = &store.Challenge{Whom: v.Whom, SID: v.SID}
			case *store.Session:
				got[true] = &store.Session{ID: v.ID}
			case *store.Outgoing:
				got[true] = &store.Outgoing{ID: v.ID}
			case *store.SeenToken:
				got[true] = &store.SeenToken{Issuer: v.Issuer, JTI: v.JTI}
			}
			require.NoError(t, store.Load(ctx, s, got[true]))
			require.Equal(t, want, got[true])
			written, err := json.Marshal(want)
			require.NoError(t, err)
			require.JSONEq(t, string(written), string(store.RowOf(want).Value))
			require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return store.Drop(tx, want) }))
			require.ErrorIs(t, store.Load(ctx, s, got[true]), store.ErrNotFound)
		})
	}
}

// plans holds a store to what a plan promises, in which another changes what it read, or not.
func plans(t *testing.T, empty func(*testing.T) store.Store) {
	ctx := context.Background()
	device := func(id string) store.Key { return store.Key{Kind: store.Devices, Key: id} }
	put := func(tx store.Tx, id, value string) error {
		return tx.Put(store.Row{Key: device(id), Value: []byte(value)})
	}
	for name, another := range map[string]func(tx store.Tx) error{
		"":                             func(store.Tx) error { return nil },
		"a row that it did not read":   func(tx store.Tx) error { return put(tx, "other", `"new"`) },
		"outdated: a row that it read": func(tx store.Tx) error { return put(tx, "read", `"new"`) },
		"outdated: one that it listed": func(tx store.Tx) error { return tx.Delete(device("listed")) },
		"outdated: one that was none":  func(tx store.Tx) error { return put(tx, "none", `"new"`) },
	} {
		t.Run(name, func(t *testing.T) {
			s := empty(t)
			require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
				return errors.Join(put(tx, "read", `"old"`), put(tx, "listed", `"old"`), put(tx, "other", `"old"`))
			}))
			p := store.NewPlan(s)
			row, err := p.Get(ctx, device("read"))
			require.NoError(t, err)
			require.Equal(t, `"old"`, string(row.Value))
			_, err = p.Get(ctx, device("none"))
			require.ErrorIs(t, err, store.ErrNotFound)
			require.NoError(t, errors.Join(put(p, "read", `"planned"`), put(p, "none", `"planned"`)))
			found, err := p.List(ctx, store.Query{Kind: store.Devices, Prefix: "listed"})
			require.NoError(t, err)
			require.Len(t, found, 1)
			require.NoError(t, p.Delete(device("listed")))
			row, err = p.Get(ctx, device("read"))
			require.NoError(t, err)
			require.Equal(t, `"planned"`, string(row.Value), "a plan sees what it changes")
			_, err = s.Get(ctx, device("none"))
			require.ErrorIs(t, err, store.ErrNotFound, "it changes nothing yet")

			require.NoError(t, s.Update(ctx, another))
			before, err := s.List(ctx, store.Query{Kind: store.Devices})
			require.NoError(t, err)
			err = s.Update(ctx, func(tx store.Tx) error { return p.Apply(ctx, tx, nil) })
			after, listing := s.List(ctx, store.Query{Kind: store.Devices})
			require.NoError(t, listing)
			if strings.HasPrefix(name, "outdated") {
				require.ErrorIs(t, err, store.ErrOutdated)
				require.Equal(t, before, after)
				return
			}
			require.NoError(t, err)
			require.Equal(t, []string{"none", "other", "read"}, keys(after))
		})
	}
}

func whole(t *testing.T, s store.Store) {
	ctx := context.Background()
	failed := errors.New("failed")
	account := &store.Account{Name: "liv"}
	e := Entry(0, journal.People, "liv")
	require.ErrorIs(t, s.Update(ctx, func(tx store.Tx) error {
		require.NoError(t, store.Save(tx, account))
		require.NoError(t, tx.Append(log, []journal.Entry{e}))
		require.NoError(t, store.Load(ctx, tx, &store.Account{Name: "liv"}), "a transaction sees what it changed")
		found, err := tx.List(ctx, store.Query{Kind: store.Accounts})
		require.NoError(t, err)
		require.Equal(t, []string{"liv"}, keys(found))
		return failed
	}), failed)
	require.ErrorIs(t, store.Load(ctx, s, account), store.ErrNotFound)
	_, err := s.Entry(ctx, e.ID)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(log, []journal.Entry{e}) }))
	require.Error(t, s.Update(ctx, func(tx store.Tx) error {
		require.NoError(t, store.Save(tx, account))
		return tx.Append(log, []journal.Entry{e})
	}), "an entry stands once")
	require.ErrorIs(t, store.Load(ctx, s, account), store.ErrNotFound)
	head := Head(t, s)
	require.EqualValues(t, 1, head.Size)
}

func model(t *testing.T, s store.Store) {
	ctx := context.Background()
	kept := map[store.Key]string{}
	rapid.Check(t, func(t *rapid.T) {
		fails := rapid.Bool().Draw(t, "fails")
		next := map[store.Key]string{}
		for k, v := range kept {
			next[k] = v
		}
		err := s.Update(ctx, func(tx store.Tx) error {
			for range rapid.IntRange(1, 6).Draw(t, "changes") {
				key := store.Key{Kind: rapid.SampledFrom([]store.Kind{store.Accounts, store.Devices}).Draw(t, "kind"),
					Key: rapid.SampledFrom([]string{"a", "b", "B", "ä"}).Draw(t, "key")}
				if rapid.Bool().Draw(t, "drop") {
					delete(next, key)
					require.NoError(t, tx.Delete(key))
				} else {
					next[key] = rapid.SampledFrom([]string{"1", "[2]", `{"x":"3"}`}).Draw(t, "value")
					require.NoError(t, tx.Put(store.Row{Key: key, Value: []byte(next[key])}))
				}
				row, err := tx.Get(ctx, key)
				if next[key] == "" {
					require.ErrorIs(t, err, store.ErrNotFound)
				} else {
					require.Equal(t, next[key], string(row.Value))
				}
			}
			seen := map[store.Key]string{}
			for _, kind := range []store.Kind{store.Accounts, store.Devices} {
				for row, err := range store.All(ctx, tx, store.Query{Kind: kind, Limit: 1}) {
					require.NoError(t, err)
					seen[row.Key] = string(row.Value)
				}
			}
			require.Equal(t, next, seen, "a page at a time, within the transaction")
			if fails {
				return errors.New("failed")
			}
			return nil
		})
		require.Equal(t, fails, err != nil)
		if !fails {
			kept = next
		}
		found := map[store.Key]string{}
		for _, kind := range []store.Kind{store.Accounts, store.Devices} {
			for row, err := range store.All(ctx, s, store.Query{Kind: kind, Limit: 2}) {
				require.NoError(t, err)
				found[row.Key] = string(row.Value)
			}
		}
		require.Equal(t, kept, found)
	})
}

func entries(t *testing.T, s store.Store) {
	ctx := context.Background()
	head := Head(t, s)
	require.Zero(t, head.Size)
	list := []journal.Entry{Entry(0, journal.Reload, ""), Entry(1, journal.Decision, "liv"), Entry(2, journal.Decision, "oskar"),
		Entry(3, journal.Event, "liv"), Entry(4, journal.Decision, "liv")}
	list[1].Brief, list[4].Brief = []byte("brief"), []byte("brief")
	for _, some := range [][]journal.Entry{list[:1], list[1:4], list[4:]} {
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(log, some) }))
	}
	for name, c := range map[string]struct {
		f    journal.Filter
		want []int64
	}{
		"all":        {journal.Filter{}, []int64{0, 1, 2, 3, 4}},
		"a kind":     {journal.Filter{Kind: journal.Decision}, []int64{1, 2, 4}},
		"an account": {journal.Filter{Account: "liv"}, []int64{1, 3, 4}},
		"a time":     {journal.Filter{From: at.Add(time.Second), To: at.Add(3 * time.Second)}, []int64{1, 2}},
		"a page":     {journal.Filter{Log: log, After: 2, Limit: 2}, []int64{2, 3}},
		"the latest": {journal.Filter{Account: "liv", Latest: true, Limit: 2}, []int64{4, 3}},
		"a brief":    {journal.Filter{Match: func(e *journal.Entry) bool { return string(e.Brief) == "brief" }, Limit: 1}, []int64{1}},
		"nothing":    {journal.Filter{Match: func(*journal.Entry) bool { return false }}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			var numbers []int64
			for _, e := range collect(t, s.Entries(ctx, c.f)) {
				numbers = append(numbers, e.Number)
				require.Equal(t, list[e.Number].Leaf, e.Leaf)
				require.Equal(t, string(list[e.Number].Brief), string(e.Brief))
				require.True(t, list[e.Number].At.Equal(e.At))
			}
			require.Equal(t, c.want, numbers)
			c.f.Bare = true
			for i, e := range collect(t, s.Entries(ctx, c.f)) {
				require.True(t, list[c.want[i]].At.Equal(e.At))
				require.Equal(t, list[c.want[i]].Kind, e.Kind)
				if require.Nil(t, e.Leaf); c.f.Log != "" {
					require.Equal(t, c.want[i], e.Number)
				}
			}
		})
	}
	head = Head(t, s)
	found, err := journal.Verify(ctx, unbriefed{s}, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 5, found.Size)

	t.Run("what older entries say is pruned, and the rest verifies", func(t *testing.T) {
		n, err := store.Prune(ctx, s, log, at.Add(3*time.Second), "ragna", at.Add(time.Hour))
		require.NoError(t, err)
		require.EqualValues(t, 3, n)
		pruned := collect(t, s.Entries(ctx, journal.Filter{}))
		for _, e := range pruned[:3] {
			require.Nil(t, e.Leaf)
			require.Nil(t, e.Brief)
			require.Empty(t, e.Account)
			require.Equal(t, list[e.Number].Hash, e.Hash)
			require.Equal(t, list[e.Number].ID, e.ID)
		}
		require.Equal(t, list[3].Leaf, pruned[3].Leaf)
		require.Len(t, collect(t, s.Entries(ctx, journal.Filter{Account: "liv"})), 2)
		found, err := journal.Verify(ctx, unbriefed{s}, journal.Verification{})
		require.NoError(t, err)
		require.EqualValues(t, 3, found.Pruned)
		require.Equal(t, []journal.Pruning{{Before: at.Add(3 * time.Second), By: "ragna", Entries: 3, Log: log}}, found.Prunings)
		n, err = store.Prune(ctx, s, log, at.Add(2*time.Hour), "liv", at.Add(3*time.Hour))
		require.NoError(t, err)
		require.EqualValues(t, 2, n, "what says which entries were pruned is not")
		found, err = journal.Verify(ctx, unbriefed{s}, journal.Verification{})
		require.NoError(t, err)
		require.EqualValues(t, 5, found.Pruned)
		require.Len(t, found.Prunings, 2)
	})
}

// logs: each log has numbers of its own, all are read by time, and one can empty entries of another.
func logs(t *testing.T, s store.Store) {
	ctx := t.Context()
	add := func(log string, entries ...journal.Entry) {
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(log, entries) }))
	}
	at := func(second int) journal.Entry { return Entry(second, journal.Report, "liv") }
	add("one", at(0), at(4))
	add("two", at(1))
	add("two", at(3), at(4))
	add("one", at(2))
	places := func(f journal.Filter) (list []string) {
		for _, e := range collect(t, s.Entries(ctx, f)) {
			list = append(list, fmt.Sprintf("%s %d", e.Log, e.Number))
		}
		return list
	}
	require.Equal(t, []string{"one 0", "two 0", "one 2", "two 1", "one 1", "two 2"}, places(journal.Filter{}), "by time, log and number")
	require.Equal(t, []string{"two 2", "one 1", "two 1"}, places(journal.Filter{Account: "liv", Latest: true, Limit: 3}))
	require.Equal(t, []string{"one 1", "one 2"}, places(journal.Filter{Log: "one", After: 1}), "one log by number")
	found, err := journal.Verify(ctx, s, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 6, found.Size)
	require.Equal(t, []string{"one", "two"}, []string{found.Logs[0].Log, found.Logs[1].Log})
	n, err := store.Prune(ctx, s, "two", at(2).At, "ragna", at(9).At)
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
	found, err = journal.Verify(ctx, s, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 2, found.Pruned)
	require.Len(t, found.Prunings, 2, "one for each log, both in the log of who pruned")
	for _, name := range []string{"", "a b", "ä", strings.Repeat("x", 65)} {
		require.Error(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(name, []journal.Entry{at(9)}) }), "%q names no log", name)
	}
}

// Unzip reads a file of testdata that is packed with gzip.
func Unzip(t *testing.T, name string) []byte {
	small, err := os.Open(filepath.Join("testdata", name))
	require.NoError(t, err)
	defer small.Close()
	from, err := gzip.NewReader(small)
	require.NoError(t, err)
	text, err := io.ReadAll(from)
	require.NoError(t, err)
	return text
}

// CarriedOver holds a store against what a door of the version before had kept, in testdata/before.*: three people who signed
// on, one whom a feed pushed as not active, a group of hers, 27 entries, two of them pruned, and a checkpoint.
func CarriedOver(t *testing.T, s store.Store) {
	ctx := t.Context()
	read := func(name string) []byte {
		text, err := os.ReadFile(filepath.Join("testdata", name))
		require.NoError(t, err)
		return text
	}
	found, err := journal.Verify(ctx, s, journal.Verification{Checkpoint: read("before.checkpoint"), PublicKey: string(read("before.pub"))})
	require.NoError(t, err, "against the checkpoint of then")
	require.EqualValues(t, 27, *found.Covered)
	require.EqualValues(t, 2, found.Pruned)
	require.Equal(t, journal.BeforeLog, found.Logs[0].Log)
	require.Len(t, collect(t, s.Entries(ctx, journal.Filter{Account: "liv@kestrelsound.example"})), 6)
	before, err := s.List(ctx, store.Query{Kind: store.Sessions})
	require.NoError(t, err)
	require.Len(t, slices.DeleteFunc(slices.Clone(before), func(r store.Row) bool { return r.Account != "oskar@kestrelsound.example" }), 7,
		"what had changed last among them")
	rows, err := store.CarryOver(ctx, s, at)
	require.NoError(t, err)
	require.Positive(t, rows)
	left, err := s.List(ctx, store.Query{Kind: store.Sessions})
	require.NoError(t, err)
	require.Empty(t, left, "whose names say not who gave them")
	for _, row := range before {
		was, account := new(store.Session), &store.Account{Name: row.Account}
		require.NoError(t, store.Read(row, was))
		require.NoError(t, store.Load(ctx, s, account))
		require.Equal(t, was.Ended, account.SIDEnded(was.ID))
	}
	hand := &store.Account{Name: "new.hand@kestrelsound.example"}
	require.NoError(t, store.Load(ctx, s, hand))
	require.Contains(t, hand.Stated, store.Statement{Fact: store.Disabled, By: store.Before, At: hand.Pushed[store.Before].Changed,
		Value: attempt.BoolScalar(true)})
	members, err := s.List(ctx, store.MembersOf("deck"))
	require.NoError(t, err)
	require.Len(t, members, 1)
	watched := new(store.Watched)
	require.NoError(t, store.Load(ctx, s, watched))
	require.Positive(t, watched.Next[journal.BeforeLog])
	require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(log, []journal.Entry{Entry(0, journal.Reload, "")}) }))
	found, err = journal.Verify(ctx, s, journal.Verification{Checkpoint: read("before.checkpoint"), PublicKey: string(read("before.pub"))})
	require.NoError(t, err)
	require.Len(t, found.Logs, 2, "a door goes on in a log of its own")
}

// unbriefed is a store whose briefs, which are none in this test, are left out.
type unbriefed struct{ store.Store }

// Entries implements store.Store.
func (u unbriefed) Entries(ctx context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	return func(yield func(journal.Entry, error) bool) {
		for e, err := range u.Store.Entries(ctx, f) {
			e.Brief = nil
			if !yield(e, err) {
				return
			}
		}
	}
}

func concurrent(t *testing.T, s store.Store) {
	ctx := context.Background()
	var group sync.WaitGroup
	const workers, rounds = 4, 25
	for worker := range workers {
		group.Go(func() {
			for i := range rounds {
				err := s.Update(ctx, func(tx store.Tx) error {
					count := &store.Account{Name: "count"}
					if err := store.Load(ctx, tx, count); err != nil && !errors.Is(err, store.ErrNotFound) {
						return err
					}
					count.Failures = append(count.Failures, at)
					return errors.Join(store.Save(tx, count), tx.Append(log, []journal.Entry{Entry(worker*rounds+i, journal.Decision, "count")}))
				})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	group.Wait()
	count := &store.Account{Name: "count"}
	require.NoError(t, store.Load(ctx, s, count))
	require.Len(t, count.Failures, workers*rounds)
	found, err := journal.Verify(ctx, s, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, workers*rounds, found.Size)
}
