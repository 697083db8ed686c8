// Package rehearse judges one imagined attempt and tells what an administrator
// wants to know beside the verdict: what to do about it, where the address
// lies, and which facts that are missing would change the answer.
package rehearse

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/estate"
)

// Report is a decision with the findings of the rehearsal.
type Report struct {
	*decide.Decision
	Rehearsal Rehearsal `json:"rehearsal"`
}

// Rehearsal is what is told beside the decision.
type Rehearsal struct {
	Attempt *attempt.Attempt `json:"attempt"`
	// ToDo says what would help, in sentences.
	ToDo []string `json:"to_do"`
	// Assumed says what was taken for granted, in sentences.
	Assumed []string `json:"assumed"`
	// Place says where the address lies, "" where there is none.
	Place string `json:"place,omitzero"`
	// Warnings are contradictions in what was said.
	Warnings []string `json:"warnings"`
	// Missing are the unknown facts, one at a time, and what they would change.
	Missing []Missing `json:"missing"`
}

// Missing is a fact that is not known, with the verdicts that it could bring.
type Missing struct {
	Fact string `json:"fact"`
	// Changes says that at least one value brings another verdict.
	Changes  bool       `json:"changes"`
	Verdicts []Bringing `json:"verdicts"`
}

// Bringing says which values of a fact bring a verdict.
type Bringing struct {
	Verdict decide.Verdict `json:"verdict"`
	Values  []string       `json:"values"`
}

// String is the finding in one line.
func (m Missing) String() string {
	if !m.Changes {
		return m.Fact + ": whatever it is, the verdict stays"
	}
	var parts []string
	for _, b := range m.Verdicts {
		values := b.Values
		if len(values) > mostValues {
			values = append(slices.Clone(values[:mostValues]), fmt.Sprintf("%d more", len(b.Values)-mostValues))
		}
		parts = append(parts, fmt.Sprintf("%s if %s", Words(b.Verdict), strings.Join(values, ", ")))
	}
	return m.Fact + ": " + strings.Join(parts, "; ")
}

// mostValues is how many values of a fact a line names.
const mostValues = 6

// Words returns the verdict as a person says it.
func Words(v decide.Verdict) string { return strings.ReplaceAll(v.String(), "_", " ") }

// Rehearse judges the attempt. What was assumed in making it is passed on.
func Rehearse(judge *decide.Judge, a *attempt.Attempt, assumed []string) *Report {
	d := judge.Decide(a)
	r := &Report{d, Rehearsal{Attempt: a, ToDo: []string{}, Assumed: assumed, Warnings: []string{}, Missing: []Missing{}}}
	if assumed == nil {
		r.Rehearsal.Assumed = []string{}
	}
	r.describePlace(judge.Estate())
	if !r.Refused() {
		r.findMissing(judge)
	}
	r.advise(judge)
	return r
}

// Refused tells that the attempt was stopped before any policy was asked.
func (r *Report) Refused() bool {
	switch r.Causes[0].Code {
	case decide.AccountUnknown, decide.AccountDisabled, decide.AppUnknown, decide.AppNotOpen:
		return true
	}
	return false
}

// describePlace names the networks of the address, or the nearest one, and
// warns where a network and the stated country disagree.
func (r *Report) describePlace(e *estate.Estate) {
	ip, ok := r.Rehearsal.Attempt.IP.Get()
	if !ok {
		return
	}
	ip = ip.Unmap()
	place := e.Place(ip)
	names := e.NetworkNames(place)
	stated, isStated := r.Rehearsal.Attempt.Country.Get()
	if isStated && place.Country != "" && stated != place.Country {
		r.Rehearsal.Warnings = append(r.Rehearsal.Warnings, fmt.Sprintf("The attempt states %s, but %s is in %s, where %s lies; the network's country counts.",
			stated, ip, place.Country, strings.Join(names, ", ")))
	}
	if len(names) > 0 {
		about := ""
		if place.Ours {
			about = ", an own network"
		}
		if place.Country != "" {
			about += ", in " + string(place.Country)
		}
		r.Rehearsal.Place = fmt.Sprintf("%s lies in %s%s.", ip, strings.Join(names, ", "), about)
		return
	}
	r.Rehearsal.Place = fmt.Sprintf("%s lies in no network of the book.", ip)
	if near, ok := e.NearestNetwork(ip); ok {
		r.Rehearsal.Place = fmt.Sprintf("%s lies in no network of the book; the nearest is %s (%s)", ip, near.Network, near.Range)
		if near.Away.IsUint64() && near.Away.Uint64() < 1<<16 {
			r.Rehearsal.Place += fmt.Sprintf(", %s away", addressCount(near.Away.Uint64()))
		}
		r.Rehearsal.Place += "."
	}
}

// candidate is one value that a missing fact could have.
type candidate struct {
	words string
	set   func(*attempt.Attempt)
}

// findMissing tries, for each unknown fact alone, the values that could matter.
func (r *Report) findMissing(judge *decide.Judge) {
	a := r.Rehearsal.Attempt
	place, addressed := (*estate.Place)(nil), false
	if ip, ok := a.IP.Get(); ok {
		place, addressed = judge.Estate().Place(ip), true
	}
	if a.IP.IsUnknown() {
		r.tryAll(judge, "ip", addresses(judge))
	}
	if a.Country.IsUnknown() && !(addressed && place.Country != "") {
		r.tryAll(judge, "country", countries(judge))
	}
	if a.Through.IsUnknown() {
		r.tryAll(judge, "through", throughs())
	}
}

