// Package desk is where reviewers answer what outside programs ask for: the
// queue of requests, the register of who was let in, and the record of acts.
//
// The record is all that is kept. It only grows: each act says who did what and
// when and carries a hash of the one before, and the queue and the register are
// what the acts add up to.
package desk

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/briskwarden/briskwarden/consent"
)

// Kind is what an act does.
type Kind string

// The kinds of act.
const (
	// Asked: a client's request waits for a reviewer.
	Asked Kind = "asked"
	// Granted: somebody let a client in, by the rules or after an approval.
	Granted Kind = "granted"
	// Approved: a reviewer approved scopes.
	Approved Kind = "approved"
	// Refused: a reviewer refused a request.
	Refused Kind = "refused"
	// Barred: a reviewer barred a client; anyone who let it in has let it out.
	Barred Kind = "barred"
	// BarLifted: a reviewer lifted a bar.
	BarLifted Kind = "bar_lifted"
	// Withdrawn: a grant was taken back.
	Withdrawn Kind = "withdrawn"
	// ClientImported and GrantImported: another system's client or grant was taken
	// over.
	ClientImported Kind = "client_imported"
	GrantImported  Kind = "grant_imported"
)

// Kinds returns all kinds of act.
func Kinds() []Kind {
	return []Kind{Asked, Granted, Approved, Refused, Barred, BarLifted, Withdrawn, ClientImported, GrantImported}
}

// Act is one thing that was done. Acts are never changed.
type Act struct {
	// Number counts from 1. That of an Asked act is the number of the request.
	Number int64     `json:"number" doc:"number of the act, from 1; that of an asked act is the number of the request"`
	At     time.Time `json:"at" doc:"when it was done"`
	By     string    `json:"by" doc:"who did it"`
	Kind   Kind      `json:"kind" doc:"what was done"`
	// Request is the number of the request that it answers.
	Request int64    `json:"request,omitzero" doc:"the request that it answers"`
	Client  string   `json:"client" doc:"the client_id"`
	Account string   `json:"account,omitzero" doc:"whom it is for"`
	Group   string   `json:"group,omitzero" doc:"the group that it is for"`
	Scopes  []string `json:"scopes,omitempty" doc:"the scopes"`
	// Resource is whose data it is about.
	Resource    consent.Resource `json:"resource,omitzero" doc:"whose data it is about"`
	RedirectURI string           `json:"redirect_uri,omitzero" doc:"where the client wants to be answered"`
	// Because is the reason; of a request, why the person needs it.
	Because string    `json:"because,omitzero" doc:"the reason; of a request, why the person needs it"`
	Until   time.Time `json:"until,omitzero" doc:"when it ends"`
	// Overruled says that the act came too late to have an effect: a refusal or a bar
	// stood already.
	Overruled bool `json:"overruled,omitzero" doc:"true where a refusal or a bar stood already, so that it has no effect"`
	// Since is when an imported grant was let in, and LastUsed when it was last used.
	Since    time.Time       `json:"since,omitzero" doc:"when an imported grant was let in"`
	LastUsed time.Time       `json:"last_used,omitzero" doc:"when an imported grant was last used"`
	Imported *consent.Client `json:"imported,omitempty" doc:"the client that was imported"`
	// Previous is the hash of the act before, "" for the first.
	Previous string `json:"previous,omitzero" doc:"hash of the act before"`

	// text is what was kept, which an older program may have written in another form.
	text string
}

// Hash returns the SHA-256 of the act as it is kept, which the next one carries.
func (a *Act) Hash() string {
	sum := sha256.Sum256([]byte(a.text))
	return hex.EncodeToString(sum[:])
}

// write puts the act into the form in which it is kept. It refuses one that would not be
// read back as it is.
func (a *Act) write() error {
	for _, text := range append([]string{a.By, a.Client, a.Account, a.Group, a.Resource.Group, a.RedirectURI, a.Because}, a.Scopes...) {
		if !utf8.ValidString(text) {
			return fmt.Errorf("%q is not UTF-8 text", text)
		}
	}
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	a.text = string(text)
	again, err := readAct(a.text)
	if err != nil {
		return fmt.Errorf("it cannot be read back: %w", err)
	}
	if !reflect.DeepEqual(again.inUTC(), a.inUTC()) {
		return errors.New("it is read back as something else")
	}
	return nil
}

