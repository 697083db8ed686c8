// Package attempt holds one sign-in (or other action) to be judged, as a value
// and in its wire form.
package attempt

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Attempt is one sign-in or other action to be judged. Account, App and At must
// be given; a [Fact] that is missing is unknown to the conditions that ask for
// it, and what the reports (Session, Proofs) do not hold did not happen.
type Attempt struct {
	ID      string            `json:"id,omitzero"`
	At      time.Time         `json:"at"`
	Account string            `json:"account"`
	App     string            `json:"app"`
	Action  Action            `json:"action,omitzero"`
	IP      Fact[netip.Addr]  `json:"ip,omitzero"`
	Country Fact[CountryCode] `json:"country,omitzero"`
	Through Fact[Through]     `json:"through,omitzero"`
	Session Session           `json:"session,omitzero"`
	Proofs  []Proof           `json:"proofs,omitempty"`
}

// Session is what went before in the session that the attempt continues.
type Session struct {
	ID      string    `json:"id,omitzero"`
	Started time.Time `json:"started,omitzero"`
	Proofs  []Proof   `json:"proofs,omitempty"`
}

// Proof is one method shown to be in the person's hands.
type Proof struct {
	Method string `json:"method"`
	// At is when it was proven. In the proofs of this very attempt it may be
	// left out; in a session's, a proof without a time counts for the session
	// and for no shorter stretch.
	At time.Time `json:"at,omitzero"`
	// App is the app that it was proven for.
	App string `json:"app,omitzero"`
}

// CountryCode is an ISO 3166-1 alpha-2 code in capitals.
type CountryCode string

// UnmarshalText reads two capital letters.
func (c *CountryCode) UnmarshalText(text []byte) error {
	if len(text) != 2 || !isCapital(text[0]) || !isCapital(text[1]) {
		return fmt.Errorf("a country is two capital letters (ISO 3166-1 alpha-2) such as NO, not %q", text)
	}
	*c = CountryCode(text)
	return nil
}

func isCapital(b byte) bool { return 'A' <= b && b <= 'Z' }

// Action is what is attempted. The zero Action is a sign-in.
type Action uint8

// The actions.
const (
	SignIn Action = iota
)

var actionNames = []string{SignIn: "sign-in"}

// Actions returns the words for the actions.
func Actions() []string { return slices.Clone(actionNames) }

// String returns the word for the action.
func (a Action) String() string { return actionNames[a] }

// MarshalText writes the word for the action.
func (a Action) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads the word for an action.
func (a *Action) UnmarshalText(text []byte) error {
	i, err := word("an action", text, actionNames)
	*a = Action(i)
	return err
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

// CanBeAsked tells whether a person can be asked for something.
func (t Through) CanBeAsked() bool { return t == Browser || t == Native }

// String returns the word.
func (t Through) String() string { return throughNames[t] }

// MarshalText writes the word.
func (t Through) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads the word.
func (t *Through) UnmarshalText(text []byte) error {
	i, err := word("`through`", text, throughNames)
	*t = Through(i)
	return err
}

func word(what string, text []byte, known []string) (int, error) {
	if i := slices.Index(known, string(text)); i >= 0 {
		return i, nil
	}
	return 0, fmt.Errorf("%s is one of %s, not %q", what, strings.Join(known, ", "), text)
}

// fields are the keys of an attempt on the wire, for suggestions.
var fields = []string{"id", "at", "account", "app", "action", "ip", "country", "through", "session", "proofs",
	"started", "method"}

// Read decodes exactly one attempt from r. It refuses keys it does not know,
// with the nearest right one, and anything after the attempt.
func Read(r io.Reader) (*Attempt, error) {
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	a := new(Attempt)
	if err := decoder.Decode(a); err != nil {
		return nil, explain(err, text, decoder.InputOffset())
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s: expected one attempt and nothing after it", place(text, decoder.InputOffset()))
	}
	return a, a.Check()
}

// Check tells what an attempt lacks that it must have.
func (a *Attempt) Check() error {
	switch {
	case a.Account == "":
		return errors.New("the attempt has no `account`")
	case a.App == "":
		return errors.New("the attempt has no `app`")
	case a.At.IsZero():
		return errors.New("the attempt has no `at`, a time such as 2026-11-23T21:14:00Z")
	}
	return nil
}

// explain puts a JSON error in terms of the attempt, with its place.
func explain(err error, text []byte, offset int64) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.Is(err, io.EOF):
		return errors.New("expected an attempt as a JSON object, found nothing")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%s: the JSON ends in the middle", place(text, int64(len(text))))
	case errors.As(err, &syntax):
		return fmt.Errorf("%s: not JSON: %w", place(text, syntax.Offset), err)
	case errors.As(err, &kind):
		return fmt.Errorf("%s: `%s` cannot be a JSON %s", place(text, kind.Offset), kind.Field, kind.Value)
	}
	if name, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		name = strings.Trim(name, `"`)
		return fmt.Errorf("%s: an attempt has no key %q%s", place(text, int64(bytes.Index(text, []byte(`"`+name+`"`)))), name, nearest.DidYouMean(name, fields))
	}
	return fmt.Errorf("%s: %w", place(text, offset), err)
}

// place turns an offset into line and column.
func place(text []byte, offset int64) string {
	before := text[:max(0, min(offset, int64(len(text))))]
	return fmt.Sprintf("line %d, column %d", bytes.Count(before, []byte("\n"))+1, len(before)-bytes.LastIndexByte(before, '\n'))
}
