package inspect

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/watch/lookout"
	"github.com/briskwarden/briskwarden/watch/trial"
)

// Use is what a history shows of a book: which rules spoke, which exemptions excused somebody, where
// people came from. What nobody did in it may still be done: its checks say over how long they looked.
type Use struct {
	// Basis says how much of the history was judged. Where it is Unjudged, the checks find nothing, and
	// that says nothing.
	Basis replay.Basis

	mu sync.Mutex
	// spoke counts the attempts for which a rule spoke, by policy and rule, and applied those to which a
	// policy applied.
	spoke   map[[2]string]int64
	applied map[string]int64
	// changed counts the attempts that a shadow policy was about and that would have come to something
	// else were the shadows live.
	changed map[string]int64
	excused map[string]int64
	from    map[string]int64
	// tried has the apps that members of a group attempted to open.
	tried  map[[2]string]bool
	proven map[string]int64
	// prompts counts step-ups by account and day.
	prompts map[accountDay]int
	// rang says how often each alert would have rung.
	rang map[string]int64
}

type accountDay struct {
	account string
	day     string
}

// UseOf judges a history by a book and notes what it shows of it. It costs a full decision for each
// attempt.
func UseOf(ctx context.Context, b *book.Book, sources []replay.Source, o replay.Options) (*Use, error) {
	judge, err := b.Compile()
	if err != nil {
		return nil, err
	}
	judges, err := o.Judges([]*engine.Judge{judge})
	if err != nil {
		return nil, err
	}
	u := &Use{spoke: map[[2]string]int64{}, applied: map[string]int64{}, changed: map[string]int64{}, excused: map[string]int64{},
		from: map[string]int64{}, tried: map[[2]string]bool{}, proven: map[string]int64{}, prompts: map[accountDay]int{},
		rang: map[string]int64{}}
	watcher, err := lookout.New(judge, &b.Watch)
	if err != nil {
		return nil, err
	}
	watched := trial.New(watcher)
	ordered := replay.InOrder{Take: func(j *replay.Judged) {
		watched.Take(ctx, lookout.Decision{Number: j.Number, At: j.At, Account: j.Account, Brief: j.Brief})
	}}
	var counted replay.Counter
	reading, failed := replay.Walk(ctx, judges, sources, o, func() replay.Visit {
		var brief engine.Brief
		return func(ctx context.Context, number int64, filled []*attempt.Attempt) {
			a := filled[0]
			judges[0].Brief(ctx, a, &brief)
			counted.Count(a, &brief)
			d := judges[0].Decide(ctx, a)
			ordered.Add(replay.JudgedAs(number, a, &brief, d))
			u.mu.Lock()
			defer u.mu.Unlock()
			u.see(b, judge, a, d, brief.App)
		}
	})
	ordered.Flush()
	for i := range b.Watch.Alerts {
		u.rang[b.Watch.Alerts[i].Name] = watched.Rings(b.Watch.Alerts[i].Name)
	}
	u.Basis = counted.Basis(reading, o)
	return u, failed
}

// see notes one decision.
func (u *Use) see(b *book.Book, judge *engine.Judge, a *attempt.Attempt, d *decide.Decision, app string) {
	otherwise := d.WithShadow.Verdict != d.Verdict
	for i := range d.Policies {
		p := &d.Policies[i]
		if p.Rule == "" && len(p.Rules) == 0 {
			continue
		}
		u.applied[p.Name]++
		for _, rule := range append(slices.Clip(p.Rules), p.Rule) {
			if rule != "" {
				u.spoke[[2]string{p.Name, strings.Clone(rule)}]++
			}
		}
		if p.Stage == decide.Shadow && otherwise {
			u.changed[p.Name]++
		}
	}
	for _, n := range d.Notices {
		if n.Code == decide.Exempted {
			u.excused[n.Name]++
		}
	}
	if ip, ok := a.IP.Get(); ok {
		for i := range b.Networks {
			if slices.ContainsFunc(b.Networks[i].Ranges, func(r directory.Range) bool { return r.Contains(ip) }) {
				u.from[b.Networks[i].Name]++
			}
		}
	}
	for _, p := range a.Proofs {
		u.proven[strings.Clone(p.Method)]++
	}
	contents := judge.Directory()
	if profile, ok := contents.Find(a.Account); ok && app != "" {
		sure, _ := profile.Memberships()
		for _, g := range sure {
			u.tried[[2]string{contents.Groups[g].Name, app}] = true
		}
	}
	if d.Verdict == decide.StepUp {
		u.prompts[accountDay{strings.Clone(a.Account), a.At.In(b.Settings.Zone).Format(time.DateOnly)}]++
	}
}

