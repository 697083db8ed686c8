package decide

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/estate"
)

// Decision is a verdict with its demands, causes and full trace. Its JSON is
// the published wire form; nothing in it is renamed once it has landed.
type Decision struct {
	Verdict Verdict  `json:"verdict"`
	Causes  []Cause  `json:"causes"`
	Demands []Demand `json:"demands"`
	Notices []Notice `json:"notices"`
	// ToPerson is what the one who signs on may be told.
	ToPerson ToPerson `json:"to_person"`
	// WithShadow is what the decision would be were the shadow policies live.
	WithShadow Outlook       `json:"with_shadow"`
	Policies   []PolicyTrace `json:"policies"`
	JudgedBy   JudgedBy      `json:"judged_by"`
}

// CauseCode says why a decision is as it is. The list is closed.
type CauseCode string

// The causes. The first four stop an attempt before any policy is asked.
const (
	// AccountUnknown: the book has no such account.
	AccountUnknown CauseCode = "account_unknown"
	// AccountDisabled: the account may not sign on at all.
	AccountDisabled CauseCode = "account_disabled"
	// AppUnknown: the book has no such app.
	AppUnknown CauseCode = "app_unknown"
	// AppNotOpen: the app is given to none of the account's groups.
	AppNotOpen CauseCode = "app_not_open"
	// RuleBlocks: a rule that surely speaks blocks.
	RuleBlocks CauseCode = "rule_blocks"
	// RuleMayBlock: a rule blocks that may speak; a missing fact decides.
	RuleMayBlock CauseCode = "rule_may_block"
	// OtherwiseBlocks: no live policy surely speaks, and the book then blocks.
	OtherwiseBlocks CauseCode = "otherwise_blocks"
	// DemandOpen: something is still to be shown.
	DemandOpen CauseCode = "demand_open"
	// CannotBeAsked: something is missing, and there is nobody to ask for it.
	CannotBeAsked CauseCode = "cannot_be_asked"
	// DemandsMet: all that a rule asks for has been shown.
	DemandsMet CauseCode = "demands_met"
	// PublicApp: the app asks for no proof, and nothing else does.
	PublicApp CauseCode = "public_app"
)

// Cause is one reason for the verdict. Policy and Rule are empty where no rule
// is behind it.
type Cause struct {
	Code   CauseCode `json:"code"`
	Policy string    `json:"policy,omitzero"`
	Rule   string    `json:"rule,omitzero"`
	Text   string    `json:"text"`
}

// DemandKind is what sort of thing is to be shown.
type DemandKind string

// The kinds of demand.
const (
	// DemandMethod wants a method proven.
	DemandMethod DemandKind = "method"
	// DemandEnrol wants a method enrolled, of which the account has none.
	DemandEnrol DemandKind = "enrol"
)

// Demand is one thing that was, or is still, to be shown.
type Demand struct {
	Kind   DemandKind `json:"kind"`
	AnyOf  []string   `json:"any_of,omitempty"`
	Within *Within    `json:"within,omitempty"`
	Met    bool       `json:"met"`
	// Offer lists the methods that the person can be asked for.
	Offer []string `json:"offer,omitempty"`
	From  []Source `json:"from"`
}

// String is the demand in words: "one of otp-app, push proven in the last 12h".
func (d Demand) String() string {
	methods := strings.Join(d.AnyOf, ", ")
	if len(d.AnyOf) > 1 {
		methods = "one of " + methods
	}
	if d.Kind == DemandEnrol {
		return methods + " enrolled"
	}
	switch *d.Within {
	case Now:
		return methods + " proven in this very attempt"
	case Session:
		return methods + " proven in this session"
	}
	return fmt.Sprintf("%s proven in the last %s", methods, d.Within)
}

// Source is where a demand is from. Assurance is empty where the book's words
// ask for nothing and any proof stands in, and Policy where its `otherwise` asks.
type Source struct {
	Policy    string `json:"policy,omitzero"`
	Rule      string `json:"rule,omitzero"`
	Assurance string `json:"assurance,omitzero"`
}

// Notice tells something that does not change the verdict.
type Notice struct {
	Code NoticeCode `json:"code"`
	Text string     `json:"text"`
}

// NoticeCode names a kind of notice. The list is closed.
type NoticeCode string

// The notices.
const (
	// ProofIgnored: the book has no method of that name, so it proves nothing.
	ProofIgnored NoticeCode = "proof_ignored"
)

