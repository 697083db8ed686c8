package engine

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// Profile is one account with what follows from the directory: its groups, and
// which of its methods count. The book's accounts have theirs from the start; one
// that is supplied while a decision is made gets its own by [Directory.Resolve].
//
// The profiles of many accounts are in nobody's caches when one of them signs on. What
// most verdicts look at comes first, so that it is one line of 64 bytes.
type Profile struct {
	// groups are those it surely is in, in few where there is room.
	groups []int32
	few    [3]int32
	// number is that of the account's name, nobody where no list and no condition
	// has it.
	number int32
	// methods are those enrolled and surely not barred, and barred all that are or may
	// be barred, which prove nothing.
	methods, barred MethodSet
	kind            directory.Kind
	disabled        bool
	// doubtful says that there is something that it may be in, or that may be barred.
	doubtful bool

	// perhaps are the groups whose `where` is unknown, nil where there are none.
	perhaps *[]int32
	// perhapsMethods are those enrolled that may be barred and, where nobody stated its methods, all that may
	// be enrolled; perhapsBarred are all that may be barred; lacks are those that it surely does not list.
	perhapsMethods, perhapsBarred, lacks MethodSet
	// unstated says that nobody stated its methods.
	unstated  bool
	domain    string
	directory *Directory
	account   *directory.Account
	// hash is that of the name, zero until somebody asks for a share. It is read and
	// written as a whole, for the profiles of the book are everybody's.
	hash uint64
}

// Account returns what is stated of the account. The caller must not change it.
func (p *Profile) Account() *directory.Account { return p.account }

// Name returns the account's name.
func (p *Profile) Name() string { return p.account.Name }

// Kind returns what the account is for; a person where nobody states it.
func (p *Profile) Kind() directory.Kind { return p.kind }

// Disabled reports whether the account may not sign on at all.
func (p *Profile) Disabled() bool { return p.disabled }

// Enrolled returns the methods that the account has enrolled and that are surely
// not barred for it.
func (p *Profile) Enrolled() MethodSet { return p.methods }

// PerhapsEnrolled returns the methods that the account may have enrolled: those of which it is not known whether
// they are barred for it, and all where nobody stated its methods.
func (p *Profile) PerhapsEnrolled() MethodSet {
	if !p.doubtful {
		return 0
	}
	return p.perhapsMethods
}

// statesMethods reports whether somebody stated which methods the account has enrolled.
func (p *Profile) statesMethods() bool { return !p.unstated }

// Barred returns the methods that prove nothing for the account, surely or
// perhaps.
func (p *Profile) Barred() MethodSet { return p.barred }

// PerhapsBarred returns those that may be barred, while it is not known.
func (p *Profile) PerhapsBarred() MethodSet {
	if !p.doubtful {
		return 0
	}
	return p.perhapsBarred
}

// Groups returns the names of all groups that the account is surely in, directly
// or through others, sorted.
func (p *Profile) Groups() []string {
	var names []string
	for _, g := range p.groups {
		names = append(names, p.directory.Contents.Groups[g].Name)
	}
	slices.Sort(names)
	return names
}

// Memberships returns the numbers of the groups that the account is surely in and
// may be in, ascending. The caller must not change them.
func (p *Profile) Memberships() (sure, perhaps []int32) { return p.groups, p.mayBeIn() }

// mayBeIn returns the numbers of the groups that the account may be in.
func (p *Profile) mayBeIn() []int32 {
	if !p.doubtful || p.perhaps == nil {
		return nil
	}
	return *p.perhaps
}

// Domain returns what follows the last @ of the account's name, as domains are
// compared; "" where there is none.
func (p *Profile) Domain() string { return p.domain }

// isNamed reports whether the account is among the numbers of a bound test on
// accounts.
func (p *Profile) isNamed(numbers []int32) bool {
	return p.number != nobody && slices.Contains(numbers, p.number)
}

// Number returns the number of the account's name, which tests on accounts are
// bound to, and -1 where no list and no condition has it.
func (p *Profile) Number() int32 { return p.number }

// JoinedUntil returns the moment at which the account has joined for so long: so
// many times 24 hours after the midnight that began the day of joining. It
// returns false where that day is not known, or lies after the moment at which it
// is looked at.
func (p *Profile) JoinedUntil(span directory.Span, at time.Time) (time.Time, bool) {
	if p.account.Joined == nil {
		return time.Time{}, false
	}
	joined := p.account.Joined.Start(p.directory.Zone)
	if attempt.IsLater(joined, at) {
		return time.Time{}, false
	}
	return joined.Add(time.Duration(span)), true
}

