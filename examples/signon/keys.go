package main

import (
	"bytes"
	_ "embed"
	"errors"
	"net/http"
	"slices"
	"sync"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
)

//go:embed keys.js
var keyScript string

// keyring has the keys and passkeys of people (Web Authentication Level 2).
type keyring struct {
	web *webauthn.WebAuthn

	mu     sync.Mutex
	owners map[string]*owner
	// begun are the ceremonies under way, by the cookie of their browser.
	begun map[string]*webauthn.SessionData
}

// owner is somebody with keys. It implements webauthn.User.
type owner struct {
	account string
	id      []byte
	keys    []webauthn.Credential
}

// WebAuthnID implements webauthn.User.
func (o *owner) WebAuthnID() []byte { return o.id }

// WebAuthnName implements webauthn.User.
func (o *owner) WebAuthnName() string { return o.account }

// WebAuthnDisplayName implements webauthn.User.
func (o *owner) WebAuthnDisplayName() string { return o.account }

// WebAuthnCredentials implements webauthn.User.
func (o *owner) WebAuthnCredentials() []webauthn.Credential { return o.keys }

func newKeyring(base string) (*keyring, error) {
	web, err := webauthn.New(&webauthn.Config{RPID: "localhost", RPDisplayName: "Kestrel Sound Ferries", RPOrigins: []string{base}})
	return &keyring{web: web, owners: map[string]*owner{}, begun: map[string]*webauthn.SessionData{}}, err
}

// ceremonyCookie names a ceremony under way.
const ceremonyCookie = "ceremony"

// keep keeps a ceremony for the browser that began it.
func (k *keyring) keep(w http.ResponseWriter, session *webauthn.SessionData) {
	token := standin.NewToken()
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.begun) > 1000 {
		clear(k.begun) // anyone in the middle of one begins again
	}
	k.begun[token] = session
	setCookie(w, ceremonyCookie, token, "/")
}

// take returns the ceremony of a browser, once.
func (k *keyring) take(r *http.Request) *webauthn.SessionData {
	k.mu.Lock()
	defer k.mu.Unlock()
	token := cookie(r, ceremonyCookie)
	session := k.begun[token]
	delete(k.begun, token)
	return session
}

// ownerOf returns the owner of an account's keys.
func (k *keyring) ownerOf(account string) *owner {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.owners[account] == nil {
		k.owners[account] = &owner{account: account, id: []byte(standin.NewToken())}
	}
	one := *k.owners[account]
	one.keys = slices.Clone(one.keys)
	return &one
}

// find returns the owner that a key says it is of.
func (k *keyring) find(_, handle []byte) (webauthn.User, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, o := range k.owners {
		if bytes.Equal(o.id, handle) {
			one := *o
			one.keys = slices.Clone(o.keys)
			return &one, nil
		}
	}
	return nil, errors.New("nobody has this key")
}

// hold keeps a key of an account in the place of the one of the same name.
func (k *keyring) hold(account string, key *webauthn.Credential) {
	k.mu.Lock()
	defer k.mu.Unlock()
	o := k.owners[account]
	o.keys = append(slices.DeleteFunc(o.keys, func(c webauthn.Credential) bool { return bytes.Equal(c.ID, key.ID) }), *key)
}

// keyMethods are the methods that a key stands for.
var keyMethods = []string{"security-key", "passkey"}

// keyMethodOf returns the method that a key of an account stands for, "" where it has enrolled none.
func (t *trial) keyMethodOf(account string) string {
	for _, method := range keyMethods {
		if slices.Contains(t.methodsOf(account), method) {
			return method
		}
	}
	return ""
}

// beginKey asks the browser for any key that it has: what is asked is the same for everybody.
func (t *trial) beginKey(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	options, session, err := t.keyring.web.BeginDiscoverableLogin()
	if err != nil {
		http.Error(w, "Keys cannot be asked for now.", http.StatusInternalServerError)
		return
	}
	t.keyring.keep(w, session)
	writeJSON(w, http.StatusOK, options)
}

