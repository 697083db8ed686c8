package door

import (
	"encoding/json"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/store"
)

// opened is what a decision grants in a session.
type opened struct {
	answer *Answer
	// judged is the attempt's JSON; nil where no app was granted, but that the password is changed.
	judged json.RawMessage
	// id is the door's own identifier of the session, and issuer names it.
	id, issuer string
	// authenticated is when the person last authenticated.
	authenticated time.Time
	// byGuard says that the guard let a request through.
	byGuard bool
}

// openSession keeps the session of a granted attempt, with what was proven in it.
func (d *Door) openSession(b *Change, account *store.Account, o *opened) error {
	a := o.answer.Attempt
	s, err := b.Session(o.id)
	switch {
	case err != nil:
		return err
	case s != nil && s.Voids(o.authenticated):
		return nil // it was ended meanwhile
	case s == nil || !s.Ended.IsZero() || account.Voids(s.Started):
		was := s
		s = &store.Session{ID: o.id, Issuer: o.issuer, SID: a.Session.ID, Account: a.Account, Started: a.Session.Started}
		if s.Started.IsZero() {
			s.Started = a.At
		}
		if was != nil {
			s.VoidUntil, s.Spared = latest(was.Ended, was.VoidUntil), was.Spared
		}
		b.SetSession(s.ID, s)
	}
	s.Proofs = joinProofs(a, o.answer.App)
	if dev := a.Device.Ref(); dev != nil {
		s.Device, _ = dev.ID.Get()
	}
	s.Seen = a.At
	if o.judged == nil {
		s.PasswordChange = a.At
	} else {
		grant(s, o)
	}
	d.setDue(s)
	return nil
}

// grant notes that a session was granted an app.
func grant(s *store.Session, o *opened) {
	a, limits := o.answer.Attempt, &o.answer.Limits
	granted := store.Granted{App: o.answer.App, At: a.At, Authenticated: o.authenticated, Attempt: o.judged, Decision: o.answer.ID,
		Idle: limits.Idle, Ends: limits.Until}
	if was := s.Grant(granted.App); was != nil {
		if ended, _ := was.EndedBy(a.At); ended.IsZero() { // it goes on
			granted.Used = was.Used
			if !o.authenticated.After(was.Authenticated) {
				granted.At, granted.Authenticated = was.At, was.Authenticated
			}
		} else if store.Holds(ended, o.authenticated) {
			return // it was ended meanwhile
		}
	}
	if o.byGuard {
		granted.Used = a.At
	}
	if lasts := time.Duration(limits.Lasts); lasts > 0 {
		from := granted.Authenticated
		if from.IsZero() {
			from = granted.At
		}
		if ends := from.Add(lasts); granted.Ends.IsZero() || ends.Before(granted.Ends) {
			granted.Ends = ends
		}
	}
	s.Apps = append(slices.DeleteFunc(slices.Clone(s.Apps), func(g store.Granted) bool { return g.App == granted.App }), granted)
}

// latest returns the later of two moments.
func latest(x, y time.Time) time.Time {
	if x.After(y) {
		return x
	}
	return y
}

// joinProofs returns what was proven in a session: earlier, and in the attempt itself. Of each
// method at each app the latest proof stays.
func joinProofs(a *attempt.Attempt, app string) []attempt.Proof {
	proofs := make([]attempt.Proof, 0, len(a.Session.Proofs)+len(a.Proofs))
	add := func(p attempt.Proof) {
		for i := range proofs {
			if proofs[i].Method == p.Method && proofs[i].App == p.App {
				if p.At.After(proofs[i].At) {
					proofs[i] = p
				}
				return
			}
		}
		proofs = append(proofs, p)
	}
	for _, p := range a.Session.Proofs {
		add(p)
	}
	// What was proven after a preferred method could not be reached counts on as a fallback.
	fallback := false
	for _, f := range a.Failed {
		fallback = fallback || f.Reason != attempt.Refused
	}
	for _, p := range a.Proofs {
		if p.At.IsZero() {
			p.At = a.At
		}
		p.App, p.Fallback = app, fallback
		add(p)
	}
	return proofs
}