// What is needed before a history says something about what nobody did: so many attempts, over so many
// days.
const (
	enoughAttempts = 200
	enoughDays     = 7
	// readyShadow is for how many attempts a shadow policy must have spoken to be called ready.
	readyShadow = 20
	// tooManyPrompts is how many on one day are too many to be read, and tooManyDays on how many days.
	tooManyPrompts, tooManyDays = 8, 2
)

// IsEnough reports whether the history is long enough for what nobody did in it to say something.
func (u *Use) IsEnough() bool {
	return u.Basis.Unjudged == "" && u.Basis.Attempts >= enoughAttempts && u.Basis.Last.Sub(u.Basis.First) >= enoughDays*24*time.Hour
}

// over says over how long was looked.
func (u *Use) over() string {
	return fmt.Sprintf(
		"in %s over %s",
		words.Count(int(u.Basis.Attempts), "attempt"),
		words.Count(int(u.Basis.Last.Sub(u.Basis.First)/(24*time.Hour))+1, "day"),
	)
}

// topicUse is the topic of what only use shows.
const topicUse = "use"

// Checks returns the checks for what only use shows, to be made beside those of the function Checks.
// Where the history is too short to say that nobody did something (IsEnough), those for that are not
// among them, so that nothing is earned by them.
func (u *Use) Checks() []Check {
	all := u.allChecks()
	if !u.IsEnough() {
		return all[:2]
	}
	return all
}

// allChecks returns the checks, those for which a short history does first.
func (u *Use) allChecks() []Check {
	return []Check{
		{"asked-too-often", topicUse, Warning, "somebody is asked so often that they stop reading",
			"A person who approves ten times a day approves the eleventh, which is somebody else's.",
			"Let a proof last longer (`within`), remember the device, or ask for less from known places.", u.askedTooOften},
		{"alert-rings-too-often", topicUse, Warning, "an alert that rings so often that nobody would listen",
			"A person who gets a letter every few hours stops reading them, and the one that matters is among them.",
			"Raise `at_least`, count by account or address (`by`), or say more in `when`; or make it a digest.", u.noisyAlerts},
		{"unused-exemption", topicUse, Note, "an exemption that nobody used",
			"Whom it excuses is asked for less, if they ever come; nobody would miss it.",
			"Take it out, or leave it to its end.", u.unusedExemptions},
		{"unused-rule", topicUse, Note, "a rule that spoke for nobody",
			"It may be shadowed, aimed at nobody, or for a case that has not come yet.",
			"Rehearse an attempt that it is meant for; take it out where there is none.", u.unusedRules},
		{"unused-network", topicUse, Note, "a network that nobody came from",
			"A range may be mistyped, or no longer one's own: then somebody else's addresses count as trusted.",
			"Compare it with what the provider says; take it out where it has gone.", u.unusedNetworks},
		{"unopened-app", topicUse, Note, "an app that a group is given and never opened",
			"What nobody needs is a way in for anyone who gets hold of one of its accounts.",
			"Take the group out of `open_to`, once its members were asked.", u.unopenedApps},
		{"unused-method", topicUse, Note, "a method that people have enrolled and nobody uses",
			"It is another way in, and nobody would notice that it was lost.",
			"Bar it, or have it taken off the accounts.", u.unusedMethods},
		{"shadow-is-ready", topicUse, Note, "a shadow policy that would change nothing",
			"It has spoken often and would have stopped nobody: it can go live.",
			"Set its stage to live, or widen `live_for`.", u.readyShadows},
	}
}

// tooManyRings is how often an alert rings in 30 days before nobody listens.
const tooManyRings = 100

