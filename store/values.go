package store

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// Account is what is known of an account beyond the book.
type Account struct {
	Name string `json:"name" doc:"the account"`
	// Made is when the account was last made anew, zero where that was never seen.
	Made Making `json:"made,omitzero" doc:"when the account was last made anew"`
	// Revoked is until when all that was authenticated counts no more; zero where that was never revoked.
	Revoked time.Time `json:"revoked,omitzero" doc:"until when all that was authenticated counts no more"`
	// RevokedHere is the same by an administrator's act, which alone counts of a protected account.
	RevokedHere time.Time `json:"revoked_here,omitzero" doc:"until when it counts no more by an administrator's act"`
	// EndedSIDs are sessions that were ended by their sid alone, without their issuer.
	EndedSIDs []EndedSID `json:"ended_sids,omitzero" doc:"sessions that were ended by their sid, without their issuer"`
	// Changed is when each credential was last revoked or changed: what it proved until then counts no more.
	Changed map[string]time.Time `json:"changed,omitzero" doc:"when each credential was last revoked or changed, by method"`
	// Stated is what sources state of it: of each fact by each source one statement. Say takes one in, and Join joins
	// them.
	Stated []Statement `json:"stated,omitzero" doc:"what sources state of it"`

	// What follows the door noted itself. AskedAt is when a rollout first asked.
	AskedAt *time.Time `json:"asked_at,omitzero" doc:"when a rollout first asked"`
	// Failures are the latest failed sign-ins, the oldest first.
	Failures []time.Time          `json:"failures,omitzero" doc:"the latest failed sign-ins"`
	Accepted []attempt.Acceptance `json:"accepted,omitzero" doc:"documents that were accepted"`

	// Pushed are the resources that feeds pushed (RFC 7643), by who did.
	Pushed map[Source]*Pushed `json:"pushed,omitzero" doc:"the resources that were pushed, by who did"`

	// Previous is the last sign-in that was granted, nil where none was since the store began.
	Previous *attempt.Previous `json:"previous,omitzero" doc:"the sign-in before"`
}

// Pushed is a resource that another system pushed, as it said it.
type Pushed struct {
	ExternalID string          `json:"external_id,omitzero" doc:"how the other system names it"`
	Attributes json.RawMessage `json:"attributes" doc:"its attributes"`
	Created    time.Time       `json:"created" doc:"when it was pushed first"`
	Changed    time.Time       `json:"changed" doc:"when it was last changed"`
	Version    int             `json:"version" doc:"how often it was changed"`
}

func (a *Account) row() Row { return Row{Key: Key{Accounts, a.Name}} }

// OrNone returns the account, or where it is nil one of that name with nothing known.
func (a *Account) OrNone(name string) *Account {
	if a == nil {
		return &Account{Name: name}
	}
	return a
}

// RevokedAt returns when a method was last revoked, zero where it never was.
func (a *Account) RevokedAt(method string) (at time.Time) {
	for i := range a.Stated {
		if s := &a.Stated[i]; s.Fact == Revocation && s.Name == method && !s.Withdrawn && s.At.After(at) {
			at = s.At
		}
	}
	return at
}

// SetPushed puts the resource of a feed in place of the one before; nil takes it out.
func (a *Account) SetPushed(by Source, p *Pushed) {
	a.Pushed = maps.Clone(a.Pushed)
	if p == nil {
		delete(a.Pushed, by)
		return
	}
	if a.Pushed == nil {
		a.Pushed = map[Source]*Pushed{}
	}
	a.Pushed[by] = p
}

// MakeAnew makes the account another person's from a moment on, made by a source. Entry is the fingerprint of the book's
// entry of the account, "" where it has none. What the door noted of the one before is dropped, and feeds have to say again that it is
// a member of their groups. Who calls it saves the account.
func (a *Account) MakeAnew(ctx context.Context, tx Tx, at time.Time, by Source, entry string) error {
	a.Made = Making{At: at, By: by, Entry: entry}
	a.AskedAt, a.Previous, a.Failures, a.Accepted = nil, nil, nil, nil
	for row, err := range All(ctx, tx, Query{Kind: Members, Account: a.Name}) {
		if err != nil {
			return err
		}
		m := new(Member)
		if err := Read(row, m); err != nil {
			return err
		}
		m.IsDoubted = true
		if err := Save(tx, m); err != nil {
			return err
		}
	}
	return nil
}

