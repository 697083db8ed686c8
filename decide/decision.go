package decide

import (
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Decision is a verdict with its demands, causes and full trace. Its JSON is
// the published wire form; nothing in it is renamed once it has landed.
type Decision struct {
	Verdict Verdict  `json:"verdict" doc:"the verdict"`
	Causes  []Cause  `json:"causes" doc:"why, the decisive reasons only"`
	Demands []Demand `json:"demands" doc:"what was, or is still, to be shown; the open ones first"`
	Limits  Limits   `json:"limits" doc:"what bounds a granted session"`
	Risk    Risk     `json:"risk" doc:"what was noticed about the attempt"`
	Notices []Notice `json:"notices" doc:"what does not change the verdict"`
	// ACR are the classes of the assurances that the session meets, and AMR the
	// methods that were proven (RFC 8176), for the tokens of a granted session.
	ACR []string `json:"acr" doc:"classes of the assurances that the session meets, for tokens"`
	AMR []string `json:"amr" doc:"methods that were proven (RFC 8176), for tokens"`
	// ToPerson is what the one who signs on may be told.
	ToPerson ToPerson `json:"to_person" doc:"what the one who signs on may be told"`
	// WithShadow is what the decision would be were the shadow policies live.
	WithShadow Outlook       `json:"with_shadow" doc:"the decision were the shadow policies live"`
	Policies   []PolicyTrace `json:"policies" doc:"what became of every policy"`
	JudgedBy   JudgedBy      `json:"judged_by" doc:"what decided"`
}

// CauseCode says why a decision is as it is. The list is closed.
type CauseCode string

// The causes. The first seven stop an attempt before any policy is asked.
const (
	// NoBook: there is no book to decide by.
	NoBook CauseCode = "no_book"
	// AttemptInvalid: the attempt lacks its account, app or time, or holds what is
	// none of the words that there are.
	AttemptInvalid CauseCode = "attempt_invalid"
	// AccountUnavailable: nobody could find out about the account.
	AccountUnavailable CauseCode = "account_unavailable"
	// AccountUnknown: the book has no such account.
	AccountUnknown CauseCode = "account_unknown"
	// AccountDisabled: the account may not sign on at all.
	AccountDisabled CauseCode = "account_disabled"
	// AppUnknown: the book has no such app.
	AppUnknown CauseCode = "app_unknown"
	// AppNotOpen: the app is surely given to none of the account's groups.
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
	// DeviceUnidentified: a posture is asked for, and nothing identifies the
	// device.
	DeviceUnidentified CauseCode = "device_unidentified"
	// DeviceUnfit: the device reported something that fails a posture.
	DeviceUnfit CauseCode = "device_unfit"
	// CheckFailed: an outside check failed.
	CheckFailed CauseCode = "check_failed"
	// NoWay: one of several ways is asked for, and none can be met.
	NoWay CauseCode = "no_way"
	// SessionEnded: the attempt continues a session that was ended before its time.
	SessionEnded CauseCode = "session_ended"
	// NotRecorded: the decision could not be recorded, where one that is not may not stand.
	NotRecorded CauseCode = "not_recorded"
	// DemandsMet: all that a rule asks for has been shown.
	DemandsMet CauseCode = "demands_met"
	// PublicApp: the app asks for no proof, and nothing else does.
	PublicApp CauseCode = "public_app"
)

// CauseCodes returns all causes.
func CauseCodes() []CauseCode {
	return []CauseCode{
		NoBook,
		AttemptInvalid,
		AccountUnavailable,
		AccountUnknown,
		AccountDisabled,
		AppUnknown,
		AppNotOpen,
		RuleBlocks,
		RuleMayBlock,
		OtherwiseBlocks,
		DemandOpen,
		CannotBeAsked,
		DeviceUnidentified,
		DeviceUnfit,
		CheckFailed,
		NoWay,
		SessionEnded,
		NotRecorded,
		DemandsMet,
		PublicApp,
	}
}

// Cause is one reason for the verdict. Policy and Rule are empty where no rule
// is behind it.
type Cause struct {
	Code   CauseCode `json:"code" doc:"the kind of cause"`
	Policy string    `json:"policy,omitzero" doc:"the policy behind it"`
	Rule   string    `json:"rule,omitzero" doc:"the rule behind it"`
	Text   string    `json:"text" doc:"the cause in a sentence"`
}

// WithoutBook returns the decision where there is no book to decide by: a block.
func WithoutBook() *Decision {
	var d Decision
	d.Reset()
	d.Causes = append(d.Causes, Cause{Code: NoBook, Text: "There is no book in force, and without one everything is blocked."})
	d.ToPerson = ToPerson{Repairs: []string{}, Offer: []string{}}
	return &d
}

// BlockUnrecorded makes of a decision the block that stands in its place where it could not be
// recorded. What was judged stays in the trace.
func (d *Decision) BlockUnrecorded() {
	d.blockFor(NotRecorded, "The decision could not be recorded, and nothing is granted without a record.", "Try again in a few minutes.")
}

// BlockEnded makes of a decision the block that stands in its place where the session that it
// continues was ended, for a reason.
func (d *Decision) BlockEnded(because string) {
	d.blockFor(SessionEnded, "The session was ended: "+because+".", "Sign on again.")
}

func (d *Decision) blockFor(code CauseCode, text, repair string) {
	d.Verdict, d.ACR, d.AMR, d.Limits.Until = Block, []string{}, []string{}, time.Time{}
	d.Causes = []Cause{{Code: code, Text: text}}
	d.ToPerson = ToPerson{Repairs: []string{repair}, Offer: []string{}}
}

// Reset makes of d a block that says nothing yet. Its lists are empty rather than nil, as the wire form has them.
func (d *Decision) Reset() {
	*d = Decision{}
	d.Causes, d.Demands, d.Notices, d.ACR, d.AMR = []Cause{}, []Demand{}, []Notice{}, []string{}, []string{}
	d.Policies, d.Risk.Signals, d.Limits.Shared = []PolicyTrace{}, []SignalTrace{}, true
}

// DemandKind is what sort of thing is to be shown. The zero DemandKind is invalid.
type DemandKind uint8

// The kinds of demand, in the order in which demands are listed and met.
const (
	// DemandMethod wants a method proven.
	DemandMethod DemandKind = iota + 1
	// DemandPosture wants a device that passes a posture.
	DemandPosture
	// DemandChangePassword wants the password changed.
	DemandChangePassword
	// DemandAccept wants a version of a document accepted.
	DemandAccept
	// DemandExternal wants an outside check passed.
	DemandExternal
	// DemandConsent wants the client let in that the sign-on is made for.
	DemandConsent
	// DemandEnrol wants a method enrolled, where the account has none.
	DemandEnrol
	// DemandOneOf wants one of several ways met whole.
	DemandOneOf
)

var demandKinds = []string{
	"invalid", "method", "posture", "change_password", "accept", "external", "consent", "enrol", "one_of",
}

// DemandKinds returns the words for the kinds of demand.
func DemandKinds() []string { return slices.Clone(demandKinds[DemandMethod:]) }

// String returns the word for the kind.
func (k DemandKind) String() string { return words.Of(k, demandKinds, 0) }

// MarshalText writes String.
func (k DemandKind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the word for a kind.
func (k *DemandKind) UnmarshalText(text []byte) error {
	return words.Parse(k, "a kind of demand", string(text), demandKinds[DemandMethod:], DemandMethod)
}

// Demand is one thing that was, or is still, to be shown.
type Demand struct {
	Kind  DemandKind `json:"kind" doc:"what sort of thing is to be shown"`
	AnyOf []string   `json:"any_of,omitempty" doc:"methods; one of them is to be proven, or enrolled"`
	// Within stands with a method that is to be enrolled where it is to be proven then.
	Within   *Within        `json:"within,omitempty" doc:"how recently: now, session, or no longer ago than this"`
	Posture  string         `json:"posture,omitzero" doc:"the posture that the device is to pass"`
	Document string         `json:"document,omitzero" doc:"the document to be accepted"`
	Version  int            `json:"version,omitzero" doc:"its version"`
	Every    directory.Span `json:"every,omitzero" doc:"how long an acceptance holds"`
	External string         `json:"external,omitzero" doc:"the outside check"`
	// Client is the one to be let in, with the scopes that it was not given.
	Client string     `json:"client,omitzero" doc:"the outside program to be let in"`
	Scopes []string   `json:"scopes,omitempty" doc:"the scopes that it asks for and was not given"`
	Ways   [][]Demand `json:"ways,omitempty" doc:"ways; one of them is to be met whole"`
	Met    bool       `json:"met" doc:"whether it is met"`
	// Impossible says that it cannot be met in this attempt.
	Impossible bool `json:"impossible,omitzero" doc:"true where it cannot be met in this attempt"`
	// Offer lists the methods that the person can be asked for, the preferred ones
	// first.
	Offer []string `json:"offer,omitempty" doc:"methods that the person can be asked for, the preferred ones first"`
	// Failing are the checks of a posture that the device did not pass.
	Failing []FailedCheck `json:"failing,omitempty" doc:"checks of the posture that the device does not pass"`
	From    []Source      `json:"from" doc:"the rules and assurances that ask for it"`
}

// FailedCheck is a check of a posture that a device did not pass.
type FailedCheck struct {
	Fact  string `json:"fact" doc:"the fact"`
	Wants string `json:"wants" doc:"what the check wants"`
	Saw   string `json:"saw" doc:"what the device reported"`
	Fix   string `json:"fix,omitzero" doc:"what the person can do"`
}

// String is the demand in words: "one of otp-app, push proven in the last 12h".
func (d Demand) String() string { return string(d.Append(nil)) }

// Append appends String to text.
func (d *Demand) Append(text []byte) []byte {
	switch d.Kind {
	case DemandPosture:
		return append(append(text, "a device that passes "...), d.Posture...)
	case DemandChangePassword:
		return append(text, "a changed password"...)
	case DemandAccept:
		return fmt.Appendf(text, "%s version %d accepted", d.Document, d.Version)
	case DemandExternal:
		return append(append(append(text, "the outside check "...), d.External...), " passed"...)
	case DemandConsent:
		if d.Client == "" {
			return append(text, "the outside program let in, if there is one"...)
		}
		return append(append(append(text, "the outside program "...), d.Client...), " let in"...)
	case DemandOneOf:
		return d.appendWays(text)
	}
	if len(d.AnyOf) > 1 {
		text = append(text, "one of "...)
	}
	for i, name := range d.AnyOf {
		if i > 0 {
			text = append(text, ", "...)
		}
		text = append(text, name...)
	}
	switch {
	case d.Kind == DemandEnrol && d.Within != nil:
		return append(text, " enrolled and proven"...)
	case d.Kind == DemandEnrol:
		return append(text, " enrolled"...)
	case *d.Within == Now:
		return append(text, " proven in this very attempt"...)
	case *d.Within == Session:
		return append(text, " proven in this session"...)
	}
	return append(append(text, " proven in the last "...), d.Within.String()...)
}

// appendWays words the ways of a one_of: of an open one, what is still open.
func (d *Demand) appendWays(text []byte) []byte {
	text = append(text, "either "...)
	for i := range d.Ways {
		if i > 0 {
			text = append(text, ", or "...)
		}
		lead := ""
		for k := range d.Ways[i] {
			if demand := &d.Ways[i][k]; d.Met || !demand.Met {
				text = demand.Append(append(text, lead...))
				lead = " and "
			}
		}
	}
	return text
}

// EasiestWay returns the open demands of the way of a one_of with the least left
// to do; nil for a demand of another kind.
func (d Demand) EasiestWay() []Demand {
	var best []Demand
	least := -1
	for _, way := range d.Ways {
		if c := cost(way); least < 0 || c < least {
			best, least = way, c
		}
	}
	return slices.DeleteFunc(slices.Clone(best), func(d Demand) bool { return d.Met })
}

// cost orders ways by how much is left to do: an enrolment is more than any
// number of proofs, and what is impossible more than anything.
func cost(way []Demand) int {
	total := 0
	for i := range way {
		switch d := &way[i]; {
		case d.Met:
		case d.Impossible:
			total += 10_000
		case d.Kind == DemandEnrol:
			total += 100
		default:
			total++
		}
	}
	return total
}

// Source is where a demand is from. Assurance is empty where the book's words
// ask for nothing and any proof stands in, and Policy where its `otherwise` asks.
type Source struct {
	Policy    string `json:"policy,omitzero" doc:"the policy; absent where the book's otherwise asks"`
	Rule      string `json:"rule,omitzero" doc:"the rule"`
	Assurance string `json:"assurance,omitzero" doc:"the assurance; absent where any proof stands in"`
}

// Limits bound a session. What is zero does not limit.
type Limits struct {
	Lasts directory.Span `json:"lasts,omitzero" doc:"how long a session may last"`
	Idle  directory.Span `json:"idle,omitzero" doc:"how long it may rest"`
	// Shared is false where only proofs made for this very app count.
	Shared bool `json:"shared" doc:"false where only proofs made for this app count"`
	// Until is when a granted session ends at the latest, because a window or a
	// date passes.
	Until time.Time `json:"until,omitzero" doc:"when a granted session ends at the latest"`
}

// Risk is what was noticed about an attempt. The score is a span, from Score
// without the signals that are unknown to AtMost with them.
type Risk struct {
	Score       int             `json:"score" doc:"the points of the signals that hold"`
	AtMost      int             `json:"at_most" doc:"the points with the unknown ones"`
	Level       directory.Level `json:"level" doc:"the level of score"`
	LevelAtMost directory.Level `json:"level_at_most" doc:"the level of at_most"`
	Signals     []SignalTrace   `json:"signals" doc:"the signals that hold, or may"`
}

// SignalTrace is a signal that holds, or may.
type SignalTrace struct {
	Name   string          `json:"name" doc:"the signal"`
	Points int             `json:"points" doc:"what it adds"`
	Holds  condition.Truth `json:"holds" doc:"whether it holds"`
}

// Notice tells something that does not change the verdict.
type Notice struct {
	Code NoticeCode `json:"code" doc:"the kind of notice"`
	Text string     `json:"text" doc:"the notice in a sentence"`
	// Name is the rollout or the exemption that it is about, "" where it is about none.
	Name string `json:"name,omitzero" doc:"the rollout or the exemption that it is about"`
	// Until and DaysLeft are for what is due: the moment, and the days begun until
	// then.
	Until    time.Time `json:"until,omitzero" doc:"the moment until which something is due"`
	DaysLeft int       `json:"days_left,omitzero" doc:"the days begun until then"`
}

// NoticeCode names a kind of notice. The list is closed.
type NoticeCode string

// The notices.
const (
	// ProofIgnored: the proof counts for nothing.
	ProofIgnored NoticeCode = "proof_ignored"
	// ProofNotEnrolled: the proof counts, though the account has not enrolled the
	// method.
	ProofNotEnrolled NoticeCode = "proof_not_enrolled"
	// DatedLater: what is dated after the attempt did not happen.
	DatedLater NoticeCode = "dated_later"
	// NameUnknown: the book has no method, app, signal, document or check of that name.
	NameUnknown NoticeCode = "name_unknown"
	// CountryUnassigned: a code that is not assigned is no known country.
	CountryUnassigned NoticeCode = "country_unassigned"
	// FactUnavailable: nobody could find out a fact, so it is unknown.
	FactUnavailable NoticeCode = "fact_unavailable"
	// EnrolmentDue: a rollout lets the person in for some days yet.
	EnrolmentDue NoticeCode = "enrolment_due"
	// Exempted: an exemption took demands away, or put others in their place.
	Exempted NoticeCode = "exempted"
)

// NoticeCodes returns all kinds of notice.
func NoticeCodes() []NoticeCode {
	return []NoticeCode{ProofIgnored, ProofNotEnrolled, DatedLater, NameUnknown, CountryUnassigned, FactUnavailable, EnrolmentDue, Exempted}
}

// ToPerson is what the person is told. Until one method is proven it is the
// same for everybody, whether the account is known or blocked or neither.
type ToPerson struct {
	Verdict Verdict  `json:"verdict" doc:"the verdict as the person may know it"`
	Say     string   `json:"say" doc:"what the rules say"`
	Repairs []string `json:"repairs" doc:"what the person can do"`
	Offer   []string `json:"offer" doc:"methods to choose from"`
	// DaysLeft is how many days are left to enrol a method, zero where nothing is
	// due.
	DaysLeft int `json:"days_left,omitzero" doc:"days left to enrol a method"`
}

// Outlook is a decision under other circumstances.
type Outlook struct {
	Verdict Verdict `json:"verdict" doc:"the verdict"`
}

// JudgedBy says what decided.
type JudgedBy struct {
	Book string `json:"book" doc:"the digest of the book that the rules were read from"`
	// Rules is the digest of what was compiled, which a program may have changed.
	Rules string `json:"rules" doc:"the digest of the rules as they were compiled, changed or not"`
}

// PolicyTrace is what became of one policy.
type PolicyTrace struct {
	Name  string `json:"name" doc:"the policy"`
	Stage Stage  `json:"stage" doc:"its stage"`
	// Applies reports whether the policy applies, or would were it live.
	Applies condition.Truth `json:"applies" doc:"whether it applies, or would were it live"`
	// InForce reports whether a shadow policy with `live_for` counts here.
	InForce attempt.Fact[condition.Truth] `json:"in_force,omitzero" doc:"of a shadow with live_for, whether it counts here"`
	// Rule is the rule that spoke. Where several may speak, Rules lists them.
	Rule    string      `json:"rule,omitzero" doc:"the rule that spoke"`
	Rules   []string    `json:"rules,omitempty" doc:"the rules that may speak"`
	Outcome OutcomeKind `json:"outcome,omitzero" doc:"grant, block or require"`
	// SilencedBy is the policy that replaces this one.
	SilencedBy string `json:"silenced_by,omitzero" doc:"the policy that silences it"`
	// Why lists the conditions that failed, or on which it depends.
	Why []string `json:"why" doc:"the conditions that failed, or on which it depends"`
}
