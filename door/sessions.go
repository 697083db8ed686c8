package door

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// keptAfter is how long a session is kept after something was last granted in it, or after its end, so that what still bears its name
// is refused. No session should go on for longer.
const keptAfter = 40 * 24 * time.Hour

// setDue sets when a session is to be looked at again. That it is kept long enough is looked at by the hour, so that a database need
// not move it in an index with each attempt.
func (d *Door) setDue(s *store.Session) {
	s.Next = s.Seen.Add(keptAfter + time.Hour).Truncate(time.Hour)
	if !s.Ended.IsZero() {
		s.Next = s.Ended.Add(keptAfter)
	}
	for _, g := range s.Apps {
		if !g.Ends.IsZero() && g.Ends.Before(s.Next) {
			s.Next = g.Ends
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
			if err := d.forgetSeen(ctx); err != nil && ctx.Err() == nil {
				d.log.Error("old tokens could not be forgotten", "error", err)
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
		account, err := d.facts.accounts.get(ctx, d.facts.store, s.Account)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		because, at := "", time.Time{} // when it was over: who signed on again since is not concerned
		switch {
		case restored.Voids(s.Started):
			because, at = putBack, restored.At
		case account.value != nil && account.value.Voids(s.Started):
			because, at = revokedSince, account.value.VoidUntil()
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
		if len(over) == 0 && !r.due {
			continue
		}
		n, err := d.endGrants(s.ID, over, r.because)
		ended += n
		errs = append(errs, err)
	}
	return ended, errors.Join(errs...)
}

// over returns the apps of a session that would no longer be granted, each with why.
func (d *Door) over(ctx context.Context, b *inForce, s *store.Session, now time.Time) (map[string]string, error) {
	over := map[string]string{}
	for i := range s.Apps {
		g := &s.Apps[i]
		if !g.Ends.IsZero() && !now.Before(g.Ends) {
			over[g.App] = timeIsUp
			continue
		}
		granted, err := d.stillGranted(ctx, b, g, now)
		if err != nil {
			return nil, err
		}
		if !granted {
			over[g.App] = ""
		}
	}
	return over, nil
}

// timeIsUp is why a grant ended whose time was told when it was given.
const timeIsUp = "its time is up"

// stillGranted reports whether what was granted would be granted now: by the book and the facts as
// they are, in the circumstances and with the proofs as they were.
func (d *Door) stillGranted(ctx context.Context, b *inForce, granted *store.Granted, now time.Time) (bool, error) {
	a := new(attempt.Attempt)
	if err := attempt.ParseInto(granted.Attempt, a); err != nil {
		return false, err
	}
	g := new(gathering)
	d.facts.gather(ctx, b, a, g)
	if err := errors.Join(g.accountLost, g.deviceLost); err != nil {
		return false, err
	}
	d.facts.renewDevice(a, g)
	return b.Judge().VerdictAt(context.WithValue(ctx, gatheringKey{}, g), a, now) == decide.Grant, nil
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

// endGrants ends some of what a session was granted, and records and tells it. It returns how many
// it ended: those that somebody else ended meanwhile it did not.
func (d *Door) endGrants(id string, over map[string]string, because string) (ended int, err error) {
	err = d.recorder.do(&job{urgent: true, change: func(b *batch) error {
		ended = 0
		s, err := b.session(id)
		if err != nil || s == nil {
			return err
		}
		var left []store.Granted
		for _, g := range s.Apps {
			why, is := over[g.App]
			if !is {
				left = append(left, g)
				continue
			}
			ended++
			early := why != timeIsUp
			if early {
				why = because
			}
			if err := d.noteEnd(b, s, g.App, g.Decision, why, early); err != nil {
				return err
			}
		}
		s.Apps = left
		d.setDue(s)
		if !s.Next.After(d.now()) {
			b.setSession(id, nil)
		}
		return nil
	}})
	return ended, err
}

// EndSession ends a session whole, for a reason. Attempts that continue it are blocked from then
// on. It reports whether there was one that had not ended.
func (d *Door) EndSession(id, because string) (bool, error) {
	return d.endSession(id, d.now(), because)
}

// endSession ends a session as of a moment.
func (d *Door) endSession(id string, at time.Time, because string) (bool, error) {
	found := false
	err := d.recorder.do(&job{urgent: true, change: func(b *batch) error {
		found = false
		s, err := b.session(id)
		if err != nil || s == nil || !s.Ended.IsZero() {
			return err
		}
		found = true
		return d.endWhole(b, s, at, because)
	}})
	return found, err
}

// endWhole ends a session as of a moment, within a batch. Of one that has ended the end becomes later, which is not told again.
func (d *Door) endWhole(b *batch, s *store.Session, at time.Time, because string) error {
	again := !s.Ended.IsZero()
	s.End(at, because)
	d.setDue(s)
	b.setSession(s.ID, s)
	if again {
		return nil
	}
	return d.noteEnd(b, s, "", "", because, true)
}

// revoke takes back all that an account authenticated until a moment, within a batch: in sessions that the door never saw too.
func (d *Door) revoke(b *batch, a *store.Account, until time.Time, because string) error {
	a.Revoke(until)
	return d.endSessionsOf(b, a.Name, until, because)
}

// endSessionsOf ends all sessions of an account within a batch, those that began after a moment
// left out.
func (d *Door) endSessionsOf(b *batch, account string, since time.Time, because string) error {
	for row, err := range store.All(b.ctx, b.tx, store.Query{Kind: store.Sessions, Account: account}) {
		if err != nil {
			return err
		}
		s, err := b.session(row.Key.Key)
		if err != nil {
			return err
		}
		if s == nil || !s.Ended.IsZero() || s.Started.After(since) {
			continue
		}
		if err := d.endWhole(b, s, since, because); err != nil {
			return err
		}
	}
	return nil
}

// noteEnd records that a session, or what it was granted at an app, has ended, and tells of it
// where that is before its time.
func (d *Door) noteEnd(b *batch, s *store.Session, app, decision, because string, early bool) error {
	now := d.now()
	if d.config.Journal.Mode != JournalOff {
		detail := jsontext.String(jsontext.Key([]byte{'{'}, "id"), s.ID)
		detail = jsontext.Text(jsontext.Text(detail, "app", app), "decision", decision)
		detail = append(jsontext.String(jsontext.Key(detail, "because"), because), '}')
		b.entries = append(b.entries, journal.Make(journal.SessionEnd, journal.NewID(), now, "", s.Account, "session", detail))
	}
	if !early {
		return nil
	}
	return d.teller.tell(b, s, app, because, now)
}

// serveEndSession answers DELETE /v1/sessions/{id}.
func (d *Door) serveEndSession(w http.ResponseWriter, r *request) error {
	found, err := d.EndSession(r.PathValue("id"), r.caller.Name+" ended it")
	switch {
	case err != nil:
		return d.unavailable(err)
	case !found:
		return problem(http.StatusNotFound, "There is no open session of that id.")
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// openSessions is what GET /v1/sessions?account=NAME lists.
type openSessions struct {
	Sessions []json.RawMessage `json:"sessions"`
}

// serveSessions answers GET /v1/sessions?account=NAME.
func (d *Door) serveSessions(w http.ResponseWriter, r *request) error {
	account := r.URL.Query().Get("account")
	if account == "" {
		return problem(http.StatusBadRequest, "Say whose: /v1/sessions?account=NAME.")
	}
	rows, err := d.facts.store.List(r.Context(), store.Query{Kind: store.Sessions, Account: account, Limit: d.config.Limits.Results})
	if err != nil {
		return d.unavailable(err)
	}
	list := openSessions{Sessions: []json.RawMessage{}}
	for _, row := range rows {
		list.Sessions = append(list.Sessions, row.Value)
	}
	return writeValue(w, http.StatusOK, list)
}
