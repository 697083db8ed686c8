// Package events is the room of a door that takes in what other systems noticed, and tells others of sessions that end early: security
// event tokens (RFC 8417) of CAEP and RISC (OpenID), pushed by RFC 8935.
package events

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4/jwt"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// room is the room of a door.
type room struct {
	*door.Door
	teller *teller
}

// Room makes the room. It reads the key and the tokens that `tell` of the configuration names.
func Room(d *door.Door) (*door.Opened, error) {
	r := &room{Door: d}
	var err error
	if r.teller, err = newTeller(&d.Config().Tell, d); err != nil {
		return nil, err
	}
	return &door.Opened{Keys: []string{"events", "tell"}, Run: r.run, Ended: r.teller.tell, Routes: []door.Route{
		{Pattern: "POST /v1/events", Right: door.MayEvents, Serve: r.serveEvent, About: "Push a security event token (RFC 8935)",
			Status: http.StatusAccepted},
		{Pattern: "GET /jwks.json", Serve: r.serveKeys, About: "Read the keys that sign what is told", Gives: map[string]any{},
			Status: http.StatusOK},
	}}, nil
}

// CheckFiles reports what keeps the files that `tell` of a configuration names from being used.
func CheckFiles(c *door.Config) error {
	_, err := newTeller(&c.Tell, nil)
	return err
}

// forgetEvery is how often tokens are forgotten that would be refused by now.
const forgetEvery = time.Minute

