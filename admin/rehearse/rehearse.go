// Package rehearse judges one imagined attempt and reports what an administrator
// wants to know beside the verdict: what to do about it, where the address
// lies, and which facts that are missing would change the answer.
package rehearse

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// Report is a decision with the findings of the rehearsal.
type Report struct {
	*decide.Decision
	Rehearsal Rehearsal `json:"rehearsal" doc:"what is told beside the decision"`
}

// Rehearsal is what is told beside the decision.
type Rehearsal struct {
	Attempt *attempt.Attempt `json:"attempt" doc:"the attempt that was judged"`
	// App is the name of the app that the attempt's identifier or address is of.
	App string `json:"app,omitzero" doc:"the name of the app that it is for; absent where the book has none"`
	// Terms are what the book asks for in these circumstances, in words, whatever was proven.
	Terms string `json:"terms" doc:"what the book asks for in these circumstances, by the names of assurances, whatever was proven"`
	// ToDo says what would help, in sentences.
	ToDo []string `json:"to_do" doc:"what would help"`
	// Assumed says what was taken for granted, in sentences.
	Assumed []string `json:"assumed" doc:"what was taken for granted"`
	// Place says where the address lies, "" where there is none.
	Place string `json:"place,omitzero" doc:"where the address lies"`
	// Warnings are contradictions in what was said.
	Warnings []string `json:"warnings" doc:"contradictions in what was said"`
	// Missing are the unknown facts, one at a time, and what they would change.
	Missing []Missing `json:"missing" doc:"unknown facts, and what they would change"`
	// Grid is the attempt under varied circumstances, and UntilGranted what would
	// turn it into a grant, where that was asked for.
	Grid         *Grid `json:"grid,omitempty" doc:"the attempt under varied circumstances, where asked for"`
	UntilGranted *Ways `json:"until_granted,omitempty" doc:"what would turn it into a grant, where asked for"`
}

// Missing is a fact that is not known, with the verdicts that it could bring.
type Missing struct {
	Fact string `json:"fact" doc:"the fact"`
	// Changes says that at least one value brings another verdict.
	Changes  bool       `json:"changes" doc:"whether some value brings another verdict"`
	Verdicts []Bringing `json:"verdicts" doc:"which values bring which verdict"`
}

