package main

import (
	"cmp"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// asking is a sign-on under way in one browser.
type asking struct {
	request
	// id tells it from others of the browser: two tabs are two.
	id string
	// busy is held while a request of the browser is answered: the phone may be looked at while a form comes in.
	busy    sync.Mutex
	begun   time.Time
	account string
	// action is what the door is asked for: a sign-in, or something on one's own account.
	action attempt.Action
	// reminded says that the person was told of what she has yet to enrol.
	reminded bool
	session  session
	// proofs are what was proven since the sign-on began, failed what was not and the door does not know of yet, and unreached
	// what did not answer, so that something else may stand in.
	proofs            []attempt.Proof
	failed, unreached []attempt.Failure
	// prompt is the one on the phone, nil where there is none, and texted says that a code was sent.
	prompt *standin.Prompt
	texted bool
	// offer are the methods that the page offered last, and prompts how many went to the phone.
	offer   []string
	prompts int
	// wrong says that what was typed last did not fit, typed is the name that came with it, and came what came of the phone.
	wrong       bool
	typed, came string
	// claimed is who forgot her password, as she says, until a method of hers has shown it.
	claimed string
	// rememberOn is the device that is to stand for the phone that is asked, "" for none.
	rememberOn string
	// content says that the person goes on without what the app would like to be proven besides (acr_values).
	content bool
}

// askingLasts is how long a sign-on may take, and mostAsking how many a browser may have under way.
const (
	askingLasts = 15 * time.Minute
	mostAsking  = 10
)

// page is where a sign-on goes on.
func (on *asking) page() string { return "/sign-on?" + url.Values{"on": {on.id}}.Encode() }

// sweep forgets sign-ons that took too long. The trial is locked.
func (t *trial) sweep() {
	for token, list := range t.asking {
		list = slices.DeleteFunc(list, func(on *asking) bool { return t.clock.Now().Sub(on.begun) > askingLasts })
		if t.asking[token] = list; len(list) == 0 {
			delete(t.asking, token)
		}
	}
}

// askingOf returns the sign-on of a browser that a request names, else the newest, nil where there is none.
func (t *trial) askingOf(r *http.Request) *asking {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.sweep()
	list, id := t.asking[cookie(r, askingCookie)], r.URL.Query().Get("on")
	if id == "" && len(list) > 0 {
		return list[len(list)-1]
	}
	if i := slices.IndexFunc(list, func(on *asking) bool { return on.id == id }); i >= 0 {
		return list[i]
	}
	return nil
}

// counted are the proofs of the session that are recent enough for what the app asked for (max_age).
func (on *asking) counted(at time.Time) (list []attempt.Proof) {
	for _, p := range on.session.proofs {
		if on.maxAge < 0 || at.Sub(p.At) <= on.maxAge {
			list = append(list, p)
		}
	}
	return list
}

// decide asks the door.
func (t *trial) decide(r *http.Request, on *asking) *door.Answer {
	a := t.attempt(r, on.app)
	a.Account, a.Action, a.Proofs, a.Failed = on.account, on.action, on.proofs, slices.Concat(on.unreached, on.failed)
	if a.Account == "" {
		a.Account = nobody
	}
	a.Session = attempt.Session{ID: on.session.id, Started: on.session.started}
	a.Session.Proofs = on.counted(a.At)
	if d := a.Device.Ref(); d != nil {
		id, _ := d.ID.Get()
		with := *d
		with.Remembered = t.rememberedFor(id, a.Account)
		a.Device = attempt.Known(with)
	}
	t.mu.Lock()
	a.External, a.Accepted = map[string]attempt.CheckResult{}, slices.Clone(t.accepted[a.Account])
	for name, result := range t.checks {
		a.External[name] = result
	}
	t.mu.Unlock()
	asked := door.Asked{Caller: "sign-on", Issuer: t.issuer}
	answer, err := t.door.Decide(r.Context(), &a, asked)
	if err != nil { // there is a name in it that nothing can have
		answer, _ = t.door.Decide(r.Context(), &attempt.Attempt{At: a.At, Account: nobody, App: on.app}, asked)
	}
	on.failed = nil // the door has it now
	return answer
}

// nobody is a name that no account has.
const nobody = "nobody"

// raises returns the methods that would have an app be as sure as it asked to be (acr_values, OpenID Connect Core 1.0 section 3.1.2.1):
// those of one of the classes that the person has and has not proven. There are none where the answer is of such a class, nothing
// she has would make it one, or nobody knows the classes: the app's wish is voluntary.
func (t *trial) raises(on *asking, answer *door.Answer) (methods []string) {
	if slices.ContainsFunc(on.acr, func(class string) bool { return slices.Contains(answer.ACR, class) }) {
		return nil
	}
	proven := slices.Concat(on.proofs, on.counted(t.clock.Now()))
	has := t.methodsOf(on.account)
	for _, a := range t.door.Book().Judge().Assurances() {
		if a.ACR == "" || !slices.Contains(on.acr, a.ACR) {
			continue
		}
		for i := range a.Prove {
			any := a.Prove[i].AnyOf
			if slices.ContainsFunc(proven, func(p attempt.Proof) bool { return slices.Contains(any, p.Method) }) {
				continue
			}
			for _, method := range any {
				if slices.Contains(has, method) && slices.Contains(provable, method) && !slices.Contains(methods, method) {
					methods = append(methods, method)
				}
			}
		}
	}
	return methods
}

// step is what the sign-on page shows.
type step struct {
	App, Account string
	// On is the sign-on that a form is of, and Came what came of the phone.
	On, Came string
	// Home is the URL of the trial, for pages of an app that may be elsewhere.
	Home string
	// Content says that the person may go on without proving more.
	Content bool
	// Offer are the methods that may be proven now, in order, and Way the one that is asked for.
	Offer []string
	Way   string
	// Wrong says that what was typed last did not fit.
	Wrong  bool
	Number int
	// Say, Repairs and Reference are what a stopped person is told.
	Say       string
	Repairs   []string
	Reference string
	DaysLeft  int
	Accept    *decide.Demand
	// Change and Enrol say that the password is to be changed, or a method to be enrolled.
	Change, Enrol bool
}

// serveSignOn shows what is asked for now.
func (t *trial) serveSignOn(w http.ResponseWriter, r *http.Request, on *asking) {
	if on.prompt != nil && !t.lookAtPhone(on) {
		w.Header().Set("Refresh", "2") // until the phone has answered
		t.pages.Write(w, r, http.StatusOK, "waiting", "Look at your phone", step{App: on.app, Account: on.account, On: on.id,
			Number: on.prompt.Number})
		return
	}
	if s := t.signedOnAs(r); s != nil && on.account == "" && on.action == attempt.SignIn && on.request.prompt != "login" {
		on.session, on.account = *s, s.account // which another tab did meanwhile
	}
	if on.account == "" || len(on.proofs)+len(on.counted(t.clock.Now())) == 0 {
		if on.action == attempt.Recover {
			t.serveForgot(w, r, on)
			return
		}
		t.pages.Write(w, r, http.StatusOK, "begin", "Sign on",
			step{App: on.app, Account: cmp.Or(on.account, on.typed), On: on.id, Wrong: on.wrong})
		return
	}
	answer := t.decide(r, on)
	if len(answer.Causes) > 0 && answer.Causes[0].Code == decide.SessionEnded {
		// What was proven in it counts no more: another one begins.
		t.forget(w, r)
		on.session, on.account, on.proofs = session{id: journal.NewID(), started: t.clock.Now()}, "", nil
		t.pages.Write(w, r, http.StatusOK, "begin", "Sign on again", step{App: on.app, On: on.id})
		return
	}
	to := &answer.ToPerson
	raises := t.raises(on, answer)
	if answer.Verdict == decide.Grant && (len(raises) == 0 || on.content) {
		if to.DaysLeft > 0 && !on.reminded && on.action == attempt.SignIn {
			t.pages.Write(w, r, http.StatusOK, "remind", "Before you go on",
				step{App: on.app, Account: on.account, On: on.id, DaysLeft: to.DaysLeft})
			return
		}
		t.letIn(w, r, on, answer)
		return
	}
	s := step{App: on.app, Account: on.account, On: on.id, Wrong: on.wrong, Came: on.came, Say: to.Say, Repairs: slices.Clone(to.Repairs),
		Reference: answer.ID, DaysLeft: to.DaysLeft}
	on.came = ""
	if answer.Verdict == decide.Grant {
		s.Offer, s.Content, s.Say = raises, true, "This app would like to be surer that it is you."
	}
	for _, method := range to.Offer {
		if slices.Contains(provable, method) && !(on.action == attempt.Recover && method == "password") { // which she forgot
			s.Offer = append(s.Offer, method)
		}
	}
	on.offer = s.Offer
	if !slices.ContainsFunc(answer.Causes, isFinal) {
		s.note(answer.Demands, to.Verdict)
		s.Enrol = s.Enrol && len(to.Offer) == 0 // else there is another way
	}
	if len(s.Offer) > 0 {
		s.Accept = nil // one thing at a time
	}
	if len(s.Offer) == 0 && s.Accept == nil {
		title := "You cannot sign on now"
		if s.Change {
			title = "Change your password first"
			s.Repairs = slices.DeleteFunc(s.Repairs, func(repair string) bool { return repair == "Change your password." })
		}
		if len(to.Offer) > 0 {
			s.Repairs = append(s.Repairs, "Prove "+strings.Join(to.Offer, " or ")+", which this page cannot ask for.")
		}
		t.pages.Write(w, r, http.StatusForbidden, "stop", title, s)
		return
	}
	if s.Way = r.URL.Query().Get("way"); !slices.Contains(s.Offer, s.Way) && len(s.Offer) > 0 {
		s.Way = s.Offer[0]
		if len(on.unreached) > 0 && s.Way == "push" && len(s.Offer) > 1 {
			s.Way = s.Offer[1]
		}
		if on.texted && slices.Contains(s.Offer, "sms-code") {
			s.Way = "sms-code"
		}
	}
	title := "One more thing"
	if s.Accept != nil && len(s.Offer) == 0 {
		title = "Please read"
	}
	t.pages.Write(w, r, http.StatusOK, "more", title, s)
}

// isFinal reports whether nothing that a person does or proves changes a cause.
func isFinal(c decide.Cause) bool {
	return c.Code == decide.RuleBlocks || c.Code == decide.RuleMayBlock || c.Code == decide.OtherwiseBlocks
}

// note notes what is to be done about demands that no proof meets.
func (s *step) note(demands []decide.Demand, verdict decide.Verdict) {
	for i := range demands {
		d := &demands[i]
		switch {
		case d.Met:
		case d.Kind == decide.DemandAccept && verdict == decide.StepUp:
			s.Accept = d
		case d.Kind == decide.DemandChangePassword:
			s.Change = true
		case d.Kind == decide.DemandEnrol, d.Kind == decide.DemandMethod && len(d.Offer) == 0:
			s.Enrol = true
		}
		for _, way := range d.Ways {
			if !d.Met {
				s.note(way, verdict)
			}
		}
	}
}

// provable are the methods that the page can ask for.
var provable = append([]string{"password", "push", "otp-app", "sms-code", "recovery-code"}, keyMethods...)

// lookAtPhone takes what came of the prompt on the phone, and reports whether something did.
func (t *trial) lookAtPhone(on *asking) bool {
	switch t.phones.State(on.prompt.ID) {
	case standin.Waiting:
		return false
	case standin.Approved:
		on.account = cmp.Or(on.account, on.claimed)
		on.prove("push", t.clock.Now(), false)
		t.rememberOn(on.rememberOn, on.account, "push", t.clock.Now())
	case standin.Refused:
		on.came = "On the phone somebody said no, or typed another number."
		on.failed = append(on.failed, attempt.Failure{Method: "push", Reason: attempt.Refused})
	default:
		on.came = "The phone did not answer."
		on.unreached = []attempt.Failure{{Method: "push", Reason: attempt.TimedOut}}
	}
	on.prompt = nil
	return true
}

func (on *asking) prove(method string, at time.Time, fallback bool) {
	on.proofs = append(on.proofs, attempt.Proof{Method: method, At: at, App: on.app, Fallback: fallback})
}

// taking has a form of the page taken, for the sign-on that is under way in the browser.
func (t *trial) taking(take func(w http.ResponseWriter, r *http.Request, on *asking)) http.HandlerFunc {
	during := t.during(take)
	return func(w http.ResponseWriter, r *http.Request) {
		if t.pages.Sent(w, r) {
			during(w, r)
		}
	}
}

// during has a request answered for the sign-on that is under way in the browser, one at a time.
func (t *trial) during(answer func(w http.ResponseWriter, r *http.Request, on *asking)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		on := t.askingOf(r)
		if on == nil {
			http.Redirect(w, r, "/?said=late", http.StatusSeeOther)
			return
		}
		on.busy.Lock()
		defer on.busy.Unlock()
		answer(w, r, on)
	}
}