func (u *Use) noisyAlerts(p *Pass) {
	days := max(1, u.Basis.Last.Sub(u.Basis.First).Hours()/24)
	for i := range p.Book.Watch.Alerts {
		a := &p.Book.Watch.Alerts[i]
		if n := u.rang[a.Name]; float64(n)*30/max(30, days) > tooManyRings {
			p.Report(a.Name, a.At, "The alert %s would have rung %s %s.", a.Name, words.Count(int(n), "time"), u.over())
		}
	}
}

func (u *Use) unusedExemptions(p *Pass) {
	for i := range p.Book.Exemptions {
		if x := &p.Book.Exemptions[i]; u.excused[x.Name] == 0 {
			p.Report(x.Name, x.At, "The exemption %s excused nobody %s.", x.Name, u.over())
		}
	}
}

func (u *Use) unusedRules(p *Pass) {
	for i := range p.Book.Policies {
		policy := &p.Book.Policies[i]
		if policy.Stage == decide.Draft || isForEmergencies(policy) {
			continue
		}
		for j := range policy.Rules {
			if rule := &policy.Rules[j]; u.spoke[[2]string{policy.Name, rule.Name}] == 0 {
				p.Report(policy.Name+"/"+rule.Name, rule.At, "The rule %s of %s spoke for nobody %s.", rule.Name, policy.Name, u.over())
			}
		}
	}
}

// isForEmergencies reports whether a policy names emergency accounts: that nobody used its rules is as
// it should be.
func isForEmergencies(policy *decide.Policy) bool {
	named := false
	condition.Walk(policy.Who, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key == engine.KeyKinds {
			named = named || slices.Contains(t.Values, directory.Emergency.String())
		}
		return true
	})
	return named
}

func (u *Use) unusedNetworks(p *Pass) {
	for i := range p.Book.Networks {
		if name := p.Book.Networks[i].Name; u.from[name] == 0 {
			p.Report(name, p.Book.Where("network", name), "Nobody came from the network %s %s.", name, u.over())
		}
	}
}

func (u *Use) unopenedApps(p *Pass) {
	for i := range p.Book.Apps {
		app := &p.Book.Apps[i]
		for _, group := range app.OpenTo {
			if !u.tried[[2]string{group, app.Name}] {
				p.Report(app.Name+"/"+group, p.Book.Where("app", app.Name), "No member of %s tried to open %s %s.", group, app.Name, u.over())
			}
		}
	}
}

func (u *Use) askedTooOften(p *Pass) {
	days, worst := map[string]int{}, map[string]int{}
	for at, prompts := range u.prompts {
		if prompts >= tooManyPrompts {
			days[at.account]++
			worst[at.account] = max(worst[at.account], prompts)
		}
	}
	for _, account := range slices.Sorted(maps.Keys(days)) {
		if days[account] >= tooManyDays {
			p.Report(account, p.Book.Where("account", account), "%s was asked for more on %s at least %d times, at worst %d times.", account,
				words.Count(days[account], "day"), tooManyPrompts, worst[account])
		}
	}
}

func (u *Use) unusedMethods(p *Pass) {
	enrolled := map[string]int{}
	for i := range p.Book.Accounts {
		for _, method := range p.Book.Accounts[i].Methods {
			enrolled[method]++
		}
	}
	for _, method := range slices.Sorted(maps.Keys(enrolled)) {
		if u.proven[method] == 0 {
			p.Report(
				method,
				p.Book.Where("setting", "zone"),
				"%s enrolled %s, and nobody proved it %s.",
				words.Count(enrolled[method], "account"),
				method,
				u.over(),
			)
		}
	}
}

func (u *Use) readyShadows(p *Pass) {
	for i := range p.Book.Policies {
		policy := &p.Book.Policies[i]
		if policy.Stage == decide.Shadow && u.applied[policy.Name] >= readyShadow && u.changed[policy.Name] == 0 {
			p.Report(policy.Name, policy.At, "The shadow policy %s spoke for %s and would have changed none of them, %s.", policy.Name,
				words.Count(int(u.applied[policy.Name]), "attempt"), u.over())
		}
	}
}
