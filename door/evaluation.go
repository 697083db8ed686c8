package door

import (
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/store"
)

// The OpenID Authorization API 1.0: the same decisions by the open standard. The subject is an
// account, the resource an app, the action that of the attempt, and the context its other fields.

// entity is a subject or a resource (§5.1, §5.2).
type entity struct {
	Type string `json:"type" doc:"account (or user) of a subject, app (or application) of a resource"`
	ID   string `json:"id,omitzero" doc:"its name"`
	// Properties are not read: what is believed stands in the context.
	Properties json.RawMessage `json:"properties,omitempty" doc:"not read"`
}

// actionName is an action (§5.3).
type actionName struct {
	Name       string          `json:"name" doc:"sign-in, enrol, change-password or recover"`
	Properties json.RawMessage `json:"properties,omitempty" doc:"not read"`
}

// evaluationAsk is a request for one evaluation (§6.1).
type evaluationAsk struct {
	Subject  *entity         `json:"subject,omitempty" doc:"the account"`
	Action   *actionName     `json:"action,omitempty" doc:"the action"`
	Resource *entity         `json:"resource,omitempty" doc:"the app"`
	Context  json.RawMessage `json:"context,omitempty" doc:"the other fields of an attempt"`

	// unknown are members of the context that no attempt has.
	unknown []string
}

// evaluationsAsk is a request for several (§7.1). What one leaves out the request says for all.
type evaluationsAsk struct {
	evaluationAsk
	Evaluations []evaluationAsk `json:"evaluations,omitempty" doc:"the evaluations"`
	Options     struct {
		Semantic string `json:"evaluations_semantic,omitzero" doc:"execute_all, deny_on_first_deny or permit_on_first_permit"`
	} `json:"options,omitzero" doc:"how they are made"`
}

// evaluation is an answer (§6.2).
type evaluation struct {
	Decision bool `json:"decision" doc:"true where the attempt is granted"`
	// Context says more than the standard does.
	Context *evaluationContext `json:"context,omitempty" doc:"the reasons, for the administrator and for the person apart"`
}

// evaluationContext is what an answer says beside yes or no.
type evaluationContext struct {
	ID      string          `json:"id,omitzero" doc:"the decision"`
	Verdict *decide.Verdict `json:"verdict,omitempty" doc:"grant, step_up or block"`
	// ReasonAdmin is for the administrator, ReasonUser for the person, by language.
	ReasonAdmin map[string]string `json:"reason_admin,omitempty" doc:"why, for the administrator"`
	ReasonUser  map[string]string `json:"reason_user,omitempty" doc:"what the person may be told"`
	ToPerson    *decide.ToPerson  `json:"to_person,omitempty" doc:"what the person may be told, in parts"`
	Demands     []decide.Demand   `json:"demands,omitempty" doc:"what is still to be shown"`
	Limits      *decide.Limits    `json:"limits,omitempty" doc:"what bounds a granted session"`
	Degraded    []string          `json:"degraded,omitempty" doc:"what the decision lacked because something failed"`
	Ignored     []string          `json:"ignored,omitempty" doc:"what was sent and is not read"`
	// Error says why an evaluation of several could not be made (§7.2.1).
	Error *evaluationError `json:"error,omitempty" doc:"why it could not be made"`
}

type evaluationError struct {
	Status  int    `json:"status" doc:"the status of HTTP that it alone would have had"`
	Message string `json:"message" doc:"what is wrong"`
}

// The semantics of several evaluations (§7.1.2).
const (
	executeAll          = "execute_all"
	denyOnFirstDeny     = "deny_on_first_deny"
	permitOnFirstPermit = "permit_on_first_permit"
)