// takeKey takes what a key answered for a proof.
func (t *trial) takeKey(w http.ResponseWriter, r *http.Request, on *asking) {
	account, err := t.answered(r)
	method := t.keyMethodOf(account)
	switch {
	case err != nil || method == "" || on.account != "" && on.account != account:
		on.wrong = true
		if on.account != "" {
			on.failed = append(on.failed, attempt.Failure{Method: t.keyMethodOf(on.account), Reason: attempt.Refused})
		}
	default:
		on.account, on.wrong = account, false
		on.prove(method, t.clock.Now(), false)
	}
	http.Redirect(w, r, on.page(), http.StatusSeeOther)
}

// answered verifies what a key answered, and returns whose it is.
func (t *trial) answered(r *http.Request) (string, error) {
	session := t.keyring.take(r)
	if session == nil {
		return "", errors.New("no key was asked for")
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes([]byte(r.PostFormValue("made")))
	if err != nil {
		return "", err
	}
	who, key, err := t.keyring.web.ValidatePasskeyLogin(t.keyring.find, *session, parsed)
	if err != nil {
		return "", err
	}
	t.keyring.hold(who.WebAuthnName(), key) // with its counter
	return who.WebAuthnName(), nil
}

// beginMade asks the browser for a new key of an account.
func (t *trial) beginMade(w http.ResponseWriter, account string) {
	options, session, err := t.keyring.web.BeginRegistration(t.keyring.ownerOf(account),
		webauthn.WithResidentKeyRequirement(protocol.ResidentKeyRequirementRequired))
	if err != nil {
		http.Error(w, "No key can be made now.", http.StatusInternalServerError)
		return
	}
	t.keyring.keep(w, session)
	writeJSON(w, http.StatusOK, options)
}

// made verifies a key that was made for an account, and returns it with the method that it stands for where nobody has said.
func (t *trial) made(r *http.Request, account string) (key *webauthn.Credential, method string, err error) {
	session := t.keyring.take(r)
	if session == nil {
		return nil, "", errors.New("no key was begun")
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes([]byte(r.PostFormValue("made")))
	if err != nil {
		return nil, "", err
	}
	method = "security-key"
	if parsed.AuthenticatorAttachment == protocol.Platform {
		method = "passkey"
	}
	key, err = t.keyring.web.CreateCredential(t.keyring.ownerOf(account), *session, parsed)
	return key, method, err
}

// beginCabinet begins to make a key for somebody. The cabinet stands in for the day on which people are handed their keys.
func (t *trial) beginCabinet(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	account := r.PostFormValue("account")
	if t.keyMethodOf(account) == "" {
		http.Error(w, "The book lists no security-key or passkey for "+account+".", http.StatusBadRequest)
		return
	}
	t.beginMade(w, account)
}

// takeCabinet keeps a key that was made.
func (t *trial) takeCabinet(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	account := r.PostFormValue("account")
	key, _, err := t.made(r, account)
	if err != nil || t.keyMethodOf(account) == "" {
		t.pages.Wrong(w, r, http.StatusBadRequest, "No key was made that can be used here. Begin again.")
		return
	}
	t.keyring.hold(account, key)
	http.Redirect(w, r, "/around?said=key", http.StatusSeeOther)
}

// beginOwnKey begins to make a key for who may enrol a method now.
func (t *trial) beginOwnKey(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	s := t.signedOnAs(r)
	if !t.permits(s, attempt.Enrol.String()) {
		http.Error(w, "Sign on to enrol a method first.", http.StatusForbidden)
		return
	}
	t.beginMade(w, s.account)
}

// takeOwnKey enrols a key that was made.
func (t *trial) takeOwnKey(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	s := t.signedOnAs(r)
	if !t.permits(s, attempt.Enrol.String()) {
		http.Redirect(w, r, "/account", http.StatusSeeOther)
		return
	}
	key, method, err := t.made(r, s.account)
	if err != nil {
		t.pages.Wrong(w, r, http.StatusBadRequest, "No key was made that can be used here. Begin again.")
		return
	}
	if t.keyMethodOf(s.account) != method { // else it is one more of them
		if err := t.enrol(s.account, method); err != nil {
			t.unheard(w, r, err)
			return
		}
	}
	t.keyring.hold(s.account, key)
	http.Redirect(w, r, "/account?said=enrolled", http.StatusSeeOther)
}
