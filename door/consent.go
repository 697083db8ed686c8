package door

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
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

// Programs returns what is known of outside programs at a moment, nil where none are answered. It reads all that is kept of them.
func (d *Door) Programs(ctx context.Context, at time.Time) ([]acts.Entry, error) {
	b := d.book.Load()
	if b.desk == nil {
		return nil, nil
	}
	return b.desk.Register(ctx, at)
}

// serveConsent answers POST /v1/consents: what the person lets in is recorded, or waits for a reviewer.
func (d *Door) serveConsent(w http.ResponseWriter, r *Request) error {
	b := d.book.Load()
	if b.desk == nil {
		return Problemf(http.StatusNotFound, "No outside program is answered here: the configuration does not say consent: {answer: true}.")
	}
	text, err := ReadBody(w, r, attempt.MaxSize)
	if err != nil {
		return err
	}
	ask := new(consentAsk)
	if err := decodeStrictly(text, ask); err != nil {
		return Problemf(http.StatusBadRequest, "%s", err)
	}
	asked := consent.Request{At: d.now(), Account: ask.Account, Client: ask.Client, Scopes: ask.Scopes, Resource: ask.Resource,
		RedirectURI: ask.RedirectURI}
	if err := asked.Check(); err != nil {
		return Problemf(http.StatusUnprocessableEntity, "%s", err)
	}
	answer := new(acts.Answer)
	if ask.Rehearse {
		answer.Decision, err = b.desk.Rehearse(r.Context(), asked)
	} else {
		answer, err = b.desk.Ask(r.Context(), asked, ask.Because)
	}
	switch {
	case errors.Is(err, acts.ErrTooMany):
		return Problemf(http.StatusTooManyRequests, "%s", err)
	case err != nil:
		d.log.Error("an outside program could not be answered", "error", err)
		return Problemf(http.StatusServiceUnavailable, "The store cannot be used now. Try again.").With("Retry-After", "1")
	}
	return WriteValue(w, http.StatusOK, answer)
}
