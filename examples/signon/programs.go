package main

import (
	"encoding/json"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/store"
)

// Outside programs want what is somebody's. She lets them in where the book leaves that to her, asks a reviewer where it does
// not, and reviewers answer what waits.

// program is an outside program of the demo's book, with what it wants.
type program struct {
	client string
	wants  []string
}

var programs = []program{
	{"tide-table", []string{"openid", "tides.read"}},
	{"voyage-log", []string{"openid", "mail.read"}},
	{"crew-swap", []string{"roster.read", "roster.write"}},
	{"prize-wheel", []string{"openid", "profile"}},
}

func programNamed(client string) *program {
	for i := range programs {
		if programs[i].client == client {
			return &programs[i]
		}
	}
	return nil
}

// want is what a program asks for, as the person is told: a tier of scopes, and what it lets the program do.
type want struct {
	Tier, About string
	Scopes      []string
}

// programView is what the prompt of a program shows.
type programView struct {
	Account, Client, Title, Publisher string
	Vetted                            bool
	Wants                             []want
	// Outcome is what asking would come to, or came to.
	Outcome consent.Outcome
	Say     string
	// Request is the number under which a request waits, 0 for none.
	Request int64
}

// Allow reports whether the program may be let in.
func (v programView) Allow() bool { return v.Outcome == consent.Allow }

// Review reports whether a reviewer has to say so.
func (v programView) Review() bool { return v.Outcome == consent.Review }

// judges compiles what decides on consent, of the book in force.
func (t *trial) judges() (*consent.Judge, error) {
	source := t.door.Book().Source()
	return source.CompileConsent(t.door.Book().Judge())
}

// askConsent asks the door what a program may have of somebody; a rehearsal leaves no trace.
func (t *trial) askConsent(account string, x *program, because string, rehearse bool) (*acts.Answer, error) {
	judge, err := t.judges()
	if err != nil {
		return nil, err
	}
	redirect := ""
	if c := judge.Clients()[x.client]; c != nil && len(c.RedirectURIs) > 0 {
		redirect = c.RedirectURIs[0]
	}
	ask, err := json.Marshal(map[string]any{"account": account, "client": x.client, "scopes": x.wants, "redirect_uri": redirect,
		"because": because, "rehearse": rehearse})
	if err != nil {
		return nil, err
	}
	answer := new(acts.Answer)
	return answer, t.agents.call(http.MethodPost, "/v1/consents", "application/json", ask, answer)
}

// serveProgram shows what a program wants, in plain words, and what can be done about it.
func (t *trial) serveProgram(w http.ResponseWriter, r *http.Request) {
	x, s := programNamed(r.PathValue("client")), t.signedOnAs(r)
	switch {
	case x == nil:
		t.pages.Wrong(w, r, http.StatusNotFound, "There is no such program here.")
		return
	case s == nil:
		http.Redirect(w, r, "/", http.StatusSeeOther)
		return
	}
	answer, err := t.askConsent(s.account, x, "", true)
	if err != nil {
		t.failed(w, r, "the door was not asked about a program", err)
		return
	}
	if answer.Request, err = t.waiting(r, s.account, x); err != nil {
		t.failed(w, r, "the queue was not read", err)
		return
	}
	page := "program"
	if answer.Request != 0 {
		page = "answered"
	}
	t.showProgram(w, r, page, s.account, x, answer)
}

// waiting returns the number of the request by which somebody asked for a program that waits for a reviewer, 0 for none.
func (t *trial) waiting(r *http.Request, account string, x *program) (int64, error) {
	judge, err := t.judges()
	if err != nil {
		return 0, err
	}
	queue, err := acts.New(judge, t.facts, store.TerminalLog).Queue(r.Context(), t.clock.Now())
	for i := range queue {
		for _, request := range queue[i].Requests {
			if request.Client == x.client && request.Account == account {
				return request.Number, err
			}
		}
	}
	return 0, err
}

// takeConsent takes what the person says to it.
func (t *trial) takeConsent(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	x, s := programNamed(r.PathValue("client")), t.signedOnAs(r)
	if x == nil || s == nil {
		http.Redirect(w, r, "/", http.StatusSeeOther)
		return
	}
	answer, err := t.askConsent(s.account, x, strings.TrimSpace(r.PostFormValue("because")), false)
	if err != nil {
		t.failed(w, r, "the door was not asked about a program", err)
		return
	}
	t.showProgram(w, r, "answered", s.account, x, answer)
}

