package report

import (
	"cmp"
	"hash/maphash"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/journal"
)

// collector counts decisions. It holds a few hundred bytes for each account, and nothing for each
// decision.
type collector struct {
	zone   *time.Location
	period replay.Period

	verdicts, shadow replay.Counts
	hours            [24]replay.Counts
	days             numbered[replay.Counts]
	apps, countries  tallies[string, replay.Counts]
	rules            tallies[[2]string, ruleTally]
	methods          tallies[string, methodTally]
	signals          tallies[string, signalTally]
	excused          tallies[string, useTally]
	eased            tallies[string, numbered[map[int32]bool]] // by rollout and day, the accounts
	addresses        map[netip.Addr]*addressTally
	people           map[string]*person
	signIns          []AttemptWithRisk
	seed             maphash.Seed
	// firstNumber is that of the first account: collectors that are joined number theirs apart.
	firstNumber int32

	// today is the day that was looked up last.
	today  struct{ from, to time.Time }
	dayNow int
	// cameBack counts grants soon after a stop.
	cameBack int64
}

// tallies are values by their keys. Those that were asked for last are found first, for what is counted
// by the million has few keys, most of the time the same.
type tallies[K comparable, V any] struct {
	recent [4]struct {
		key   K
		value *V
	}
	next int
	all  map[K]*V
}

// others is what apps are counted as that the book does not have, once there are too many, and
// unknownAccounts what accounts are that nobody knows.
const others, unknownAccounts = "others", "accounts that nobody knows"

// mostKeys is how many keys atMost tells apart.
const mostKeys = 10_000

// atMost is at, but once there are very many keys new ones share one value.
func (t *tallies[K, V]) atMost(key, shared K) *V {
	if len(t.all) >= mostKeys {
		if _, told := t.all[key]; !told {
			key = shared
		}
	}
	return t.at(key)
}

// at returns the value of a key.
func (t *tallies[K, V]) at(key K) *V {
	for i := range t.recent {
		if r := &t.recent[i]; r.value != nil && r.key == key {
			return r.value
		}
	}
	v := t.all[key]
	if v == nil {
		if t.all == nil {
			t.all = map[K]*V{}
		}
		v = new(V)
		t.all[key] = v
	}
	t.recent[t.next%len(t.recent)].key, t.recent[t.next%len(t.recent)].value = key, v
	t.next++
	return v
}

// numbered are values by day, counted from the first day that was seen.
type numbered[V any] struct {
	first  int
	values []V
}

// at returns the value of a day.
func (n *numbered[V]) at(day int) *V {
	switch {
	case len(n.values) == 0:
		n.first, n.values = day, make([]V, 1)
	case day < n.first:
		n.values = append(make([]V, n.first-day), n.values...)
		n.first = day
	case day-n.first >= len(n.values):
		n.values = append(n.values, make([]V, day-n.first-len(n.values)+1)...)
	}
	return &n.values[day-n.first]
}

type ruleTally struct {
	replay.RuleCount
	accounts int
}

type methodTally struct {
	times    int64
	accounts int
}

type signalTally struct {
	times, granted int64
	accounts       int
}

type useTally struct {
	times int64
	last  time.Time
}

// mostAddresses is how many addresses are followed, and mostOfAddress how many accounts of each are told
// apart.
const mostAddresses, mostOfAddress = 200_000, 200

type addressTally struct {
	granted, stopped int64
	// accounts counts how often each was stopped, between first and last, while not most were let in.
	accounts    map[int32]int32
	first, last time.Time
}

// isSprayed reports whether somebody seems to try many accounts from an address: several were stopped,
// and few were let in. From an office many are let in.
func (a *addressTally) isSprayed() bool {
	return len(a.accounts) >= fewestSprayed && 2*a.granted < a.stopped
}

// person is what is kept of an account.
type person struct {
	number int32
	counts replay.Counts
	// prompts has for each day one more than the step-ups of it, 0 where there were no attempts.
	prompts numbered[uint16]
	// byRule counts by rule how often it was stopped.
	byRule []stopsBy
	// methods and signals are those that were seen.
	methods, signals []string
	stops            []stop
	// firstStop and lastStop are when it was stopped, and grant is when it was let in last.
	firstStop, lastStop, grant time.Time
	// risk has attempts with risk by their address.
	risk []riskTally
}

// riskTally is what is kept of the attempts with risk of an account from an address.
type riskTally struct {
	from              netip.Addr
	level             directory.Level
	signals           []string
	attempts, granted int64
	first, last       time.Time
}

// mostWithRiskFrom is how many addresses of attempts with risk are told apart for an account; the others are
// counted together.
const mostWithRiskFrom = 16

// join adds what came from another address.
func (r *riskTally) join(other *riskTally) {
	if r.attempts == 0 {
		r.first, r.last = other.first, other.last
	}
	r.level = max(r.level, other.level)
	for _, s := range other.signals {
		if !slices.Contains(r.signals, s) {
			r.signals = append(r.signals, s)
		}
	}
	r.attempts += other.attempts
	r.granted += other.granted
	r.first, r.last = earlier(r.first, other.first), later(r.last, other.last)
}

