// Package acts is where reviewers answer what outside programs ask for: the queue of requests, the register of who was let
// in, and the acts.
//
// Each act says who did what and when. It is an entry of the journal, and what it comes to (requests, approvals, grants, bars)
// are rows of the store, changed in the same transaction: so an act is one for all doors of a store, at once, and an answer
// costs what it reads and not what happened before. journal.Verify shows that no act was edited, dropped or added.
package acts

import (
	"fmt"
	"strings"
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
}

// did are the kinds of act in words.
var did = map[Kind]string{
	Asked:          "asked for",
	Granted:        "let in",
	Approved:       "approved",
	Refused:        "refused",
	Barred:         "barred",
	BarLifted:      "lifted the bar of",
	Withdrawn:      "took back from",
	ClientImported: "took over",
	GrantImported:  "took over the grant of",
}

// Sentence says in words what was done, without when.
func (a *Act) Sentence() string {
	text := fmt.Sprintf("%s %s %s", a.By, did[a.Kind], a.Client)
	if len(a.Scopes) > 0 {
		text += ": " + strings.Join(a.Scopes, ", ")
	}
	switch {
	case a.Account != "" && a.Account != a.By:
		text += " for " + a.Account
	case a.Group != "":
		text += " for members of " + a.Group
	case a.Kind == Approved:
		text += " for everyone"
	}
	if a.RedirectURI != "" && a.Kind == Approved {
		text += ", answered at " + a.RedirectURI
	}
	if a.Request != 0 {
		text += fmt.Sprintf(" (request %d)", a.Request)
	}
	if a.Overruled {
		text += ", overruled"
	}
	if a.Because != "" {
		text += ". " + a.Because
	}
	return text
}

// check reports what keeps an act from being read back as it is.
func (a *Act) check() error {
	for _, text := range append([]string{a.By, a.Client, a.Account, a.Group, a.Resource.Group, a.RedirectURI, a.Because}, a.Scopes...) {
		if !utf8.ValidString(text) {
			return fmt.Errorf("%q is not UTF-8 text", text)
		}
	}
	return nil
}
