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

// subject is whom an event is about (RFC 9493). That of a complex one has its parts, and that of aliases those that are
// all the same one.
type subject struct {
	Format      string     `json:"format"`
	Issuer      string     `json:"iss"`
	Email       string     `json:"email"`
	URI         string     `json:"uri"`
	URL         string     `json:"url"`
	Subject     string     `json:"sub"`
	ID          string     `json:"id"`
	Identifiers []*subject `json:"identifiers"`
	User        *subject   `json:"user"`
	Device      *subject   `json:"device"`
	Session     *subject   `json:"session"`
}

// trust drops names that an issuer gives for whom it may not speak: a subject is unique by its issuer alone (RFC 9493 §3.2.3).
func (s *subject) trust(speaks func(issuer string) bool) {
	if s == nil {
		return
	}
	if s.Format == "iss_sub" && !speaks(s.Issuer) {
		s.Subject = ""
	}
	for _, part := range append([]*subject{s.User, s.Device, s.Session}, s.Identifiers...) {
		part.trust(speaks)
	}
}

// names returns what the subject may be named by, none where its format can name no account, device or session: a
// phone number is nobody's name.
func (s *subject) names() (names []string) {
	if s == nil {
		return nil
	}
	switch s.Format {
	case "email":
		names = []string{s.Email, strings.ToLower(s.Email)} // mail addresses are told apart without regard to case
	case "account", "uri":
		for _, scheme := range []string{"acct:", "mailto:", ""} {
			if rest, ok := strings.CutPrefix(s.URI, scheme); ok {
				names = []string{rest}
				break
			}
		}
	case "did":
		names = []string{s.URL}
	case "iss_sub":
		names = []string{s.Subject}
	case "opaque":
		names = []string{s.ID}
	case "aliases":
		for _, alias := range s.Identifiers {
			if alias != nil && alias.Format != s.Format {
				names = append(names, alias.names()...)
			}
		}
	}
	names = slices.DeleteFunc(names, func(n string) bool { return n == "" })
	return slices.Compact(names)
}

// account, device and session return what an event may name of them. A simple subject is an account or a device, and an
// opaque one may be a session.
func (s *subject) account() []string {
	if s != nil && s.Format == "complex" {
		return s.User.names()
	}
	return s.names()
}

func (s *subject) device() []string {
	if s != nil && s.Format == "complex" {
		return s.Device.names()
	}
	return s.names()
}

func (s *subject) session() []string {
	switch {
	case s == nil:
		return nil
	case s.Format == "complex":
		return s.Session.names()
	case s.Format == "opaque":
		return s.names()
	}
	return nil
}

// sidIssuer returns who names sessions by the sids of an event: its issuer, or the one that the subject names; "" where nothing that the
// door takes names sessions so.
func (d *Door) sidIssuer(about *subject, issuer string) string {
	if about.Session != nil && about.Session.Format == "iss_sub" {
		issuer = about.Session.Issuer
	}
	if slices.ContainsFunc(d.believed.Load().config.Tokens, func(t TokenIssuer) bool { return t.Issuer == issuer }) ||
		slices.ContainsFunc(d.believed.Load().config.Callers, func(c Caller) bool { return c.Issuer == issuer }) {
		return issuer
	}
	return ""
}

