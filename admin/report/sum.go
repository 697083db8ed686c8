package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/words"
)

// How many rows a part of the report has at most; --json of the lists behind them has all.
const (
	mostRules     = 50
	mostPeople    = 50
	mostNamed     = 50
	mostWithRisk  = 100
	fewestSprayed = 4 // accounts that were stopped from one address, to be told
)

// sum makes the report of what was counted.
func (c *collector) sum(r *Report) {
	r.Verdicts, r.Shadow, r.Hours, r.Accounts = c.verdicts, c.shadow, c.hours, len(c.people)
	r.First, r.Last = c.period.First, c.period.Last
	r.Days = []Day{}
	for i, counts := range c.days.values {
		r.Days = append(r.Days, Day{dateOf(c.days.first + i), counts})
	}
	r.Apps, r.Countries = named(c.apps.all), named(c.countries.all)
	r.Rules = []Rule{}
	for _, tally := range c.rules.all {
		f := filter{policy: tally.Policy, rule: tally.Rule}
		if tally.Policy == "" {
			f = filter{cause: tally.Rule}
		}
		r.Rules = append(r.Rules, Rule{tally.RuleCount, tally.accounts, r.command(f)})
	}
	slices.SortFunc(r.Rules, func(a, b Rule) int { return a.Compare(b.RuleCount) })
	r.Rules = r.Rules[:min(mostRules, len(r.Rules))]
	c.sumWords(r)
	c.sumPeople(r)
	c.sumRisk(r)
	c.sumWork(r)
}

func named(counts map[string]*replay.Counts) []replay.NamedCount {
	list := []replay.NamedCount{}
	for name, c := range counts {
		list = append(list, replay.NamedCount{Name: name, Counts: *c})
	}
	replay.SortCounts(list, replay.Counts.All)
	return list[:min(mostNamed, len(list))]
}

func (c *collector) sumWords(r *Report) {
	r.Methods, r.Noticed = []Method{}, []Noticing{}
	for _, name := range slices.Sorted(maps.Keys(c.methods.all)) {
		m := c.methods.all[name]
		r.Methods = append(r.Methods, Method{name, m.times, m.accounts})
	}
	slices.SortStableFunc(r.Methods, func(a, b Method) int { return cmp.Compare(b.Times, a.Times) })
	for _, name := range slices.Sorted(maps.Keys(c.signals.all)) {
		s := c.signals.all[name]
		r.Noticed = append(r.Noticed, Noticing{name, s.times, s.accounts, s.granted})
	}
	slices.SortStableFunc(r.Noticed, func(a, b Noticing) int { return cmp.Compare(b.Times, a.Times) })
}

func (c *collector) sumPeople(r *Report) {
	r.Stopped = []Person{}
	sprayed := map[int32]int64{}
	for _, a := range c.addresses {
		if a.isSprayed() {
			for account, times := range a.accounts {
				sprayed[account] += int64(times)
			}
		}
	}
	for name, p := range c.people {
		if p.counts.Block == 0 {
			continue
		}
		one := Person{
			Account: name,
			Counts:  p.counts,
			own:     p.counts.Block + p.counts.StepUp - sprayed[p.number],
			First:   p.firstStop,
			Last:    p.lastStop,
			Granted: p.grant,
		}
		most := int32(0)
		for _, x := range p.byRule {
			if c.rules.at([2]string{x.policy, x.rule}).Blocks > 0 && (x.times > most || x.times == most && x.rule < one.Rule) {
				most, one.Policy, one.Rule = x.times, x.policy, x.rule
			}
		}
		r.Stopped = append(r.Stopped, one)
	}
	slices.SortFunc(r.Stopped, func(a, b Person) int {
		return cmp.Or(cmp.Compare(b.Counts.Block, a.Counts.Block), strings.Compare(a.Account, b.Account))
	})
	r.Stopped = r.Stopped[:min(mostPeople, len(r.Stopped))]
	for i := range r.Stopped {
		f := filter{account: r.Stopped[i].Account, verdicts: "block,step_up"}
		if f.account == unknownAccounts {
			f = filter{cause: string(decide.AccountUnknown)}
		}
		r.Stopped[i].Command = r.command(f)
	}
	r.Addresses = []Address{}
	for ip, a := range c.addresses {
		if a.isSprayed() {
			r.Addresses = append(r.Addresses, Address{IP: ip.String(), Stopped: a.stopped, Granted: a.granted, Accounts: len(a.accounts),
				First: a.first, Last: a.last})
		}
	}
	slices.SortFunc(r.Addresses, func(a, b Address) int {
		return cmp.Or(cmp.Compare(b.Accounts, a.Accounts), cmp.Compare(b.Stopped, a.Stopped), strings.Compare(a.IP, b.IP))
	})
	r.Addresses = r.Addresses[:min(mostNamed, len(r.Addresses))]
	for i := range r.Addresses {
		r.Addresses[i].Command = r.command(filter{ip: r.Addresses[i].IP, verdicts: "block,step_up"})
	}
}