// stopsBy is how often a rule stopped somebody.
type stopsBy struct {
	policy, rule string
	times        int32
}

// stop is when somebody was stopped at an app.
type stop struct {
	app string
	at  time.Time
}

// comeback is how soon after being stopped a grant is no first try.
const comeback = 10 * time.Minute

func newCollector(zone *time.Location) *collector {
	return &collector{zone: zone, seed: maphash.MakeSeed(), addresses: map[netip.Addr]*addressTally{}, people: map[string]*person{}}
}

// dayOf returns the number of the day of a moment: days since 1970 of its date in the zone.
func (c *collector) dayOf(at time.Time) int {
	if !at.Before(c.today.from) && at.Before(c.today.to) {
		return c.dayNow
	}
	year, month, day := at.In(c.zone).Date()
	c.dayNow = int(time.Date(year, month, day, 0, 0, 0, 0, time.UTC).Unix() / (24 * 60 * 60))
	// Around the hour of the moment no date begins or ends but at its borders.
	hour := at.Truncate(time.Hour)
	if a, b := hour.In(c.zone), hour.Add(time.Hour-time.Nanosecond).In(c.zone); a.Day() == b.Day() {
		c.today.from, c.today.to = hour, hour.Add(time.Hour)
	}
	return c.dayNow
}

// dateOf is the day of a number.
func dateOf(day int) string { return time.Unix(int64(day)*24*60*60, 0).UTC().Format(time.DateOnly) }

// see counts a decision.
func (c *collector) see(at time.Time, account string, b *journal.Brief) {
	day, v := c.dayOf(at), b.Verdict
	c.period.Include(at)
	c.verdicts.Add(v, 1)
	c.shadow.Add(b.WithShadow, 1)
	c.hours[at.In(c.zone).Hour()].Add(v, 1)
	c.days.at(day).Add(v, 1)
	c.apps.atMost(b.App, others).Add(v, 1)
	c.countries.at(cmp.Or(b.Country, "not known")).Add(v, 1)
	number := int32(0)
	if len(b.Causes) > 0 && b.Causes[0].Code == decide.AccountUnknown {
		// Somebody may invent millions of names. They are told apart by a hash, where they come from.
		number = -1 - int32(maphash.String(c.seed, account)>>33)
		account = unknownAccounts
	}
	p := c.people[account]
	if p == nil {
		p = &person{number: c.firstNumber + int32(len(c.people))}
		c.people[strings.Clone(account)] = p
	}
	p.counts.Add(v, 1)
	prompts := p.prompts.at(day)
	*prompts = max(*prompts, 1)
	if v == decide.StepUp && *prompts < math.MaxUint16 {
		*prompts++
	}
	c.seeWords(p, b)
	for _, name := range b.Excused {
		use := c.excused.at(name)
		use.times++
		use.last = later(use.last, at)
	}
	for _, name := range b.Due {
		if v != decide.Grant {
			continue
		}
		accounts := c.eased.at(name).at(day)
		if *accounts == nil {
			*accounts = map[int32]bool{}
		}
		(*accounts)[p.number] = true
	}
	if number == 0 {
		number = p.number
	}
	from := c.addressOf(b.IP)
	if v == decide.Grant {
		from.granted++
		c.granted(p, at, b.App)
	} else {
		from.stop(number, at)
		c.stopped(p, at, b)
	}
	c.seeRisk(p, at, account, b)
}

// seeWords counts methods and signals.
func (c *collector) seeWords(p *person, b *journal.Brief) {
	for _, name := range b.Proved {
		m := c.methods.at(name)
		m.times++
		if !slices.Contains(p.methods, name) {
			p.methods = append(p.methods, name)
			m.accounts++
		}
	}
	for _, name := range b.Signals {
		s := c.signals.at(name)
		s.times++
		if b.Verdict == decide.Grant {
			s.granted++
		}
		if !slices.Contains(p.signals, name) {
			p.signals = append(p.signals, name)
			s.accounts++
		}
	}
}

// granted notes a grant, and whether it was one at the first try.
func (c *collector) granted(p *person, at time.Time, app string) {
	p.grant = later(p.grant, at)
	if len(p.stops) == 0 {
		return
	}
	p.stops = slices.DeleteFunc(p.stops, func(s stop) bool {
		if s.app != app {
			return false
		}
		if since := at.Sub(s.at); since >= 0 && since <= comeback {
			c.cameBack++
		}
		return true
	})
}