// mostPrompts is how many prompts one sign-on sends to a phone: who gets more may press yes to be left alone.
const mostPrompts = 5

// isOffered reports whether a method may be proven now: the page offered it last, and the account has it.
func (t *trial) isOffered(on *asking, method string) bool {
	switch method {
	case "text":
		method = "sms-code"
	case "password", "push", "otp-app", "sms-code", "recovery-code":
	default:
		return true // which proves nothing
	}
	return slices.Contains(on.offer, method) && (method == "password" || slices.Contains(t.methodsOf(on.account), method))
}

// takeProof takes what a person typed or pressed.
func (t *trial) takeProof(w http.ResponseWriter, r *http.Request, on *asking) {
	now, next := t.clock.Now(), on.page()
	method := r.PostFormValue("method")
	on.wrong = false
	if !t.isOffered(on, method) {
		http.Redirect(w, r, next, http.StatusSeeOther)
		return
	}
	switch method {
	case "begin":
		t.begin(r, on, now)
	case "push":
		if on.prompts++; on.prompt == nil && on.prompts <= mostPrompts {
			prompt := t.phones.Push(on.account, on.app, t.whereOf(r))
			on.prompt, on.rememberOn = &prompt, ""
			if r.PostFormValue("remember") != "" {
				on.rememberOn = t.deviceOf(r)
			}
		}
	case "later":
		on.reminded, on.content = true, true
	case "give-up":
		if on.prompt != nil {
			t.phones.GiveUp(on.prompt.ID)
		}
	case "text":
		t.phones.SendText(on.account)
		on.texted = true
		next += "&way=sms-code"
	case "accept":
		t.accept(r, on, now)
	case "password", "otp-app", "sms-code", "recovery-code":
		if t.fits(r, on.account, method, now) {
			on.prove(method, now, method == "sms-code" || method == "recovery-code")
			on.texted = false
			t.remember(r, on, method, now)
			break
		}
		on.wrong = true
		on.failed = append(on.failed, attempt.Failure{Method: method, Reason: attempt.Refused})
		next += "&way=" + method
	default:
		t.pages.Wrong(w, r, http.StatusBadRequest, "There is no such method here.")
		return
	}
	http.Redirect(w, r, next, http.StatusSeeOther)
}