// run tells who is to be told, and forgets old tokens, until the context ends.
func (d *room) run(ctx context.Context) {
	var telling sync.WaitGroup
	defer telling.Wait()
	if len(d.Config().Tell.Receivers) > 0 {
		telling.Go(func() { d.teller.outbox.Run(ctx) })
	}
	every := time.NewTicker(forgetEvery)
	defer every.Stop()
	for {
		if err := store.DropDue(ctx, d.Store(), store.Seen, d.Now().Add(-seenKept-time.Hour)); err != nil && ctx.Err() == nil {
			d.Log().Error("old tokens could not be forgotten", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
	}
}

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
func (d *room) sidIssuer(about *subject, issuer string) string {
	if about.Session != nil && about.Session.Format == "iss_sub" {
		issuer = about.Session.Issuer
	}
	if slices.ContainsFunc(d.Config().Tokens, func(t door.TokenIssuer) bool { return t.Issuer == issuer }) ||
		slices.ContainsFunc(d.Config().Callers, func(c door.Caller) bool { return c.Issuer == issuer }) {
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
	caller  *door.Caller
	changes *store.Stating
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
var eventEffects = map[string]func(*room, *door.Change, *happened) (review, error){
	door.DeviceComplianceChange:   (*room).noteCompliance,
	door.CredentialChange:         (*room).noteCredential,
	door.SessionRevoked:           (*room).noteRevoked,
	door.AssuranceLevelChange:     (*room).noteAssurance,
	door.RiskLevelChange:          (*room).noteRisk,
	door.CredentialCompromise:     (*room).noteCompromise,
	door.AccountDisabled:          (*room).noteDisabled,
	door.AccountEnabled:           (*room).noteEnabled,
	door.CredentialChangeRequired: (*room).noteChangeRequired,
}

// An event that is not taken: it is about nobody that is known, its caller may not state that, or it is dated ahead
// and would make an answer milder.
var (
	errNobody  = errors.New("unknown_subject")
	errOutside = errors.New("not_allowed")
	errAhead   = errors.New("dated_ahead")
)

// seenKept is how long a token is known again. An older one is refused, so that none counts twice.
const seenKept = 30 * 24 * time.Hour

// mostEvent is how large a token may be, in bytes.
const mostEvent = 64 << 10

// longestID is how long the jti of one may be, in bytes.
const longestID = 4096

// serveEvent answers POST /v1/events.
func (d *room) serveEvent(w http.ResponseWriter, r *door.Request) error {
	text, err := door.ReadBody(w, r, mostEvent, "application/secevent+jwt")
	if err != nil {
		return err
	}
	err = d.takeIn(r.Context(), strings.TrimSpace(string(text)), r.Caller())
	switch refused := new(door.EventRefusal); {
	case errors.As(err, &refused):
		d.Count(door.EventsTaken, "refused")
		return door.WriteValue(w, http.StatusBadRequest, refused)
	case err != nil:
		return d.Unavailable(err)
	}
	w.WriteHeader(http.StatusAccepted)
	return nil
}

// takeIn takes in a token that a caller handed in. The error is an EventRefusal, or what kept it from being kept.
func (d *room) takeIn(ctx context.Context, token string, caller *door.Caller) error {
	event := new(securityEvent)
	from, err := d.VerifyEvent(ctx, token, event)
	if err != nil {
		return err
	}
	switch {
	case event.ID == "" || event.IssuedAt == nil || len(event.Events) == 0:
		return door.RefuseEvent("invalid_request", "It lacks one of jti, iat and events (RFC 8417 §2.2).")
	case len(event.ID) > longestID || attempt.IsLater(event.IssuedAt.Time(), d.Now()):
		return door.RefuseEvent("invalid_request", "It was issued in the future, or its jti is too long.")
	case d.Now().Sub(event.IssuedAt.Time()) > seenKept:
		return door.RefuseEvent("invalid_request", "It was issued too long ago: tokens are known again for %d days.", int(seenKept.Hours()/24))
	}
	for kind := range event.Events {
		if len(from.Types) > 0 && !slices.Contains(from.Types, kind) {
			return door.RefuseEvent("access_denied", "%s may not tell of %s here.", event.Issuer, kind)
		}
	}
	if event.Subject != nil && event.Subject.Format == "" {
		return door.RefuseEvent("invalid_request", "Its sub_id has no format (RFC 9493 §3).")
	}
	return d.take(event, caller)
}

// take takes the events of a token, once.
func (d *room) take(event *securityEvent, caller *door.Caller) error {
	kinds := slices.Sorted(maps.Keys(event.Events))
	all := map[string]*happened{}
	for _, kind := range kinds {
		if eventEffects[kind] == nil {
			continue
		}
		h := &happened{about: event.Subject, at: event.IssuedAt.Time(), caller: caller}
		if err := json.Unmarshal(event.Events[kind], h); err != nil {
			return door.RefuseEvent("invalid_request", "The event %s cannot be read.", kind)
		}
		if h.about == nil {
			h.about = h.Subject // as drafts of CAEP and RISC 1.0 have it
		}
		const last = 253402300799 // the last second of the year 9999
		switch {
		case h.Timestamp < 0 || h.Timestamp > last:
			return door.RefuseEvent("invalid_request", "Its event_timestamp is no time in seconds.")
		case h.Timestamp > 0:
			h.at = time.UnixMicro(int64(h.Timestamp * 1e6)).UTC()
		case event.When != nil:
			h.at = event.When.Time()
		}
		h.about.trust(func(issuer string) bool {
			return issuer == event.Issuer ||
				slices.ContainsFunc(d.Config().Tokens, func(t door.TokenIssuer) bool { return t.Issuer == issuer })
		})
		if h.about == nil || h.about.Format == "" {
			return door.RefuseEvent("invalid_request", "The event %s has no subject with a format (RFC 9493 §3).", kind)
		}
		h.sidIssuer = d.sidIssuer(h.about, event.Issuer)
		all[kind] = h
	}
	var reviews []review
	var results map[string]string
	seen := &store.SeenToken{Issuer: event.Issuer, JTI: event.ID, At: d.Now()}
	again := false
	err := d.Change(func(b *door.Change) error {
		reviews, results, again = nil, map[string]string{}, false
		switch err := store.Load(b.Context(), b.Tx(), &store.SeenToken{Issuer: event.Issuer, JTI: event.ID}); {
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
			h.changes = &store.Stating{By: store.IssuerSource(event.Issuer), At: d.Now()}
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
			account := h.isFor
			if kind == door.DeviceComplianceChange {
				account = ""
			}
			b.Record(journal.Make(journal.Event, journal.NewID(), d.Now(), caller.Name, account, "event",
				h.appendJSON(nil, event, kind, results[kind])))
		}
		return store.Save(b.Tx(), seen)
	})
	if err != nil {
		return err
	}
	if again {
		d.Count(door.EventsTaken, "again")
		return nil
	}
	for kind, result := range results {
		d.Count(door.EventsTaken, result)
		if result != "taken" {
			d.Log().Warn("a security event was not applied", "issuer", event.Issuer, "caller", caller.Name, "jti", event.ID, "event", kind, "why",
				result)
		}
	}
	for _, r := range reviews {
		if r.account != "" || r.device != "" {
			d.LookAgain(r.account, r.device, r.because)
		}
	}
	return nil
}

func (h *happened) appendJSON(text []byte, event *securityEvent, kind, result string) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "issuer"), event.Issuer)
	text = jsontext.String(jsontext.Key(text, "jti"), event.ID)
	text = jsontext.String(jsontext.Key(text, "type"), kind)
	if kind == door.DeviceComplianceChange {
		text = jsontext.Text(text, "device", first(h.about.device()))
	}
	text = jsontext.Text(text, "session", first(h.about.session()))
	text = jsontext.Time(jsontext.Key(text, "event_at"), h.at)
	text = jsontext.String(jsontext.Key(text, "result"), result)
	return append(store.AppendChanges(text, h.changes.Changes), '}')
}

// checkFact reports a fact that the caller may not state.
func (h *happened) checkFact(right string) error {
	if !h.caller.Events.MayState(right) {
		return errOutside
	}
	return nil
}

// knownAccount returns the record of the account that an event is about, where the caller may state a fact of it.
func (d *room) knownAccount(b *door.Change, h *happened, right string) (*store.Account, error) {
	if err := h.checkFact(right); err != nil {
		return nil, err
	}
	var found string
	for _, name := range h.about.account() {
		a, err := b.Look(name)
		switch {
		case err != nil:
			return nil, err
		case !a.States() && !d.Lists(name): // somebody made it up
		case found != "" && found != name:
			return nil, errNobody // its names are those of several
		default:
			found = name
		}
	}
	switch {
	case found == "":
		return nil, errNobody
	case !h.caller.Events.Includes(found) || d.IsForEmergencies(found):
		return nil, errOutside // of an account for emergencies the book and administrators alone speak
	}
	h.isFor = found
	return b.Account(found)
}

// say takes in what the issuer states of an account by the event, dated as the event is.
func (h *happened) say(a *store.Account, s store.Statement) error {
	s.At = h.at
	if !s.Arrived(h.changes.At) {
		return errAhead
	}
	h.changes.Say(a, s)
	return nil
}

// notLater is the time of an event that makes an answer stricter: dated ahead it counts as of its arrival.
func (h *happened) notLater() time.Time {
	if attempt.IsLater(h.at, h.changes.At) {
		return h.changes.At
	}
	return h.at
}

func (d *room) noteCompliance(b *door.Change, h *happened) (review, error) {
	if err := h.checkFact("devices"); err != nil {
		return review{}, err
	}
	id := first(h.about.device())
	if id == "" || h.Current != "compliant" && h.Current != "not-compliant" {
		return review{}, errNobody
	}
	h.isFor = id
	found := store.Compliance{By: h.changes.By, Compliant: h.Current == "compliant", At: h.notLater()}
	if found.Compliant && !found.At.Equal(h.at) {
		return review{}, errAhead
	}
	return review{device: id, because: "the device was found " + h.Current}, b.ChangeDevice(id,
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

func (d *room) noteCredential(b *door.Change, h *happened) (review, error) {
	method := credentials[h.Credential]
	_, named := d.Book().Judge().Directory().FindMethod(h.Credential)
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
	if isNewPassword && h.caller.Events.MayState("password") {
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

func (d *room) noteRevoked(b *door.Change, h *happened) (review, error) {
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
			case !h.caller.Events.Includes(s.Account) || d.IsForEmergencies(s.Account):
				return review{}, errOutside
			}
			h.isFor, ended = s.Account, true
			if err := b.EndSession(s, at, because); err != nil {
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
		return review{}, b.Revoke(a, at, h.changes.By, because)
	}
	for _, sid := range sids { // which the door may never have seen, and whose tokens may come yet
		if h.sidIssuer == "" {
			if !ended && a.SIDEnded(sid).IsZero() {
				if err := b.NoteEnd(&store.Session{SID: sid, Account: a.Name}, because); err != nil {
					return review{}, err
				}
			}
			a.EndSID(sid, at)
			continue
		}
		s, err := b.Session(store.SessionID(h.sidIssuer, sid, a.Name))
		if err == nil && s == nil {
			err = b.EndSession(d.unseen(h.sidIssuer, sid, a.Name, at), at, because)
		}
		if err != nil {
			return review{}, err
		}
	}
	return review{}, nil
}

// unseen is a session that the door has not seen, to be kept for what is told of it.
func (d *room) unseen(issuer, sid, account string, at time.Time) *store.Session {
	return &store.Session{ID: store.SessionID(issuer, sid, account), Issuer: issuer, SID: sid, Account: account, Started: at}
}

// sessionsOf returns the sessions of a sid, of all issuers and accounts, to be changed.
func (d *room) sessionsOf(b *door.Change, sid string) (list []*store.Session, err error) {
	for row, err := range store.All(b.Context(), b.Tx(), store.Query{Kind: store.Sessions, Prefix: store.SIDPrefix(sid)}) {
		if err != nil {
			return nil, err
		}
		s, err := b.Session(row.Key.Key)
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
func (d *room) endProven(b *door.Change, a *store.Account, h *happened, method string, at time.Time) error {
	a.Change(method, at)
	var sessions, changing []*store.Session
	for row, err := range store.All(b.Context(), b.Tx(), store.Query{Kind: store.Sessions, Account: a.Name}) {
		if err != nil {
			return err
		}
		s, err := b.Session(row.Key.Key)
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
				b.SetSession(s.ID, s)
				spared[s], sessions = true, append(sessions, s)
			}
		}
	} else if len(changing) == 1 {
		spared[changing[0]] = true
	}
	for _, s := range sessions {
		var err error
		if spared[s] {
			b.Spare(s, at)
		} else if s.Proved(method, at) {
			err = b.EndSession(s, at, method+" was changed or revoked")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *room) noteAssurance(b *door.Change, h *happened) (review, error) {
	a, err := d.knownAccount(b, h, "sessions")
	if err != nil {
		return review{}, err
	}
	if h.Direction == "increase" {
		return review{}, nil // it is believed when the next attempt shows it
	}
	return review{}, b.Revoke(a, h.notLater(), h.changes.By, "another system trusts how the account was proven less than before")
}

func (d *room) noteRisk(b *door.Change, h *happened) (review, error) {
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
func (d *room) noteStanding(b *door.Change, h *happened, level directory.Level, because, reviewed string) (review, error) {
	a, err := d.knownAccount(b, h, "risk")
	if err != nil {
		return review{}, err
	}
	err = h.say(a, store.Statement{Fact: store.StandingRisk, Value: attempt.TextScalar(level.String()), Because: because})
	return review{account: a.Name, because: reviewed}, err
}

func (d *room) noteCompromise(b *door.Change, h *happened) (review, error) {
	because := directory.LeakedPassword
	if h.Credential != "" && h.Credential != "password" {
		because = "compromised " + h.Credential
	}
	return d.noteStanding(b, h, directory.HighRisk, because, "a credential was compromised")
}

func (d *room) noteChangeRequired(b *door.Change, h *happened) (review, error) {
	return d.noteStanding(b, h, directory.HighRisk, directory.LeakedPassword, "the password is to be changed")
}

func (d *room) noteDisabled(b *door.Change, h *happened) (review, error) {
	return d.noteActive(b, h, true, "the account was disabled")
}

func (d *room) noteEnabled(b *door.Change, h *happened) (review, error) {
	return d.noteActive(b, h, false, "the account was enabled")
}

// noteActive takes in whether an account is disabled, as an event states it.
func (d *room) noteActive(b *door.Change, h *happened, disabled bool, reviewed string) (review, error) {
	a, err := d.knownAccount(b, h, "active")
	if err != nil {
		return review{}, err
	}
	return review{account: a.Name, because: reviewed}, h.say(a, store.Statement{Fact: store.Disabled, Value: attempt.BoolScalar(disabled)})
}

// review is which open sessions are to be judged again, and why.
type review struct{ account, device, because string }
