package main

import (
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

// The events by which the door hears of it (CAEP 1.0 section 3.3).
const credentialChange = "https://schemas.openid.net/secevent/caep/event-type/credential-change"

// enrollable are the methods that can be chosen here, with the credential_type that tells of each: one of the standard's, or one
// that both sides agree on, which is the name of the method.
var enrollable = []struct{ Method, Credential string }{{"push", "app"}, {"sms-code", "phone-sms"}, {"otp-app", "otp-app"},
	{"recovery-code", "recovery-code"}}

// keyCredentials are the credential types of keys.
var keyCredentials = map[string]string{"security-key": "fido2-roaming", "passkey": "fido2-platform"}

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
		for _, x := range enrollable {
			if !slices.Contains(t.methodsOf(s.account), x.Method) {
				v.Methods = append(v.Methods, x.Method)
			}
		}
	}
	t.pages.Write(w, r, http.StatusOK, "account", "Your account", v)
}

// permits reports whether an action was granted a moment ago.
func (t *trial) permits(s *session, action string) bool {
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
	if s == nil || !t.permits(s, do) {
		http.Redirect(w, r, "/account", http.StatusSeeOther)
		return
	}
	var err error
	said := "enrolled"
	switch do {
	case attempt.ChangePassword.String():
		said = "changed"
		if len(r.PostFormValue("password")) < 8 {
			http.Error(w, "A password has eight characters or more. Go back and choose another.", http.StatusBadRequest)
			return
		}
		if err = t.tell(credentialChange, s.account, map[string]any{"credential_type": "password", "change_type": "update"}); err == nil {
			t.people.ChangePassword(s.account, r.PostFormValue("password"))
		}
	case attempt.Enrol.String():
		switch v := (accountView{Account: s.account, Do: do, Setup: r.PostFormValue("method")}); v.Setup {
		case "otp-app":
			// An app that shows other codes would lock its owner out, so it counts once it has shown a right one.
			typed := r.PostFormValue("typed")
			if typed == "" || !t.people.FitsCode(s.account, strings.TrimSpace(typed), t.clock.Now()) {
				v.Seed, v.Wrong = t.people.Seed(s.account), typed != ""
				t.pages.Write(w, r, http.StatusOK, "account", "Set up the app for codes", v)
				return
			}
			err = t.enrolChosen(s.account, v.Setup)
		case "recovery-code":
			if err = t.enrolChosen(s.account, v.Setup); err == nil {
				v.Codes = t.people.DrawRecoveryCodes(s.account)
				t.pages.Write(w, r, http.StatusOK, "account", "Codes for when all else is lost", v)
				return
			}
		default:
			err = t.enrolChosen(s.account, v.Setup)
		}
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	http.Redirect(w, r, "/account?said="+said, http.StatusSeeOther)
}

// enrolChosen enrols a method that was chosen. A key is enrolled by itself, once it was made.
func (t *trial) enrolChosen(account, method string) error {
	for _, x := range enrollable {
		if x.Method == method {
			return t.enrol(account, method, x.Credential)
		}
	}
	return fmt.Errorf("the method %q cannot be chosen here", method)
}

// enrol tells the door of a method that an account has from now on, by its credential_type.
func (t *trial) enrol(account, method, credential string) error {
	if slices.Contains(t.methodsOf(account), method) {
		return fmt.Errorf("the method %q is enrolled already", method)
	}
	if err := t.tell(credentialChange, account, map[string]any{"credential_type": credential, "change_type": "create"}); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.methods[account] = append(slices.Clip(t.methods[account]), method)
	return nil
}
