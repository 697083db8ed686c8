// Package attempt holds one sign-in (or other action) to be judged, as a value
// and in its wire form.
package attempt

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Attempt is one sign-in or other action to be judged. Account, App and At must
// be given. A [Fact] that is missing is unknown to the conditions that ask for
// it. What the reports (Session, Proofs, Failed, External, Accepted, Signals) do
// not hold did not happen. What is dated more than a minute after At did not
// happen either.
//
// Previous, Failures and Client may also be known to be none. In every other
// field [None] is the same as leaving the field out.
type Attempt struct {
	ID       string            `json:"id,omitzero" doc:"an identifier of your own"`
	At       time.Time         `json:"at" doc:"when it is made"`
	Account  string            `json:"account" doc:"who signs on"`
	App      string            `json:"app" doc:"to which app: its name, an identifier, or a URL"`
	Action   Action            `json:"action,omitzero" doc:"what is attempted; a sign-in where left out"`
	IP       Fact[netip.Addr]  `json:"ip,omitzero" doc:"the address that it comes from"`
	Country  Fact[CountryCode] `json:"country,omitzero" doc:"the country that it comes from"`
	Location Fact[Location]    `json:"location,omitzero" doc:"the place that it comes from"`
	Through  Fact[Through]     `json:"through,omitzero" doc:"what it is made through"`
	Device   Fact[Device]      `json:"device,omitzero" doc:"the device that it is made on"`
	Session  Session           `json:"session,omitzero" doc:"what went before in the session"`
	// Proofs are those of this very attempt, made for its app.
	Proofs []Proof `json:"proofs,omitempty" doc:"proofs of this very attempt"`
	// Failed are the proofs that were tried in this attempt and failed.
	Failed []Failure `json:"failed,omitempty" doc:"proofs that were tried and failed"`
	// External are the results of outside checks, by name.
	External map[string]CheckResult `json:"external,omitempty" doc:"results of outside checks, by name"`
	// Client is the outside program that the sign-in is made for; none says that it
	// is made for none.
	Client   Fact[ClientAsk] `json:"client,omitzero" doc:"the outside program that it is made for; null where there is none"`
	Accepted []Acceptance    `json:"accepted,omitempty" doc:"documents that the person accepted"`
	// Signals names what others noticed about the attempt.
	Signals []string `json:"signals,omitempty" doc:"what others noticed, by name"`
	// Previous is the sign-in before this one; none says that this is the first.
	Previous Fact[Previous] `json:"previous,omitzero" doc:"the sign-in before this one; null says that this is the first"`
	// Failures are the times of the account's failed sign-ins before this one.
	Failures Fact[[]time.Time] `json:"failures,omitzero" doc:"times of failed sign-ins before this one"`
}

// Session is what went before in the session that the attempt continues.
type Session struct {
	ID string `json:"id,omitzero" doc:"an identifier of your own"`
	// Issuer is who names the session so; one that is named alike by another is another session.
	Issuer  string    `json:"issuer,omitzero" doc:"who names the session so, such as the iss of a token that bears its sid"`
	Started time.Time `json:"started,omitzero" doc:"when the session began"`
	// AsOf is the moment by which proofs of the session are held against within: now. A proof that was at most ten minutes old then, or was
	// made since, counts as made now. Without it no proof of the session does.
	AsOf   time.Time `json:"as_of,omitzero" doc:"the moment by which proofs of the session count as made now"`
	Proofs []Proof   `json:"proofs,omitempty" doc:"proofs made earlier in the session"`
}

// Proof is one method shown to be in the person's hands.
type Proof struct {
	Method string `json:"method" doc:"the method"`
	// At is when it was proven. In the proofs of this very attempt it may be
	// left out; in a session's, a proof without a time counts for the session
	// and for no shorter stretch.
	At time.Time `json:"at,omitzero" doc:"when it was proven"`
	// App is the app that it was proven for.
	App string `json:"app,omitzero" doc:"the app that it was proven for"`
	// Fallback says that it was accepted in place of a method preferred to it.
	Fallback bool `json:"fallback,omitzero" doc:"true where it was accepted in place of a preferred method"`
}