// share places the account in one of 10,000 parts, in a way that depends on the
// key, the account and the owner of the test alone. The mixing is that of
// splitmix64 (G. L. Steele, D. Lea, C. H. Flood, Fast splittable pseudorandom
// number generators, 2014).
func (p *Profile) share(t *condition.Test) uint64 {
	hash := atomic.LoadUint64(&p.hash)
	if hash == 0 {
		hash = p.directory.hashText(p.account.Name)
		atomic.StoreUint64(&p.hash, hash)
	}
	z := hash ^ t.Salt()*0x9e3779b97f4a7c15
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return (z ^ z>>31) % 10_000
}

// hashText is the first 64 bits of SHA-256 (FIPS 180-4) over the hash of the
// directory's key and the text. Nobody who does not know the key can choose a name
// for the share that it falls into.
func (d *Directory) hashText(text string) uint64 {
	var room [sha256.Size + directory.LongestName]byte
	hashed := append(append(room[:0], d.shareKey[:]...), text...)
	sum := sha256.Sum256(hashed)
	return binary.BigEndian.Uint64(sum[:8])
}

// sawRisk describes the standing risk with its reason and its beginning.
func sawRisk(a *directory.Account, at time.Time) string {
	if a.AccountRisk == nil {
		return "none"
	}
	text := a.AccountRisk.Level.String()
	var details []string
	if a.AccountRisk.Because != "" {
		details = append(details, a.AccountRisk.Because)
	}
	if a.AccountRisk.Since != nil {
		details = append(details, "since "+a.AccountRisk.Since.Format(time.DateOnly))
	}
	if a.RiskAt(at) == directory.NoRisk {
		details = append(details, "put right by a changed password")
	}
	if len(details) > 0 {
		text += " (" + strings.Join(details, ", ") + ")"
	}
	return text
}

// Find returns the profile of the account that the book lists under a name, and
// false where it lists none.
func (d *Directory) Find(name string) (*Profile, bool) {
	n, ok := d.accountNumber[name]
	if !ok || int(n) >= len(d.profiles) {
		return nil, false
	}
	return &d.profiles[n], true
}

// FindAccount returns the number of the book's account of that name, in the order
// of Contents.Accounts.
func (d *Directory) FindAccount(name string) (int, bool) {
	n, ok := d.accountNumber[name]
	return int(n), ok && int(n) < len(d.profiles)
}

// Profile returns the profile of the book's account of that number, in the order
// of Contents.Accounts, at no moment: where a group depends on when that is asked, it is one that
// the account may be in.
func (d *Directory) Profile(number int) *Profile { return &d.profiles[number] }

// Resolve works out the profile of an account that was supplied, as seen at a moment, in room. What the
// account does not state is taken from the book's account of that name. The profile is
// valid until the account changes or the room is used again. Groups and methods that
// the book does not have count for nothing.
func (d *Directory) Resolve(supplied *directory.Account, at time.Time, room *Room) *Profile {
	room.account = *supplied
	number, named := d.accountNumber[supplied.Name]
	if !named {
		number = nobody
	}
	if named && int(number) < len(d.profiles) && !supplied.IsWhole {
		room.account.CompleteFrom(d.profiles[number].account)
	}
	room.profile.unstated, room.supplied = room.account.Methods == nil, true
	d.resolveAt(at, number, room)
	return &room.profile
}

// resolveAt works out the profile of the account in room.
func (d *Directory) resolveAt(at time.Time, number int32, room *Room) {
	room.profile.hash = 0
	d.resolve(&room.profile, &room.account, number, at, &room.facts)
}

