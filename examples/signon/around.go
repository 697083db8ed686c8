package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/people"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
)

// agents are the programs on registered devices that report how these are.
type agents struct {
	door  http.Handler
	token string

	mu      *sync.Mutex
	devices map[string]*device
}

// device is a registered one as it is now, and as it was last reported.
type device struct {
	Name, Platform, Owner string
	Facts                 map[string]attempt.Scalar
	Reported              time.Time
	// Hourly says that it reports every hour by itself.
	Hourly bool
}

func newAgents(door http.Handler, token string, registered []directory.Device) agents {
	a := agents{door: door, token: token, mu: new(sync.Mutex), devices: map[string]*device{}}
	for i := range registered {
		d := &registered[i]
		one := &device{Name: d.Name, Platform: d.Platform, Owner: d.Owner, Facts: map[string]attempt.Scalar{}}
		for name, value := range d.Facts {
			one.Facts[name] = value
		}
		if d.ReportedAt != nil {
			one.Reported = *d.ReportedAt
		}
		a.devices[d.Name] = one
	}
	return a
}

func (a *agents) has(id string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.devices[id] != nil
}

// names returns the registered devices.
func (a *agents) names() (names []string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for name := range a.devices {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// registered returns the registered devices with their owners.
func (a *agents) registered() (list []registered) {
	for _, name := range a.names() {
		d, _ := a.look(name)
		list = append(list, registered{name, d.Owner})
	}
	return list
}

// deviceNow returns a device with what it reported, for what is only looked up: the door has it from its reports.
func (a *agents) deviceNow(id string) attempt.Device {
	a.mu.Lock()
	defer a.mu.Unlock()
	said := attempt.Device{ID: attempt.Known(id)}
	if d := a.devices[id]; d != nil && !d.Reported.IsZero() {
		said.Facts, said.ReportedAt = map[string]attempt.Scalar{}, attempt.Known(d.Reported)
		for name, value := range d.Facts {
			said.Facts[name] = value
		}
	}
	return said
}

// set changes a fact of a device, without a report.
func (a *agents) set(id, fact string, value attempt.Scalar) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if d := a.devices[id]; d != nil {
		d.Facts[fact] = value
	}
}

// setHourly says whether a device reports every hour by itself.
func (a *agents) setHourly(id string, hourly bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if d := a.devices[id]; d != nil {
		d.Hourly = hourly
	}
}

// reportDue has each device report that does so by itself, and has not for an hour.
func (a *agents) reportDue(now time.Time) error {
	var failed []error
	for _, id := range a.names() {
		if d, ok := a.look(id); ok && d.Hourly && now.Sub(d.Reported) >= time.Hour {
			failed = append(failed, a.report(id, now))
		}
	}
	return errors.Join(failed...)
}

// look returns a device as it is.
func (a *agents) look(id string) (d device, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	one := a.devices[id]
	if one == nil {
		return device{}, false
	}
	d = *one
	d.Facts = map[string]attempt.Scalar{}
	for name, value := range one.Facts {
		d.Facts[name] = value
	}
	return d, true
}

// report has a device report how it is now.
func (a *agents) report(id string, at time.Time) error {
	d, ok := a.look(id)
	if !ok {
		return fmt.Errorf("no device is called %q", id)
	}
	text, err := json.Marshal(door.DeviceReport{Platform: d.Platform, Facts: d.Facts, ReportedAt: at})
	if err != nil {
		return err
	}
	if err := a.call(http.MethodPut, "/v1/devices/"+id+"/report", "application/json", text, nil); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.devices[id].Reported = at
	return nil
}

// call asks the door as those around it do, and reads the answer where there is a place for it. The error is for what the door
// did not take.
func (a *agents) call(method, path, kind string, body []byte, answer any) error {
	r := httptest.NewRequest(method, path, bytes.NewReader(body))
	r.Header.Set("Authorization", "Bearer "+a.token)
	r.Header.Set("Content-Type", kind)
	w := httptest.NewRecorder()
	a.door.ServeHTTP(w, r)
	if w.Code >= 300 {
		return fmt.Errorf("the door answered %d: %s", w.Code, w.Body)
	}
	if answer == nil {
		return nil
	}
	return json.Unmarshal(w.Body.Bytes(), answer)
}

// tell tells the door of a security event about an account.
func (t *trial) tell(event, account string, details map[string]any) error {
	return t.tellOf(map[string]any{"format": "email", "email": account}, event, details)
}

// tellOf tells the door of a security event, by a token (RFC 8417) that is pushed (RFC 8935).
func (t *trial) tellOf(subject map[string]any, event string, details map[string]any) error {
	token, err := t.sign("secevent+jwt", map[string]any{"iss": t.base, "aud": audience, "iat": t.clock.Now().Unix(), "jti": journal.NewID(),
		"sub_id": subject, "events": map[string]any{event: details}})
	if err != nil {
		return err
	}
	return t.agents.call(http.MethodPost, "/v1/events", "application/secevent+jwt", []byte(token), nil)
}

// starts tells the door of somebody who starts today, as a directory pushes people (RFC 7644 section 3.3).
func (t *trial) starts(account string) error {
	text, err := json.Marshal(map[string]any{"schemas": []string{userSchema, people.UserSchema}, "userName": account, "active": true,
		people.UserSchema: map[string]any{"joined": t.clock.Now().In(t.zone()).Format(time.DateOnly), "methods": atFirst}})
	if err != nil {
		return err
	}
	if err := t.agents.call(http.MethodPost, "/scim/v2/Users", "application/scim+json", text, nil); err != nil {
		return err
	}
	t.people.Add(account)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.methods[account], t.started = atFirst, append(t.started, account)
	return nil
}

// atFirst are the methods of those who start: a password, and codes on paper.
var atFirst = []string{"password", "recovery-code"}

// errNotPushed says that the HR feed never told of somebody.
var errNotPushed = errors.New("the HR feed has told of nobody of that name")

// leaves tells the door that somebody works here no more (section 3.5.2).
func (t *trial) leaves(account string) error {
	var found struct {
		Resources []struct {
			ID string `json:"id"`
		} `json:"Resources"`
	}
	query := url.Values{"filter": {"userName eq " + strconv.Quote(account)}}.Encode()
	if err := t.agents.call(http.MethodGet, "/scim/v2/Users?"+query, "", nil, &found); err != nil {
		return err
	}
	if len(found.Resources) == 0 {
		return errNotPushed
	}
	text := `{"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
		"Operations": [{"op": "replace", "path": "active", "value": false}]}`
	return t.agents.call(http.MethodPatch, "/scim/v2/Users/"+found.Resources[0].ID, "application/scim+json", []byte(text), nil)
}

// userSchema is that of a User (RFC 7643 section 4.1).
const userSchema = "urn:ietf:params:scim:schemas:core:2.0:User"

// finds tells the door what the management of devices found of one (CAEP 1.0 section 3.5).
func (t *trial) finds(device string, compliant bool) error {
	before, now := "compliant", "not-compliant"
	if compliant {
		before, now = now, before
	}
	return t.tellOf(map[string]any{"format": "opaque", "id": device}, door.DeviceComplianceChange,
		map[string]any{"previous_status": before, "current_status": now})
}

// aroundView is what the page of the trial's surroundings shows.
type aroundView struct {
	Places        any
	Place         string
	Devices       []registered
	Device, Clock string
	Verifier      bool
	Said          string
	// Started are those who started since the trial began, with their passwords.
	Started []newcomer
	// Book is its folder, and InForce says that board-papers is live.
	Book    string
	InForce bool
}

// registered is a device as it is chosen: by its name, with its owner.
type registered struct{ Name, Owner string }

// newcomer is somebody who started since the trial began.
type newcomer struct {
	Account, Password string
	Codes             []string
}

// newcomers are those who started since the trial began.
func (t *trial) newcomers() (list []newcomer) {
	t.mu.Lock()
	started := slices.Clone(t.started)
	t.mu.Unlock()
	for _, account := range started {
		list = append(list, newcomer{account, t.people.Password(account), t.people.RecoveryCodes(account)})
	}
	return list
}

// serveAround shows where the browser is, on which device, what time it is, and what others tell.
func (t *trial) serveAround(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	verifier := t.checks["shipyard-verifier"] == attempt.CheckPassed
	t.mu.Unlock()
	t.pages.Write(w, r, http.StatusOK, "around", "Around the sign-on", aroundView{Places: places, Place: places[placeOf(r)].Name,
		Devices: t.agents.registered(), Device: cookie(r, deviceCookie), Clock: t.clock.Now().In(t.zone()).Format("Mon 2006-01-02 15:04"),
		Verifier: verifier, Started: t.newcomers(), Book: t.book, InForce: t.isLive(boardPapers), Said: said[r.URL.Query().Get("said")]})
}

// said are what the page says of what was done.
var said = map[string]string{
	"moved": "You are there now.", "later": "The clock was put forward.", "leaked": "The leak feed told the door.",
	"starts": "The HR feed told the door who starts.", "leaves": "The HR feed told the door who left.",
	"found": "The management of devices told the door.",
	"read":  "The book was read again, and is in force.", "checked": "The shipyard's check was set.",
	"key": "The key was handed out: this browser has it.",
}

// setAround changes the surroundings.
func (t *trial) setAround(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	done := r.PostFormValue("do")
	switch done {
	case "moved":
		setCookie(w, placeCookie, r.PostFormValue("place"), "/")
		setCookie(w, deviceCookie, r.PostFormValue("device"), "/")
	case "later":
		hours, err := strconv.Atoi(r.PostFormValue("hours"))
		if err != nil || hours < 0 || hours > 24*400 {
			t.pages.Wrong(w, r, http.StatusBadRequest, "The clock goes forward by a number of hours, 400 days at most.")
			return
		}
		t.clock.Forward(time.Duration(hours) * time.Hour)
	case "starts", "leaves", "found":
		tell := map[string]func(string) error{"starts": t.starts, "leaves": t.leaves,
			"found": func(device string) error { return t.finds(device, r.PostFormValue("fit") != "") }}[done]
		about := r.PostFormValue("about")
		if done != "found" && !strings.Contains(about, "@") {
			t.pages.Wrong(w, r, http.StatusBadRequest, "Say who, by a name such as sunniva@kestrelsound.example.")
			return
		}
		if done == "starts" && t.people.Password(about) != "" {
			t.pages.Wrong(w, r, http.StatusConflict, about+" works here already.")
			return
		}
		if err := tell(about); errors.Is(err, errNotPushed) {
			t.pages.Wrong(w, r, http.StatusNotFound, "The HR feed has told of nobody called "+about+". Who starts through it can leave through it.")
			return
		} else if err != nil {
			t.unheard(w, r, err)
			return
		}
	case "read":
		if err := t.readAgain(r.PostFormValue("live") != ""); err != nil {
			t.pages.Wrong(w, r, http.StatusConflict, words.Capital(err.Error()))
			return
		}
	case "checked":
		t.mu.Lock()
		t.checks["shipyard-verifier"] = attempt.CheckFailed
		if r.PostFormValue("passes") != "" {
			t.checks["shipyard-verifier"] = attempt.CheckPassed
		}
		t.mu.Unlock()
	case "leaked":
		account := r.PostFormValue("account")
		if t.people.Password(account) == "" {
			t.pages.Wrong(w, r, http.StatusNotFound, "Nobody here is called "+account+", so nobody's password was found.")
			return
		}
		if err := t.tell(door.CredentialCompromise, account, map[string]any{"credential_type": "password"}); err != nil {
			t.unheard(w, r, err)
			return
		}
	default:
		t.pages.Wrong(w, r, http.StatusBadRequest, "That cannot be set here.")
		return
	}
	http.Redirect(w, r, "/around?said="+done, http.StatusSeeOther)
}

// boardPapers is the policy of the demo that is a shadow.
const boardPapers = "board-papers"

// isLive reports whether a policy of the book in force is live.
func (t *trial) isLive(policy string) bool {
	return slices.ContainsFunc(t.door.Book().Judge().Policies(), func(p decide.Policy) bool {
		return p.Name == policy && p.Stage == decide.Live
	})
}

// shadowed is how the demo's book has board-papers watch, and live how it has it count.
const shadowed, live = "    stage: shadow\n    since: 2026-11-09\n    live_for: {share: 20}           # a wider share only adds accounts\n",
	"    stage: live\n"

// readAgain has the door take the book as its files are now, with board-papers live where it is to be.
func (t *trial) readAgain(putLive bool) error {
	if putLive {
		path := filepath.Join(t.book, "policies.yaml")
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if !bytes.Contains(text, []byte(shadowed)) {
			return errors.New("the book does not have board-papers as a shadow any more")
		}
		if err := os.WriteFile(path, bytes.Replace(text, []byte(shadowed), []byte(live), 1), 0o600); err != nil {
			return err
		}
	}
	if r := t.door.Reload(); !r.Taken && !r.Unchanged {
		return fmt.Errorf("the book was not taken: %s", strings.Join(r.Why, " "))
	}
	return nil
}

// agentView is what the page of a device shows.
type agentView struct {
	device
	Names    []string
	Firewall bool
	Age      string
	Said     string
}

// serveAgent shows a device: how it is, and when it reported.
func (t *trial) serveAgent(w http.ResponseWriter, r *http.Request) {
	id := r.URL.Query().Get("device")
	if id == "" {
		id = cookie(r, deviceCookie)
	}
	v := agentView{Names: t.agents.names()}
	if d, ok := t.agents.look(id); ok {
		v.device = d
		v.Reported = d.Reported.In(t.zone())
		v.Firewall, v.Age = d.Facts["firewall"].Reads("true"), d.Facts["patch_age_days"].String()
	}
	if r.URL.Query().Get("said") != "" {
		v.Said = "The door has the report."
	}
	t.pages.Write(w, r, http.StatusOK, "agent", "A device", v)
}

// setAgent changes a device, or has it report.
func (t *trial) setAgent(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	id, next := r.PostFormValue("device"), ""
	switch r.PostFormValue("do") {
	case "firewall":
		t.agents.set(id, "firewall", attempt.BoolScalar(r.PostFormValue("on") != ""))
	case "hourly":
		t.agents.setHourly(id, r.PostFormValue("on") != "")
	case "update":
		t.agents.set(id, "patch_age_days", attempt.NumberScalar(0))
	case "report":
		if err := t.agents.report(id, t.clock.Now()); err != nil {
			t.unheard(w, r, err)
			return
		}
		next = "&said=reported"
	default:
		t.pages.Wrong(w, r, http.StatusBadRequest, "A device cannot do that.")
		return
	}
	http.Redirect(w, r, "/agent?device="+url.QueryEscape(id)+next, http.StatusSeeOther)
}