// Failure is a proof that failed.
type Failure struct {
	Method string        `json:"method" doc:"the method"`
	Reason FailureReason `json:"reason" doc:"why it failed"`
}

// ClientAsk is an outside program (an OAuth 2.0 client) with what it asks for.
type ClientAsk struct {
	ID     string   `json:"id" doc:"the client_id"`
	Scopes []string `json:"scopes,omitempty" doc:"the scopes that it asks for"`
	// Consented are the scopes that the person, or somebody for her, let it have.
	Consented []string `json:"consented,omitempty" doc:"the scopes that it was given"`
}

// Wanted returns the scopes that the client asks for and was not given.
func (c *ClientAsk) Wanted() []string {
	var wanted []string
	for _, s := range c.Scopes {
		if !slices.Contains(c.Consented, s) {
			wanted = append(wanted, s)
		}
	}
	return wanted
}

// IsConsented reports whether the client was given all that it asks for.
func (c *ClientAsk) IsConsented() bool {
	for _, s := range c.Scopes {
		if !slices.Contains(c.Consented, s) {
			return false
		}
	}
	return len(c.Scopes) > 0 || len(c.Consented) > 0
}

// Acceptance is a version of a document that the person accepted.
type Acceptance struct {
	Document string    `json:"document" doc:"the document"`
	Version  int       `json:"version" doc:"its version"`
	At       time.Time `json:"at,omitzero" doc:"when it was accepted"`
}

// Previous is an earlier sign-in of the account.
type Previous struct {
	// At is zero where nobody knows; how fast the person travelled is unknown then.
	At       time.Time         `json:"at,omitzero" doc:"when it was"`
	Country  Fact[CountryCode] `json:"country,omitzero" doc:"the country that it came from"`
	Location Fact[Location]    `json:"location,omitzero" doc:"the place that it came from"`
}

// Location is a place on Earth in degrees (WGS 84).
type Location struct {
	Lat float64 `json:"lat" doc:"degrees north (WGS 84)"`
	Lon float64 `json:"lon" doc:"degrees east (WGS 84)"`
}

// Device is what is said of the device with the attempt. One without an ID is
// identified by nothing. It completes the device of that name in the directory, and
// wins where both say something.
type Device struct {
	ID       Fact[string] `json:"id,omitzero" doc:"the identity that the device states; a device without one is identified by nothing"`
	Platform Fact[string] `json:"platform,omitzero" doc:"its platform, such as windows"`
	Managed  Fact[bool]   `json:"managed,omitzero" doc:"whether the organisation looks after it"`
	Known    Fact[bool]   `json:"known,omitzero" doc:"whether it was seen before"`
	Shared   Fact[bool]   `json:"shared,omitzero" doc:"whether several people use it"`
	Owner    Fact[string] `json:"owner,omitzero" doc:"the account that it belongs to"`
	// Tags is nil where nothing is said of them.
	Tags       []string          `json:"tags,omitzero" doc:"its tags"`
	Facts      map[string]Scalar `json:"facts,omitempty" doc:"what it reported of itself, by name"`
	ReportedAt Fact[time.Time]   `json:"reported_at,omitzero" doc:"when it reported that"`
	Remembered []Remembered      `json:"remembered,omitempty" doc:"accounts that asked to be remembered on it"`
}

// Remembered says that an account asked to be remembered on the device, when it
// had proven a method.
type Remembered struct {
	Account string    `json:"account" doc:"the account"`
	Method  string    `json:"method" doc:"the method that it had proven"`
	At      time.Time `json:"at" doc:"when it asked"`
}

// Action is what is attempted. The zero Action is a sign-in.
type Action uint8

// The actions.
const (
	SignIn Action = iota
	Enrol
	ChangePassword
	Recover
	Consent
)

