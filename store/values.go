package store

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// Account is what is known of an account beyond the book. What is zero or nil is not stated.
type Account struct {
	Name string `json:"name" doc:"the account"`

	Kind              directory.Kind            `json:"kind,omitzero" doc:"person, service or emergency"`
	Disabled          bool                      `json:"disabled,omitzero" doc:"true where it may not sign on at all"`
	Groups            []string                  `json:"groups,omitzero" doc:"groups that it is a member of"`
	Methods           []string                  `json:"methods,omitzero" doc:"methods that it has enrolled"`
	Attributes        map[string]attempt.Scalar `json:"attributes,omitzero" doc:"what else is known"`
	Joined            *directory.Date           `json:"joined,omitzero" doc:"day of joining"`
	AskedAt           *time.Time                `json:"asked_at,omitzero" doc:"when a rollout first asked"`
	Risk              *Risk                     `json:"account_risk,omitzero" doc:"the standing risk"`
	PasswordChangedAt *time.Time                `json:"password_changed_at,omitzero" doc:"when the password was last changed"`

	// Previous is the last sign-in that was granted, nil where none was since the store began.
	Previous *attempt.Previous `json:"previous,omitzero" doc:"the sign-in before"`
	// Failures are the latest failed sign-ins, the oldest first.
	Failures []time.Time          `json:"failures,omitzero" doc:"the latest failed sign-ins"`
	Accepted []attempt.Acceptance `json:"accepted,omitzero" doc:"documents that were accepted"`

	// Since is when the store first heard of an account that came to be then: what it has no
	// record of did not happen. It is zero for an account that there was before.
	Since time.Time `json:"since,omitzero" doc:"when the account came to be, where that was seen"`
	// Pushed is the resource that another system pushed (RFC 7643), nil where none did.
	Pushed *Pushed `json:"pushed,omitzero" doc:"the resource that was pushed"`
}

// Pushed is a resource that another system pushed, as it said it.
type Pushed struct {
	ExternalID string          `json:"external_id,omitzero" doc:"how the other system names it"`
	Attributes json.RawMessage `json:"attributes" doc:"its attributes"`
	Created    time.Time       `json:"created" doc:"when it was pushed first"`
	Changed    time.Time       `json:"changed" doc:"when it was last changed"`
	Version    int             `json:"version" doc:"how often it was changed"`
}

// Risk is directory.AccountRisk as the store keeps it.
type Risk struct {
	Level   directory.Level `json:"level" doc:"the level"`
	Because string          `json:"because,omitzero" doc:"the reason"`
	Since   *time.Time      `json:"since,omitzero" doc:"when it arose"`
}

func (a *Account) row() Row { return Row{Key: Key{Accounts, a.Name}, Account: a.Name} }

// States reports whether anything is stated that a directory would know.
func (a *Account) States() bool {
	return a.Kind != 0 || a.Disabled || a.Groups != nil || a.Methods != nil || a.Attributes != nil || a.Joined != nil || a.AskedAt != nil ||
		a.Risk != nil || a.PasswordChangedAt != nil || !a.Since.IsZero()
}

// Entry returns the account as a directory supplies it. It shares what a holds.
func (a *Account) Entry() directory.Account {
	d := directory.Account{Name: a.Name, Kind: a.Kind, Disabled: a.Disabled, Groups: a.Groups, Methods: a.Methods,
		Attributes: a.Attributes, Joined: a.Joined, AskedAt: a.AskedAt, PasswordChangedAt: a.PasswordChangedAt}
	if a.Risk != nil {
		d.AccountRisk = &directory.AccountRisk{Level: a.Risk.Level, Because: a.Risk.Because, Since: a.Risk.Since}
	}
	return d
}

// mostFailures is how many failed sign-ins are kept of an account, the latest.
const mostFailures = 100

// AddFailure notes a failed sign-in. Like the methods below, it changes no list in place, so
// that a copy of the account keeps its own.
func (a *Account) AddFailure(at time.Time) {
	a.Failures = append(slices.Clone(a.Failures), at) // an older copy of the account has the list too
	slices.SortFunc(a.Failures, time.Time.Compare)
	a.Failures = slices.Compact(a.Failures)
	if n := len(a.Failures); n > mostFailures {
		a.Failures = slices.Clone(a.Failures[n-mostFailures:])
	}
}