// first returns the first of some names, "" where there is none.
func first(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// happened is one event with what it says.
type happened struct {
	about *subject
	at    time.Time
	// caller handed it in, and changes take in what its issuer states by it.
	caller  *Caller
	changes *changes
	// sidIssuer is who names sessions by the sids of the event, "" where that is none whose sessions the door knows.
	sidIssuer string
	// isFor is the account or the device that it is about, once that is found.
	isFor string
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

// An event that is not taken: it is about nobody that is known, its caller may not state that, or it is dated ahead
// and would make an answer milder.
var (
	errNobody  = errors.New("unknown_subject")
	errOutside = errors.New("not_allowed")
	errAhead   = errors.New("dated_ahead")
)

// eventProblem is the answer to a token that is refused (RFC 8935 §2.4).
type eventProblem struct {
	Code string `json:"err"`
	Text string `json:"description"`
}

// seenKept is how long a token is known again. An older one is refused, so that none counts twice.
const seenKept = 30 * 24 * time.Hour

// forget drops what is known of tokens that would be refused by now, and challenges that nobody can meet any more.
func (d *Door) forget(ctx context.Context) error {
	for kind, before := range map[store.Kind]time.Duration{store.Seen: seenKept, store.Challenges: d.facts.sessionAtMost} {
		for {
			rows, err := d.facts.store.List(ctx, store.Query{Kind: kind, DueBy: d.now().Add(-before - time.Hour), Limit: 1000})
			if err != nil {
				return err
			}
			if len(rows) == 0 {
				break
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
	return nil
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
	transmitters := d.believed.Load().transmitters
	i := slices.IndexFunc(transmitters, func(t *transmitter) bool { return t.Issuer == event.Issuer })
	if i < 0 {
		return refuse("invalid_issuer", "Nobody trusts the issuer %q here.", event.Issuer)
	}
	from := transmitters[i]
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
	if event.Subject != nil && event.Subject.Format == "" {
		return refuse("invalid_request", "Its sub_id has no format (RFC 9493 §3).")
	}
	if err := d.take(event, r.caller.Caller); err != nil {
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
func (d *Door) take(event *securityEvent, caller *Caller) error {
	kinds := slices.Sorted(maps.Keys(event.Events))
	all := map[string]*happened{}
	for _, kind := range kinds {
		if eventEffects[kind] == nil {
			continue
		}
		h := &happened{about: event.Subject, at: event.IssuedAt.Time(), caller: caller}
		if err := json.Unmarshal(event.Events[kind], h); err != nil {
			return &badEvent{"The event " + kind + " cannot be read."}
		}
		if h.about == nil {
			h.about = h.Subject // as drafts of CAEP and RISC 1.0 have it
		}
		const last = 253402300799 // the last second of the year 9999
		switch {
		case h.Timestamp < 0 || h.Timestamp > last:
			return &badEvent{"Its event_timestamp is no time in seconds."}
		case h.Timestamp > 0:
			h.at = time.UnixMicro(int64(h.Timestamp * 1e6)).UTC()
		case event.When != nil:
			h.at = event.When.Time()
		}
		h.about.trust(func(issuer string) bool {
			return issuer == event.Issuer ||
				slices.ContainsFunc(d.believed.Load().config.Tokens, func(t TokenIssuer) bool { return t.Issuer == issuer })
		})
		if h.about == nil || h.about.Format == "" {
			return &badEvent{"The event " + kind + " has no subject with a format (RFC 9493 §3)."}
		}
		h.sidIssuer = d.sidIssuer(h.about, event.Issuer)
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
			h.changes = &changes{by: store.IssuerSource(event.Issuer), at: d.now()}
			r, err := eventEffects[kind](d, b, h)
			switch {
			case errors.Is(err, errNobody), errors.Is(err, errOutside), errors.Is(err, errAhead):
				results[kind] = err.Error()
			case err != nil:
				return err
			default:
				results[kind] = "taken"
				reviews = append(reviews, r)
			}
			if d.config.Journal.Mode != JournalOff {
				detail := h.appendJSON(nil, event, kind, results[kind])
				account := h.isFor
				if kind == deviceComplianceChange {
					account = ""
				}
				b.entries = append(b.entries, journal.Make(journal.Event, journal.NewID(), d.now(), caller.Name, account, "event", detail))
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
	for kind, result := range results {
		d.metrics.events.WithLabelValues(result).Inc()
		if result != "taken" {
			d.log.Warn("a security event was not applied", "issuer", event.Issuer, "caller", caller.Name, "jti", event.ID, "event", kind, "why",
				result)
		}
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
	if kind == deviceComplianceChange {
		text = jsontext.Text(text, "device", first(h.about.device()))
	}
	text = jsontext.Text(text, "session", first(h.about.session()))
	text = jsontext.Time(jsontext.Key(text, "event_at"), h.at)
	text = jsontext.String(jsontext.Key(text, "result"), result)
	return append(appendChanges(text, h.changes.list), '}')
}

// checkFact reports a fact that the caller may not state.
func (h *happened) checkFact(right string) error {
	if !mayState(h.caller.Events.Facts, right, "") {
		return errOutside
	}
	return nil
}

// knownAccount returns the record of the account that an event is about, where the caller may state a fact of it.
func (d *Door) knownAccount(b *batch, h *happened, right string) (*store.Account, error) {
	if err := h.checkFact(right); err != nil {
		return nil, err
	}
	var found *store.Account
	for _, name := range h.about.account() {
		known := b.accounts[name] != nil
		a, err := b.account(name)
		if err != nil {
			return nil, err
		}
		switch {
		case !a.States() && !d.book.Load().lists(name):
			if !known {
				delete(b.accounts, name) // nothing is kept of names that somebody made up
			}
		case found != nil && found.Name != name:
			return nil, errNobody // its names are those of several
		default:
			found = a
		}
	}
	switch {
	case found == nil:
		return nil, errNobody
	case !isFor(h.caller.Events.Accounts, h.caller.Events.Domains, found.Name) || d.book.Load().emergencyAccount(found.Name) != nil:
		return nil, errOutside // of an account for emergencies the book and administrators alone speak
	}
	h.isFor = found.Name
	return found, nil
}

// say takes in what the issuer states of an account by the event, dated as the event is.
func (h *happened) say(a *store.Account, s store.Statement) error {
	s.At = h.at
	if !s.Arrived(h.changes.at) {
		return errAhead
	}
	h.changes.say(a, s)
	return nil
}

// notLater is the time of an event that makes an answer stricter: dated ahead it counts as of its arrival.
func (h *happened) notLater() time.Time {
	if attempt.IsLater(h.at, h.changes.at) {
		return h.changes.at
	}
	return h.at
}

func (d *Door) noteCompliance(b *batch, h *happened) (review, error) {
	if err := h.checkFact("devices"); err != nil {
		return review{}, err
	}
	id := first(h.about.device())
	if id == "" || h.Current != "compliant" && h.Current != "not-compliant" {
		return review{}, errNobody
	}
	h.isFor = id
	found := store.Compliance{By: h.changes.by, Compliant: h.Current == "compliant", At: h.notLater()}
	if found.Compliant && !found.At.Equal(h.at) {
		return review{}, errAhead
	}
	return review{device: id, because: "the device was found " + h.Current}, b.changeDevice(id,
		func(d *store.Device) bool { return d.Find(found) })
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
	method := credentials[h.Credential]
	_, named := inside.Of(d.book.Load().Judge()).Directory().FindMethod(h.Credential)
	if method == "" && named && h.Credential != directory.DeskPass { // which nobody enrols
		method = h.Credential
	}
	isNewPassword := method == "password" && (h.Change == "update" || h.Change == "create")
	right := "methods"
	if isNewPassword && h.Change == "update" {
		right = "password"
	}
	a, err := d.knownAccount(b, h, right)
	if err != nil {
		return review{}, err
	}
	if isNewPassword && mayState(h.caller.Events.Facts, "password", "") {
		err = h.say(a, store.Statement{Fact: store.Password, Value: attempt.TextScalar(h.at.UTC().Format(time.RFC3339Nano))})
	}
	if (h.Change == "update" || h.Change == "revoke" || h.Change == "delete") && method != "" && err == nil {
		if err := d.endProven(b, a, h, method, h.notLater()); err != nil {
			return review{}, err
		}
	}
	switch {
	case method == "" || err != nil:
	case h.Change == "create":
		err = h.say(a, store.Statement{Fact: store.Method, Name: method, Value: attempt.BoolScalar(true)})
	case h.Change == "revoke" || h.Change == "delete":
		err = h.say(a, store.Statement{Fact: store.Revocation, Name: method, Value: attempt.BoolScalar(true)})
	}
	return review{account: a.Name, because: "a credential was changed"}, err
}

func (d *Door) noteRevoked(b *batch, h *happened) (review, error) {
	if err := h.checkFact("sessions"); err != nil {
		return review{}, err
	}
	const because = "revoked by another system"
	sids, at := h.about.session(), h.notLater()
	names, isSession := h.about.account(), h.about.Format == "complex" && h.about.Session != nil
	if isSession && len(sids) == 0 {
		return review{}, errNobody
	}
	ended := false
	for _, sid := range sids {
		seen, err := d.sessionsOf(b, sid)
		if err != nil {
			return review{}, err
		}
		for _, s := range seen {
			switch {
			case h.sidIssuer != "" && s.Issuer != h.sidIssuer || isSession && h.about.User != nil && !slices.Contains(names, s.Account):
				continue
			case !isFor(h.caller.Events.Accounts, h.caller.Events.Domains, s.Account) || d.book.Load().emergencyAccount(s.Account) != nil:
				return review{}, errOutside
			}
			h.isFor, ended = s.Account, true
			if err := d.endWhole(b, s, at, because); err != nil {
				return review{}, err
			}
		}
	}
	if ended && (!isSession || h.about.User == nil) {
		return review{}, nil
	}
	a, err := d.knownAccount(b, h, "sessions")
	switch {
	case ended && errors.Is(err, errNobody):
		return review{}, nil // nobody else can show tokens of it
	case err != nil:
		return review{}, err
	case !isSession:
		return review{}, d.revoke(b, a, at, h.changes.by, because)
	}
	for _, sid := range sids { // which the door may never have seen, and whose tokens may come yet
		if h.sidIssuer == "" {
			if !ended && a.SIDEnded(sid).IsZero() {
				if err := d.noteEnd(b, &store.Session{SID: sid, Account: a.Name}, "", "", because); err != nil {
					return review{}, err
				}
			}
			a.EndSID(sid, at)
			continue
		}
		s, err := b.session(store.SessionID(h.sidIssuer, sid, a.Name))
		if err == nil && s == nil {
			err = d.endWhole(b, d.unseen(h.sidIssuer, sid, a.Name, at), at, because)
		}
		if err != nil {
			return review{}, err
		}
	}
	return review{}, nil
}

// unseen is a session that the door has not seen, to be kept for what is told of it.
func (d *Door) unseen(issuer, sid, account string, at time.Time) *store.Session {
	return &store.Session{ID: store.SessionID(issuer, sid, account), Issuer: issuer, SID: sid, Account: account, Started: at}
}

// sessionsOf returns the sessions of a sid, of all issuers and accounts, to be changed.
func (d *Door) sessionsOf(b *batch, sid string) (list []*store.Session, err error) {
	for row, err := range store.All(b.ctx, b.tx, store.Query{Kind: store.Sessions, Prefix: store.SIDPrefix(sid)}) {
		if err != nil {
			return nil, err
		}
		s, err := b.session(row.Key.Key)
		if err != nil {
			return nil, err
		}
		if s != nil && s.SID == sid {
			list = append(list, s)
		}
	}
	return list, nil
}

// changeWithin is how long before a credential was changed the session may have been let through to change it.
const changeWithin = 10 * time.Minute

// endProven ends the sessions of an account in which a credential was proven that was revoked or changed at a moment, and has what it
// proved until then count no more; but not in the session in which it was changed: the one that the event names or, where it
// names none, the only one that was let through to change it just before.
func (d *Door) endProven(b *batch, a *store.Account, h *happened, method string, at time.Time) error {
	a.Change(method, at)
	var sessions, changing []*store.Session
	for row, err := range store.All(b.ctx, b.tx, store.Query{Kind: store.Sessions, Account: a.Name}) {
		if err != nil {
			return err
		}
		s, err := b.session(row.Key.Key)
		switch {
		case err != nil:
			return err
		case s == nil || !s.Ended.IsZero():
			continue
		}
		sessions = append(sessions, s)
		if since := at.Sub(s.PasswordChange); !s.PasswordChange.IsZero() && since <= changeWithin && since >= -changeWithin {
			changing = append(changing, s)
		}
	}
	spared := map[*store.Session]bool{}
	if h.about.Format == "complex" && h.about.Session != nil {
		for _, sid := range h.about.Session.names() {
			known := false
			for _, s := range sessions {
				if s.SID == sid && (h.sidIssuer == "" || s.Issuer == h.sidIssuer) {
					spared[s], known = true, true
				}
			}
			if !known && h.sidIssuer != "" {
				s := d.unseen(h.sidIssuer, sid, a.Name, at)
				b.setSession(s.ID, s)
				spared[s], sessions = true, append(sessions, s)
			}
		}
	} else if len(changing) == 1 {
		spared[changing[0]] = true
	}
	for _, s := range sessions {
		var err error
		if spared[s] {
			s.Spared = latest(s.Spared, at)
			d.setDue(s)
		} else if s.Proved(method, at) {
			err = d.endWhole(b, s, at, method+" was changed or revoked")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *Door) noteAssurance(b *batch, h *happened) (review, error) {
	a, err := d.knownAccount(b, h, "sessions")
	if err != nil {
		return review{}, err
	}
	if h.Direction == "increase" {
		return review{}, nil // it is believed when the next attempt shows it
	}
	return review{}, d.revoke(b, a, h.notLater(), h.changes.by, "another system trusts how the account was proven less than before")
}

func (d *Door) noteRisk(b *batch, h *happened) (review, error) {
	if h.Principal != "" && !strings.EqualFold(h.Principal, "USER") {
		return review{}, errNobody
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
	return d.noteStanding(b, h, level, because, "the account's risk changed")
}

// noteStanding takes in the standing risk that an event states.
func (d *Door) noteStanding(b *batch, h *happened, level directory.Level, because, reviewed string) (review, error) {
	a, err := d.knownAccount(b, h, "risk")
	if err != nil {
		return review{}, err
	}
	err = h.say(a, store.Statement{Fact: store.StandingRisk, Value: attempt.TextScalar(level.String()), Because: because})
	return review{account: a.Name, because: reviewed}, err
}

func (d *Door) noteCompromise(b *batch, h *happened) (review, error) {
	because := directory.LeakedPassword
	if h.Credential != "" && h.Credential != "password" {
		because = "compromised " + h.Credential
	}
	return d.noteStanding(b, h, directory.HighRisk, because, "a credential was compromised")
}

func (d *Door) noteChangeRequired(b *batch, h *happened) (review, error) {
	return d.noteStanding(b, h, directory.HighRisk, directory.LeakedPassword, "the password is to be changed")
}

func (d *Door) noteDisabled(b *batch, h *happened) (review, error) {
	return d.noteActive(b, h, true, "the account was disabled")
}

func (d *Door) noteEnabled(b *batch, h *happened) (review, error) {
	return d.noteActive(b, h, false, "the account was enabled")
}

// noteActive takes in whether an account is disabled, as an event states it.
func (d *Door) noteActive(b *batch, h *happened, disabled bool, reviewed string) (review, error) {
	a, err := d.knownAccount(b, h, "active")
	if err != nil {
		return review{}, err
	}
	return review{account: a.Name, because: reviewed}, h.say(a, store.Statement{Fact: store.Disabled, Value: attempt.BoolScalar(disabled)})
}

// transmitter is one who may send events, with its keys.
type transmitter struct {
	*Transmitter
	keys *keySet
}