// fits reports whether what was typed proves a method of an account. A recovery code and a text serve once.
func (t *trial) fits(r *http.Request, account, method string, now time.Time) bool {
	typed := strings.TrimSpace(r.PostFormValue("typed"))
	switch method {
	case "password":
		return t.people.HasPassword(account, typed)
	case "otp-app":
		return t.people.FitsCode(account, typed, now)
	case "sms-code":
		return t.phones.FitsText(account, typed)
	case "recovery-code":
		return t.people.SpendRecoveryCode(account, typed, now)
	}
	return false
}

// begin takes a name and a password. What is shown next is the same for everybody until the password fits.
func (t *trial) begin(r *http.Request, on *asking, now time.Time) {
	name, password := strings.TrimSpace(r.PostFormValue("account")), r.PostFormValue("password")
	if on.account != "" && name != on.account {
		// What was proven, asked and failed is of somebody else, and so is the session.
		if on.prompt != nil {
			t.phones.GiveUp(on.prompt.ID)
		}
		on.account, on.proofs, on.failed, on.unreached, on.prompt, on.texted, on.offer = "", nil, nil, nil, nil, false, nil
		on.session = session{id: journal.NewID(), started: now}
	}
	if t.people.HasPassword(name, password) {
		on.account = name
		on.prove("password", now, false)
		return
	}
	on.wrong, on.typed = true, name
	t.noteWrong(r, on, name, "password")
}