var actionNames = []string{"sign-in", "enrol", "change-password", "recover", "consent"}

// Actions returns the words for the actions.
func Actions() []string { return slices.Clone(actionNames) }

// TakesDeskPass reports whether a pass issued by a help desk can stand for a
// method: where the account itself is being put right.
func (a Action) TakesDeskPass() bool { return a == Enrol || a == ChangePassword || a == Recover }

// String returns the word for the action.
func (a Action) String() string { return words.Of(a, actionNames, 0) }

// MarshalText writes the word for the action.
func (a Action) MarshalText() ([]byte, error) { return marshalWord(a, actionNames) }

// UnmarshalText reads the word for an action.
func (a *Action) UnmarshalText(text []byte) error { return word(a, "an action", text, actionNames) }

// FailureReason is why a proof failed. The zero FailureReason is [Refused], which
// opens no fallback.
type FailureReason uint8

// Why a proof may fail. A refused one was denied by the person or wrong.
const (
	Refused FailureReason = iota
	TimedOut
	Unreachable
)

var failureReasons = []string{"refused", "timed_out", "unreachable"}

// FailureReasons returns the words for why a proof may fail.
func FailureReasons() []string { return slices.Clone(failureReasons) }

// String returns the word for the reason.
func (r FailureReason) String() string { return words.Of(r, failureReasons, 0) }

// MarshalText writes the word for the reason.
func (r FailureReason) MarshalText() ([]byte, error) { return marshalWord(r, failureReasons) }

// UnmarshalText reads the word for a reason.
func (r *FailureReason) UnmarshalText(text []byte) error {
	return word(r, "the reason of a failed proof", text, failureReasons)
}

// CheckResult is the result of an outside check. The zero CheckResult is
// [CheckFailed].
type CheckResult uint8

// The results of an outside check.
const (
	CheckFailed CheckResult = iota
	CheckPassed
	CheckUnreachable
)

var checkResults = []string{"failed", "passed", "unreachable"}

// CheckResults returns the words for the results of an outside check.
func CheckResults() []string { return slices.Clone(checkResults) }

// String returns the word for the result.
func (r CheckResult) String() string { return words.Of(r, checkResults, 0) }

// MarshalText writes the word for the result.
func (r CheckResult) MarshalText() ([]byte, error) { return marshalWord(r, checkResults) }

// UnmarshalText reads the word for a result.
func (r *CheckResult) UnmarshalText(text []byte) error {
	return word(r, "the result of an outside check", text, checkResults)
}

// Through is what a sign-in is made through, which decides what can be asked.
type Through uint8

// What a sign-in may be made through. Nobody sits before an unattended device,
// and an unpromptable program can show no question; neither can be asked for
// anything it has not brought along.
const (
	Browser Through = iota
	Native
	Unattended
	Unpromptable
)

var throughNames = []string{"browser", "native", "unattended", "unpromptable"}

// Throughs returns the words for what a sign-in is made through.
func Throughs() []string { return slices.Clone(throughNames) }

// CanBeAsked reports whether a person can be asked for something.
func (t Through) CanBeAsked() bool { return t == Browser || t == Native }

// String returns the word.
func (t Through) String() string { return words.Of(t, throughNames, 0) }

// MarshalText writes the word.
func (t Through) MarshalText() ([]byte, error) { return marshalWord(t, throughNames) }

// UnmarshalText reads the word.
func (t *Through) UnmarshalText(text []byte) error { return word(t, "`through`", text, throughNames) }

// marshalWord is the word of a number in a closed list for the wire, which refuses what is not in the list.
func marshalWord[T ~uint8](value T, known []string) ([]byte, error) {
	if int(value) >= len(known) {
		return nil, fmt.Errorf("%d is none of %s", value, strings.Join(known, ", "))
	}
	return []byte(known[value]), nil
}