// attemptOf makes the attempt that is asked about. Of a search what is searched for is missing, and
// is then left empty.
func (d *Door) attemptOf(q *evaluationAsk, searched string) (*attempt.Attempt, error) {
	a := new(attempt.Attempt)
	known, err := q.known()
	if err == nil {
		err = attempt.Parse(known, a, attempt.Options{Part: true})
	}
	if err != nil {
		return nil, Problemf(http.StatusBadRequest, "context: %s", err)
	}
	switch {
	case a.Account != "" || a.App != "" || a.Action != attempt.SignIn:
		return nil, Problemf(http.StatusBadRequest, "context: the account, app and action are the subject, resource and action.")
	case q.Subject == nil || searched != "subject" && q.Subject.ID == "":
		return nil, Problemf(http.StatusBadRequest, "The request has no subject: {\"type\": \"account\", \"id\": …}.")
	case q.Subject.Type != "account" && q.Subject.Type != "user":
		return nil, Problemf(http.StatusBadRequest, "subject.type is account, not %q.", q.Subject.Type)
	case q.Resource == nil || searched != "resource" && q.Resource.ID == "":
		return nil, Problemf(http.StatusBadRequest, "The request has no resource: {\"type\": \"app\", \"id\": …}.")
	case q.Resource.Type != "app" && q.Resource.Type != "application":
		return nil, Problemf(http.StatusBadRequest, "resource.type is app, not %q.", q.Resource.Type)
	case searched != "action" && (q.Action == nil || q.Action.Name == ""):
		return nil, Problemf(http.StatusBadRequest, "The request has no action: {\"name\": \"sign-in\"}.")
	}
	if searched != "action" {
		if err := a.Action.UnmarshalText([]byte(q.Action.Name)); err != nil {
			return nil, Problemf(http.StatusBadRequest, "action.name: %s.", err)
		}
	}
	a.Account, a.App = q.Subject.ID, q.Resource.ID
	if a.At.IsZero() {
		a.At = d.now()
	}
	checked := *a
	if searched == "subject" {
		checked.Account = "anyone"
	}
	if searched == "resource" {
		checked.App = "any"
	}
	if err := d.CheckAttempt(&checked); err != nil {
		return nil, Problemf(http.StatusBadRequest, "%s", err)
	}
	return a, nil
}

// known returns the members of the context that an attempt has. Others are no error: a caller may say there what it likes (§5.4).
func (q *evaluationAsk) known() (json.RawMessage, error) {
	if len(q.Context) == 0 {
		return nil, nil
	}
	var members map[string]json.RawMessage
	if err := decodeStrictly(q.Context, &members); err != nil {
		return nil, err
	}
	q.unknown = nil
	for name := range members {
		if !slices.Contains(attempt.Members(), name) {
			q.unknown = append(q.unknown, "context."+name)
			delete(members, name)
		}
	}
	slices.Sort(q.unknown)
	return json.Marshal(members)
}

// ignored lists what a request says that is not read.
func (q *evaluationAsk) ignored() []string {
	list := slices.Clone(q.unknown)
	if q.Subject != nil && len(q.Subject.Properties) > 0 {
		list = append(list, "subject.properties")
	}
	if q.Action != nil && len(q.Action.Properties) > 0 {
		list = append(list, "action.properties")
	}
	if q.Resource != nil && len(q.Resource.Properties) > 0 {
		list = append(list, "resource.properties")
	}
	return list
}

// evaluate makes one evaluation.
func (d *Door) evaluate(ctx context.Context, q *evaluationAsk, caller *Caller) (*evaluation, error) {
	a, err := d.attemptOf(q, "")
	if err != nil {
		return nil, err
	}
	answer := d.answer(ctx, a, caller.asks())
	defer answer.release()
	var why []string
	for _, c := range answer.Causes {
		why = append(why, c.Text)
	}
	said := strings.TrimSpace(answer.ToPerson.Say + " " + strings.Join(answer.ToPerson.Repairs, " "))
	more := &evaluationContext{ID: answer.ID, Verdict: &answer.Verdict, ReasonAdmin: map[string]string{"en": strings.Join(why, " ")},
		ToPerson: &answer.ToPerson, Degraded: answer.Degraded, Ignored: q.ignored()}
	if said != "" {
		more.ReasonUser = map[string]string{"en": said}
	}
	for _, demand := range answer.Demands {
		if !demand.Met {
			more.Demands = append(more.Demands, demand)
		}
	}
	if answer.Verdict == decide.Grant {
		more.Limits = &answer.Limits
	}
	return &evaluation{answer.Verdict == decide.Grant, more}, nil
}

// serveEvaluation answers POST /access/v1/evaluation.
func (d *Door) serveEvaluation(w http.ResponseWriter, r *Request) error {
	q := new(evaluationAsk)
	if err := readAsk(w, r, q); err != nil {
		return err
	}
	made, err := d.evaluate(r.Context(), q, r.caller.Caller)
	if err != nil {
		return err
	}
	return WriteValue(w, http.StatusOK, made)
}