func (t *trial) showProgram(w http.ResponseWriter, r *http.Request, page, account string, x *program, answer *acts.Answer) {
	judge, err := t.judges()
	if err != nil {
		t.failed(w, r, "the book was not compiled", err)
		return
	}
	v := programView{Account: account, Client: x.client, Title: x.client, Outcome: answer.Outcome, Request: answer.Request,
		Say: strings.TrimSpace(answer.ToPerson.Say)}
	if c := judge.Clients()[x.client]; c != nil {
		v.Title, v.Publisher, v.Vetted = c.Title, c.Publisher.Title, c.Publisher.Vetted
	}
	for i := range answer.Scopes {
		tier := answer.Scopes[i].Tier
		n := slices.IndexFunc(v.Wants, func(w want) bool { return w.Tier == tier })
		if n < 0 {
			n = len(v.Wants)
			v.Wants = append(v.Wants, want{Tier: tier, About: aboutTier(judge, tier)})
		}
		v.Wants[n].Scopes = append(v.Wants[n].Scopes, answer.Scopes[i].Scope)
	}
	t.pages.Write(w, r, http.StatusOK, page, v.Title+" wants to be let in", v)
}

// aboutTier says what a tier of scopes lets a program do.
func aboutTier(judge *consent.Judge, name string) string {
	for _, tier := range judge.Ladder().Tiers() {
		if tier.Name == name {
			return tier.About
		}
	}
	return "Nobody has said what this lets it do."
}

// failed says that something did not work, and logs why.
func (t *trial) failed(w http.ResponseWriter, r *http.Request, what string, err error) {
	slog.Error(what, "error", err)
	t.pages.Wrong(w, r, http.StatusServiceUnavailable, "This does not work just now. Try again.")
}

// reviewView is what reviewers see.
type reviewView struct {
	Account string
	Queue   []acts.Batch
	Clients []acts.Entry
	Said    string
}

// reviewer returns the desk and who is signed on at it, nil where she is no reviewer. What is there is then not hers to see.
func (t *trial) reviewer(w http.ResponseWriter, r *http.Request) (*acts.Desk, *session) {
	s := t.signedOnAs(r)
	judge, err := t.judges()
	switch {
	case err != nil:
		t.failed(w, r, "the book was not compiled", err)
		return nil, nil
	case s == nil || !judge.MayReview(r.Context(), s.account, t.clock.Now()):
		t.pages.Write(w, r, http.StatusForbidden, "closed", "Reviewers answer here", step{App: "mail", Say: "You are no reviewer of the book."})
		return nil, nil
	}
	// A reviewer proves as much as for her mail, in a session that has not ended.
	a := t.attempt(r, "mail")
	a.Account, a.Session = s.account, attempt.Session{ID: s.id, Started: s.started, Proofs: s.proofs}
	asked := door.Asked{Caller: "review", Issuer: t.issuer}
	if answer, err := t.door.Decide(r.Context(), &a, asked); err != nil || answer.Verdict != decide.Grant {
		t.pages.Write(w, r, http.StatusForbidden, "closed", "Reviewers answer here",
			step{App: "mail", Say: "Open your mail first: a reviewer proves as much as for that."})
		return nil, nil
	}
	return acts.New(judge, t.facts, store.TerminalLog), s
}

// serveReview shows what waits, and who was let in.
func (t *trial) serveReview(w http.ResponseWriter, r *http.Request) {
	d, s := t.reviewer(w, r)
	if d == nil {
		return
	}
	v := reviewView{Account: s.account, Said: reviewSaid[r.URL.Query().Get("said")]}
	var err error
	if v.Queue, err = d.Queue(r.Context(), t.clock.Now()); err == nil {
		v.Clients, err = d.Register(r.Context(), t.clock.Now())
	}
	if err != nil {
		t.failed(w, r, "the queue was not read", err)
		return
	}
	t.pages.Write(w, r, http.StatusOK, "review", "What waits for a reviewer", v)
}

var reviewSaid = map[string]string{
	"approve": "Approved.", "refuse": "Refused.", "bar": "The program is barred, and all that it was given is taken back.",
}

// takeReview takes what a reviewer says.
func (t *trial) takeReview(w http.ResponseWriter, r *http.Request) {
	if !t.pages.Sent(w, r) {
		return
	}
	d, s := t.reviewer(w, r)
	if d == nil {
		return
	}
	now, because, did := t.clock.Now(), strings.TrimSpace(r.PostFormValue("because")), r.PostFormValue("do")
	number, err := strconv.ParseInt(r.PostFormValue("request"), 10, 64)
	switch did {
	case "approve":
		if err == nil {
			_, err = d.Approve(r.Context(), acts.Approval{By: s.account, At: now, Request: number, Because: because})
		}
	case "refuse":
		if err == nil {
			_, err = d.Refuse(r.Context(), acts.Refusal{By: s.account, At: now, Requests: []int64{number}, Because: because})
		}
	case "bar":
		_, err = d.Bar(r.Context(), s.account, r.PostFormValue("client"), because, now)
	default:
		t.pages.Wrong(w, r, http.StatusBadRequest, "A reviewer approves, refuses or bars.")
		return
	}
	if err != nil {
		t.pages.Wrong(w, r, http.StatusConflict, "That was not recorded: "+err.Error()+".")
		return
	}
	http.Redirect(w, r, "/review?"+url.Values{"said": {did}}.Encode(), http.StatusSeeOther)
}