// ToPerson is what the person is told. Until one method is proven it is the
// same for everybody, whether the account is known or blocked or neither.
type ToPerson struct {
	Verdict Verdict  `json:"verdict"`
	Say     string   `json:"say"`
	Repairs []string `json:"repairs"`
	Offer   []string `json:"offer"`
}

// Outlook is a decision under other circumstances.
type Outlook struct {
	Verdict Verdict `json:"verdict"`
}

// JudgedBy says what decided.
type JudgedBy struct {
	Book string `json:"book"`
}

// PolicyTrace is what became of one policy.
type PolicyTrace struct {
	Name    string          `json:"name"`
	Stage   Stage           `json:"stage"`
	Applies condition.Truth `json:"applies"`
	// Rule is the rule that spoke. Where several may speak, Rules lists them.
	Rule    string   `json:"rule,omitzero"`
	Rules   []string `json:"rules,omitempty"`
	Outcome string   `json:"outcome,omitzero"`
	// SilencedBy is the policy that replaces this one.
	SilencedBy string `json:"silenced_by,omitzero"`
	// Why lists the conditions that failed, or on which it hangs.
	Why []string `json:"why"`
}

// MarshalIndent returns the decision as indented JSON.
func (d *Decision) MarshalIndent() ([]byte, error) { return json.MarshalIndent(d, "", "  ") }

// Decide judges an attempt and explains the decision in full.
func (j *Judge) Decide(a *attempt.Attempt) *Decision {
	s := j.sit(a)
	defer s.rise()
	d := &Decision{Causes: []Cause{}, Demands: []Demand{}, Notices: []Notice{}, Policies: []PolicyTrace{},
		JudgedBy: JudgedBy{j.digest}}
	s.noteIgnoredProofs(d)
	if code := s.refusal(); code != "" {
		d.Verdict, d.WithShadow.Verdict = Block, Block
		d.Causes = append(d.Causes, Cause{Code: code, Text: s.refusalText(code)})
		s.tellPerson(d)
		s.hear(true)
		s.trace(d, make([]int32, len(s.hearings)))
		return d
	}
	s.hear(true)
	s.join(true)
	d.WithShadow.Verdict = s.verdict()
	shadowSilenced := make([]int32, len(s.hearings))
	for i := range s.hearings {
		shadowSilenced[i] = s.hearings[i].silencedBy
	}
	s.join(false)
	d.Verdict = s.verdict()
	s.listDemands(d)
	s.listCauses(d)
	s.tellPerson(d)
	s.trace(d, shadowSilenced)
	return d
}

func (s *sitting) noteIgnoredProofs(d *Decision) {
	for _, p := range slices.Concat(s.attempt.Proofs, s.attempt.Session.Proofs) {
		if _, ok := s.judge.estate.FindMethod(p.Method); !ok {
			d.Notices = append(d.Notices, Notice{ProofIgnored, fmt.Sprintf("The proof of %q counts for nothing: the book has no such method.", p.Method)})
		}
	}
}

func (s *sitting) refusalText(code CauseCode) string {
	switch code {
	case AccountUnknown:
		return fmt.Sprintf("The book has no account %q.", s.attempt.Account)
	case AccountDisabled:
		return fmt.Sprintf("The account %s is disabled.", s.attempt.Account)
	case AppUnknown:
		return fmt.Sprintf("The book has no app %q.", s.attempt.App)
	}
	app := &s.judge.estate.Apps[s.app]
	return fmt.Sprintf("%s is open to %s, and %s is in none of them.", app.Name, strings.Join(app.OpenTo, ", "), s.attempt.Account)
}