// Shown is an account as a decision shows it and the journal keeps it: what held of it, as the sources say together.
type Shown struct {
	Name              string                    `json:"name" doc:"the account"`
	Kind              directory.Kind            `json:"kind,omitzero" doc:"person, service or emergency"`
	Disabled          bool                      `json:"disabled,omitzero" doc:"true where it may not sign on at all"`
	Groups            []string                  `json:"groups,omitzero" doc:"groups that it is a member of"`
	MayBeIn           []string                  `json:"may_be_in,omitzero" doc:"groups that it may be a member of"`
	Methods           []string                  `json:"methods,omitzero" doc:"methods that it has enrolled"`
	Attributes        map[string]attempt.Scalar `json:"attributes,omitzero" doc:"what else is known"`
	Joined            *directory.Date           `json:"joined,omitzero" doc:"day of joining"`
	AskedAt           *time.Time                `json:"asked_at,omitzero" doc:"when a rollout first asked"`
	Risk              *Risk                     `json:"account_risk,omitzero" doc:"the standing risk"`
	PasswordChangedAt *time.Time                `json:"password_changed_at,omitzero" doc:"when the password was last changed"`
	// IsWhole says that it has all that the book says too. What was recorded before there were sources lacks that.
	IsWhole bool `json:"whole,omitzero" doc:"true where it has all that the book says"`
}

// Risk is directory.AccountRisk as the journal keeps it.
type Risk struct {
	Level   directory.Level `json:"level" doc:"the level"`
	Because string          `json:"because,omitzero" doc:"the reason"`
	Since   *time.Time      `json:"since,omitzero" doc:"when it arose"`
}

// ShownOf is an account as a decision shows it. It shares what the account holds.
func ShownOf(d *directory.Account) *Shown {
	s := &Shown{Name: d.Name, Kind: d.Kind, Disabled: d.Disabled, Groups: d.Groups, MayBeIn: d.MayBeIn, Methods: d.Methods,
		Attributes: d.Attributes, Joined: d.Joined, AskedAt: d.AskedAt, PasswordChangedAt: d.PasswordChangedAt, IsWhole: d.IsWhole}
	if r := d.AccountRisk; r != nil {
		s.Risk = &Risk{r.Level, r.Because, r.Since}
	}
	return s
}

// States reports whether anything is stated that a directory would know.
func (s *Shown) States() bool {
	return s.IsWhole || s.Kind != 0 || s.Disabled || s.Groups != nil || s.Methods != nil || s.Attributes != nil || s.Joined != nil ||
		s.AskedAt != nil || s.Risk != nil || s.PasswordChangedAt != nil
}

