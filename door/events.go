package door

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4/jwt"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/inside"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// EventTypes returns the types of security events that change what a door knows.
func EventTypes() []string { return slices.Sorted(maps.Keys(eventEffects)) }

// securityEvent is what a security event token says (RFC 8417 §2.2).
type securityEvent struct {
	jwt.Claims
	Subject *subject                   `json:"sub_id"`
	Events  map[string]json.RawMessage `json:"events"`
	// When is the time of the event where the token bears it (RFC 8417 §2.2).
	When *jwt.NumericDate `json:"toe"`
}

// subject is whom an event is about (RFC 9493). That of a complex one has its parts.
type subject struct {
	Format  string   `json:"format"`
	Email   string   `json:"email"`
	URI     string   `json:"uri"`
	Subject string   `json:"sub"`
	ID      string   `json:"id"`
	User    *subject `json:"user"`
	Device  *subject `json:"device"`
	Session *subject `json:"session"`
}

// name returns what the subject names, "" where its format is none that is known.
func (s *subject) name() string {
	if s == nil {
		return ""
	}
	switch s.Format {
	case "email":
		return s.Email
	case "account":
		return strings.TrimPrefix(s.URI, "acct:")
	case "iss_sub":
		return s.Subject
	case "opaque":
		return s.ID
	}
	return ""
}

// account, device and session return what an event names of them. A simple subject is an account.
func (s *subject) account() string {
	if s != nil && s.Format == "complex" {
		return s.User.name()
	}
	return s.name()
}

func (s *subject) device() string {
	if s != nil && s.Format == "complex" {
		return s.Device.name()
	}
	return s.name()
}

func (s *subject) session() string {
	if s != nil && s.Format == "complex" {
		return s.Session.name()
	}
	return ""
}

// happened is one event with what it says.
type happened struct {
	about *subject
	at    time.Time
	// The members of CAEP 1.0 §3 and RISC 1.0 §2 that change something.
	Subject         *subject          `json:"subject"`
	Timestamp       float64           `json:"event_timestamp"`
	Current         string            `json:"current_status"`
	Credential      string            `json:"credential_type"`
	Change          string            `json:"change_type"`
	Level           string            `json:"current_level"`
	Direction       string            `json:"change_direction"`
	Principal       string            `json:"principal"`
	Reason          string            `json:"risk_reason"`
	ReasonForAdmins map[string]string `json:"reason_admin"`
}

// eventEffects are what each event changes. An effect returns which sessions are to be judged
// again, and errNobody where the event is about nobody that is known.
var eventEffects = map[string]func(*Door, *batch, *happened) (review, error){
	deviceComplianceChange:   (*Door).noteCompliance,
	credentialChange:         (*Door).noteCredential,
	sessionRevoked:           (*Door).noteRevoked,
	assuranceLevelChange:     (*Door).noteAssurance,
	riskLevelChange:          (*Door).noteRisk,
	credentialCompromise:     (*Door).noteCompromise,
	accountDisabled:          (*Door).noteDisabled,
	accountEnabled:           (*Door).noteEnabled,
	credentialChangeRequired: (*Door).noteChangeRequired,
}

// errNobody says that an event is about nobody that is known.
var errNobody = errors.New("nobody that is known")

// eventProblem is the answer to a token that is refused (RFC 8935 §2.4).
type eventProblem struct {
	Code string `json:"err"`
	Text string `json:"description"`
}

// seenKept is how long a token is known again. An older one is refused, so that none counts twice.
const seenKept = 30 * 24 * time.Hour

