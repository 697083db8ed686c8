package door

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Answer is a decision of the door. Its JSON is that of the decision with `id`, `facts` and
// `degraded` beside it.
type Answer struct {
	// ID names the decision. It is that of its entry in the journal.
	ID string
	*decide.Decision
	// Attempt is the attempt as it was judged, with what the store knew.
	Attempt *attempt.Attempt
	// App is the name of the app, "" where the book has no such app.
	App string
	// Country is where the attempt came from, as it was judged; "" where that is not known.
	Country attempt.CountryCode
	// Degraded says what the decision lacked because something failed. It is empty else.
	Degraded []string

	// isOver says that nothing that was authenticated until now opens the app.
	isOver bool
	text   *[]byte
	// attempt is where the attempt begins and ends in the text.
	attempt [2]int
}

// MarshalJSON returns the wire form.
func (a *Answer) MarshalJSON() ([]byte, error) {
	if a.text == nil {
		return nil, errors.New("no door made this answer, or it was sent already")
	}
	return bytes.Clone(*a.text), nil
}

// texts are wire forms that were sent, to be written over.
var texts = sync.Pool{New: func() any { text := make([]byte, 0, 8<<10); return &text }}

// release gives the wire form back, once it was sent. The answer has none after that.
func (a *Answer) release() {
	const largest = 256 << 10 // what a large book needs once is not kept for good
	if cap(*a.text) <= largest {
		texts.Put(a.text)
	}
	a.text = nil
}

// Asked says who asks for a decision, and how.
type Asked struct {
	// Caller is the name of the caller, for the journal.
	Caller string
	// Issuer is who names the session, where the attempt does not say; "" is the caller.
	Issuer string
	// minimal says that the caller wants no more than what is to be enforced (RFC 7240 §4.2).
	minimal bool
	// token is the one that the guard was shown, nil of an attempt that a caller states.
	token *access
}

// sessionOf returns the door's identifier of the session that an attempt continues, "" where it names none.
func (asked *Asked) sessionOf(a *attempt.Attempt) string {
	if a.Session.ID == "" {
		return ""
	}
	return store.SessionID(asked.issuerOf(a), a.Session.ID, a.Account)
}

// issuerOf returns who names the session of an attempt.
func (asked *Asked) issuerOf(a *attempt.Attempt) string {
	return cmp.Or(a.Session.Issuer, asked.Issuer, asked.Caller)
}

// CheckAttempt reports what keeps an attempt from being judged by a door: what Check of the
// attempt reports, a name that no book and no store can have, or a time that is not now.
func (d *Door) CheckAttempt(a *attempt.Attempt) error {
	if err := a.Check(); err != nil {
		return err
	}
	device := ""
	if said := a.Device.Ref(); said != nil {
		device, _ = said.ID.Get()
	}
	for _, named := range [...]struct{ what, name string }{{"account", a.Account}, {"app", a.App}, {"device.id", device},
		{"session.id", a.Session.ID}, {"session.issuer", a.Session.Issuer}, {"id", a.ID}} {
		if len(named.name) > longestName || strings.ContainsFunc(named.name, unicode.IsControl) {
			return fmt.Errorf("the `%s` of the attempt is longer than %d bytes, or has a control character", named.what, longestName)
		}
	}
	remembered := 0
	if said := a.Device.Ref(); said != nil {
		remembered = len(said.Remembered)
	}
	for _, list := range [...]struct {
		what string
		has  int
	}{{"proofs", len(a.Proofs)}, {"session.proofs", len(a.Session.Proofs)}, {"failed", len(a.Failed)}, {"accepted", len(a.Accepted)},
		{"signals", len(a.Signals)}, {"external", len(a.External)}, {"device.remembered", remembered}} {
		if list.has > longestList {
			return fmt.Errorf("the `%s` of the attempt are %d, and at most %d are taken", list.what, list.has, longestList)
		}
	}
	tolerance := time.Duration(d.config.Limits.Tolerance)
	if off := a.At.Sub(d.now()); off > tolerance || off < -tolerance {
		return fmt.Errorf("the attempt is dated %s, which is not now: a door decides on what is attempted now, give or take %s; leave `at` out, "+
			"or set the clocks", a.At.UTC().Format(time.RFC3339), d.config.Limits.Tolerance.Words())
	}
	return nil
}

// longestName is how long an account, app, device or session may be named, in bytes: an app may
// be named by a URL.
const longestName = 4096

// longestList is how much an attempt may list of a kind.
const longestList = 256

// Decide judges an attempt by the book in force, with the facts of the store, records the
// decision and notes what it changes. The error is that of CheckAttempt; nothing is judged then. Whatever
// else fails makes the answer stricter, and says so.
func (d *Door) Decide(ctx context.Context, stated *attempt.Attempt, asked Asked) (*Answer, error) {
	if err := d.CheckAttempt(stated); err != nil {
		return nil, err
	}
	return d.answer(ctx, stated, asked), nil
}