// listDemands collects what the joined outcomes ask for. A demand asked for in
// several places is listed once, with all of them; an open one that another
// open one implies is left out.
func (s *sitting) listDemands(d *Decision) {
	type entry struct {
		methodDemand
		anyProof bool
		met      bool
		from     []Source
	}
	var entries []entry
	add := func(e entry, from Source) {
		i := slices.IndexFunc(entries, func(o entry) bool { return o.methodDemand == e.methodDemand && o.anyProof == e.anyProof })
		if i < 0 {
			entries = append(entries, e)
			i = len(entries) - 1
		}
		if !slices.Contains(entries[i].from, from) {
			entries[i].from = append(entries[i].from, from)
		}
	}
	for _, o := range s.outcomes {
		source := s.source(o)
		if o.outcome.block {
			continue
		}
		if s.needsAnyProof(o.outcome) {
			add(entry{methodDemand{s.judge.estate.Enrolled(s.account), Session}, true, len(s.proofs) > 0, nil}, source)
		}
		for _, demand := range o.outcome.demands {
			source.Assurance = demand.assurance
			m := s.judge.demands[demand.demand]
			add(entry{m, false, s.met(&m), nil}, source)
		}
	}
	enrolled := s.judge.estate.Enrolled(s.account)
	implied := func(i int) bool {
		for k := range entries {
			if k == i || entries[k].met || entries[i].met {
				continue
			}
			// To enrol a method is something else than to prove one.
			if (entries[k].methods&enrolled == 0) != (entries[i].methods&enrolled == 0) {
				continue
			}
			if entries[i].anyProof || entries[k].implies(entries[i].methodDemand) && !entries[k].anyProof {
				return true
			}
		}
		return false
	}
	for i, e := range entries {
		if !implied(i) {
			d.Demands = append(d.Demands, s.demand(e.methodDemand, e.met, e.from))
		}
	}
	slices.SortStableFunc(d.Demands, func(a, b Demand) int {
		if a.Met != b.Met {
			if b.Met {
				return -1
			}
			return 1
		}
		return slices.Compare(a.AnyOf, b.AnyOf)
	})
}

// implies tells whether whatever meets d also meets the other, which is not the
// same.
func (d methodDemand) implies(other methodDemand) bool {
	return d.methods&^other.methods == 0 && (other.within == Session || d.within == Now || d.within > 0 && d.within <= other.within)
}

func (s *sitting) source(o joined) Source {
	if o.policy == none {
		return Source{}
	}
	p := &s.judge.policies[o.policy]
	return Source{Policy: p.Name, Rule: p.Rules[o.rule].Name}
}

// demand puts a demand in its wire form. One that the account has no method for
// becomes a demand to enrol one.
func (s *sitting) demand(m methodDemand, met bool, from []Source) Demand {
	enrolled := s.judge.estate.Enrolled(s.account)
	slices.SortFunc(from, func(a, b Source) int {
		return strings.Compare(a.Policy+"\x00"+a.Rule+"\x00"+a.Assurance, b.Policy+"\x00"+b.Rule+"\x00"+b.Assurance)
	})
	if !met && m.methods&enrolled == 0 {
		wanted := m.methods
		if wanted == 0 { // any method at all
			wanted = ^estate.MethodSet(0)
		}
		return Demand{Kind: DemandEnrol, AnyOf: s.methodNames(wanted), From: from}
	}
	within := m.within
	demand := Demand{Kind: DemandMethod, AnyOf: s.methodNames(m.methods), Within: &within, Met: met, From: from}
	if !met {
		demand.Offer = s.offer(m.methods & enrolled)
	}
	return demand
}

func (s *sitting) methodNames(set estate.MethodSet) []string {
	var names []string
	for i, m := range s.judge.estate.Methods() {
		if set.Has(i) {
			names = append(names, m.Name)
		}
	}
	slices.Sort(names)
	return names
}

// offer leaves out of a set the methods that reach out to a phone, until
// another proof has been given.
func (s *sitting) offer(set estate.MethodSet) []string {
	if len(s.proofs) == 0 {
		for i, m := range s.judge.estate.Methods() {
			if slices.Contains(m.Traits, estate.OutOfBand) {
				set &^= 1 << i
			}
		}
	}
	return s.methodNames(set)
}

// listCauses says why the verdict is as it is, the decisive reasons only.
func (s *sitting) listCauses(d *Decision) {
	for _, o := range s.outcomes {
		source := s.source(o)
		cause := Cause{Policy: source.Policy, Rule: source.Rule}
		switch {
		case o.outcome.block && d.Verdict == Block:
			s.explainBlock(&cause, o)
		case d.Verdict == Block && s.judgeBlocks():
			continue // another outcome blocks; what this one asks for is beside the point
		case s.isOpen(o.outcome):
			cause.Code = DemandOpen
			cause.Text = s.ruleName(o) + " asks for " + s.openDemands(d, source) + "."
			if d.Verdict == Block {
				cause.Code = CannotBeAsked
				cause.Text = strings.TrimSuffix(cause.Text, ".") + ", and nobody can be asked through " + s.Saw(condition.Through) + "."
			}
		case d.Verdict != Grant:
			continue
		case len(o.outcome.demands) == 0 && s.judge.estate.Apps[s.app].Public:
			cause.Code, cause.Text = PublicApp, s.judge.estate.Apps[s.app].Name+" is public, and "+s.ruleName(o)+" asks for nothing more."
		default:
			cause.Code, cause.Text = DemandsMet, s.ruleName(o)+" has all it asks for."
		}
		d.Causes = append(d.Causes, cause)
	}
}