// Accept notes that a document was accepted. Of each the newest version is kept, with the
// latest time.
func (a *Account) Accept(x attempt.Acceptance) {
	i := slices.IndexFunc(a.Accepted, func(y attempt.Acceptance) bool { return y.Document == x.Document })
	switch {
	case i < 0:
		a.Accepted = append(slices.Clip(a.Accepted), x)
	case x.Version > a.Accepted[i].Version || x.Version == a.Accepted[i].Version && x.At.After(a.Accepted[i].At):
		a.Accepted = slices.Clone(a.Accepted)
		a.Accepted[i] = x
	}
}

// Device is what is known of a device beyond the book.
type Device struct {
	ID       string `json:"id" doc:"its identity"`
	Platform string `json:"platform,omitzero" doc:"its platform"`
	// Facts are those of the last report, and ReportedAt is when it was made.
	Facts      map[string]attempt.Scalar `json:"facts,omitzero" doc:"what it last reported"`
	ReportedAt *time.Time                `json:"reported_at,omitzero" doc:"when it reported that"`
	// Compliance is what another system last said of it.
	Compliance *Compliance `json:"compliance,omitzero" doc:"whether another system finds it compliant"`
	// SeenWith are the accounts that signed on from it, the latest last.
	SeenWith   []string             `json:"seen_with,omitzero" doc:"accounts that signed on from it"`
	Remembered []attempt.Remembered `json:"remembered,omitzero" doc:"accounts that asked to be remembered on it"`
}

// Compliance is what another system says of a device.
type Compliance struct {
	Compliant bool      `json:"compliant" doc:"whether it finds the device compliant"`
	At        time.Time `json:"at" doc:"when it found that"`
}

func (d *Device) row() Row { return Row{Key: Key{Devices, d.ID}} }

// mostSeen is how many accounts are kept that signed on from a device, and how many asked to
// be remembered: a shared terminal sees a crew, and no device sees everybody.
const mostSeen = 200

// See notes that an account signed on from the device. It reports whether that is news.
func (d *Device) See(account string) bool {
	if slices.Contains(d.SeenWith, account) {
		return false
	}
	d.SeenWith = lastOf(append(slices.Clip(d.SeenWith), account))
	return true
}

// Remember notes that an account asked to be remembered, when it had proven a method. It
// reports whether that is news.
func (d *Device) Remember(r attempt.Remembered) bool {
	i := slices.IndexFunc(d.Remembered, func(x attempt.Remembered) bool { return x.Account == r.Account && x.Method == r.Method })
	switch {
	case i < 0:
		d.Remembered = lastOf(append(slices.Clip(d.Remembered), r))
	case r.At.After(d.Remembered[i].At):
		d.Remembered = slices.Clone(d.Remembered)
		d.Remembered[i].At = r.At
	default:
		return false
	}
	return true
}

func lastOf[T any](list []T) []T {
	if len(list) > mostSeen {
		return slices.Clone(list[len(list)-mostSeen:])
	}
	return list
}

// Group is a group that was pushed. Members are accounts by name.
type Group struct {
	Name    string   `json:"name" doc:"the group"`
	Members []string `json:"members" doc:"its members"`
	Pushed  *Pushed  `json:"pushed,omitzero" doc:"the resource that was pushed"`
}

func (g *Group) row() Row { return Row{Key: Key{Groups, g.Name}} }

// Session is one that was granted and has not ended.
type Session struct {
	ID      string          `json:"id" doc:"its identifier, as the one who keeps it names it"`
	Account string          `json:"account" doc:"whose it is"`
	Started time.Time       `json:"started" doc:"when it began"`
	Proofs  []attempt.Proof `json:"proofs" doc:"what was proven in it"`
	// Apps are what was granted in it, each with its circumstances; the latest attempt counts.
	Apps []Granted `json:"apps" doc:"the apps that it was granted, with the circumstances"`
	// Device is the one that it is on, "" where that is not known.
	Device string `json:"device,omitzero" doc:"the device that it is on"`
	// Seen is when something was last granted in it.
	Seen time.Time `json:"seen,omitzero" doc:"when something was last granted in it"`
	// Ended is when it was ended before its time, and Because why; it is kept for a while, so that
	// what still bears its name is refused.
	Ended   time.Time `json:"ended,omitzero" doc:"when it was ended before its time"`
	Because string    `json:"because,omitzero" doc:"why it was ended"`
	// Next is when it is to be looked at again.
	Next time.Time `json:"next,omitzero" doc:"when it is looked at again"`
}