// answer is Decide of an attempt that was checked.
func (d *Door) answer(ctx context.Context, stated *attempt.Attempt, asked Asked) *Answer {
	begun := time.Now()
	b := d.book.Load()
	g := new(gathering)
	var room [8]origin
	from := origins(room[:0])
	session := asked.sessionOf(stated)
	d.facts.gather(ctx, b, stated, session, g)
	a := d.complete(b, stated, asked, g, &from)
	answer := &Answer{Attempt: a, Degraded: g.degraded()}
	if brief := asked.minimal && d.config.Journal.Mode == JournalOff; brief {
		answer.Decision = b.Judge().Enforced(context.WithValue(ctx, gatheringKey{}, g), a) // the rest is for the record
	} else {
		answer.Decision = b.Decide(context.WithValue(ctx, gatheringKey{}, g), a)
	}
	because, whole := d.facts.ended(b, a, g)
	if because == "" && g.lapsed(b, a, time.Duration(answer.Limits.Lasts)) {
		because = store.TimeIsUp
	}
	// A block stands for a reason that signing on again does not change, and what is asked for at an app whose grant ended is asked for.
	goesOn := a.Session.ID != "" || !a.Session.Started.IsZero()
	if because != "" && (answer.Verdict == decide.Grant || whole && goesOn && answer.Verdict == decide.StepUp) {
		answer.BlockEnded(because)
	}
	answer.isOver = because != ""
	answer.App = b.appNamed(a.App)
	where := b.Judge().Whereabouts(ctx, a)
	answer.Country = where.Country
	answer.ID = journal.NewID()
	if asked.minimal && d.config.Journal.Mode == JournalOff {
		answer.writeMinimal()
	} else {
		answer.write(g, from)
	}
	d.keep(b, answer, g, from, asked, session, where)
	for _, m := range d.meters {
		m.Decided(answer, time.Since(begun))
	}
	return answer
}

// write writes the wire form.
func (a *Answer) write(g *gathering, from origins) {
	if a.text == nil {
		a.text = texts.Get().(*[]byte)
	}
	text := jsontext.String(jsontext.Key(append((*a.text)[:0], '{'), "id"), a.ID)
	if len(a.Degraded) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "degraded"), a.Degraded)
	}
	text = append(text, ',')
	first := len(text)
	text = a.Decision.AppendJSON(text)
	copy(text[first:], text[first+1:]) // the brace with which the decision begins
	text = text[:len(text)-2]          // and the one with which it ends
	text = append(jsontext.Key(text, "facts"), '{')
	text = jsontext.Text(jsontext.Text(text, "app", a.App), "country", string(a.Country))
	text = jsontext.Key(text, "attempt")
	a.attempt[0] = len(text)
	text = a.Attempt.AppendJSON(text)
	a.attempt[1] = len(text)
	*a.text = append(g.appendJSON(text, from), '}', '}')
}

// writeMinimal writes the wire form in place of the one before, with no more than what is to be enforced.
func (a *Answer) writeMinimal() {
	if a.text == nil {
		a.text = texts.Get().(*[]byte)
	}
	text := a.Decision.AppendMinimal((*a.text)[:0])
	*a.text = append(jsontext.String(jsontext.Key(text, "id"), a.ID), '}')
	a.attempt = [2]int{}
}

// judged returns the JSON of the attempt, in a text of its own.
func (a *Answer) judged() json.RawMessage {
	if a.attempt[1] == 0 {
		return a.Attempt.AppendJSON(make([]byte, 0, 1<<10))
	}
	return bytes.Clone((*a.text)[a.attempt[0]:a.attempt[1]])
}

// keep records the decision and notes its effects. A grant that has to be recorded waits until
// it is, and is none where it cannot be.
func (d *Door) keep(b *inForce, answer *Answer, g *gathering, from origins, asked Asked, session string,
	where directory.Whereabouts) {
	j := &job{change: d.effects(b, answer, g, asked, session, where), own: true}
	if d.config.Journal.Mode != JournalOff {
		j.entries = []journal.Entry{d.entryOf(answer, asked)}
	}
	if j.change == nil && j.entries == nil {
		return
	}
	if j.entries == nil {
		d.recorder.start(j) // nobody waits for it, and its failure is counted
		return
	}
	err := d.recorder.do(j)
	if err == nil {
		return
	}
	d.log.Error("a decision was not recorded", "decision", answer.ID, "error", err)
	answer.Degraded = append(answer.Degraded, "the decision could not be recorded")
	answer.write(g, from)
	if d.config.Journal.Mode != JournalRequired || answer.Verdict != decide.Grant {
		return
	}
	if g.protected && d.facts.emergencies.owe(d.entryOf(answer, asked)) {
		d.log.Error("an emergency account was let in, and that could not be recorded: it is entered in the journal when that is there again",
			"decision", answer.ID, "account", answer.Attempt.Account, "app", answer.App, "caller", asked.Caller)
		return
	}
	answer.BlockUnrecorded()
	answer.write(g, from)
}

