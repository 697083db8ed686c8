package consent

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Decision is the answer to a request.
type Decision struct {
	Outcome Outcome `json:"outcome" doc:"allow, review or refuse: the strictest of all scopes"`
	// Causes are the decisive reasons.
	Causes []Cause `json:"causes" doc:"why, the decisive reasons only"`
	// Scopes are from the mildest to the gravest.
	Scopes   []ScopeDecision `json:"scopes" doc:"what becomes of each scope, the mildest first"`
	ToPerson ToPerson        `json:"to_person" doc:"what the person is told"`
	// Until is when an approval that the answer rests on ends.
	Until time.Time `json:"until,omitzero" doc:"when an approval that the answer rests on ends"`
}

// WithoutBook returns the answer where there is no book to decide by: a refusal.
func WithoutBook() *Decision {
	d := &Decision{Causes: []Cause{{Code: NoBook, Text: "There is no book in force, and without one every request is refused."}},
		Scopes: []ScopeDecision{}, ToPerson: ToPerson{Wanted: []string{}}}
	return d
}

// ScopeDecision is what becomes of one scope.
type ScopeDecision struct {
	Scope   string  `json:"scope" doc:"the scope"`
	Tier    string  `json:"tier" doc:"its tier; unlisted where no tier lists it"`
	Outcome Outcome `json:"outcome" doc:"what becomes of it"`
	// Rule spoke; where several may, Rules lists them.
	Rule  string   `json:"rule,omitzero" doc:"the rule that spoke"`
	Rules []string `json:"rules,omitempty" doc:"the rules that may speak, where a fact is missing"`
	// Approved says that a reviewer approved it.
	Approved bool     `json:"approved,omitzero" doc:"true where a reviewer approved it"`
	Why      []string `json:"why" doc:"the conditions that made it so"`
}

// CauseCode says why a decision is as it is. The list is closed.
type CauseCode string

// The causes.
const (
	// NoBook: there is no book to decide by.
	NoBook CauseCode = "no_book"
	// AccountUnknown: the book has no such account, or it is disabled.
	AccountUnknown CauseCode = "account_unknown"
	// AccountUnavailable: nobody could find out about the account.
	AccountUnavailable CauseCode = "account_unavailable"
	// ClientBarred: the client is barred, whatever the rules say.
	ClientBarred CauseCode = "client_barred"
	// RedirectUnregistered: the answer would go where the client is not registered.
	RedirectUnregistered CauseCode = "redirect_unregistered"
	// GroupUnknown: the group whose data is asked for does not exist.
	GroupUnknown CauseCode = "group_unknown"
	// RuleRefuses: a rule refuses.
	RuleRefuses CauseCode = "rule_refuses"
	// RuleReviews: a rule wants a reviewer to look.
	RuleReviews CauseCode = "rule_reviews"
	// NoRule: no rule speaks, so a reviewer looks.
	NoRule CauseCode = "no_rule"
	// ClientUnknown: nobody knows the client, so nothing is allowed unseen.
	ClientUnknown CauseCode = "client_unknown"
	// RedirectUnknown: where the answer would go is not said.
	RedirectUnknown CauseCode = "redirect_unknown"
	// RuleAllows: the rules allow all of it.
	RuleAllows CauseCode = "rule_allows"
	// ReviewerApproved: a reviewer approved what the rules do not allow.
	ReviewerApproved CauseCode = "reviewer_approved"
)

// CauseCodes returns all causes.
func CauseCodes() []CauseCode {
	return []CauseCode{
		NoBook,
		AccountUnknown,
		AccountUnavailable,
		ClientBarred,
		RedirectUnregistered,
		GroupUnknown,
		RuleRefuses,
		RuleReviews,
		NoRule,
		ClientUnknown,
		RedirectUnknown,
		RuleAllows,
		ReviewerApproved,
	}
}

// Cause is one reason.
type Cause struct {
	Code CauseCode `json:"code" doc:"the kind of cause"`
	Rule string    `json:"rule,omitzero" doc:"the rule behind it"`
	Text string    `json:"text" doc:"the cause in a sentence"`
}

// ToPerson is what the person is told.
type ToPerson struct {
	Outcome Outcome `json:"outcome" doc:"allow, review or refuse"`
	Say     string  `json:"say" doc:"what the rules say"`
	// Wanted are the scopes in question, the gravest first, as far as they are not
	// allowed.
	Wanted []string `json:"wanted" doc:"the scopes that are not allowed, the gravest first"`
}