// Granted is an app that a session was granted, in the circumstances of the attempt.
type Granted struct {
	App     string          `json:"app" doc:"the app"`
	At      time.Time       `json:"at" doc:"when it was granted"`
	Attempt json.RawMessage `json:"attempt" doc:"the attempt as it was judged"`
	Ends    time.Time       `json:"ends,omitzero" doc:"when the grant ends at the latest"`
	// Decision is the one that granted it.
	Decision string `json:"decision" doc:"the decision that granted it"`
}

func (s *Session) row() Row {
	return Row{Key: Key{Sessions, s.ID}, Account: s.Account, Device: s.Device, Due: s.Next}
}

// Outgoing is something that is to be sent until it is taken.
type Outgoing struct {
	// Kind is Outbox or Letters; the zero Kind is Outbox.
	Kind Kind `json:"-"`
	// ID sorts behind those made before it.
	ID string `json:"id" doc:"its name"`
	// To is the receiver of it, and Session what it is about: those of one session are sent in order.
	To      string `json:"to" doc:"the receiver"`
	Session string `json:"session" doc:"the session that it is about"`
	Token   string `json:"token,omitzero" doc:"the signed security event token"`
	// By is how a letter goes: mail or hook.
	By     string          `json:"by,omitzero" doc:"of a letter, how it goes: mail or hook"`
	Letter json.RawMessage `json:"letter,omitempty" doc:"a letter of the watch, as package watch/letter has it"`
	Tries  int             `json:"tries" doc:"how often it was tried"`
	Next   time.Time       `json:"next" doc:"when it is tried again"`
}

func (o *Outgoing) row() Row {
	return Row{Key: Key{cmp.Or(o.Kind, Outbox), o.ID}, Account: o.To, Due: o.Next}
}

// SeenToken is a security event token that was taken.
type SeenToken struct {
	Issuer string    `json:"issuer" doc:"who sent it"`
	JTI    string    `json:"jti" doc:"its identifier (RFC 7519 §4.1.7)"`
	At     time.Time `json:"at" doc:"when it was taken"`
}

func (s *SeenToken) row() Row { return Row{Key: Key{Seen, s.Issuer + "\n" + s.JTI}, Due: s.At} }

// Reported returns what the device last reported, with what another system says of its compliance
// as the fact `compliant`, and when. Facts are as old as the report that they came in, so a finding
// that a device is compliant counts no longer than its report, and not before it.
func (d *Device) Reported() (facts map[string]attempt.Scalar, at *time.Time) {
	c := d.Compliance
	switch {
	case c == nil:
		return d.Facts, d.ReportedAt
	case d.ReportedAt == nil:
		return map[string]attempt.Scalar{compliant: attempt.BoolScalar(c.Compliant)}, &c.At
	case c.Compliant && c.At.Before(*d.ReportedAt):
		return d.Facts, d.ReportedAt
	}
	facts = maps.Clone(d.Facts)
	if facts == nil {
		facts = map[string]attempt.Scalar{}
	}
	facts[compliant] = attempt.BoolScalar(c.Compliant)
	return facts, d.ReportedAt
}

// compliant is the fact under which another system's finding is found.
const compliant = "compliant"

// Supplied joins a book's device with what is known of it, which takes the place of the book's report
// where it is later; nil where there is no such device in the book, or nothing to join. Of a device
// outside the book a report says nothing of whether it is managed, shared or somebody's, so none is
// supplied.
func (d *Device) Supplied(book *directory.Device) *directory.Device {
	if book == nil || d == nil {
		return nil
	}
	facts, at := d.Reported()
	if at == nil && d.Platform == "" {
		return nil
	}
	joined := *book
	if d.Platform != "" {
		joined.Platform = d.Platform
	}
	if at != nil && (joined.ReportedAt == nil || at.After(*joined.ReportedAt)) {
		joined.Facts, joined.ReportedAt = facts, at
	}
	return &joined
}

// Following is how far another record is in the journal.
type Following struct {
	// Record names it: consent.
	Record string `json:"record" doc:"the record"`
	// Acts is how many of its acts are in the journal.
	Acts int64 `json:"acts" doc:"how many of its acts are in the journal"`
}

func (f *Following) row() Row { return Row{Key: Key{Followed, f.Record}} }

// Watched is how far the watch is in the journal, and what it remembers.
type Watched struct {
	// Next is the number of the first entry that it has not seen.
	Next int64 `json:"next" doc:"the first entry that it has not seen"`
	// Busy is until when a door makes a digest.
	Busy  time.Time       `json:"busy,omitzero" doc:"until when a door makes a digest"`
	State json.RawMessage `json:"state" doc:"what it remembers, as package watch has it"`
}

func (w *Watched) row() Row { return Row{Key: Key{Watch, "watch"}} }