// resolve works out a profile from what is stated of the account, as seen at a moment. Facts is memory
// for it.
func (d *Directory) resolve(p *Profile, a *directory.Account, number int32, at time.Time, facts *Facts) {
	p.directory, p.account, p.number = d, a, number
	p.domain, p.kind, p.disabled = domainOf(a.Name), a.Kind, a.Disabled
	if p.kind == directory.UnstatedKind {
		p.kind = directory.Person
	}
	p.groups, p.perhaps = p.groups[:0], nil
	if cap(p.groups) == 0 {
		p.groups = p.few[:0]
	}
	var perhaps []int32
	for _, name := range a.Groups {
		if group, ok := d.groupNumber[name]; ok {
			p.groups = append(p.groups, d.above[group]...)
		}
	}
	for _, name := range a.MayBeIn {
		if group, ok := d.groupNumber[name]; ok {
			perhaps = append(perhaps, d.above[group]...)
		}
	}
	if number != nobody {
		for _, group := range d.listedIn[number] {
			p.groups = append(p.groups, d.above[group]...)
		}
	}
	var enrolled MethodSet
	for _, name := range a.Methods {
		if m, ok := d.FindMethod(name); ok {
			enrolled = enrolled.Add(m)
		}
	}
	p.perhapsMethods, p.lacks = 0, ^enrolled
	if p.unstated {
		p.perhapsMethods, p.lacks = d.enrollable, 0
	}
	// Membership looks at what is listed alone: barring may depend on groups.
	p.methods, p.barred, p.perhapsBarred, p.doubtful = enrolled, 0, 0, p.unstated
	*facts = Facts{HasProfile: true, Profile: p, At: at, Moment: at}
	for _, w := range d.where {
		switch condition.Eval(w.condition, facts) {
		case condition.True:
			p.groups = append(p.groups, d.above[w.number]...)
		case condition.Unknown:
			perhaps = append(perhaps, d.above[w.number]...)
		}
	}
	p.groups = settle(p.groups)
	if len(perhaps) > 0 {
		p.doubtful = true
		perhaps = settle(perhaps)
		p.perhaps = &perhaps
	}
	for _, b := range d.barring {
		switch condition.Eval(b.condition, facts) {
		case condition.True:
			p.barred = p.barred.Add(int(b.number))
			p.perhapsMethods &^= 1 << b.number
		case condition.Unknown:
			p.barred, p.perhapsBarred = p.barred.Add(int(b.number)), p.perhapsBarred.Add(int(b.number))
			p.perhapsMethods |= enrolled & (1 << b.number)
		}
	}
	p.methods = enrolled &^ p.barred
	p.doubtful = p.doubtful || p.perhapsBarred != 0
}

// IsOpenTo reports whether the app, by number, is given to the account. A
// membership that is not sure opens nothing.
func (d *Directory) IsOpenTo(app int, p *Profile) bool {
	return d.Apps[app].OpenTo == nil || intersects(d.apps[app].openTo, p.groups)
}

// ProfileAt is Profile as seen at a moment.
func (d *Directory) ProfileAt(number int, at time.Time) *Profile {
	return d.at(&d.profiles[number], at, new(Room))
}

// at returns a profile of the book as seen at a moment, in room where it depends on that: its groups, and what is barred
// for it, where they look at a risk that a password may have put right by then.
func (d *Directory) at(own *Profile, at time.Time, room *Room) *Profile {
	if !d.asksRisk || !own.account.ChangedSinceRisk(time.Time{}) {
		return own
	}
	room.account, room.profile.unstated, room.supplied = *own.account, own.unstated, false
	d.resolveAt(at, own.number, room)
	return &room.profile
}

// Room is memory for an account that is supplied while a decision is made. The
// zero Room is ready to use, by one decision at a time.
type Room struct {
	account directory.Account
	profile Profile
	facts   Facts
	// supplied says that the account is one that was supplied.
	supplied bool
}

// Lookup finds an account where accounts are supplied, and else in the book, as seen at a moment. It
// returns nil without an error where there surely is no such account, and an error
// where nobody could find out. The profile may lie in room, and is valid until that is used again.
func (d *Directory) Lookup(ctx context.Context, from directory.Accounts, name string, at time.Time, room *Room) (*Profile, error) {
	own, _ := d.Find(name)
	if own != nil {
		own = d.at(own, at, room)
	}
	if from == nil {
		return own, nil
	}
	supplied, err := from.Account(ctx, name)
	switch {
	case errors.Is(err, directory.ErrNotFound):
		return own, nil
	case err != nil:
		return nil, err
	case supplied.Name == "":
		return nil, errors.New("it was answered without a name")
	case supplied.Name != name:
		return nil, fmt.Errorf("it was answered for %q", supplied.Name)
	case supplied.Kind > directory.Emergency:
		return nil, fmt.Errorf("its kind is none that there is: %s", supplied.Kind)
	case supplied.AccountRisk != nil && supplied.AccountRisk.Level > directory.HighRisk:
		return nil, fmt.Errorf("the level of its risk is none that there is: %s", supplied.AccountRisk.Level)
	}
	return d.Resolve(&supplied, at, room), nil
}

// Clear forgets the account in the room.
func (r *Room) Clear() {
	r.account, r.profile.account, r.facts = directory.Account{}, nil, Facts{}
}

// Holds reports whether a profile is that of a supplied account in the room.
func (r *Room) Holds(p *Profile) bool { return p == &r.profile && r.supplied }