// word stores the number of a word in a closed list.
func word[T ~uint8](into *T, what string, text []byte, known []string) error {
	i := slices.Index(known, string(text))
	if i < 0 {
		return fmt.Errorf("%s is one of %s, not %q", what, strings.Join(known, ", "), text)
	}
	*into = T(i)
	return nil
}

// fields are the keys of an attempt on the wire at any depth, for suggestions.
var fields = []string{"id", "at", "account", "app", "action", "ip", "country", "location", "lat", "lon", "through", "device", "platform",
	"managed", "known", "shared", "owner", "tags", "facts", "reported_at", "remembered", "method", "session", "issuer",
	"started", "as_of", "proofs",
	"fallback", "client", "scopes", "consented", "failed", "reason", "external", "accepted", "document", "version", "signals", "previous",
	"failures"}

// Members returns the names of the members that an attempt has on the wire, at its top. Nobody changes the list.
func Members() []string { return members }

var members = func() (names []string) {
	for field := range reflect.TypeFor[Attempt]().Fields() {
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		names = append(names, name)
	}
	return names
}()

// strict refuses keys that nobody knows.
var strict = json.RejectUnknownMembers(true)

// MaxSize is how many bytes the text of an attempt may have.
const MaxSize = 1 << 20

// Options say how an attempt is read. The zero Options read a whole one, which states all that it must.
type Options struct {
	// Now is the moment of an attempt that states no `at`; the zero Now is none.
	Now time.Time
	// Part reads some of the fields into an attempt that has the others, and checks nothing. An empty text has none.
	Part bool
}

// Parse decodes exactly one attempt from a text into a, which is empty but for a part. It refuses keys that it does not
// know, with the nearest right one, anything after the attempt, more than MaxSize bytes, and what Check
// refuses. What it decodes shares nothing with the text.
func Parse(text []byte, a *Attempt, o Options) error {
	switch {
	case len(text) == 0 && o.Part:
		return nil
	case len(text) > MaxSize:
		return fmt.Errorf("an attempt has at most %d MiB, and there is more", MaxSize>>20)
	}
	if err := json.Unmarshal(text, a, strict); err != nil {
		return explain(err, text)
	}
	if o.Part {
		return nil
	}
	if a.At.IsZero() {
		a.At = o.Now
	}
	return a.Check()
}

// Check reports what keeps an attempt from being judged at all: a missing
// account, app or time, or a number that stands for no word of its list.
func (a *Attempt) Check() error {
	switch {
	case a.Account == "":
		return errors.New("the attempt has no `account`")
	case a.App == "":
		return errors.New("the attempt has no `app`")
	case a.At.IsZero():
		return errors.New("the attempt has no `at`, a time such as 2026-11-23T21:14:00Z")
	case int(a.Action) >= len(actionNames):
		return fmt.Errorf("the attempt has no such `action`: %s", a.Action)
	}
	if through, known := a.Through.Get(); known && int(through) >= len(throughNames) {
		return fmt.Errorf("the attempt has no such `through`: %s", through)
	}
	for _, f := range a.Failed {
		if f.Method == "" {
			return errors.New("one of the `failed` has no `method`")
		}
		if int(f.Reason) >= len(failureReasons) {
			return fmt.Errorf("the failed proof of %q has no such reason: %s", f.Method, f.Reason)
		}
	}
	for i := range a.Proofs {
		if a.Proofs[i].Method == "" {
			return errors.New("one of the `proofs` has no `method`")
		}
	}
	for i := range a.Session.Proofs {
		if a.Session.Proofs[i].Method == "" {
			return errors.New("one of the `session.proofs` has no `method`")
		}
	}
	for _, x := range a.Accepted {
		if x.Document == "" {
			return errors.New("one of the `accepted` has no `document`")
		}
	}
	if d := a.Device.Ref(); d != nil {
		for _, r := range d.Remembered {
			if r.Account == "" || r.Method == "" || r.At.IsZero() {
				return errors.New("one of `device.remembered` lacks its `account`, `method` or `at`")
			}
		}
	}
	if len(a.External) == 0 { // as of most, and ranging over a map has its cost
		return nil
	}
	for name, result := range a.External {
		if int(result) >= len(checkResults) {
			return fmt.Errorf("the outside check %q has no such result: %s", name, result)
		}
	}
	return nil
}

