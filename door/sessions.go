package door

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// setDue sets when a session is to be looked at again. It is kept after something was last granted in it, or after its end, for as long as
// what was authenticated in it could be shown again. That it is kept long enough is looked at by the hour, so that a database need
// not move it in an index with each attempt.
func (d *Door) setDue(s *store.Session) {
	keptAfter := d.facts.sessionAtMost + time.Hour
	s.Next = latest(s.Seen, s.Spared).Add(keptAfter + time.Hour).Truncate(time.Hour)
	if !s.Ended.IsZero() {
		s.Next = s.Ended.Add(keptAfter)
	}
	for i := range s.Apps {
		if due, _ := s.Apps[i].Due(); s.Apps[i].Ended.IsZero() && !due.IsZero() && due.Before(s.Next) {
			s.Next = due
		}
	}
}

// review is a reason to look at sessions again. The zero review looks at all.
type review struct {
	account, device string
	// because says what changed.
	because string
	// due looks at those whose time may have come.
	due bool
}

// lookAgain hands in a reason to look at sessions again, without waiting.
func (d *Door) lookAgain(r review) {
	select {
	case d.reviews <- r:
	default:
		d.reviewAll.Store(true) // too much changed at once, so all are looked at
	}
}

// everyDue is how often sessions are looked at whose time may have come.
const everyDue = 5 * time.Second

// reviewSessions looks at sessions again as reasons come in, until the context ends.
func (d *Door) reviewSessions(ctx context.Context) {
	tick := time.NewTicker(everyDue)
	defer tick.Stop()
	for {
		var r review
		select {
		case <-ctx.Done():
			return
		case r = <-d.reviews:
		case <-tick.C:
			r = review{due: true}
			d.readEmergencies(ctx, d.book.Load())
			before := d.now().Add(-d.facts.sessionAtMost - time.Hour)
			if err := store.DropDue(ctx, d.facts.store, store.Challenges, before); err != nil && ctx.Err() == nil {
				d.log.Error("challenges that nobody can meet any more could not be forgotten", "error", err)
			}
		}
		if d.reviewAll.Swap(false) {
			r = review{because: "facts changed"}
		}
		if n, err := d.review(ctx, r); err != nil {
			d.log.Error("open sessions could not all be judged again", "error", err)
			if !r.due {
				d.reviewAll.Store(true)
			}
		} else if n > 0 {
			d.log.Info("sessions ended", "ended", n, "because", r.because)
		}
	}
}

// Review judges all open sessions again, and ends what would no longer be granted. It returns how
// many grants ended. A door does so by itself where the book, a fact or the clock changes. What
// cannot be found out ends nothing: it is tried again.
func (d *Door) Review(ctx context.Context) (ended int, err error) {
	return d.review(ctx, review{because: "it would no longer be granted"})
}