// Bringing says which values of a fact bring a verdict.
type Bringing struct {
	Verdict decide.Verdict `json:"verdict" doc:"the verdict"`
	Values  []string       `json:"values" doc:"the values that bring it"`
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
func Rehearse(judge *engine.Judge, a *attempt.Attempt, assumed []string) *Report {
	d := judge.Explain(context.Background(), a)
	terms := judge.Terms(context.Background(), a)
	r := &Report{d, Rehearsal{Attempt: a, Terms: terms.String(),
		ToDo: []string{}, Assumed: assumed, Warnings: []string{}, Missing: []Missing{}}}
	if assumed == nil {
		r.Rehearsal.Assumed = []string{}
	}
	if app, ok := judge.Directory().FindApp(a.App); ok {
		r.Rehearsal.App = judge.Directory().Apps[app].Name
	}
	r.describePlace(judge)
	if !r.Refused() {
		r.findMissing(judge)
	}
	r.advise(judge)
	return r
}

// AppNamed names the app, with the address by which it was found.
func (r *Report) AppNamed() string {
	if name := r.Rehearsal.App; name != "" && name != r.Rehearsal.Attempt.App {
		return name + " (" + r.Rehearsal.Attempt.App + ")"
	}
	return r.Rehearsal.Attempt.App
}

// Refused reports that the attempt was stopped before any policy was asked.
func (r *Report) Refused() bool {
	switch r.Causes[0].Code {
	case decide.AccountUnknown, decide.AccountDisabled, decide.AppUnknown, decide.AppNotOpen:
		return true
	}
	return false
}

// describePlace names the networks of the address, or the nearest one, and
// warns where a network and the stated country disagree.
func (r *Report) describePlace(judge *engine.Judge) {
	e := judge.Directory()
	ip, ok := r.Rehearsal.Attempt.IP.Get()
	if !ok {
		return
	}
	ip = ip.Unmap()
	place := e.Place(ip)
	names := e.NetworkNames(place)
	stated, isStated := r.Rehearsal.Attempt.Country.Get()
	if isStated && place.Country != "" && stated != place.Country {
		r.Rehearsal.Warnings = append(
			r.Rehearsal.Warnings,
			fmt.Sprintf("The attempt states %s, but %s is in %s, where %s lies; the network's country counts.",
				stated, ip, place.Country, strings.Join(names, ", ")),
		)
	}
	if len(names) > 0 {
		about := ""
		if place.Ours {
			about = ", an own network"
		}
		switch {
		case place.Torn:
			about += ", whose ranges state different countries: the country is unknown"
		case place.Country != "":
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
	if found := judge.Whereabouts(context.Background(), r.Rehearsal.Attempt); found.Country != "" && !isStated {
		r.Rehearsal.Place += fmt.Sprintf(" The address database puts it in %s.", found.Country)
	}
}

// candidate is one value that a missing fact could have.
type candidate struct {
	words string
	set   func(*attempt.Attempt)
}

// findMissing tries, for each unknown fact alone, the values that could matter.
func (r *Report) findMissing(judge *engine.Judge) {
	a := r.Rehearsal.Attempt
	if a.IP.IsUnknown() {
		r.tryAll(judge, "ip", addresses(judge))
	}
	if judge.Whereabouts(context.Background(), a).Country == "" {
		r.tryAll(judge, "country", countries(judge))
	}
	if a.Through.IsUnknown() {
		r.tryAll(judge, "through", throughs())
	}
	if a.Device.IsUnknown() {
		r.tryAll(judge, "device", devices(judge))
	}
	if a.Previous.IsUnknown() {
		r.tryAll(judge, "previous", previous(judge, a))
	}
	if a.Failures.IsUnknown() {
		r.tryAll(judge, "failures", failures(a))
	}
}

func (r *Report) tryAll(judge *engine.Judge, fact string, candidates []candidate) {
	by := map[decide.Verdict][]string{}
	for _, c := range candidates {
		changed := *r.Rehearsal.Attempt
		c.set(&changed)
		v := judge.Verdict(context.Background(), &changed)
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
func addresses(judge *engine.Judge) []candidate {
	e := judge.Directory()
	var found []candidate
	at := func(words string, ip netip.Addr) {
		found = append(found, candidate{words, func(a *attempt.Attempt) { a.IP = attempt.Known(ip) }})
	}
	for _, n := range e.Networks {
		at(n.Name, n.Ranges[0].Sample())
	}
	for _, l := range e.Literals {
		at(l.String(), l.Sample())
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
func countries(judge *engine.Judge) []candidate {
	e := judge.Directory()
	var codes []string
	for _, value := range judge.Values(engine.KeyCountries) {
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
	for _, code := range []attempt.CountryCode{"AQ", "BV", "HM", "TF"} { // where nobody lives
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

// devices returns the registered devices, and one that is not.
func devices(judge *engine.Judge) []candidate {
	at := func(words string, device attempt.Fact[attempt.Device]) candidate {
		return candidate{words, func(a *attempt.Attempt) { a.Device = device }}
	}
	unregistered := attempt.Device{
		ID:      attempt.Known("not-registered"),
		Known:   attempt.Known(false),
		Managed: attempt.Known(false),
		Shared:  attempt.Known(false),
	}
	found := []candidate{at("one not registered", attempt.Known(unregistered))}
	for i, d := range judge.Directory().Devices {
		if i == mostDevices {
			break
		}
		found = append(found, at(d.Name, attempt.Known(attempt.Device{ID: attempt.Known(d.Name)})))
	}
	return found
}

// mostDevices is how many registered devices are tried.
const mostDevices = 100

// previous returns the sign-ins before this one that could matter: none, one
// from the other side of the Earth, and one a year ago.
func previous(judge *engine.Judge, a *attempt.Attempt) []candidate {
	before := func(words string, p attempt.Fact[attempt.Previous]) candidate {
		return candidate{words, func(a *attempt.Attempt) { a.Previous = p }}
	}
	afar := attempt.Previous{
		At:       a.At.Add(-time.Hour),
		Country:  attempt.Known[attempt.CountryCode]("NZ"),
		Location: attempt.Known(attempt.Location{Lat: -41.3, Lon: 174.8}),
	}
	return []candidate{
		before("there was none", attempt.None[attempt.Previous]()),
		before("it was an hour ago in New Zealand", attempt.Known(afar)),
		before("it was a year ago in the same place", attempt.Known(fromTheSamePlace(judge, a, a.At.AddDate(-1, 0, 0)))),
	}
}

// fromTheSamePlace returns a sign-in before this one, at some time, that came from
// where this one comes from, as far as that is known.
func fromTheSamePlace(judge *engine.Judge, a *attempt.Attempt, at time.Time) attempt.Previous {
	p := attempt.Previous{At: at}
	found := judge.Whereabouts(context.Background(), a)
	if found.Country != "" {
		p.Country = attempt.Known(found.Country)
	}
	p.Location = found.Location
	return p
}

// failures returns none, and a hundred of this very moment.
func failures(a *attempt.Attempt) []candidate {
	return []candidate{
		{"there were none", func(a *attempt.Attempt) { a.Failures = attempt.None[[]time.Time]() }},
		{"there were a hundred", func(b *attempt.Attempt) {
			b.Failures = attempt.Known(slices.Repeat([]time.Time{a.At}, 100))
		}},
	}
}

// advise says what would help, the nearest thing first.
func (r *Report) advise(judge *engine.Judge) {
	do := func(format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if !slices.Contains(r.Rehearsal.ToDo, text) {
			r.Rehearsal.ToDo = append(r.Rehearsal.ToDo, text)
		}
	}
	a, e := r.Rehearsal.Attempt, judge.Directory()
	for _, c := range r.Causes {
		switch c.Code {
		case decide.AccountUnknown:
			if e.AreSwapped(a.Account, a.App) {
				do("%s is an app and %s an account: swap them.", a.Account, a.App)
				break
			}
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
		case decide.DeviceUnidentified:
			do("Sign on from a device that says which one it is, through a browser or an app that passes that on.")
		case decide.CheckFailed:
			do("Have the outside check looked at; nothing that the person shows will lift it.")
		}
	}
	if r.Refused() {
		return
	}
	blocked := slices.ContainsFunc(r.Causes, func(c decide.Cause) bool {
		return c.Code == decide.RuleBlocks || c.Code == decide.RuleMayBlock || c.Code == decide.OtherwiseBlocks ||
			c.Code == decide.CannotBeAsked
	})
	if blocked {
		return
	}
	var proofs []string
	for _, d := range r.Demands {
		if !d.Met && (r.Verdict == decide.StepUp || d.Impossible) {
			proofs = r.adviseOn(d, proofs, enrolledMethods(judge, a.Account), do)
		}
	}
	if len(proofs) > 0 { // which are given before anything else is asked
		r.Rehearsal.ToDo = slices.Insert(r.Rehearsal.ToDo, 0, "Prove "+strings.Join(proofs, ", then ")+".")
	}
}

// enrolledMethods returns the names of the methods that an account of the book has.
func enrolledMethods(judge *engine.Judge, account string) []string {
	profile, ok := judge.Directory().Find(account)
	if !ok {
		return nil
	}
	return judge.MethodNames(profile.Enrolled())
}

// adviseOn says what would meet a demand. It returns the proofs that are to be given, in
// an order in which they can be: what is offered at once comes before what reaches out to
// a phone, which is offered once something else is proven.
func (r *Report) adviseOn(d decide.Demand, proofs, enrolled []string, do func(string, ...any)) []string {
	switch d.Kind {
	case decide.DemandMethod:
		later := slices.DeleteFunc(slices.Clone(enrolled), func(m string) bool { return !slices.Contains(d.AnyOf, m) })
		switch {
		case len(d.Offer) > 0:
			return slices.Insert(proofs, r.offeredAtOnce(proofs), strings.Join(d.Offer, " or "))
		case len(later) > 0:
			return append(proofs, strings.Join(later, " or "))
		default:
			return append(proofs, "one of "+strings.Join(d.AnyOf, ", "))
		}
	case decide.DemandEnrol:
		do("Let %s enrol one of %s: the account has none.", r.Rehearsal.Attempt.Account, strings.Join(d.AnyOf, ", "))
	case decide.DemandPosture:
		for _, f := range d.Failing {
			do("%s: wants %s, saw %s. %s", f.Fact, f.Wants, f.Saw, f.Fix)
		}
		if len(d.Failing) == 0 && !d.Impossible {
			do("Let the device report its state: %s asks for a newer report.", d.Posture)
		}
	case decide.DemandChangePassword:
		do("Change the password.")
	case decide.DemandAccept:
		do("Accept %s, version %d.", d.Document, d.Version)
	case decide.DemandConsent:
		if d.Client == "" {
			do("Say whether it is made for an outside program (--client).")
		} else {
			do("Let %s in first: it asks for %s.", d.Client, strings.Join(d.Scopes, ", "))
		}
	case decide.DemandExternal:
		if !d.Impossible {
			do("Pass the outside check %s.", d.External)
		}
	case decide.DemandOneOf:
		for _, inner := range d.EasiestWay() {
			proofs = r.adviseOn(inner, proofs, enrolled, do)
		}
	}
	return proofs
}

// offeredAtOnce counts the proofs at the beginning of a list that are offered to the person
// as things stand.
func (r *Report) offeredAtOnce(proofs []string) int {
	n := 0
	for n < len(proofs) && slices.Contains(r.ToPerson.Offer, strings.Split(proofs[n], " or ")[0]) {
		n++
	}
	return n
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