// inUTC returns the act with its times as they are compared.
func (a Act) inUTC() Act {
	for _, t := range []*time.Time{&a.At, &a.Until, &a.Since, &a.LastUsed} {
		*t = t.Round(0).UTC()
	}
	return a
}

// readAct reads an act as it is kept.
func readAct(text string) (Act, error) {
	a := Act{text: text}
	return a, json.Unmarshal([]byte(text), &a)
}

// Store keeps acts. Its methods are safe for concurrent use, by several
// processes too where the store is shared.
type Store interface {
	// Acts returns all acts in order. They are the caller's.
	Acts(ctx context.Context) ([]Act, error)
	// Append calls decide with all acts, which it must not change, nobody else appending
	// meanwhile, and keeps the acts that it returns, numbered and chained: all of them or,
	// where anything fails, none. It returns them as they are kept.
	Append(ctx context.Context, decide func(acts []Act) ([]Act, error)) ([]Act, error)
	Close() error
}

// Chain numbers new acts behind those there are and links each to the one before.
// It is for implementations of Store, which verify the acts that they read. It refuses an
// act that is dated before the last one, and one that would not be read back as it is.
func Chain(acts, more []Act) ([]Act, error) {
	number, previous, at := int64(0), "", time.Time{}
	if len(acts) > 0 {
		last := &acts[len(acts)-1]
		number, previous, at = last.Number, last.Hash(), last.At
	}
	chained := make([]Act, len(more))
	for i, a := range more {
		if a.At.Before(at) {
			return nil, fmt.Errorf("the last act on record was done at %s, so none can be at %s",
				at.Format(time.RFC3339), a.At.Format(time.RFC3339))
		}
		number, at = number+1, a.At
		a.Number, a.Previous = number, previous
		if err := a.write(); err != nil {
			return nil, fmt.Errorf("act %d: %w", number, err)
		}
		chained[i], previous = a, a.Hash()
	}
	return chained, nil
}

// copies returns acts that share nothing with those that are kept.
func copies(acts []Act) []Act {
	list := slices.Clone(acts)
	for i := range list {
		list[i].Scopes = slices.Clone(list[i].Scopes)
		if c := list[i].Imported; c != nil {
			client := *c
			client.RedirectURIs, client.Tags = slices.Clone(c.RedirectURIs), slices.Clone(c.Tags)
			list[i].Imported = &client
		}
	}
	return list
}

// Verify reports whether the acts are a whole record: numbered without a gap, each
// linked to the one before. The error names the first that is not.
func Verify(acts []Act) error {
	for i := range acts {
		if err := follows(acts[:i], &acts[i]); err != nil {
			return err
		}
	}
	return nil
}

// follows reports whether an act is the one behind others.
func follows(acts []Act, a *Act) error {
	n, previous := len(acts), ""
	if n > 0 {
		previous = acts[n-1].Hash()
	}
	switch {
	case a.Number != int64(n+1):
		return fmt.Errorf("the record is not whole: act %d is missing", n+1)
	case a.Previous != previous:
		return fmt.Errorf("the record is not whole: act %d was changed after it was recorded, or act %d was put in another's place", n, n+1)
	}
	return nil
}

// Memory is a Store that keeps acts in memory. The zero Memory is empty.
type Memory struct {
	mu   sync.Mutex
	acts []Act
}

// Acts implements Store.
func (m *Memory) Acts(context.Context) ([]Act, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return copies(m.acts), nil
}

// Append implements Store.
func (m *Memory) Append(_ context.Context, decide func([]Act) ([]Act, error)) ([]Act, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	more, err := decide(m.acts[:len(m.acts):len(m.acts)])
	if err != nil {
		return nil, err
	}
	chained, err := Chain(m.acts, more)
	if err != nil {
		return nil, err
	}
	m.acts = append(m.acts, chained...)
	return copies(chained), nil
}

// Close implements Store.
func (m *Memory) Close() error { return nil }
