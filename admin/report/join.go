package report

import (
	"context"
	"hash/maphash"
	"iter"
	"maps"
	"runtime"
	"slices"
	"sync"

	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// A journal is counted by several goroutines, each for accounts of its own, so that what is known of an
// account is known to one of them. At the end what they counted is added up.

// betweenCounters is how many entries go from the one that reads to one that counts at a time.
const betweenCounters = 2048

// isOld reports whether a decision was recorded before there were briefs, and not pruned, so that it has
// to be read whole.
func isOld(e *journal.Entry) bool {
	return e.Kind == journal.Decision && e.Brief == nil && e.Account != ""
}

// whole returns the decisions of a store that a filter leaves, without their leaves, but those that are to be read
// whole with them. They stand before all others.
func whole(ctx context.Context, s store.Store, f journal.Filter) iter.Seq2[journal.Entry, error] {
	return func(yield func(journal.Entry, error) bool) {
		f.Bare = true
		read := false
		for e, err := range s.Entries(ctx, f) {
			if err != nil || !isOld(&e) {
				if !yield(e, err) {
					return
				}
				continue
			}
			if read {
				continue
			}
			read = true
			old := f
			old.Bare, old.Match = false, isOld
			for e, err := range s.Entries(ctx, old) {
				if !yield(e, err) {
					return
				}
			}
		}
	}
}

// counted counts the decisions that a filter leaves.
func (c *collector) counted(entries iter.Seq2[journal.Entry, error]) error {
	workers := runtime.GOMAXPROCS(0)
	seed := maphash.MakeSeed()
	collectors, failed := make([]*collector, workers), make([]error, workers)
	channels, batches := make([]chan []journal.Entry, workers), make([][]journal.Entry, workers)
	var group sync.WaitGroup
	for i := range workers {
		collectors[i], channels[i] = newCollector(c.zone), make(chan []journal.Entry, 4)
		collectors[i].firstNumber = int32(i) << 26 // more accounts than memory holds
		group.Go(func() { failed[i] = collectors[i].countAll(channels[i]) })
	}
	var unread error
	for e, err := range entries {
		if unread = err; err != nil {
			break
		}
		if e.Brief == nil && e.Leaf == nil { // it was pruned
			continue
		}
		i := int(maphash.String(seed, e.Account) % uint64(workers))
		if batches[i] = append(batches[i], e); len(batches[i]) == betweenCounters {
			channels[i] <- batches[i]
			batches[i] = make([]journal.Entry, 0, betweenCounters)
		}
	}
	for i := range workers {
		channels[i] <- batches[i]
		close(channels[i])
	}
	group.Wait()
	if unread != nil {
		return unread
	}
	for i := range workers {
		if failed[i] != nil {
			return failed[i]
		}
		c.join(collectors[i])
	}
	return nil
}

// joinUnknown adds what another collector knows of the accounts that nobody knows, which are one to all
// collectors.
func (c *collector) joinUnknown(p, o *person) {
	p.counts.Join(o.counts)
	for i, n := range o.prompts.values {
		if n > 0 {
			into := p.prompts.at(o.prompts.first + i)
			*into = max(*into, 1) + n - 1
		}
	}
	for _, by := range o.byRule {
		i := slices.IndexFunc(p.byRule, func(x stopsBy) bool { return x.policy == by.policy && x.rule == by.rule })
		if i < 0 {
			p.byRule = append(p.byRule, by)
			continue
		}
		p.byRule[i].times += by.times
		c.rules.at([2]string{by.policy, by.rule}).accounts--
	}
	for _, name := range o.methods {
		if slices.Contains(p.methods, name) {
			c.methods.at(name).accounts--
		} else {
			p.methods = append(p.methods, name)
		}
	}
	for _, name := range o.signals {
		if slices.Contains(p.signals, name) {
			c.signals.at(name).accounts--
		} else {
			p.signals = append(p.signals, name)
		}
	}
	for i := range o.risk {
		j := slices.IndexFunc(p.risk, func(r riskTally) bool { return r.from == o.risk[i].from })
		if j < 0 {
			p.risk = append(p.risk, o.risk[i])
		} else {
			p.risk[j].join(&o.risk[i])
		}
	}
	p.firstStop, p.lastStop, p.grant = earlier(p.firstStop, o.firstStop), later(p.lastStop, o.lastStop), later(p.grant, o.grant)
}

// join adds what another collector counted, which has other accounts.
func (c *collector) join(o *collector) {
	c.period.Join(o.period)
	c.verdicts.Join(o.verdicts)
	c.shadow.Join(o.shadow)
	for i := range o.hours {
		c.hours[i].Join(o.hours[i])
	}
	for i, counts := range o.days.values {
		c.days.at(o.days.first + i).Join(counts)
	}
	for name, counts := range o.apps.all {
		c.apps.at(name).Join(*counts)
	}
	for name, counts := range o.countries.all {
		c.countries.at(name).Join(*counts)
	}
	for name, r := range o.rules.all {
		into := c.rules.at(name)
		into.Policy, into.Rule = r.Policy, r.Rule
		into.Asked, into.Blocks, into.accounts = into.Asked+r.Asked, into.Blocks+r.Blocks, into.accounts+r.accounts
	}
	for name, m := range o.methods.all {
		into := c.methods.at(name)
		into.times, into.accounts = into.times+m.times, into.accounts+m.accounts
	}
	for name, s := range o.signals.all {
		into := c.signals.at(name)
		into.times, into.granted, into.accounts = into.times+s.times, into.granted+s.granted, into.accounts+s.accounts
	}
	for name, use := range o.excused.all {
		into := c.excused.at(name)
		into.times, into.last = into.times+use.times, later(into.last, use.last)
	}
	for name, eased := range o.eased.all {
		for i, accounts := range eased.values {
			into := c.eased.at(name).at(eased.first + i)
			if *into == nil {
				*into = map[int32]bool{}
			}
			maps.Copy(*into, accounts)
		}
	}
	for ip, a := range o.addresses {
		into := c.addressOf(ip)
		into.granted += a.granted
		into.stopped += a.stopped
		if a.accounts == nil {
			continue
		}
		if into.accounts == nil {
			into.first, into.last, into.accounts = a.first, a.last, map[int32]int32{}
		}
		into.first, into.last = earlier(into.first, a.first), later(into.last, a.last)
		maps.Copy(into.accounts, a.accounts)
	}
	if mine, theirs := c.people[unknownAccounts], o.people[unknownAccounts]; mine != nil && theirs != nil {
		c.joinUnknown(mine, theirs)
		o.people[unknownAccounts] = mine
	}
	maps.Copy(c.people, o.people)
	c.signIns = append(c.signIns, o.signIns...)
	c.cameBack += o.cameBack
}
