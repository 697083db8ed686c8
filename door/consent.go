package door

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/desk"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// consentAsk is what an outside program asks of somebody: a consent.Request without its time, which is
// the door's.
type consentAsk struct {
	Account     string           `json:"account" doc:"who is asked to let the program in"`
	Client      string           `json:"client" doc:"the client_id"`
	Scopes      []string         `json:"scopes" doc:"the scopes that it asks for"`
	Resource    consent.Resource `json:"resource,omitzero" doc:"whose data it is about; one's own where left out"`
	RedirectURI string           `json:"redirect_uri,omitzero" doc:"where the program wants to be answered"`
	Because     string           `json:"because,omitzero" doc:"why the person needs it, for a reviewer"`
	// Rehearse answers and records nothing: what a prompt shows before the person has agreed.
	Rehearse bool `json:"rehearse,omitzero" doc:"true where nothing is to be recorded: what a prompt shows before the person agreed"`
}

// serveConsent answers POST /v1/consents: what the person lets in is recorded, or waits for a reviewer.
func (d *Door) serveConsent(w http.ResponseWriter, r *request) error {
	b := d.book.Load()
	if b.desk == nil {
		return problem(http.StatusNotFound, "No outside program is answered here: the configuration names no consent.record.")
	}
	text, err := body(w, r, attempt.MaxSize)
	if err != nil {
		return err
	}
	ask := new(consentAsk)
	if err := decodeStrictly(text, ask); err != nil {
		return problem(http.StatusBadRequest, "%s", err)
	}
	asked := consent.Request{At: d.now(), Account: ask.Account, Client: ask.Client, Scopes: ask.Scopes, Resource: ask.Resource,
		RedirectURI: ask.RedirectURI}
	if err := asked.Check(); err != nil {
		return problem(http.StatusUnprocessableEntity, "%s", err)
	}
	answer := new(desk.Answer)
	if ask.Rehearse {
		answer.Decision, err = b.desk.Rehearse(r.Context(), asked)
	} else {
		answer, err = b.desk.Ask(r.Context(), asked, ask.Because)
		d.lookAtConsent()
	}
	switch {
	case errors.Is(err, desk.ErrTooMany):
		return problem(http.StatusTooManyRequests, "%s", err)
	case err != nil:
		d.log.Error("an outside program could not be answered", "error", err)
		return problem(http.StatusServiceUnavailable, "The record of consent cannot be used now. Try again.").with("Retry-After", "1")
	}
	return writeValue(w, http.StatusOK, answer)
}

// lookAtConsent has new acts taken into the journal.
func (d *Door) lookAtConsent() {
	select {
	case d.acted <- struct{}{}:
	default:
	}
}

// How often the record of consent is looked at, which the commands change too, and how many acts go
// into the journal at once.
const (
	consentEvery = time.Second
	mostActs     = 256
)

// followConsent takes each act on consent into the journal once, the commands' too.
func (d *Door) followConsent(ctx context.Context) {
	every := time.NewTicker(consentEvery)
	defer every.Stop()
	failing := false
	for {
		err := d.journalActs(ctx)
		if err != nil && ctx.Err() == nil && !failing {
			d.log.Error("acts on consent are not in the journal yet", "error", err)
		}
		failing = err != nil
		select {
		case <-ctx.Done():
			return
		case <-d.acted:
		case <-every.C:
		}
	}
}

// journalActs takes the acts that the journal does not have yet into it. How far it has come is kept in
// the same transaction.
func (d *Door) journalActs(ctx context.Context) error {
	following := &store.Following{Record: "consent"}
	for {
		if err := store.Load(ctx, d.facts.store, following); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		acts, err := d.book.Load().desk.ActsAfter(ctx, following.Acts, mostActs)
		if err != nil || len(acts) == 0 {
			return err
		}
		if err := d.recorder.do(&job{urgent: true, change: func(b *batch) error { return d.takeActs(b, acts) }}); err != nil {
			return err
		}
	}
}

// takeActs makes entries of acts, but of those that another door has taken meanwhile.
func (d *Door) takeActs(b *batch, acts []desk.Act) error {
	following := &store.Following{Record: "consent"}
	if err := store.Load(b.ctx, b.tx, following); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	for i := range acts {
		if acts[i].Number != following.Acts+1 {
			continue
		}
		text, err := json.Marshal(&acts[i])
		if err != nil {
			return err
		}
		b.entries = append(b.entries, journal.Make(journal.Consent, journal.NewID(), d.now(), acts[i].By, acts[i].Account, "consent", text))
		following.Acts++
	}
	return store.Save(b.tx, following)
}
