package main

import (
	"cmp"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
)

// The page of one's own account: passwords are changed and methods are enrolled there. Each is an action of its own that the
// door decides; what it grants may be done for a few minutes.

const accountPage, permitLasts = "account-page", 5 * time.Minute

// chosen are the methods that can be chosen here. A key is enrolled once it was made.
var chosen = []string{"push", "sms-code", "otp-app", "recovery-code"}

// credentialTypes are those of the standard that tell of methods. Of others their name does, as both sides agree.
var credentialTypes = map[string]string{"push": "app", "sms-code": "phone-sms", "security-key": "fido2-roaming",
	"passkey": "fido2-platform"}

// beginAction has somebody sign on for an action on her own account.
func (t *trial) beginAction(w http.ResponseWriter, r *http.Request) {
	var action attempt.Action
	if action.UnmarshalText([]byte(r.URL.Query().Get("action"))) != nil || action == attempt.SignIn {
		t.pages.Wrong(w, r, http.StatusBadRequest, "One's own account lets one enrol, change a password, or recover.")
		return
	}
	back := t.base + "/account?" + url.Values{"do": {action.String()}}.Encode()
	on := &asking{request: request{app: accountPage, redirect: back, maxAge: -1}, action: action,
		session: session{id: journal.NewID(), started: t.clock.Now()}, begun: t.clock.Now()}
	if s := t.signedOnAs(r); s != nil && action != attempt.Recover {
		on.session, on.account = *s, s.account
	}
	if was := t.askingOf(r); was != nil && action != attempt.Recover { // what was just proven counts
		was.busy.Lock()
		if was.account != "" {
			on.account, on.proofs, on.session = was.account, slices.Clone(was.proofs), was.session
		}
		was.busy.Unlock()
	}
	t.ask(w, r, on)
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
	if do != attempt.Enrol.String() {
		t.changePassword(w, r, s.account)
	} else {
		t.enrolChosen(w, r, s.account)
	}
}

func (t *trial) changePassword(w http.ResponseWriter, r *http.Request, account string) {
	password := r.PostFormValue("password")
	if len(password) < 8 {
		t.pages.Wrong(w, r, http.StatusBadRequest, "A password has eight characters or more. Choose another.")
		return
	}
	if t.people.HasPassword(account, password) {
		t.pages.Wrong(w, r, http.StatusBadRequest, "That is the password of now. Choose another.")
		return
	}
	if err := t.tell(door.CredentialChange, account, map[string]any{"credential_type": "password", "change_type": "update"}); err != nil {
		t.unheard(w, r, err)
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
		t.pages.Wrong(w, r, http.StatusBadRequest, words.Capital(err.Error())+".")
		return
	}
	if typed := strings.TrimSpace(r.PostFormValue("typed")); v.Setup == "otp-app" && !t.people.FitsCode(account, typed, t.clock.Now()) {
		// An app that shows other codes would lock its owner out, so it counts once it has shown a right one.
		v.Seed, v.Wrong = t.people.Seed(account), typed != ""
		t.pages.Write(w, r, http.StatusOK, "account", "Set up the app for codes", v)
		return
	}
	if err := t.enrol(account, v.Setup); err != nil {
		t.unheard(w, r, err)
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
	if err := t.tell(door.CredentialChange, account, map[string]any{"credential_type": kind, "change_type": "create"}); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.methods[account] = append(slices.Clip(t.methods[account]), method)
	return nil
}

// unheard says that the door did not take what it was told, and logs why.
func (t *trial) unheard(w http.ResponseWriter, r *http.Request, err error) {
	slog.Error("the door did not take what it was told", "error", err)
	t.pages.Wrong(w, r, http.StatusBadGateway, "The door did not take what it was told, so nothing was changed.")
}

// serveForgot asks who forgot her password to show it is her by another method. It is the same for everybody.
func (t *trial) serveForgot(w http.ResponseWriter, r *http.Request, on *asking) {
	t.pages.Write(w, r, http.StatusOK, "forgot", "A forgotten password", step{App: on.app, Account: on.typed, On: on.id, Wrong: on.wrong,
		Came: on.came})
	on.came = ""
}

// takeForgot takes what shows that it is her.
func (t *trial) takeForgot(w http.ResponseWriter, r *http.Request, on *asking) {
	defer http.Redirect(w, r, on.page(), http.StatusSeeOther)
	if on.action != attempt.Recover || on.account != "" {
		return
	}
	now, method, name := t.clock.Now(), r.PostFormValue("method"), strings.TrimSpace(r.PostFormValue("account"))
	on.typed, on.wrong = name, false
	has := slices.Contains(t.methodsOf(name), method)
	switch {
	case method == "push":
		if on.prompts++; on.prompt == nil && on.prompts <= mostPrompts {
			asked := nobody                                             // whose phone shows it to nobody
			if has && t.phones.AskedOf(name, time.Hour) < mostPrompts { // since anybody may ask for it
				asked = name
			}
			prompt := t.phones.Push(asked, "your account, to forget your password", t.whereOf(r))
			on.prompt, on.claimed = &prompt, asked
		}
	case has && (method == "otp-app" || method == "recovery-code") && t.fits(r, name, method, now):
		on.account = name
		on.prove(method, now, false)
	default:
		on.wrong = true
		t.noteWrong(r, on, name, method)
	}
}