// forgetSeen drops what is known of tokens that would be refused by now.
func (d *Door) forgetSeen(ctx context.Context) error {
	for {
		rows, err := d.facts.store.List(ctx, store.Query{Kind: store.Seen, DueBy: d.now().Add(-seenKept - time.Hour), Limit: 1000})
		if err != nil || len(rows) == 0 {
			return err
		}
		if err := d.facts.store.Update(ctx, func(tx store.Tx) error {
			for _, row := range rows {
				if err := tx.Delete(row.Key); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
}

// mostEvent is how large a token may be, in bytes.
const mostEvent = 64 << 10

// serveEvent answers POST /v1/events.
func (d *Door) serveEvent(w http.ResponseWriter, r *request) error {
	text, err := body(w, r, mostEvent, "application/secevent+jwt")
	if err != nil {
		return err
	}
	refuse := func(code, format string, args ...any) error {
		d.metrics.events.WithLabelValues("refused").Inc()
		return writeValue(w, http.StatusBadRequest, eventProblem{code, fmt.Sprintf(format, args...)})
	}
	token := strings.TrimSpace(string(text))
	parsed, err := jwt.ParseSigned(token, algorithms)
	if err != nil {
		return refuse("invalid_request", "It is no signed token.")
	}
	if !isOfType(parsed, "secevent+jwt") {
		return refuse("invalid_request", "Its typ is not secevent+jwt, which a security event token has.")
	}
	event := new(securityEvent)
	if err := parsed.UnsafeClaimsWithoutVerification(event); err != nil {
		return refuse("invalid_request", "Its claims cannot be read.")
	}
	i := slices.IndexFunc(d.transmitters, func(t *transmitter) bool { return t.Issuer == event.Issuer })
	if i < 0 {
		return refuse("invalid_issuer", "Nobody trusts the issuer %q here.", event.Issuer)
	}
	from := d.transmitters[i]
	*event = securityEvent{}
	switch _, err := from.keys.verify(r.Context(), parsed, event); {
	case errors.Is(err, errSignature):
		return refuse("authentication_failed", "The signature is wrong.")
	case err != nil:
		return refuse("invalid_key", "No key that is known fits.")
	}
	switch {
	case !slices.ContainsFunc(from.Audience, event.Audience.Contains):
		return refuse("invalid_audience", "It is for %s.", strings.Join(event.Audience, ", "))
	case event.ID == "" || event.IssuedAt == nil || len(event.Events) == 0:
		return refuse("invalid_request", "It lacks one of jti, iat and events (RFC 8417 §2.2).")
	case len(event.ID) > longestName || attempt.IsLater(event.IssuedAt.Time(), d.now()):
		return refuse("invalid_request", "It was issued in the future, or its jti is too long.")
	case d.now().Sub(event.IssuedAt.Time()) > seenKept:
		return refuse("invalid_request", "It was issued too long ago: tokens are known again for %d days.", int(seenKept.Hours()/24))
	}
	for kind := range event.Events {
		if len(from.Types) > 0 && !slices.Contains(from.Types, kind) {
			return refuse("access_denied", "%s may not tell of %s here.", event.Issuer, kind)
		}
	}
	if err := d.take(event, r.caller.Name); err != nil {
		if bad := new(badEvent); errors.As(err, &bad) {
			return refuse("invalid_request", "%s", bad)
		}
		return d.unavailable(err)
	}
	w.WriteHeader(http.StatusAccepted)
	return nil
}

// badEvent is an event that cannot be read.
type badEvent struct{ text string }

// Error implements error.
func (b *badEvent) Error() string { return b.text }

// take takes the events of a token, once.
func (d *Door) take(event *securityEvent, caller string) error {
	kinds := slices.Sorted(maps.Keys(event.Events))
	all := map[string]*happened{}
	for _, kind := range kinds {
		if eventEffects[kind] == nil {
			continue
		}
		h := &happened{about: event.Subject, at: event.IssuedAt.Time()}
		if err := json.Unmarshal(event.Events[kind], h); err != nil {
			return &badEvent{"The event " + kind + " cannot be read."}
		}
		if h.about == nil {
			h.about = h.Subject // as drafts of CAEP and RISC 1.0 have it
		}
		switch {
		case h.Timestamp > 0:
			h.at = time.UnixMicro(int64(h.Timestamp * 1e6)).UTC()
		case event.When != nil:
			h.at = event.When.Time()
		}
		if attempt.IsLater(h.at, d.now()) {
			return &badEvent{"The event is dated in the future."}
		}
		all[kind] = h
	}
	var reviews []review
	var results map[string]string
	seen := &store.SeenToken{Issuer: event.Issuer, JTI: event.ID, At: d.now()}
	again := false
	err := d.recorder.do(&job{urgent: true, change: func(b *batch) error {
		reviews, results, again = nil, map[string]string{}, false
		switch err := store.Load(b.ctx, b.tx, &store.SeenToken{Issuer: event.Issuer, JTI: event.ID}); {
		case err == nil:
			again = true
			return nil
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
		for _, kind := range kinds {
			h := all[kind]
			if h == nil {
				results[kind] = "unknown_event"
				continue
			}
			r, err := eventEffects[kind](d, b, h)
			switch {
			case errors.Is(err, errNobody):
				results[kind] = "unknown_subject"
			case err != nil:
				return err
			default:
				results[kind] = "taken"
				reviews = append(reviews, r)
			}
			if d.config.Journal.Mode != JournalOff {
				detail := h.appendJSON(nil, event, kind, results[kind])
				b.entries = append(b.entries, journal.Make(journal.Event, journal.NewID(), d.now(), caller, h.about.account(), "event", detail))
			}
		}
		return store.Save(b.tx, seen)
	}})
	if err != nil {
		return err
	}
	if again {
		d.metrics.events.WithLabelValues("again").Inc()
		return nil
	}
	for _, result := range results {
		d.metrics.events.WithLabelValues(result).Inc()
	}
	for _, r := range reviews {
		if r.account != "" || r.device != "" {
			d.lookAgain(r)
		}
	}
	return nil
}

func (h *happened) appendJSON(text []byte, event *securityEvent, kind, result string) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "issuer"), event.Issuer)
	text = jsontext.String(jsontext.Key(text, "jti"), event.ID)
	text = jsontext.String(jsontext.Key(text, "type"), kind)
	text = jsontext.Text(text, "device", deviceOf(h, kind))
	text = jsontext.Text(text, "session", h.about.session())
	text = jsontext.Time(jsontext.Key(text, "event_at"), h.at)
	return append(jsontext.String(jsontext.Key(text, "result"), result), '}')
}

func deviceOf(h *happened, kind string) string {
	if kind == deviceComplianceChange {
		return h.about.device()
	}
	return ""
}

// knownAccount returns the record of the account that an event is about.
func (d *Door) knownAccount(b *batch, h *happened) (*store.Account, error) {
	name := h.about.account()
	if name == "" {
		return nil, errNobody
	}
	a, err := b.account(name)
	if err != nil {
		return nil, err
	}
	if !a.States() && !d.book.Load().lists(name) {
		delete(b.accounts, name) // nothing is kept of names that somebody made up
		return nil, errNobody
	}
	return a, nil
}

func (d *Door) noteCompliance(b *batch, h *happened) (review, error) {
	id := h.about.device()
	if id == "" || h.Current != "compliant" && h.Current != "not-compliant" {
		return review{}, errNobody
	}
	device, err := b.device(id)
	if err != nil {
		return review{}, err
	}
	if device.Compliance == nil || !h.at.Before(device.Compliance.At) {
		device.Compliance = &store.Compliance{Compliant: h.Current == "compliant", At: h.at}
	}
	return review{device: id, because: "the device was found " + h.Current}, nil
}

// credentials are the methods of the credential types of CAEP 1.0 §3.2. Others are agreed between both sides (as it has it): here
// they are the names of the book's methods.
var credentials = map[string]string{
	"password":       "password",
	"x509":           "certificate",
	"fido2-platform": "passkey",
	"fido2-roaming":  "security-key",
	"fido-u2f":       "security-key",
	"phone-sms":      "sms-code",
	"app":            "push",
}

func (d *Door) noteCredential(b *batch, h *happened) (review, error) {
	a, err := d.knownAccount(b, h)
	if err != nil {
		return review{}, err
	}
	method := credentials[h.Credential]
	_, named := inside.Of(d.book.Load().Judge()).Directory().FindMethod(h.Credential)
	if method == "" && named && h.Credential != directory.DeskPass { // which nobody enrols
		method = h.Credential
	}
	if method == "password" && (h.Change == "update" || h.Change == "create") &&
		(a.PasswordChangedAt == nil || h.at.After(*a.PasswordChangedAt)) {
		a.PasswordChangedAt = &h.at
	}
	if created := h.Change == "create"; method != "" && (created || h.Change == "revoke" || h.Change == "delete") {
		methods := a.Methods
		if methods == nil {
			methods = d.book.Load().methodsOf(a.Name)
		}
		without := slices.DeleteFunc(slices.Clone(methods), func(m string) bool { return m == method })
		if created {
			without = append(without, method)
		}
		if without == nil {
			without = []string{}
		}
		a.Methods = without
	}
	return review{account: a.Name, because: "a credential was changed"}, nil
}

func (d *Door) noteRevoked(b *batch, h *happened) (review, error) {
	because := "revoked by another system"
	if id := h.about.session(); id != "" {
		s, err := b.session(id)
		switch {
		case err != nil:
			return review{}, err
		case s == nil || !s.Ended.IsZero():
			return review{}, errNobody
		}
		return review{}, d.endWhole(b, s, because)
	}
	account := h.about.account()
	if account == "" {
		return review{}, errNobody
	}
	return review{}, d.endSessionsOf(b, account, h.at, because)
}

func (d *Door) noteAssurance(b *batch, h *happened) (review, error) {
	a, err := d.knownAccount(b, h)
	if err != nil {
		return review{}, err
	}
	if h.Direction == "increase" {
		return review{}, nil // it is believed when the next attempt shows it
	}
	return review{}, d.endSessionsOf(b, a.Name, h.at, "another system trusts how the account was proven less than before")
}

func (d *Door) noteRisk(b *batch, h *happened) (review, error) {
	if h.Principal != "" && !strings.EqualFold(h.Principal, "USER") {
		return review{}, errNobody
	}
	a, err := d.knownAccount(b, h)
	if err != nil {
		return review{}, err
	}
	level := directory.HighRisk // a level that is none is the strictest
	switch strings.ToUpper(h.Level) {
	case "LOW":
		level = directory.LowRisk
	case "MEDIUM":
		level = directory.MediumRisk
	}
	because := h.Reason
	if because == "" {
		because = "another system raised it"
	}
	a.Risk = &store.Risk{Level: level, Because: because, Since: &h.at}
	return review{account: a.Name, because: "the account's risk changed"}, nil
}

func (d *Door) noteCompromise(b *batch, h *happened) (review, error) {
	a, err := d.knownAccount(b, h)
	if err != nil {
		return review{}, err
	}
	because := directory.LeakedPassword
	if h.Credential != "" && h.Credential != "password" {
		because = "compromised " + h.Credential
	}
	a.Risk = &store.Risk{Level: directory.HighRisk, Because: because, Since: &h.at}
	return review{account: a.Name, because: "a credential was compromised"}, nil
}

func (d *Door) noteDisabled(b *batch, h *happened) (review, error) {
	a, err := d.knownAccount(b, h)
	if err != nil {
		return review{}, err
	}
	a.Disabled = true
	return review{account: a.Name, because: "the account was disabled"}, nil
}

func (d *Door) noteEnabled(b *batch, h *happened) (review, error) {
	a, err := d.knownAccount(b, h)
	if err != nil {
		return review{}, err
	}
	a.Disabled = false
	return review{account: a.Name, because: "the account was enabled"}, nil
}

func (d *Door) noteChangeRequired(b *batch, h *happened) (review, error) {
	a, err := d.knownAccount(b, h)
	if err != nil {
		return review{}, err
	}
	a.Risk = &store.Risk{Level: directory.HighRisk, Because: directory.LeakedPassword, Since: &h.at}
	return review{account: a.Name, because: "the password is to be changed"}, nil
}

// transmitter is one who may send events, with its keys.
type transmitter struct {
	*Transmitter
	keys *keySet
}