// Decide answers a request. Each scope is judged by itself and the strictest
// outcome stands, so that more scopes are never easier than fewer. The error
// says what the request lacks.
func (j *Judge) Decide(ctx context.Context, r *Request, known Known) (*Decision, error) {
	if err := r.Check(); err != nil {
		return nil, err
	}
	d := &Decision{Causes: []Cause{}, Scopes: []ScopeDecision{}, ToPerson: ToPerson{Wanted: []string{}}}
	client := j.clients[r.Client]
	if client == nil {
		client = known.Client
	}
	account, unavailable := j.account(ctx, r.Account, r.At)
	scopes := j.ladder.Sort(r.Scopes)
	if cause, stopped := j.stops(r, known, client, account, unavailable); stopped {
		for _, scope := range scopes {
			d.Scopes = append(d.Scopes, ScopeDecision{Scope: scope, Tier: j.ladder.TierOf(scope), Outcome: Refuse, Why: []string{}})
		}
		d.Outcome, d.Causes = Refuse, append(d.Causes, cause)
		d.tell(nil)
		return d, nil
	}
	d.Outcome = Allow // the mildest, which each scope can only make stricter; a request has at least one
	doubts := doubtsOf(r, client)
	var say []string
	facts := engine.FactsOf(account, r.At)
	facts.Directory = j.directory
	for _, scope := range scopes {
		rank, _ := j.ladder.Rank(scope)
		one := &scopeRequest{Facts: facts, judge: j, request: r, client: client, scope: scope, rank: rank}
		s, said := j.judge(one)
		if s.Outcome == Allow && len(doubts) > 0 {
			s.Outcome = Review
		}
		if s.Outcome == Review && r.RedirectURI != "" { // who approved it saw another place than one that is not said
			if until, approved := j.approved(one, known.Approvals); approved {
				s.Outcome, s.Approved = Allow, true
				if !until.IsZero() && (d.Until.IsZero() || until.Before(d.Until)) {
					d.Until = until
				}
			}
		}
		if s.Outcome != Allow {
			say = append(say, said...)
		}
		d.Outcome = min(d.Outcome, s.Outcome)
		d.Scopes = append(d.Scopes, s)
	}
	j.explain(d, doubts)
	d.tell(say)
	return d, nil
}

// stops returns the cause for which a request is refused before any rule.
func (j *Judge) stops(r *Request, known Known, client *Client, account *engine.Profile, unavailable error) (Cause, bool) {
	switch {
	case unavailable != nil:
		return Cause{
			Code: AccountUnavailable,
			Text: fmt.Sprintf("Nobody could find out about the account %q: %v.", r.Account, unavailable),
		}, true
	case account == nil || account.Disabled():
		return Cause{Code: AccountUnknown, Text: fmt.Sprintf("The book has no account %q that may sign on.", r.Account)}, true
	case known.Barred:
		return Cause{Code: ClientBarred, Text: strings.TrimSpace(fmt.Sprintf("%s is barred. %s", r.Client, known.Because))}, true
	case client != nil && client.Standing == Barred:
		return Cause{Code: ClientBarred, Text: strings.TrimSpace(fmt.Sprintf("%s is barred. %s", r.Client, client.Because))}, true
	case client != nil && r.RedirectURI != "" && !redirectFits(client.RedirectURIs, r.RedirectURI):
		return Cause{
			Code: RedirectUnregistered,
			Text: fmt.Sprintf("%s wants to be answered at %s, where it is not registered.", r.Client, r.RedirectURI),
		}, true
	case r.Resource.Group != "" && !slices.ContainsFunc(j.directory.Groups, func(g directory.Group) bool {
		return g.Name == r.Resource.Group
	}):
		return Cause{Code: GroupUnknown, Text: fmt.Sprintf("The book has no group %q.", r.Resource.Group)}, true
	}
	return Cause{}, false
}

// doubtsOf returns what is not known of a request and so keeps it from being
// allowed unseen.
func doubtsOf(r *Request, client *Client) []Cause {
	var doubts []Cause
	if client == nil {
		doubts = append(doubts, Cause{Code: ClientUnknown, Text: fmt.Sprintf("Nobody knows the client %s, so a reviewer looks.", r.Client)})
	}
	if r.RedirectURI == "" {
		doubts = append(doubts, Cause{Code: RedirectUnknown, Text: "Where the client would be answered is not said, so a reviewer looks."})
	}
	return doubts
}

// judge asks the rules for one scope. Where a rule's condition is unknown both
// worlds are followed and the stricter stands.
func (j *Judge) judge(r *scopeRequest) (ScopeDecision, []string) {
	s := ScopeDecision{Scope: r.scope, Tier: j.ladder.TierOf(r.scope), Why: []string{}}
	var spoke []int
	surely := false
	for i, when := range j.when {
		holds := condition.Eval(when, r)
		if holds == condition.False {
			continue
		}
		spoke = append(spoke, i)
		if holds == condition.True {
			surely = true
			break
		}
	}
	s.Outcome = Allow
	if !surely {
		s.Outcome = Review // where no rule speaks a reviewer looks
	}
	var say []string
	for _, i := range spoke {
		rule := &j.scheme.Rules[i]
		s.Outcome = min(s.Outcome, rule.Then)
		s.Rules = append(s.Rules, rule.Name)
		reasons := condition.Because(j.when[i], r)
		if len(reasons) == 0 {
			reasons = condition.Why(j.when[i], r)
		}
		for _, reason := range reasons {
			s.Why = append(s.Why, reason.String())
		}
	}
	for _, i := range spoke {
		if rule := &j.scheme.Rules[i]; rule.Then == s.Outcome && rule.Say != "" {
			say = append(say, rule.Say)
		}
	}
	if len(s.Rules) == 1 && surely {
		s.Rule, s.Rules = s.Rules[0], nil
	}
	return s, say
}