func readAsk(w http.ResponseWriter, r *Request, into any) error {
	text, err := ReadBody(w, r, attempt.MaxSize)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, into); err != nil { // what else is sent is not refused (§5.5)
		return Problemf(http.StatusBadRequest, "The JSON cannot be read: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

// serveEvaluations answers POST /access/v1/evaluations.
func (d *Door) serveEvaluations(w http.ResponseWriter, r *Request) error {
	q := new(evaluationsAsk)
	if err := readAsk(w, r, q); err != nil {
		return err
	}
	switch semantic := q.Options.Semantic; {
	case semantic != "" && semantic != executeAll && semantic != denyOnFirstDeny && semantic != permitOnFirstPermit:
		return Problemf(http.StatusBadRequest, "options.evaluations_semantic is %s, %s or %s, not %q.", executeAll, denyOnFirstDeny,
			permitOnFirstPermit, semantic)
	case len(q.Evaluations) > d.config.Limits.Batch:
		return Problemf(http.StatusRequestEntityTooLarge, "At most %d evaluations are made at once.", d.config.Limits.Batch)
	case len(q.Evaluations) == 0: // as one evaluation (§7.1)
		made, err := d.evaluate(r.Context(), &q.evaluationAsk, r.caller.Caller)
		if err != nil {
			return err
		}
		return WriteValue(w, http.StatusOK, made)
	}
	if err := d.spend(r.caller, len(q.Evaluations)-1); err != nil { // each counts, and one did already
		return err
	}
	all := struct {
		Evaluations []*evaluation `json:"evaluations"`
	}{}
	for i := range q.Evaluations {
		one := q.Evaluations[i]
		if one.Subject == nil {
			one.Subject = q.Subject
		}
		if one.Action == nil {
			one.Action = q.Action
		}
		if one.Resource == nil {
			one.Resource = q.Resource
		}
		if one.Context == nil {
			one.Context = q.Context
		}
		made, err := d.evaluate(r.Context(), &one, r.caller.Caller)
		if p, ok := err.(*Problem); ok {
			made, err = &evaluation{Context: &evaluationContext{Error: &evaluationError{p.Status, p.Detail}}}, nil
		}
		if err != nil {
			return err
		}
		all.Evaluations = append(all.Evaluations, made)
		if q.Options.Semantic == denyOnFirstDeny && !made.Decision || q.Options.Semantic == permitOnFirstPermit && made.Decision {
			break
		}
	}
	return WriteValue(w, http.StatusOK, all)
}

// searchAsk is a request for a search (§8).
type searchAsk struct {
	evaluationAsk
	Page struct {
		Token string `json:"token,omitzero" doc:"where the page begins, as the one before said"`
		Limit int    `json:"limit,omitzero" doc:"how many results at most"`
	} `json:"page,omitzero" doc:"which page"`
}

// found is what a search found (§8.1).
type found[T any] struct {
	Results []T   `json:"results" doc:"what would be granted"`
	Page    *page `json:"page,omitempty" doc:"whether there is more"`
}

type page struct {
	Next  string `json:"next_token" doc:"the token of the next page, empty at the last"`
	Count int    `json:"count" doc:"how many results this page has"`
}

// verdictOf judges an attempt as it stands, for a search: it is not recorded and changes nothing.
func (d *Door) verdictOf(ctx context.Context, b *inForce, stated *attempt.Attempt, asked Asked) decide.Verdict {
	g := new(gathering)
	d.facts.gather(ctx, b, stated, asked.sessionOf(stated), g)
	verdict, a := d.judge(ctx, b, stated, asked, g)
	if verdict == decide.Grant && !g.authenticated.IsZero() &&
		g.lapsed(b, a, time.Duration(b.Decide(context.WithValue(ctx, gatheringKey{}, g), a).Limits.Lasts)) {
		return decide.Block
	}
	return verdict
}

// judge returns the verdict on an attempt and what was judged, and leaves out how long a grant lasts.
func (d *Door) judge(ctx context.Context, b *inForce, stated *attempt.Attempt, asked Asked, g *gathering) (decide.Verdict,
	*attempt.Attempt) {
	a := d.complete(b, stated, asked, g, new(origins))
	if because, _ := d.facts.ended(b, a, g); because != "" {
		return decide.Block, a
	}
	return b.Verdict(context.WithValue(ctx, gatheringKey{}, g), a), a
}

// complete fills in what an attempt leaves out, by what was gathered. Of one that the guard was shown a token for the session is that of
// the token.
func (d *Door) complete(b *inForce, stated *attempt.Attempt, asked Asked, g *gathering, from *origins) *attempt.Attempt {
	if asked.token != nil {
		g.authenticated = asked.token.authenticated
		stated = d.resumed(b, stated, g)
	}
	return d.facts.completed(b, stated, g, from)
}

// search reads a search, and returns those of some candidates for which ask says yes, in order, a
// page at a time. Candidates are given from one name on.
func search[T any](d *Door, w http.ResponseWriter, r *Request, what string, from func(after string) func(yield func(string, error) bool),
	attempted func(a *attempt.Attempt, candidate string), result func(q *searchAsk, candidate string) T) error {
	q := new(searchAsk)
	if err := readAsk(w, r, q); err != nil {
		return err
	}
	a, err := d.attemptOf(&q.evaluationAsk, what)
	if err != nil {
		return err
	}
	limit := d.config.Limits.Results
	if q.Page.Limit > 0 {
		limit = min(limit, q.Page.Limit)
	}
	b := d.book.Load()
	list := found[T]{Results: []T{}}
	next := ""
	for candidate, err := range from(q.Page.Token) {
		if err != nil {
			return d.Unavailable(err)
		}
		tried := *a
		attempted(&tried, candidate)
		if d.verdictOf(r.Context(), b, &tried, r.caller.asks()) != decide.Grant {
			continue
		}
		if len(list.Results) == limit {
			list.Page = &page{Next: next, Count: limit}
			return WriteValue(w, http.StatusOK, list)
		}
		list.Results, next = append(list.Results, result(q, candidate)), candidate
	}
	list.Page = &page{Count: len(list.Results)}
	return WriteValue(w, http.StatusOK, list)
}

// serveSubjectSearch answers POST /access/v1/search/subject: which accounts would be granted the
// action at the app, as the context says and with the facts of the store.
func (d *Door) serveSubjectSearch(w http.ResponseWriter, r *Request) error {
	return search(d, w, r, "subject", func(after string) func(func(string, error) bool) { return d.accountsFrom(r.Context(), after) },
		func(a *attempt.Attempt, account string) { a.Account = account },
		func(q *searchAsk, account string) entity { return entity{Type: q.Subject.Type, ID: account} })
}

// accountsFrom yields the accounts of the book and of the store behind one of that name, in order.
func (d *Door) accountsFrom(ctx context.Context, after string) func(func(string, error) bool) {
	var listed []string
	for _, a := range d.book.Load().Source().Accounts {
		if a.Name > after {
			listed = append(listed, a.Name)
		}
	}
	slices.Sort(listed)
	return func(yield func(string, error) bool) {
		for row, err := range store.All(ctx, d.facts.store, store.Query{Kind: store.Accounts, After: after}) {
			if err != nil {
				yield("", err)
				return
			}
			for len(listed) > 0 && listed[0] < row.Key.Key {
				if !yield(listed[0], nil) {
					return
				}
				listed = listed[1:]
			}
			if len(listed) > 0 && listed[0] == row.Key.Key {
				listed = listed[1:]
			}
			if !yield(row.Key.Key, nil) {
				return
			}
		}
		for _, name := range listed {
			if !yield(name, nil) {
				return
			}
		}
	}
}

// serveResourceSearch answers POST /access/v1/search/resource: which apps the account would be
// granted.
func (d *Door) serveResourceSearch(w http.ResponseWriter, r *Request) error {
	var apps []string
	for _, app := range d.book.Load().Judge().Directory().Apps {
		apps = append(apps, app.Name)
	}
	return search(d, w, r, "resource", namesFrom(apps), func(a *attempt.Attempt, app string) { a.App = app },
		func(q *searchAsk, app string) entity { return entity{Type: q.Resource.Type, ID: app} })
}

// serveActionSearch answers POST /access/v1/search/action: which actions the account would be
// granted at the app.
func (d *Door) serveActionSearch(w http.ResponseWriter, r *Request) error {
	return search(d, w, r, "action", namesFrom(attempt.Actions()), func(a *attempt.Attempt, action string) {
		a.Action.UnmarshalText([]byte(action)) // which is one of the words
	}, func(_ *searchAsk, action string) actionName { return actionName{Name: action} })
}

// namesFrom yields names in order, behind one.
func namesFrom(names []string) func(string) func(func(string, error) bool) {
	slices.Sort(names)
	return func(after string) func(func(string, error) bool) {
		return func(yield func(string, error) bool) {
			for _, name := range names {
				if name > after && !yield(name, nil) {
					return
				}
			}
		}
	}
}

// serveMetadata answers GET /.well-known/authzen-configuration (§9). The addresses are those of
// watch.door in the configuration, else those under which it was asked.
func (d *Door) serveMetadata(w http.ResponseWriter, r *Request) error {
	scheme := "https://"
	if r.TLS == nil && !d.config.BehindProxy {
		scheme = "http://"
	}
	at := strings.TrimSuffix(cmp.Or(d.config.Watch.Door, scheme+r.Host), "/")
	return WriteValue(w, http.StatusOK, map[string]string{
		"policy_decision_point":       at,
		"access_evaluation_endpoint":  at + "/access/v1/evaluation",
		"access_evaluations_endpoint": at + "/access/v1/evaluations",
		"search_subject_endpoint":     at + "/access/v1/search/subject",
		"search_resource_endpoint":    at + "/access/v1/search/resource",
		"search_action_endpoint":      at + "/access/v1/search/action",
	})
}