func (c *collector) sumRisk(r *Report) {
	r.AccountsWithRisk = []AccountWithRisk{}
	for name, p := range c.people {
		if len(p.risk) == 0 {
			continue
		}
		var all, own riskTally
		for i := range p.risk {
			all.join(&p.risk[i])
			if a := c.addresses[p.risk[i].from]; a == nil || !a.isSprayed() {
				own.join(&p.risk[i])
			}
		}
		told := func(t *riskTally) *AccountWithRisk {
			return &AccountWithRisk{Account: name, Level: t.level, Signals: slices.Sorted(slices.Values(t.signals)), Attempts: t.attempts,
				Granted: t.granted, Since: t.first, Last: t.last, letIn: p.grant}
		}
		one := told(&all)
		if own.attempts > 0 {
			one.own = told(&own)
		}
		r.AccountsWithRisk = append(r.AccountsWithRisk, *one)
	}
	slices.SortFunc(r.AccountsWithRisk, func(a, b AccountWithRisk) int {
		return cmp.Or(
			cmp.Compare(b.Level, a.Level),
			cmp.Compare(b.Granted, a.Granted),
			cmp.Compare(b.Attempts, a.Attempts),
			strings.Compare(a.Account, b.Account),
		)
	})
	r.AccountsWithRisk = r.AccountsWithRisk[:min(mostWithRisk, len(r.AccountsWithRisk))]
	for i := range r.AccountsWithRisk {
		a := &r.AccountsWithRisk[i]
		a.Command = r.command(filter{account: a.Account})
		if a.own != nil {
			a.own.Command = a.Command
		}
	}
	c.cutSignIns()
	r.AttemptsWithRisk = append([]AttemptWithRisk{}, c.signIns...)
}

// sumWork sums up how often people were asked, and whether they got in.
func (c *collector) sumWork(r *Report) {
	w := &r.Work
	w.Grants, w.CameBack, w.FirstTry = c.verdicts.Grant, c.cameBack, c.verdicts.Grant-c.cameBack
	var spread []int64 // how many person-days have so many prompts
	total := int64(0)
	w.Asked = []Asked{}
	for name, p := range c.people {
		for i, n := range p.prompts.values {
			if n == 0 {
				continue
			}
			prompts := int(n) - 1
			for len(spread) <= prompts {
				spread = append(spread, 0)
			}
			spread[prompts]++
			w.PersonDays++
			total += int64(prompts)
			if prompts > 0 {
				w.Asked = append(w.Asked, Asked{Account: name, Date: dateOf(p.prompts.first + i), Prompts: prompts})
			}
		}
		if len(w.Asked) > 4*mostPeople {
			w.cutAsked()
		}
	}
	w.cutAsked()
	for i := range w.Asked {
		a := &w.Asked[i]
		day, _ := time.ParseInLocation(time.DateOnly, a.Date, c.zone) // it was written so
		a.Command = r.command(filter{account: a.Account, verdicts: "step_up", from: day, to: day.AddDate(0, 0, 1)})
	}
	if w.PersonDays == 0 {
		return
	}
	w.Prompts = Spread{
		Mean:   float64(total) / float64(w.PersonDays),
		Median: quantile(spread, w.PersonDays, 50),
		P95:    quantile(spread, w.PersonDays, 95),
		Worst:  len(spread) - 1,
	}
}

// quantile returns the least number that so many of a hundred do not exceed (the nearest rank).
func quantile(spread []int64, all, percent int64) int {
	rank, below := (all*percent+99)/100, int64(0)
	for n, times := range spread {
		if below += times; below >= rank {
			return n
		}
	}
	return len(spread) - 1
}

func (w *Work) cutAsked() {
	slices.SortFunc(w.Asked, func(a, b Asked) int {
		return cmp.Or(cmp.Compare(b.Prompts, a.Prompts), strings.Compare(a.Date, b.Date), strings.Compare(a.Account, b.Account))
	})
	w.Asked = w.Asked[:min(mostPeople, len(w.Asked))]
}