func (r *Report) tryAll(judge *decide.Judge, fact string, candidates []candidate) {
	by := map[decide.Verdict][]string{}
	for _, c := range candidates {
		changed := *r.Rehearsal.Attempt
		c.set(&changed)
		v := judge.Verdict(&changed)
		by[v] = append(by[v], c.words)
	}
	m := Missing{Fact: fact, Verdicts: []Bringing{}}
	for _, v := range []decide.Verdict{decide.Grant, decide.StepUp, decide.Block} {
		if len(by[v]) > 0 {
			m.Verdicts = append(m.Verdicts, Bringing{v, by[v]})
			m.Changes = m.Changes || v != r.Verdict
		}
	}
	r.Rehearsal.Missing = append(r.Rehearsal.Missing, m)
}

// addresses returns one address of each network, and one of none.
func addresses(judge *decide.Judge) []candidate {
	e := judge.Estate()
	var found []candidate
	at := func(words string, ip netip.Addr) {
		found = append(found, candidate{words, func(a *attempt.Attempt) { a.IP = attempt.Known(ip) }})
	}
	for _, n := range e.Networks {
		at(n.Name, n.Ranges[0].From)
	}
	for _, l := range e.Literals {
		at(l.String(), l.From)
	}
	// An address outside is next to one inside: what lies around all networks
	// can be all of them only if they cover everything.
	outside := []netip.Addr{netip.MustParseAddr("192.0.2.1")}
	for _, n := range e.Networks {
		for _, r := range n.Ranges {
			outside = append(outside, r.From.Prev(), r.To.Next())
		}
	}
	for _, ip := range outside {
		if ip.IsValid() && len(e.Place(ip).Networks) == 0 {
			at("any other", ip)
			break
		}
	}
	return found
}

// countries returns the regions and countries that the book names, and one that
// it does not.
func countries(judge *decide.Judge) []candidate {
	e := judge.Estate()
	var codes []string
	for _, value := range judge.Values(condition.Countries) {
		for _, region := range e.Regions {
			if region.Name == value {
				for _, c := range region.Countries {
					codes = append(codes, string(c))
				}
				value = ""
			}
		}
		if value != "" {
			codes = append(codes, value)
		}
	}
	slices.Sort(codes)
	codes = slices.Compact(codes)
	var found []candidate
	at := func(words string, code attempt.CountryCode) {
		found = append(found, candidate{words, func(a *attempt.Attempt) { a.Country = attempt.Known(code) }})
	}
	for _, code := range codes {
		at(code, attempt.CountryCode(code))
	}
	for _, code := range []attempt.CountryCode{"ZZ", "QZ"} { // codes that ISO 3166-1 leaves unassigned
		if !slices.Contains(codes, string(code)) {
			at("any other", code)
			break
		}
	}
	return found
}

func throughs() []candidate {
	var found []candidate
	for i, word := range attempt.Throughs() {
		found = append(found, candidate{word, func(a *attempt.Attempt) { a.Through = attempt.Known(attempt.Through(i)) }})
	}
	return found
}

// advise says what would help, the nearest thing first.
func (r *Report) advise(judge *decide.Judge) {
	do := func(format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if !slices.Contains(r.Rehearsal.ToDo, text) {
			r.Rehearsal.ToDo = append(r.Rehearsal.ToDo, text)
		}
	}
	a, e := r.Rehearsal.Attempt, judge.Estate()
	for _, c := range r.Causes {
		switch c.Code {
		case decide.AccountUnknown:
			do("%s", didYouMean("account", e.NearestAccounts(a.Account, 3)))
		case decide.AppUnknown:
			do("%s", didYouMean("app", e.NearestApps(a.App, 3)))
		case decide.AccountDisabled:
			do("Take `disabled` off the account if it may sign on again.")
		case decide.AppNotOpen:
			app, _ := e.FindApp(a.App)
			do("Add the account to one of %s, or open the app to one of its groups.", strings.Join(e.Apps[app].OpenTo, ", "))
		case decide.RuleBlocks:
			do("No proof lifts a block. The rule stands at %s.", judge.RulePosition(c.Policy, c.Rule))
		case decide.RuleMayBlock:
			do("%s The rule stands at %s.", r.findOut(), judge.RulePosition(c.Policy, c.Rule))
		case decide.OtherwiseBlocks:
			do("Give %s a live policy that surely speaks for this account, or see below why those there are do not.", a.App)
		case decide.CannotBeAsked:
			do("Bring the proof along with the attempt, or sign on through a browser or a native app.")
		}
	}
	if r.Refused() {
		return
	}
	for _, d := range r.Demands {
		if d.Met || r.Verdict != decide.StepUp {
			continue
		}
		switch {
		case d.Kind == decide.DemandEnrol:
			do("Let %s enrol one of %s: the account has none.", a.Account, strings.Join(d.AnyOf, ", "))
		case len(d.Offer) > 0:
			do("Prove %s.", strings.Join(d.Offer, " or "))
		default:
			do("Prove another method first, then one of %s.", strings.Join(d.AnyOf, ", "))
		}
	}
}

// findOut names the missing facts that decide.
func (r *Report) findOut() string {
	var facts []string
	for _, m := range r.Rehearsal.Missing {
		if m.Changes {
			facts = append(facts, m.Fact)
		}
	}
	if len(facts) == 0 {
		return "No one missing fact alone decides."
	}
	return "Find out the " + strings.Join(facts, " or the ") + "."
}

func addressCount(n uint64) string {
	if n == 1 {
		return "1 address"
	}
	return fmt.Sprintf("%d addresses", n)
}

func didYouMean(what string, near []string) string {
	if len(near) == 0 {
		return fmt.Sprintf("No %s of the book has a name like that.", what)
	}
	return "Did you mean " + strings.Join(near, " or ") + "?"
}
