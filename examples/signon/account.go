package main

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/journal"
)

// The page of one's own account: passwords are changed and methods are enrolled there. Each is an action of its own that the
// door decides; what it grants may be done for a few minutes.

const accountPage, permitLasts = "account-page", 5 * time.Minute

// The event by which the door hears of it (CAEP 1.0 section 3.3).
const credentialChange = "https://schemas.openid.net/secevent/caep/event-type/credential-change"

// chosen are the methods that can be chosen here. A key is enrolled once it was made.
var chosen = []string{"push", "sms-code", "otp-app", "recovery-code"}

// credentialTypes are those of the standard that tell of methods. Of others their name does, as both sides agree.
var credentialTypes = map[string]string{"push": "app", "sms-code": "phone-sms", "security-key": "fido2-roaming", "passkey": "fido2-platform"}

// beginAction has somebody sign on for an action on her own account.
func (t *trial) beginAction(w http.ResponseWriter, r *http.Request) {
	var action attempt.Action
	if action.UnmarshalText([]byte(r.URL.Query().Get("action"))) != nil || action != attempt.ChangePassword && action != attempt.Enrol {
		http.Error(w, "The action is change-password or enrol.", http.StatusBadRequest)
		return
	}
	back := t.base + "/account?" + url.Values{"do": {action.String()}}.Encode()
	on := &asking{request: request{app: accountPage, redirect: back, maxAge: -1}, action: action,
		session: session{id: journal.NewID(), started: t.clock.Now()}, begun: t.clock.Now()}
	if s := t.signedOnAs(r); s != nil {
		on.session, on.account = *s, s.account
	}
	if was := t.askingOf(r); was != nil { // what was just proven counts
		was.busy.Lock()
		if was.account != "" {
			on.account, on.proofs, on.session = was.account, slices.Clone(was.proofs), was.session
		}
		was.busy.Unlock()
	}
	t.ask(w, on)
	http.Redirect(w, r, "/sign-on", http.StatusSeeOther)
}

// accountView is what the page shows.
type accountView struct {
	Account string
	// Do is the action that may be done now, "" for none.
	Do      string
	Methods []string
	Said    string
	// Setup is the method that is being set up, Seed the key for its app, Codes are those to write down, and Wrong says that the
	// code that was typed did not fit.
	Setup, Seed string
	Codes       []string
	Wrong       bool
}

// accountSaid are what the page says of what was done.
var accountSaid = map[string]string{"changed": "Your password was changed.", "enrolled": "The method was enrolled."}

func (t *trial) serveAccount(w http.ResponseWriter, r *http.Request) {
	s := t.signedOnAs(r)
	v := accountView{Said: accountSaid[r.URL.Query().Get("said")]}
	if s != nil {
		v.Account = s.account
		if do := r.URL.Query().Get("do"); t.permits(s, do) {
			v.Do = do
		}
		for _, method := range chosen {
			if t.mayChoose(s.account, method) == nil {
				v.Methods = append(v.Methods, method)
			}
		}
	}
	t.pages.Write(w, r, http.StatusOK, "account", "Your account", v)
}

// permits reports whether an action was granted a moment ago. Nobody, who is nil, may do anything.
func (t *trial) permits(s *session, action string) bool {
	if s == nil {
		return false
	}
	at, granted := s.may[action]
	return granted && t.clock.Now().Sub(at) <= permitLasts
}

// methodsOf returns what an account has enrolled: as the book says, and here.
func (t *trial) methodsOf(account string) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.methods[account]
}

// setAccount does what was granted.
func (t *trial) setAccount(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	s, do := t.signedOnAs(r), r.PostFormValue("do")
	if !t.permits(s, do) {
		http.Redirect(w, r, "/account", http.StatusSeeOther)
		return
	}
	if do == attempt.ChangePassword.String() {
		t.changePassword(w, r, s.account)
	} else {
		t.enrolChosen(w, r, s.account)
	}
}

func (t *trial) changePassword(w http.ResponseWriter, r *http.Request, account string) {
	password := r.PostFormValue("password")
	if len(password) < 8 {
		http.Error(w, "A password has eight characters or more. Go back and choose another.", http.StatusBadRequest)
		return
	}
	if t.people.HasPassword(account, password) {
		http.Error(w, "That is the password of now. Go back and choose another.", http.StatusBadRequest)
		return
	}
	if err := t.tell(credentialChange, account, map[string]any{"credential_type": "password", "change_type": "update"}); err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	t.people.ChangePassword(account, password)
	http.Redirect(w, r, "/account?said=changed", http.StatusSeeOther)
}

// mayChoose returns why a method cannot be chosen for an account, nil where it can.
func (t *trial) mayChoose(account, method string) error {
	switch {
	case !slices.Contains(chosen, method):
		return fmt.Errorf("the method %q cannot be chosen here", method)
	case slices.Contains(t.methodsOf(account), method):
		return fmt.Errorf("the method %q is enrolled already", method)
	}
	return nil
}

// enrolChosen enrols the method that was chosen, once it is set up. What it is set up with is shown of no method that is
// enrolled already.
func (t *trial) enrolChosen(w http.ResponseWriter, r *http.Request, account string) {
	v := accountView{Account: account, Do: attempt.Enrol.String(), Setup: r.PostFormValue("method")}
	if err := t.mayChoose(account, v.Setup); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if typed := strings.TrimSpace(r.PostFormValue("typed")); v.Setup == "otp-app" && !t.people.FitsCode(account, typed, t.clock.Now()) {
		// An app that shows other codes would lock its owner out, so it counts once it has shown a right one.
		v.Seed, v.Wrong = t.people.Seed(account), typed != ""
		t.pages.Write(w, r, http.StatusOK, "account", "Set up the app for codes", v)
		return
	}
	if err := t.enrol(account, v.Setup); err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	if v.Setup == "recovery-code" {
		v.Codes = t.people.DrawRecoveryCodes(account)
		t.pages.Write(w, r, http.StatusOK, "account", "Codes for when all else is lost", v)
		return
	}
	http.Redirect(w, r, "/account?said=enrolled", http.StatusSeeOther)
}

// enrol tells the door of a method that an account has from now on.
func (t *trial) enrol(account, method string) error {
	kind := cmp.Or(credentialTypes[method], method)
	if err := t.tell(credentialChange, account, map[string]any{"credential_type": kind, "change_type": "create"}); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.methods[account] = append(slices.Clip(t.methods[account]), method)
	return nil
}
