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
	"fmt"
	"sync"
	"time"

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
	// ClientImported and GrantImported: another system's client or grant was taken
	// over.
	ClientImported Kind = "client_imported"
	GrantImported  Kind = "grant_imported"
)

// Kinds returns all kinds of act.
func Kinds() []Kind {
	return []Kind{Asked, Granted, Approved, Refused, Barred, BarLifted, ClientImported, GrantImported}
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
}

// Hash returns the SHA-256 of the act, which the next one carries.
func (a *Act) Hash() string {
	text, err := json.Marshal(a)
	if err != nil {
		panic(err) // an act is made of texts and times
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Store keeps acts. Its methods are safe for concurrent use, by several
// processes too where the store is shared.
type Store interface {
	// Acts returns all acts in order.
	Acts(ctx context.Context) ([]Act, error)
	// Append calls decide with all acts, nobody else appending meanwhile, and
	// keeps the acts that it returns, numbered and chained: all of them or, where
	// anything fails, none. It returns them as they are kept.
	Append(ctx context.Context, decide func(acts []Act) ([]Act, error)) ([]Act, error)
	Close() error
}

// Chain numbers new acts behind those there are and links each to the one before.
// It is for implementations of Store.
func Chain(acts, more []Act) []Act {
	number, previous := int64(0), ""
	if len(acts) > 0 {
		last := &acts[len(acts)-1]
		number, previous = last.Number, last.Hash()
	}
	chained := make([]Act, len(more))
	for i, a := range more {
		number++
		a.Number, a.Previous = number, previous
		chained[i], previous = a, a.Hash()
	}
	return chained
}

// Verify reports whether the acts are a whole record: numbered without a gap, each
// linked to the one before. The error names the first that is not.
func Verify(acts []Act) error {
	previous := ""
	for i := range acts {
		if acts[i].Number != int64(i+1) {
			return fmt.Errorf("act %d is missing from the record", i+1)
		}
		if acts[i].Previous != previous {
			return fmt.Errorf("act %d was changed after it was recorded, or act %d was put in another's place", i, i+1)
		}
		previous = acts[i].Hash()
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
	return m.acts[:len(m.acts):len(m.acts)], nil
}

// Append implements Store.
func (m *Memory) Append(_ context.Context, decide func([]Act) ([]Act, error)) ([]Act, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	more, err := decide(m.acts[:len(m.acts):len(m.acts)])
	if err != nil {
		return nil, err
	}
	chained := Chain(m.acts, more)
	m.acts = append(m.acts, chained...)
	return chained, nil
}

// Close implements Store.
func (m *Memory) Close() error { return nil }