// entryOf is the entry of a decision in the journal.
func (d *Door) entryOf(answer *Answer, asked Asked) journal.Entry {
	e := journal.Make(journal.Decision, answer.ID, d.now(), asked.Caller, answer.Attempt.Account, "answer", *answer.text)
	e.Brief, _ = journal.BriefOf(answer.Decision, answer.Attempt, answer.App, answer.Country).AppendBinary(make([]byte, 0, 256))
	return e
}

// errStopped is the error of what comes after the door was closed.
var errStopped = errors.New("the door is closing")

// effects returns what a decision changes of what is known, nil where it changes nothing.
func (d *Door) effects(b *inForce, answer *Answer, g *gathering, asked Asked, session string,
	from directory.Whereabouts) func(*Change) error {
	switch answer.Causes[0].Code {
	case decide.NoBook, decide.AttemptInvalid, decide.AccountUnavailable, decide.AccountUnknown:
		return nil // nothing is kept of names that somebody made up
	}
	a := answer.Attempt
	granted := answer.Verdict == decide.Grant && a.Action == attempt.SignIn
	refused := false
	for _, f := range a.Failed {
		refused = refused || f.Reason == attempt.Refused
	}
	asks := g.account.value == nil || g.account.value.AskedAt == nil
	eased := false
	for _, n := range answer.Notices {
		eased = eased || n.Code == decide.EnrolmentDue
	}
	asksNow := eased && asks && !b.asked[a.Account]
	accepted := acceptedNow(b, a, g)
	changes := answer.Verdict == decide.Grant && a.Action == attempt.ChangePassword && a.Session.ID != ""
	if !granted && !refused && !asksNow && !changes && len(accepted) == 0 {
		return nil
	}
	device, remember := "", []attempt.Remembered(nil)
	if dev := a.Device.Ref(); dev != nil && granted {
		device, _ = dev.ID.Get()
		for _, r := range dev.Remembered {
			if r.Account == a.Account && !attempt.IsLater(r.At, a.At) {
				remember = append(remember, r)
			}
		}
	}
	var where *attempt.Previous
	if granted {
		where = &attempt.Previous{At: a.At, Location: from.Location}
		if from.Country != "" {
			where.Country = attempt.Known(from.Country)
		}
	}
	var judged json.RawMessage // by itself, for the text is written over before the session is kept
	if granted && a.Session.ID != "" {
		judged = answer.judged()
	}
	return func(batch *Change) error {
		account, err := batch.Account(a.Account)
		if err != nil {
			return err
		}
		if account.Made.IsFormer(a.At) {
			return nil // the account was made anew meanwhile
		}
		if refused {
			account.AddFailure(a.At)
		}
		if asksNow && account.AskedAt == nil {
			account.AskedAt = &a.At
		}
		for _, x := range accepted {
			account.Accept(x)
		}
		// One that is dated ahead is of a clock that ran ahead then.
		if p := account.Previous; where != nil && (p == nil || !where.At.Before(p.At) || attempt.IsLater(p.At, d.now())) {
			account.Previous = where
		}
		if device != "" {
			if err := noteDevice(batch, device, account, a.At, remember); err != nil {
				return err
			}
		}
		if judged == nil && !changes {
			return nil
		}
		return d.openSession(batch, account, &opened{answer: answer, judged: judged, id: session, issuer: asked.issuerOf(a),
			authenticated: g.authenticated, byGuard: asked.token != nil})
	}
}

// acceptedNow returns the acceptances that an attempt states and the store does not have, of documents that the book asks for.
func acceptedNow(b *inForce, a *attempt.Attempt, g *gathering) []attempt.Acceptance {
	var list []attempt.Acceptance
	for _, x := range a.Accepted {
		known := !b.documents[x.Document]
		if g.account.value != nil {
			for _, y := range g.account.value.Accepted {
				known = known || x.Document == y.Document && x.Version <= y.Version && !x.At.After(y.At)
			}
		}
		if !known && !attempt.IsLater(x.At, a.At) {
			list = append(list, x)
		}
	}
	return list
}

// noteDevice notes that an account signed on from a device, and asked to be remembered on it. Mostly that is known: then the
// transaction does not rest on the device, which costs a lock.
func noteDevice(b *Change, id string, account *store.Account, at time.Time, remember []attempt.Remembered) error {
	note := func(d *store.Device) bool {
		news := d.See(account.Name, at, &account.Made)
		for _, r := range remember {
			news = d.Remember(r) || news
		}
		return news
	}
	if r, known := b.facts.devices.rows.Get(id); known && r.value != nil {
		if copied := *r.value; !note(&copied) {
			return nil
		}
	}
	return b.ChangeDevice(id, note)
}