// noteWrong has the door hear of a proof that did not fit, of somebody who is not known yet.
func (t *trial) noteWrong(r *http.Request, on *asking, name, method string) {
	// Whether there is such a name nobody hears from how long the answer takes.
	defer func(from time.Time) {
		select {
		case <-time.After(time.Until(from.Add(t.pause))):
		case <-r.Context().Done():
		}
	}(time.Now())
	t.decide(r, &asking{request: on.request, session: on.session, account: name,
		failed: []attempt.Failure{{Method: method, Reason: attempt.Refused}}}) // so that guessing is noticed
}

// accept notes that a document was accepted, where one is asked for.
func (t *trial) accept(r *http.Request, on *asking, now time.Time) {
	answer := t.decide(r, on)
	for i := range answer.Demands {
		if d := &answer.Demands[i]; d.Kind == decide.DemandAccept && !d.Met {
			t.mu.Lock()
			t.accepted[on.account] = append(t.accepted[on.account], attempt.Acceptance{Document: d.Document, Version: d.Version, At: now})
			t.mu.Unlock()
		}
	}
}

// remember notes that a device stands for a method, where the person wants it to.
func (t *trial) remember(r *http.Request, on *asking, method string, now time.Time) {
	if r.PostFormValue("remember") == "" {
		return
	}
	t.rememberOn(t.deviceOf(r), on.account, method, now)
}

// rememberOn notes that a device stands for a method of an account; "" is none.
func (t *trial) rememberOn(device, account, method string, now time.Time) {
	if device == "" {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.remembered[device] = append(t.remembered[device], attempt.Remembered{Account: account, Method: method, At: now})
}

// sessionID is the door's identifier of a session.
func (t *trial) sessionID(s *session) string { return store.SessionID(t.issuer, s.id, s.account) }

// signOff ends the session of a browser.
func (t *trial) signOff(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	if s := t.signedOnAs(r); s != nil {
		if _, err := t.door.EndSession(t.sessionID(s), "they signed off"); err != nil {
			t.pages.Wrong(w, r, http.StatusServiceUnavailable, "You could not be signed off. Try again.")
			return
		}
		t.forget(w, r)
	}
	for i := range apps { // whose tokens are of that session
		dropCookie(w, passCookie, "/apps/"+apps[i].Name+"/")
	}
	http.Redirect(w, r, "/?said=off", http.StatusSeeOther)
}