// Entry returns the account as a directory supplies it. It shares what s holds.
func (s *Shown) Entry() directory.Account {
	d := directory.Account{Name: s.Name, Kind: s.Kind, Disabled: s.Disabled, Groups: s.Groups, MayBeIn: s.MayBeIn, Methods: s.Methods,
		Attributes: s.Attributes, Joined: s.Joined, AskedAt: s.AskedAt, PasswordChangedAt: s.PasswordChangedAt, IsWhole: s.IsWhole}
	if s.Risk != nil {
		d.AccountRisk = &directory.AccountRisk{Level: s.Risk.Level, Because: s.Risk.Because, Since: s.Risk.Since}
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
	// Compliance is what other systems last said of it, each by itself.
	Compliance []Compliance `json:"compliance,omitzero" doc:"whether other systems find it compliant"`
	// SeenWith are the accounts that signed on from it, the latest last.
	SeenWith   []SeenAccount        `json:"seen_with,omitzero" doc:"accounts that signed on from it"`
	Remembered []attempt.Remembered `json:"remembered,omitzero" doc:"accounts that asked to be remembered on it"`
}

// SeenAccount is an account that signed on from a device.
type SeenAccount struct {
	Account string `json:"account" doc:"the account"`
	// At is when it first did, as this bearer of its name.
	At time.Time `json:"at" doc:"when it first did"`
}

// Compliance is what another system says of a device.
type Compliance struct {
	By        Source    `json:"by" doc:"who finds it"`
	Compliant bool      `json:"compliant" doc:"whether it finds the device compliant"`
	At        time.Time `json:"at" doc:"when it found that"`
}

func (d *Device) row() Row { return Row{Key: Key{Devices, d.ID}} }

// mostSeen is how many accounts are kept that signed on from a device, and how many asked to
// be remembered: a shared terminal sees a crew, and no device sees everybody.
const mostSeen = 200

// See notes that an account, made anew at a moment or never, signed on from the device. It reports whether that is news.
func (d *Device) See(account string, at time.Time, made *Making) bool {
	i := slices.IndexFunc(d.SeenWith, func(s SeenAccount) bool { return s.Account == account })
	switch {
	case i < 0:
		d.SeenWith = lastOf(append(slices.Clip(d.SeenWith), SeenAccount{account, at}))
	case made.IsFormer(d.SeenWith[i].At):
		d.SeenWith = slices.Clone(d.SeenWith)
		d.SeenWith[i].At = at
	default:
		return false
	}
	return true
}

// WasSeenWith reports whether an account, made anew at a moment or never, signed on from the device.
func (d *Device) WasSeenWith(account string, made *Making) bool {
	return slices.ContainsFunc(d.SeenWith, func(s SeenAccount) bool { return s.Account == account && !made.IsFormer(s.At) })
}

// Find takes in what a system finds of the device. An older finding of the same system changes nothing, and of two of
// one time the stricter stands. It reports whether anything changed.
func (d *Device) Find(c Compliance) bool {
	for i, old := range d.Compliance {
		if old.By != c.By {
			continue
		}
		if c.At.Before(old.At) || c.At.Equal(old.At) && (c.Compliant || !old.Compliant) {
			return false
		}
		d.Compliance = slices.Clone(d.Compliance)
		d.Compliance[i] = c
		return true
	}
	d.Compliance = append(slices.Clip(d.Compliance), c)
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

// Group is a group that a feed manages. Its members are rows of their own, so that one who comes or goes costs the same
// in a group of any size.
type Group struct {
	Name string `json:"name" doc:"the group"`
	// By is the feed that manages it. Until it stated the members they are the book's.
	By Source `json:"by" doc:"the feed that manages it"`
	// IsManaged says that the feed stated the members.
	IsManaged bool    `json:"managed,omitzero" doc:"true where the feed stated the members"`
	Pushed    *Pushed `json:"pushed,omitzero" doc:"the resource that was pushed"`
}

func (g *Group) row() Row { return Row{Key: Key{Groups, g.Name}} }

// Managed reads which feed manages which group. It costs reading all groups that feeds manage.
func Managed(ctx context.Context, from Reader) (map[string]Source, error) {
	managed := map[string]Source{}
	for row, err := range All(ctx, from, Query{Kind: Groups}) {
		if err != nil {
			return nil, err
		}
		g := new(Group)
		if err := Read(row, g); err != nil {
			return nil, err
		}
		if g.IsManaged {
			managed[g.Name] = g.By
		}
	}
	return managed, nil
}

// Member is an account in a group that a feed manages.
type Member struct {
	Group   string    `json:"group" doc:"the group"`
	Account string    `json:"account" doc:"the account"`
	Since   time.Time `json:"since" doc:"since when the feed says so"`
	// IsDoubted says that the account was made anew since, so that the feed has to say it again.
	IsDoubted bool `json:"doubted,omitzero" doc:"true where the account was made anew since, so that the feed has to say it again"`
}

func (m *Member) row() Row {
	return Row{Key: Key{Members, m.Group + "\n" + m.Account}, Account: m.Account}
}

// MembersOf is the query for the members of a group.
func MembersOf(group string) Query { return Query{Kind: Members, Prefix: group + "\n"} }

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

// Reported returns what the device last reported, with what other systems say of its compliance
// as the fact `compliant`, and when: it is not, where any of them says not. Facts are as old as the report that they
// came in, so a finding that a device is compliant counts no longer than its report, and not before it.
func (d *Device) Reported() (facts map[string]attempt.Scalar, at *time.Time) {
	if len(d.Compliance) == 0 {
		return d.Facts, d.ReportedAt
	}
	c := d.Compliance[0]
	for _, other := range d.Compliance[1:] {
		if c.Compliant && !other.Compliant || c.Compliant == other.Compliant && other.At.Before(c.At) == c.Compliant {
			c = other // of several that find it compliant the oldest, of several that do not the latest
		}
	}
	switch {
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

// Watched is how far the watch is in the journal, and what it remembers.
type Watched struct {
	// Next is for each log the number of the first entry that it has not seen.
	Next map[string]int64 `json:"logs" doc:"for each log the first entry that it has not seen"`
	// Busy is until when a door makes a digest.
	Busy  time.Time       `json:"busy,omitzero" doc:"until when a door makes a digest"`
	State json.RawMessage `json:"state" doc:"what it remembers, as package watch has it"`
}

func (w *Watched) row() Row { return Row{Key: Key{Watch, "watch"}} }

// Form is the form in which rows are kept.
type Form struct {
	Name string `json:"name" doc:"which rows"`
	Form int    `json:"form" doc:"their form"`
}

func (f *Form) row() Row { return Row{Key: Key{Forms, f.Name}} }