// review judges some sessions again.
func (d *Door) review(ctx context.Context, r review) (ended int, err error) {
	now := d.now()
	q := store.Query{Kind: store.Sessions, Account: r.account, Device: r.device}
	if r.due {
		q.DueBy = now
	}
	b := d.book.Load()
	restored, err := d.facts.restoredAt(ctx)
	if err != nil {
		return 0, err
	}
	var errs []error
	for row, err := range store.All(ctx, d.facts.store, q) {
		if err != nil {
			return ended, err
		}
		s := new(store.Session)
		if err := store.Read(row, s); err != nil {
			errs = append(errs, err)
			continue
		}
		g := &gathering{protected: b.emergencyAccount(s.Account) != nil}
		if g.account, err = d.facts.accounts.get(ctx, d.facts.store, s.Account); err != nil {
			errs = append(errs, err)
			continue
		}
		because, at := "", time.Time{} // when it was over: who signed on again since is not concerned
		switch {
		case restored.Voids(s.Started):
			because, at = putBack, restored.At
		case g.revoked(s.Started):
			because, at = revokedSince, g.account.value.VoidUntil()
		}
		if because != "" && s.Ended.IsZero() {
			_, err := d.endSession(s.ID, at, because)
			ended, errs = ended+len(s.Apps), append(errs, err)
			continue
		}
		over, err := d.over(ctx, b, s, now)
		if doubt := new(doubt); errors.As(err, &doubt) {
			continue // it is tried again
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		if over.because != "" {
			_, err := d.endSession(s.ID, now, over.because)
			ended, errs = ended+len(s.Apps), append(errs, err)
			continue
		}
		if len(over.apps) == 0 && !over.byClock && !r.due {
			continue
		}
		n, err := d.endGrants(s.ID, over.apps, r.because)
		ended += n
		errs = append(errs, err)
	}
	return ended, errors.Join(errs...)
}

// isOver is what of a session would no longer be granted.
type isOver struct {
	// because is why the session ends whole; "" where it does not.
	because string
	// apps are those that would no longer be granted, each with the decision that granted it; byClock says that there are others whose time
	// is up.
	apps    map[string]string
	byClock bool
}

// over returns what of a session would no longer be granted.
func (d *Door) over(ctx context.Context, b *inForce, s *store.Session, now time.Time) (over isOver, err error) {
	over.apps = map[string]string{}
	for i := range s.Apps {
		g := &s.Apps[i]
		if ended, _ := g.EndedBy(now); !ended.IsZero() {
			over.byClock = over.byClock || g.Ended.IsZero()
			continue
		}
		granted, whole, err := d.stillGranted(ctx, b, g, now)
		switch {
		case err != nil || whole != "":
			return isOver{because: whole}, err
		case !granted:
			over.apps[g.App] = g.Decision
		}
	}
	return over, nil
}

// stillGranted reports whether what was granted would be granted now: by the book and the facts as
// they are, in the circumstances and with the proofs as they were; and where it would not, why the session ends whole, "" where it
// does not.
func (d *Door) stillGranted(ctx context.Context, b *inForce, granted *store.Granted, now time.Time) (is bool, whole string, err error) {
	a := new(attempt.Attempt)
	if err := attempt.Parse(granted.Attempt, a, attempt.Options{}); err != nil {
		return false, "", err
	}
	g := new(gathering)
	d.facts.gather(ctx, b, a, "", g)
	if err := errors.Join(g.accountLost, g.deviceLost); err != nil {
		return false, "", err
	}
	d.facts.renewDevice(a, g)
	ctx = context.WithValue(ctx, gatheringKey{}, g)
	if b.Judge().VerdictAt(ctx, a, now) == decide.Grant {
		return true, "", nil
	}
	switch b.Judge().Outline(ctx, a).Causes[0].Code {
	case decide.AccountDisabled:
		whole = "the account is disabled"
	case decide.AccountUnknown:
		whole = "the account is gone"
	}
	return false, whole, nil
}

// renewDevice takes a report that the device made since the attempt, as if it had been made then:
// ages stand still.
func (f *facts) renewDevice(a *attempt.Attempt, g *gathering) {
	said, kept := a.Device.Ref(), g.device.value
	if said == nil || kept == nil {
		return
	}
	facts, at := kept.Reported()
	if at == nil || !at.After(a.At) {
		return
	}
	d := *said
	d.Facts, d.ReportedAt = facts, attempt.Known(a.At)
	if kept.Platform != "" {
		d.Platform = attempt.Known(kept.Platform)
	}
	a.Device = attempt.Known(d)
	g.supplied = nil // what it reported stands in the attempt
}

// endGrants ends some of what a session was granted, and what ends by the clock, and records and tells it. It returns how many
// it ended: those that somebody else ended meanwhile, or granted again, it did not.
func (d *Door) endGrants(id string, over map[string]string, because string) (ended int, err error) {
	err = d.recorder.do(&job{urgent: true, change: func(b *Change) error {
		ended = 0
		s, err := b.Session(id)
		if err != nil || s == nil {
			return err
		}
		now := d.now()
		s.Apps = slices.Clone(s.Apps)
		for i := range s.Apps {
			g := &s.Apps[i]
			at, why := g.EndedBy(now)
			if decision, is := over[g.App]; at.IsZero() && is && decision == g.Decision {
				at, why = now, because
			}
			if !g.Ended.IsZero() || at.IsZero() {
				continue
			}
			ended++
			g.End(at, why)
			if err := d.noteEnd(b, s, g.App, g.Decision, why); err != nil {
				return err
			}
		}
		if d.setDue(s); !s.Next.After(now) {
			b.SetSession(id, nil)
		}
		return nil
	}})
	return ended, err
}

// EndSession ends a session whole, by its ID (store.SessionID), for a reason. What was authenticated in it until then is refused from then
// on. It reports whether there was one that had not ended.
func (d *Door) EndSession(id, because string) (bool, error) {
	return d.endSession(id, d.now(), because)
}

// EndSessionsOf ends all sessions of an account, for a reason: whatever it authenticated until now counts no more, in sessions that the
// door never saw too. The error means that nobody can say whether they ended.
func (d *Door) EndSessionsOf(account, because string) error {
	return d.recorder.do(&job{urgent: true, change: func(b *Change) error {
		a, err := b.Account(account)
		if err != nil {
			return err
		}
		return d.revoke(b, a, d.now(), store.AdministratorSource("an operator"), because)
	}})
}

// endSession ends a session as of a moment.
func (d *Door) endSession(id string, at time.Time, because string) (bool, error) {
	found := false
	err := d.recorder.do(&job{urgent: true, change: func(b *Change) error {
		found = false
		s, err := b.Session(id)
		if err != nil || s == nil || !s.Ended.IsZero() {
			return err
		}
		found = true
		return d.endWhole(b, s, at, because)
	}})
	return found, err
}

// endWhole ends a session as of a moment, within a batch. Of one that has ended the end becomes later, which is not told again; one that
// began after that moment goes on, and what was authenticated in it before does not count.
func (d *Door) endWhole(b *Change, s *store.Session, at time.Time, because string) error {
	if s.Ended.IsZero() && !store.Holds(at, s.Started) {
		s.VoidUntil = latest(s.VoidUntil, at)
		b.SetSession(s.ID, s)
		return nil
	}
	again := !s.Ended.IsZero()
	s.End(at, because)
	d.setDue(s)
	b.SetSession(s.ID, s)
	if again {
		return nil
	}
	return d.noteEnd(b, s, "", "", because)
}

// revoke takes back all that an account authenticated until a moment, within a batch: in sessions that the door never saw too.
func (d *Door) revoke(b *Change, a *store.Account, until time.Time, by store.Source, because string) error {
	a.Revoke(until, by)
	return d.endSessionsOf(b, a.Name, until, because)
}

// endSessionsOf ends all sessions of an account within a batch as of a moment; those that began after it go on.
func (d *Door) endSessionsOf(b *Change, account string, since time.Time, because string) error {
	for row, err := range store.All(b.ctx, b.tx, store.Query{Kind: store.Sessions, Account: account}) {
		if err != nil {
			return err
		}
		s, err := b.Session(row.Key.Key)
		if err != nil {
			return err
		}
		if s == nil || !s.Ended.IsZero() {
			continue
		}
		if err := d.endWhole(b, s, since, because); err != nil {
			return err
		}
	}
	return nil
}

// noteEnd records that a session, or what it was granted at an app, has ended, and tells those who hear of it.
func (d *Door) noteEnd(b *Change, s *store.Session, app, decision, because string) error {
	now := d.now()
	detail := jsontext.String(jsontext.Key([]byte{'{'}, "id"), s.ID)
	detail = jsontext.Text(jsontext.Text(detail, "issuer", s.Issuer), "sid", s.SID)
	detail = jsontext.Text(jsontext.Text(detail, "app", app), "decision", decision)
	detail = append(jsontext.String(jsontext.Key(detail, "because"), because), '}')
	b.Record(journal.Make(journal.SessionEnd, journal.NewID(), now, "", s.Account, "session", detail))
	for _, ended := range d.ended {
		if err := ended(b, s, app, because); err != nil {
			return err
		}
	}
	return nil
}

// serveEndSession answers DELETE /v1/sessions/{id}.
func (d *Door) serveEndSession(w http.ResponseWriter, r *Request) error {
	found, err := d.EndSession(r.PathValue("id"), r.caller.Name+" ended it")
	switch {
	case err != nil:
		return d.Unavailable(err)
	case !found:
		return Problemf(http.StatusNotFound, "There is no open session of that id.")
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// serveEndSessions answers DELETE /v1/sessions?account=NAME.
func (d *Door) serveEndSessions(w http.ResponseWriter, r *Request) error {
	account := r.URL.Query().Get("account")
	if account == "" {
		return Problemf(http.StatusBadRequest, "Say whose: /v1/sessions?account=NAME.")
	}
	if err := d.EndSessionsOf(account, r.caller.Name+" ended them"); err != nil {
		return d.Unavailable(err)
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// openSessions is what GET /v1/sessions?account=NAME lists.
type openSessions struct {
	Sessions []json.RawMessage `json:"sessions"`
	// Next is where the next page begins.
	Next string `json:"next,omitzero" doc:"after=NEXT lists more; left out where there are none"`
}

// serveSessions answers GET /v1/sessions?account=NAME.
func (d *Door) serveSessions(w http.ResponseWriter, r *Request) error {
	account := r.URL.Query().Get("account")
	if account == "" {
		return Problemf(http.StatusBadRequest, "Say whose: /v1/sessions?account=NAME.")
	}
	limit := d.config.Limits.Results
	rows, err := d.facts.store.List(r.Context(), store.Query{Kind: store.Sessions, Account: account, After: r.URL.Query().Get("after"),
		Limit: limit + 1})
	if err != nil {
		return d.Unavailable(err)
	}
	list := openSessions{Sessions: []json.RawMessage{}}
	if len(rows) > limit {
		rows = rows[:limit]
		list.Next = rows[limit-1].Key.Key
	}
	for _, row := range rows {
		list.Sessions = append(list.Sessions, row.Value)
	}
	return WriteValue(w, http.StatusOK, list)
}