// approved reports whether a reviewer approved the scope for the account, and until
// when.
func (j *Judge) approved(r *scopeRequest, approvals []Approval) (until time.Time, approved bool) {
	for _, a := range approvals {
		if a.By == r.request.Account && a.By != "" && !j.scheme.OwnRequests {
			continue // nobody lets herself have what others must be asked for
		}
		if (r.client == nil || a.RedirectURI != "") && !redirectFits([]string{a.RedirectURI}, r.request.RedirectURI) {
			continue // it was approved for another place, which may be another program
		}
		if a.Client != r.request.Client || a.Resource != r.request.Resource || !slices.Contains(a.Scopes, r.scope) || !j.isFor(r, a) {
			continue
		}
		if r.request.At.Before(a.From) || !a.Until.IsZero() && !r.request.At.Before(a.Until) {
			continue
		}
		if !approved || a.Until.IsZero() || !until.IsZero() && a.Until.After(until) {
			until = a.Until
		}
		approved = true
		if until.IsZero() {
			return until, true
		}
	}
	return until, approved
}

// isFor reports whether an approval is surely for the account.
func (j *Judge) isFor(r *scopeRequest, a Approval) bool {
	switch {
	case a.Account != "":
		return a.Account == r.request.Account
	case a.Group != "":
		return slices.Contains(r.Profile.Groups(), a.Group)
	}
	return true
}

// explain lists the decisive reasons: those of the scopes that stand as strict as
// the whole.
func (j *Judge) explain(d *Decision, doubts []Cause) {
	if d.Outcome == Review {
		d.Causes = append(d.Causes, doubts...)
	}
	by := map[string][]string{}
	var order []string
	for _, s := range d.Scopes {
		if s.Outcome != d.Outcome {
			continue
		}
		name := s.Rule
		if s.Approved {
			name = "\x00approved"
		} else if name == "" {
			name = j.speaking(&s)
		}
		if by[name] == nil {
			order = append(order, name)
		}
		by[name] = append(by[name], s.Scope)
	}
	for _, name := range order {
		scopes := strings.Join(by[name], ", ")
		c := Cause{Rule: name}
		verb := map[Outcome]string{Allow: "allows", Review: "wants a reviewer to look at", Refuse: "refuses"}[d.Outcome]
		switch {
		case name == "\x00approved":
			c = Cause{Code: ReviewerApproved, Text: fmt.Sprintf("A reviewer approved %s.", scopes)}
		case name == "":
			c = Cause{Code: NoRule, Text: fmt.Sprintf("No rule speaks of %s, so a reviewer looks.", scopes)}
		case d.Outcome == Review && len(doubts) > 0 && j.allows(name):
			continue // the doubts are the reason
		case d.Outcome == Review && j.allows(name):
			c.Code = RuleReviews
			c.Text = fmt.Sprintf("Whether %s allows %s depends on a fact that is missing, so a reviewer looks.", name, scopes)
		default:
			c.Code = map[Outcome]CauseCode{Allow: RuleAllows, Review: RuleReviews, Refuse: RuleRefuses}[d.Outcome]
			c.Text = fmt.Sprintf("%s %s %s.", name, verb, scopes)
		}
		d.Causes = append(d.Causes, c)
	}
}

// speaking returns the names of the rules to which the answer to a scope is due, where more
// than one may speak: those that say what came of it; where none does, all.
func (j *Judge) speaking(s *ScopeDecision) string {
	due := slices.DeleteFunc(slices.Clone(s.Rules), func(name string) bool { return j.then(name) != s.Outcome })
	if len(due) == 0 {
		due = s.Rules
	}
	return strings.Join(due, " or ")
}

// then returns what a rule, by name, says.
func (j *Judge) then(rule string) Outcome {
	i := slices.IndexFunc(j.scheme.Rules, func(r Rule) bool { return r.Name == rule })
	return j.scheme.Rules[i].Then
}

// allows reports whether rules, by names as speaking returns them, allow.
func (j *Judge) allows(rules string) bool {
	return !slices.ContainsFunc(strings.Split(rules, " or "), func(rule string) bool { return j.then(rule) != Allow })
}

// tell makes the view for the person.
func (d *Decision) tell(say []string) {
	d.ToPerson.Outcome = d.Outcome
	for _, s := range slices.Backward(d.Scopes) {
		if s.Outcome != Allow {
			d.ToPerson.Wanted = append(d.ToPerson.Wanted, s.Scope)
		}
	}
	var each []string
	for _, text := range say {
		if !slices.Contains(each, text) {
			each = append(each, text)
		}
	}
	d.ToPerson.Say = strings.Join(each, " ")
}