// judgeBlocks tells whether an outcome that was joined blocks by itself.
func (s *sitting) judgeBlocks() bool {
	return slices.ContainsFunc(s.outcomes, func(o joined) bool { return o.outcome.block })
}

func (s *sitting) explainBlock(cause *Cause, o joined) {
	if o.policy == none {
		cause.Code = OtherwiseBlocks
		cause.Text = "No live policy surely speaks for this attempt, and the book then blocks (settings.otherwise)."
		return
	}
	r := &s.judge.policies[o.policy].rules[o.rule]
	if o.sure {
		cause.Code = RuleBlocks
		cause.Text = s.ruleName(o) + " blocks" + reasonsAfter("; ", condition.Because(r.when, s, s)) + "."
		return
	}
	cause.Code = RuleMayBlock
	why := s.hangsOn(o)
	cause.Text = s.ruleName(o) + " may block, and a missing fact decides" + reasonsAfter("; ", why) + "."
}

// hangsOn lists the unknown tests that decide whether a rule speaks: those of
// its policy, of the rules before it, and its own.
func (s *sitting) hangsOn(o joined) []condition.Reason {
	p := &s.judge.policies[o.policy]
	reasons := s.whyNot(p)
	h := s.hearingOf(o.policy)
	for _, r := range s.spoken[h.first:h.last] {
		if r.rule <= o.rule {
			reasons = append(reasons, condition.Why(p.rules[r.rule].when, s, s)...)
		}
	}
	return reasons
}

