package acts

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// ledger is what the acts on consent come to, as rows of a store: one for each client, request, approval and grant, and for
// each request that waits a second one, by which a client's are found.
type ledger struct {
	ctx  context.Context
	from store.Reader
	// tx changes rows; nil where they are only looked at.
	tx store.Tx
}

// The values of the rows. What a request and a grant is stands in Request and Grant.
type (
	// client is what became of a client that an act names.
	client struct {
		Client string `json:"client"`
		// Bar is the act that bars it, and Imported what another system said of it; nil for none.
		Bar      *Act            `json:"bar,omitempty"`
		Imported *consent.Client `json:"imported,omitempty"`
		// Ever says that somebody let it in at some time.
		Ever bool `json:"ever,omitzero"`
		// isKept says that there is a row.
		isKept bool
	}
	// grant is a Grant with the requests that it came of.
	grant struct {
		Grant
		Requests []int64 `json:"requests,omitempty"`
	}
	// count is the number of the last act.
	count struct {
		Last int64 `json:"last"`
	}
)

const countKey = "acts"

func numbered(number int64) string { return fmt.Sprintf("%019d", number) }

// ofClient is how keys of a client's rows begin.
func ofClient(name string) string { return name + "\n" }

func grantKey(client, account string, resource consent.Resource) string {
	return ofClient(client) + account + "\n" + resource.String()
}

// load reads a row, and reports whether there is one.
func (l *ledger) load(kind store.Kind, key string, into any) (bool, error) {
	row, err := l.from.Get(l.ctx, store.Key{Kind: kind, Key: key})
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, store.Read(row, into)
}

// all reads the rows that a query finds.
func all[T any](l *ledger, q store.Query) (list []*T, err error) {
	for row, err := range store.All(l.ctx, l.from, q) {
		if err != nil {
			return nil, err
		}
		v := new(T)
		if err := store.Read(row, v); err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	return list, nil
}

func (l *ledger) save(kind store.Kind, key, account string, due time.Time, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return l.tx.Put(store.Row{Key: store.Key{Kind: kind, Key: key}, Account: account, Due: due, Value: text})
}

func (l *ledger) drop(kind store.Kind, key string) error {
	return l.tx.Delete(store.Key{Kind: kind, Key: key})
}

// client returns what became of a client; nothing where no act names it.
func (l *ledger) client(name string) (*client, error) {
	c := &client{}
	is, err := l.load(store.Clients, name, c)
	c.Client, c.isKept = name, is
	return c, err
}

func (l *ledger) clients() ([]*client, error) {
	return all[client](l, store.Query{Kind: store.Clients})
}

func (l *ledger) setClient(c *client) error {
	return l.save(store.Clients, c.Client, "", time.Time{}, c)
}

// request returns a request as it is kept, nil where there is none of that number.
func (l *ledger) request(number int64) (*Request, error) {
	r := new(Request)
	if is, err := l.load(store.Requests, numbered(number), r); !is {
		return nil, err
	}
	return r, nil
}

// setRequest keeps a request, among those that wait too as long as it does.
func (l *ledger) setRequest(r *Request) error {
	if err := l.save(store.Requests, numbered(r.Number), r.Account, time.Time{}, r); err != nil {
		return err
	}
	key := ofClient(r.Client) + numbered(r.Number)
	if r.State != Waiting {
		return l.drop(store.Pending, key)
	}
	return l.save(store.Pending, key, r.Account, r.Expires, r)
}

// pending returns the requests of a client, or of all where it is "", that nobody answered, those that expired among them,
// in the order in which they were asked.
func (l *ledger) pending(client string) ([]*Request, error) {
	q := store.Query{Kind: store.Pending}
	if client != "" {
		q.Prefix = ofClient(client)
	}
	list, err := all[Request](l, q)
	slices.SortFunc(list, func(a, b *Request) int { return cmp.Compare(a.Number, b.Number) })
	return list, err
}

// approvals are the acts that approve scopes of a client and stand.
func (l *ledger) approvals(client string) ([]*Act, error) {
	return all[Act](l, store.Query{Kind: store.Approvals, Prefix: ofClient(client)})
}

func (l *ledger) setApproval(a *Act) error {
	return l.save(store.Approvals, ofClient(a.Client)+numbered(a.Number), a.Account, time.Time{}, a)
}

func (l *ledger) dropApproval(a *Act) error {
	return l.drop(store.Approvals, ofClient(a.Client)+numbered(a.Number))
}

// grant returns what an account let a client have, nil where that is nothing.
func (l *ledger) grant(client, account string, resource consent.Resource) (*grant, error) {
	g := new(grant)
	if is, err := l.load(store.Grants, grantKey(client, account, resource), g); !is {
		return nil, err
	}
	return g, nil
}

// grants returns those of a client, or all where it is "", by client and account.
func (l *ledger) grants(client string) ([]*grant, error) {
	q := store.Query{Kind: store.Grants}
	if client != "" {
		q.Prefix = ofClient(client)
	}
	list, err := all[grant](l, q)
	slices.SortFunc(list, func(a, b *grant) int {
		return cmp.Or(cmp.Compare(a.Client, b.Client), cmp.Compare(a.Account, b.Account), cmp.Compare(a.Resource.String(), b.Resource.String()))
	})
	return list, err
}

func (l *ledger) setGrant(g *grant) error {
	return l.save(store.Grants, grantKey(g.Client, g.Account, g.Resource), g.Account, time.Time{}, g)
}

func (l *ledger) dropGrant(g *grant) error {
	return l.drop(store.Grants, grantKey(g.Client, g.Account, g.Resource))
}

// next numbers an act.
func (l *ledger) next() (int64, error) {
	c := new(count)
	if _, err := l.load(store.Counts, countKey, c); err != nil {
		return 0, err
	}
	c.Last++
	return c.Last, l.save(store.Counts, countKey, "", time.Time{}, c)
}

// enter enters the acts of a sitting in a log.
func (s *sitting) enter(log string) error {
	if len(s.done) == 0 {
		return nil
	}
	entries := make([]journal.Entry, len(s.done))
	for i := range s.done {
		a := &s.done[i]
		text, err := json.Marshal(a)
		if err != nil {
			return err
		}
		entries[i] = journal.Make(journal.Consent, journal.NewID(), a.At, a.By, a.Account, "consent", text)
	}
	return s.tx.Append(log, entries)
}

// askedOf returns what all requests share that ask for the same.
func askedOf(scopes []string, resource consent.Resource, redirect string) string {
	return strings.Join(sortedByName(scopes), " ") + "\n" + resource.String() + "\n" + redirect
}

// sortedByName returns scopes by name, each once. The order by gravity is the book's, and
// what is kept lasts longer than a book.
func sortedByName(scopes []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(scopes)))
}