// plots are what is drawn, of the very numbers of the report.
func (r *Report) plots() []Plot {
	byVerdict := func(name, title string, labels []string, counts []replay.Counts) Plot {
		p := Plot{Name: name, Title: title, Labels: labels, Series: []Series{{Name: "granted"}, {Name: "asked for more"}, {Name: "blocked"}}}
		for _, c := range counts {
			for i, n := range []int64{c.Grant, c.StepUp, c.Block} {
				p.Series[i].Values = append(p.Series[i].Values, n)
			}
		}
		return p
	}
	var days, hours []string
	var byDay []replay.Counts
	for _, d := range r.Days {
		days, byDay = append(days, d.Date), append(byDay, d.Counts)
	}
	for hour := range r.Hours {
		hours = append(hours, fmt.Sprintf("%02d", hour))
	}
	plots := []Plot{
		byVerdict("days", "Decisions by day", days, byDay),
		byVerdict("hours", "Decisions by hour of the day", hours, r.Hours[:]),
	}
	rules := Plot{Name: "rules", Title: "What stopped or asked most", Series: []Series{{Name: "asked for more"}, {Name: "blocked"}}}
	for _, rule := range r.Rules[:min(10, len(r.Rules))] {
		rules.Labels = append(rules.Labels, rule.name())
		rules.Series[0].Values = append(rules.Series[0].Values, rule.Asked)
		rules.Series[1].Values = append(rules.Series[1].Values, rule.Blocks)
	}
	plots = append(plots, rules)
	if r.Score != nil && len(r.Score.Moved) > 0 {
		p := Plot{Name: "score", Title: "Points of inspect, by book in force", Series: []Series{{Name: "reached"}, {Name: "open"}}}
		for _, at := range r.Score.Moved {
			p.Labels = append(p.Labels, at.At.In(r.zone).Format("2006-01-02 15:04"))
			p.Series[0].Values = append(p.Series[0].Values, int64(at.Reached))
			p.Series[1].Values = append(p.Series[1].Values, int64(at.Possible-at.Reached))
		}
		plots = append(plots, p)
	}
	for _, rollout := range r.Rollouts {
		p := Plot{Name: "enrolment-" + rollout.Name, Title: "Enrolled by day: " + rollout.Name,
			Series: []Series{{Name: "enrolled"}, {Name: "not enrolled"}}}
		for _, d := range rollout.Enrolled {
			p.Labels = append(p.Labels, d.Date)
			p.Series[0].Values = append(p.Series[0].Values, int64(d.Count))
			p.Series[1].Values = append(p.Series[1].Values, int64(rollout.Counts.People-d.Count))
		}
		plots = append(plots, p)
	}
	for _, rollout := range r.Rollouts {
		p := Plot{
			Name:   "rollout-" + rollout.Name,
			Title:  "Let in by day though not enrolled: " + rollout.Name,
			Series: []Series{{Name: "accounts"}},
		}
		for _, d := range rollout.Eased {
			p.Labels, p.Series[0].Values = append(p.Labels, d.Date), append(p.Series[0].Values, int64(d.Count))
		}
		if len(p.Labels) > 0 {
			plots = append(plots, p)
		}
	}
	return slices.DeleteFunc(plots, func(p Plot) bool { return len(p.Labels) == 0 })
}

// name is a rule as it is written.
func (r *Rule) name() string {
	if r.Policy == "" {
		return strings.ReplaceAll(r.Rule, "_", " ")
	}
	return r.Policy + " / " + r.Rule
}

func percent(part, whole int64) string {
	if whole == 0 {
		return "0 %"
	}
	return fmt.Sprintf("%.1f %%", 100*float64(part)/float64(whole))
}

// sentences writes the three sentences at the beginning.
func (r *Report) sentences() {
	all := r.Verdicts.All()
	if all == 0 {
		r.Happened = "Nothing was decided in this stretch of time, so nothing can be concluded from it."
		r.Wrong = "Whether anything is wrong cannot be said."
		r.Do = "Widen the stretch with --from or --last, or see whether the door is asked at all."
	} else {
		first, last := r.First.In(r.zone).Format("2 January"), r.Last.In(r.zone).Format("2 January 2006")
		days := "from " + first + " to " + last
		if r.First.In(r.zone).Format(time.DateOnly) == r.Last.In(r.zone).Format(time.DateOnly) {
			days = "on " + last
		}
		r.Happened = fmt.Sprintf("%s by %s %s: %s granted, %s asked for more, %s blocked.",
			words.Count(int(all), "attempt"), words.Count(r.Accounts, "account"), days, percent(r.Verdicts.Grant, all),
			percent(r.Verdicts.StepUp, all), percent(r.Verdicts.Block, all))
		switch n := len(r.Troubles); n {
		case 0:
			r.Wrong = "Nothing looks wrong by what this report looks at; what nobody attempted it cannot see."
			r.Do = "Look at what to do next below."
		default:
			r.Wrong = fmt.Sprintf("%s, the worst: %s", words.Count(n, "thing")+lookWrong(n), r.Troubles[0].Text)
			r.Do = "First: " + r.Troubles[0].Do
		}
	}
	if r.Basis != nil && r.Basis.Unjudged != "" {
		r.Happened = "Nothing can be concluded from the history: " + r.Basis.Unjudged + "."
		r.Wrong, r.Do = "Whether anything is wrong cannot be said.", "Put that right, and make the report again."
	}
}

func lookWrong(n int) string {
	if n == 1 {
		return " looks wrong"
	}
	return " look wrong"
}