func reasonsAfter(lead string, reasons []condition.Reason) string {
	if len(reasons) == 0 {
		return ""
	}
	var words []string
	for _, r := range reasons {
		if word := r.String(); !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	return lead + strings.Join(words, "; ")
}

// whyNot lists what keeps a policy from surely applying.
func (s *sitting) whyNot(p *policy) []condition.Reason {
	return append(condition.Why(p.apps, s, s), condition.Why(p.who, s, s)...)
}

func (s *sitting) ruleName(o joined) string {
	if o.policy == none {
		return "The book's `otherwise`"
	}
	p := &s.judge.policies[o.policy]
	return p.Name + " / " + p.Rules[o.rule].Name
}

// openDemands words the open demands of one rule; where those are left out as
// implied by others, it words all that are open.
func (s *sitting) openDemands(d *Decision, source Source) string {
	var own, all []string
	for _, demand := range d.Demands {
		if demand.Met {
			continue
		}
		all = append(all, demand.String())
		if slices.ContainsFunc(demand.From, func(f Source) bool { return f.Policy == source.Policy && f.Rule == source.Rule }) {
			own = append(own, demand.String())
		}
	}
	if len(own) == 0 {
		own = all
	}
	return strings.Join(own, ", and for ")
}

// tellPerson makes the view for the one who signs on.
func (s *sitting) tellPerson(d *Decision) {
	d.ToPerson = ToPerson{Verdict: d.Verdict, Repairs: []string{}, Offer: []string{}}
	switch {
	case d.Verdict == Grant:
		return
	case len(s.proofs) == 0 && !s.canBeAsked():
		d.ToPerson.Verdict = Block
		d.ToPerson.Repairs = append(d.ToPerson.Repairs, "Sign in where you can be asked for a proof.")
		return
	case len(s.proofs) == 0:
		d.ToPerson.Verdict = StepUp
		d.ToPerson.Offer = slices.Clone(s.judge.openers)
		return
	}
	d.ToPerson.Say = s.say(d.Verdict)
	for _, demand := range d.Demands {
		if demand.Met || s.judgeBlocks() || s.refusal() != "" {
			continue
		}
		switch {
		case demand.Kind == DemandEnrol:
			d.ToPerson.Repairs = append(d.ToPerson.Repairs, "Enrol "+strings.Join(demand.AnyOf, " or ")+".")
		case d.Verdict == Block:
			d.ToPerson.Repairs = append(d.ToPerson.Repairs, "Sign in where you can be asked for "+strings.Join(demand.AnyOf, " or ")+".")
		}
		for _, m := range demand.Offer {
			if d.Verdict == StepUp && !slices.Contains(d.ToPerson.Offer, m) {
				d.ToPerson.Offer = append(d.ToPerson.Offer, m)
			}
		}
	}
}

// say joins what the rules say that stand in the way.
func (s *sitting) say(verdict Verdict) string {
	if s.refusal() != "" {
		return ""
	}
	var said []string
	for _, o := range s.outcomes {
		if o.policy == none {
			continue
		}
		stands := o.outcome.block || !s.judgeBlocks() && s.isOpen(o.outcome)
		if text := s.judge.policies[o.policy].Rules[o.rule].Say; stands && text != "" && !slices.Contains(said, text) {
			said = append(said, text)
		}
	}
	return strings.Join(said, " ")
}

// trace tells for every policy what became of it.
func (s *sitting) trace(d *Decision, shadowSilenced []int32) {
	next := 0 // hearings are in the order of policies
	for i := range s.judge.policies {
		p := &s.judge.policies[i]
		t := PolicyTrace{Name: p.Name, Stage: p.Stage, Why: []string{}}
		if next < len(s.hearings) && s.hearings[next].policy == int32(i) {
			h := s.hearings[next]
			if p.Stage == Shadow {
				h.silencedBy = shadowSilenced[next]
			}
			s.traceHearing(&t, p, h)
			next++
		} else {
			s.traceSilence(&t, p)
		}
		d.Policies = append(d.Policies, t)
	}
}

// traceHearing tells of a policy that applies, surely or perhaps.
func (s *sitting) traceHearing(t *PolicyTrace, p *policy, h hearing) {
	t.Applies = h.applies
	addReasons(t, "", s.whyNot(p))
	rules := s.spoken[h.first:h.last]
	switch len(rules) {
	case 0:
		for i := range p.rules {
			addReasons(t, "rule "+p.Rules[i].Name+": ", condition.Why(p.rules[i].when, s, s))
		}
	case 1:
		t.Rule = p.Rules[rules[0].rule].Name
		t.Outcome = p.Rules[rules[0].rule].Then.String()
		addReasons(t, "rule "+t.Rule+": ", condition.Why(p.rules[rules[0].rule].when, s, s))
	default:
		for _, r := range rules {
			t.Rules = append(t.Rules, p.Rules[r.rule].Name)
			addReasons(t, "rule "+p.Rules[r.rule].Name+": ", condition.Why(p.rules[r.rule].when, s, s))
		}
	}
	if h.silencedBy != none {
		t.SilencedBy = s.judge.policies[h.silencedBy].Name
	}
}

// traceSilence tells why a policy does not apply.
func (s *sitting) traceSilence(t *PolicyTrace, p *policy) {
	if p.Stage == Draft {
		t.Why = append(t.Why, "stage: a draft is never evaluated")
		return
	}
	if condition.Eval(p.apps, s) == condition.False {
		addReasons(t, "", condition.Why(p.apps, s, s))
		return
	}
	if condition.Eval(p.who, s) != condition.False { // so it is the rule for emergency accounts
		t.Why = append(t.Why, "kinds: an emergency account is only meant where `who` names it")
		return
	}
	addReasons(t, "", condition.Why(p.who, s, s))
}

func addReasons(t *PolicyTrace, lead string, reasons []condition.Reason) {
	for _, r := range reasons {
		t.Why = append(t.Why, lead+r.String())
	}
}

// Saw implements condition.Witness.
func (s *sitting) Saw(key condition.Key) string {
	e := s.judge.estate
	switch key.About() {
	case condition.AboutAccount:
		return e.SawAccount(s.account, key)
	case condition.AboutApp:
		return e.SawApp(s.app, key)
	}
	switch key {
	case condition.Networks, condition.OurNetwork:
		return s.sawPlace()
	case condition.Countries:
		switch s.countryState {
		case countryKnown:
			return string(s.country)
		case countryStated:
			return string(s.country) + " as stated"
		case countryNone:
			return "none"
		}
	case condition.During:
		return s.attempt.At.In(e.Zone).Format("Mon 2006-01-02 15:04 MST")
	case condition.Through:
		if through, ok := s.attempt.Through.Get(); ok {
			return through.String()
		}
		if !s.attempt.Through.IsUnknown() {
			return "nothing"
		}
	}
	return ""
}

func (s *sitting) sawPlace() string {
	ip, ok := s.attempt.IP.Get()
	switch {
	case s.place == nil:
		return ""
	case !ok:
		return "no address"
	}
	names := "no network"
	if len(s.place.Networks) > 0 {
		names = strings.Join(s.judge.estate.NetworkNames(s.place), ", ")
	}
	return fmt.Sprintf("%s (in %s)", ip.Unmap(), names)
}