// stopped notes that an attempt was not granted.
func (c *collector) stopped(p *person, at time.Time, b *journal.Brief) {
	if p.firstStop.IsZero() {
		p.firstStop = at
	}
	p.firstStop, p.lastStop = earlier(p.firstStop, at), later(p.lastStop, at)
	if i := slices.IndexFunc(p.stops, func(s stop) bool { return s.app == b.App }); i >= 0 {
		p.stops[i].at = at
	} else if len(p.stops) < 8 {
		p.stops = append(p.stops, stop{b.App, at})
	}
	for i := range b.Causes {
		cause := &b.Causes[i]
		name := cause.Rule
		if cause.Policy == "" {
			name = string(cause.Code)
		}
		r := c.rules.at([2]string{cause.Policy, name})
		r.Policy, r.Rule = cause.Policy, name
		if b.Verdict == decide.StepUp {
			r.Asked++
		} else {
			r.Blocks++
		}
		j := slices.IndexFunc(p.byRule, func(x stopsBy) bool { return x.policy == cause.Policy && x.rule == name })
		if j < 0 {
			r.accounts++
			j, p.byRule = len(p.byRule), append(p.byRule, stopsBy{policy: cause.Policy, rule: name})
		}
		p.byRule[j].times++
	}
}

// addressOf returns what is kept of an address; where it is not followed, what nobody looks at.
func (c *collector) addressOf(ip netip.Addr) *addressTally {
	a := c.addresses[ip]
	switch {
	case a != nil:
	case !ip.IsValid() || len(c.addresses) >= mostAddresses:
		a = new(addressTally)
	default:
		a = new(addressTally)
		c.addresses[ip] = a
	}
	return a
}

// stop notes that an attempt from the address was not granted. Of an office, from where most are let in,
// it does not follow whose it was.
func (a *addressTally) stop(account int32, at time.Time) {
	a.stopped++
	const doubtful = 20
	if 2*a.granted > a.stopped+doubtful {
		return
	}
	if a.accounts == nil {
		a.first, a.accounts = at, map[int32]int32{}
	}
	a.first, a.last = earlier(a.first, at), later(a.last, at)
	if _, told := a.accounts[account]; told || len(a.accounts) < mostOfAddress {
		a.accounts[account]++
	}
}

// withRisk is the level from which an attempt counts as one with risk.
const withRisk = directory.MediumRisk

// mostSignIns is how many attempts with risk are told.
const mostSignIns = 100

func (c *collector) seeRisk(p *person, at time.Time, account string, b *journal.Brief) {
	if b.Level < withRisk {
		return
	}
	from := b.IP
	i := slices.IndexFunc(p.risk, func(r riskTally) bool { return r.from == from })
	if i < 0 && len(p.risk) == mostWithRiskFrom {
		i = mostWithRiskFrom - 1
	}
	if i < 0 {
		i, p.risk = len(p.risk), append(p.risk, riskTally{from: from})
	}
	now := riskTally{level: b.Level, attempts: 1, first: at, last: at}
	if b.Verdict == decide.Grant {
		now.granted = 1
	}
	now.signals = b.Signals
	p.risk[i].join(&now)
	one := AttemptWithRisk{At: at, Account: strings.Clone(account), App: b.App, Country: b.Country, Level: b.Level, Score: b.Score,
		Signals: slices.Clone(b.Signals), Verdict: b.Verdict.String()}
	if b.IP.IsValid() {
		one.IP = b.IP.String()
	}
	if c.signIns = append(c.signIns, one); len(c.signIns) >= 4*mostSignIns {
		c.cutSignIns()
	}
}

// cutSignIns leaves the gravest: by their score, those that were granted before others, the latest first.
func (c *collector) cutSignIns() {
	granted := decide.Grant.String()
	slices.SortFunc(c.signIns, func(a, b AttemptWithRisk) int {
		first := 0
		if (a.Verdict == granted) != (b.Verdict == granted) {
			first = 1
			if a.Verdict == granted {
				first = -1
			}
		}
		return cmp.Or(
			cmp.Compare(b.Score, a.Score),
			first,
			b.At.Compare(a.At),
			strings.Compare(a.Account, b.Account),
			strings.Compare(a.App, b.App),
		)
	})
	c.signIns = c.signIns[:min(len(c.signIns), mostSignIns)]
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// enrolment counts for each day those who have enrolled a method of a rollout. Who has one now had it from
// the day after the last on which they were let in without.
func (c *collector) enrolment(rollout readiness.Rollout, days []Day) []DayCount {
	enrolled, lacks := 0, map[string]bool{}
	for i := range rollout.Accounts {
		if a := &rollout.Accounts[i]; len(a.Has) == 0 {
			lacks[a.Name] = true
		}
	}
	enrolled = rollout.Counts.People - len(lacks)
	last := map[int32]int{} // by account, the day on which it was let in without for the last time
	if eased := c.eased.all[rollout.Name]; eased != nil {
		for i, accounts := range eased.values {
			for account := range accounts {
				last[account] = eased.first + i
			}
		}
	}
	later := map[string]int{} // by day, how many are enrolled now and were let in without for the last time
	for name, p := range c.people {
		if day, was := last[p.number]; was && !lacks[name] {
			later[dateOf(day)]++
		}
	}
	counts := make([]DayCount, len(days))
	for i := len(days) - 1; i >= 0; i-- {
		enrolled -= later[days[i].Date]
		counts[i] = DayCount{days[i].Date, max(0, enrolled)}
	}
	return counts
}