// explain puts a JSON error in terms of the attempt, with its place.
func explain(err error, text []byte) error {
	var syntax *jsontext.SyntacticError
	var meaning *json.SemanticError
	var instant *time.ParseError
	switch {
	case len(bytes.TrimSpace(text)) == 0:
		return errors.New("expected an attempt as a JSON object, found nothing")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%s: the JSON ends in the middle", place(text, int64(len(text))))
	case errors.Is(err, jsontext.ErrDuplicateName) && errors.As(err, &syntax):
		return fmt.Errorf("%s: the key %q stands twice", place(text, syntax.ByteOffset), syntax.JSONPointer.LastToken())
	case errors.As(err, &syntax) && strings.HasSuffix(syntax.Err.Error(), "after top-level value"):
		return fmt.Errorf("%s: expected one attempt and nothing after it", place(text, syntax.ByteOffset))
	case errors.As(err, &syntax):
		return fmt.Errorf("%s: not JSON: %w", place(text, syntax.ByteOffset), syntax.Err)
	case !errors.As(err, &meaning):
		return err
	}
	where, key := place(text, meaning.ByteOffset), meaning.JSONPointer.LastToken()
	switch {
	case errors.Is(err, json.ErrUnknownName):
		hint := nearest.DidYouMean(key, fields)
		if hint == "" {
			hint = "; its keys are " + strings.Join(fields, ", ")
		}
		return fmt.Errorf("%s: an attempt has no key %q%s", where, key, hint)
	case errors.As(err, &instant):
		return fmt.Errorf("%s: %q is no time; write one such as 2026-11-23T21:14:00Z", where, strings.Trim(instant.Value, `"`))
	case meaning.Err != nil:
		return fmt.Errorf("%s: %w", where, meaning.Err)
	}
	if key == "" {
		return fmt.Errorf("%s: an attempt is a JSON object, not a %s", where, kinds[meaning.JSONKind])
	}
	return fmt.Errorf("%s: `%s` is %s, not a JSON %s", where, key, wanted(meaning.GoType), kinds[meaning.JSONKind])
}

// wanted says what is written for a value of a type.
func wanted(t reflect.Type) string {
	switch {
	case t == nil:
		return "something else"
	case t == reflect.TypeFor[time.Time]():
		return `a time in quotes, such as "2026-11-23T21:14:00Z"`
	}
	switch t.Kind() {
	case reflect.Bool:
		return "true or false"
	case reflect.Slice, reflect.Array:
		return "a list in [ ]"
	case reflect.Struct, reflect.Map, reflect.Pointer:
		return "an object in { }"
	case reflect.Int, reflect.Int64, reflect.Float64, reflect.Uint8:
		return "a number"
	}
	return "a text in quotes"
}

// kinds are the words for kinds of JSON values.
var kinds = map[jsontext.Kind]string{'n': "null", 't': "truth", 'f': "truth", '"': "text", '0': "number", '{': "object", '[': "list"}

// place turns an offset into line and column.
func place(text []byte, offset int64) string {
	before := text[:max(0, min(offset, int64(len(text))))]
	return fmt.Sprintf("line %d, column %d", bytes.Count(before, []byte("\n"))+1, len(before)-bytes.LastIndexByte(before, '\n'))
}

// Skew is how far clocks may be apart: what is dated later than this after an
// attempt did not happen.
const Skew = time.Minute

// IsLater reports whether something is dated so long after a moment that it did
// not happen, as seen then.
func IsLater(dated, at time.Time) bool { return dated.After(at) && dated.Sub(at) > Skew }
