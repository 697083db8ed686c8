// Package typed makes attempts of what an administrator types: flags that are texts, and
// the ordinary case for what is left out. Its errors and sentences name the flags.
package typed

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/reach"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Attempt is an attempt as an administrator types it: texts. All but
// the account and the app may be left out.
type Attempt struct {
	Account, App, Action, IP, Country, Through string
	// At is a time in the book's zone ("2026-11-23 14:10", or "14:10" for today)
	// or with an offset (RFC 3339).
	At string
	// Proved are methods, each proven just now, or METHOD:AGE earlier in the
	// session, such as push:3h.
	Proved []string
	// Device is the identity that the device states, and Seen what else is said of it.
	Device string
	Seen   Device
	// Previous is the sign-in before, AGE:COUNTRY or AGE, and Failures how many failed in
	// the minute before.
	Previous string
	Failures int
	// AccountRisk is the standing risk of the account, LEVEL:REASON or LEVEL.
	AccountRisk string
	// Signals are named by others. Failed are METHOD:REASON, Checked are
	// CHECK:RESULT, and Accepted are DOCUMENT:VERSION.
	Signals, Failed, Checked, Accepted []string
	// Client is the outside program that the sign-in is made for, Asks the scopes
	// that it asks for and Consented those that it was given.
	Client          string
	Asks, Consented []string
	// Unknown are facts to be left unknown, of Facts.
	Unknown []string
}

// Facts are the facts that it can leave unknown.
var Facts = []string{"ip", "country", "location", "through", "device", "client", "previous", "failures"}

// Make makes the attempt. What is not said is taken from the
// ordinary case, and each such assumption is returned as a sentence. The moment
// now stands in for a time that is not given.
func (q Attempt) Make(judge *engine.Judge, now time.Time) (*attempt.Attempt, []string, error) {
	e := judge.Directory()
	a := &attempt.Attempt{Account: q.Account, App: q.App}
	var assumed []string
	for _, fact := range q.Unknown {
		if !slices.Contains(Facts, fact) {
			return nil, nil, fmt.Errorf("--unknown: there is no fact %q%s", fact, nearest.DidYouMean(fact, Facts))
		}
	}
	failures := ""
	if q.Failures != 0 {
		failures = strconv.Itoa(q.Failures)
	}
	stated := [][2]string{{"previous", q.Previous}, {"failures", failures}, {"ip", q.IP}, {"country", q.Country},
		{"through", q.Through}, {"device", q.Device}, {"client", q.Client}}
	for _, said := range stated {
		if said[1] != "" && slices.Contains(q.Unknown, said[0]) {
			return nil, nil, fmt.Errorf("--unknown %s: --%s %s says what it is; leave one of the two out", said[0], said[0], said[1])
		}
	}
	var err error
	if a.At, err = ParseTime(q.At, e.Zone, now); err != nil {
		return nil, nil, fmt.Errorf("--at: %w", err)
	}
	if q.At == "" {
		assumed = append(assumed, fmt.Sprintf("It happens now, %s.", a.At.In(e.Zone).Format("Mon 2006-01-02 15:04 MST")))
	}
	if q.Action != "" {
		if err := a.Action.UnmarshalText([]byte(q.Action)); err != nil {
			return nil, nil, fmt.Errorf("--action: %w", err)
		}
	}
	switch {
	case q.IP != "":
		ip, err := netip.ParseAddr(q.IP)
		if err != nil {
			return nil, nil, fmt.Errorf("--ip: %q is no IP address such as 203.0.113.20 or 2001:db8:51::20", q.IP)
		}
		a.IP = attempt.Known(ip.WithZone("").Unmap())
	case !slices.Contains(q.Unknown, "ip"):
		assumed = append(assumed, "The address is not known (--ip says it).")
	}
	if q.Country != "" {
		var code attempt.CountryCode
		if err := code.UnmarshalText([]byte(q.Country)); err != nil {
			return nil, nil, fmt.Errorf("--country: %w", err)
		}
		a.Country = attempt.Known(code)
	}
	if err := q.through(a, &assumed); err != nil {
		return nil, nil, err
	}
	if err := q.proofs(a, e); err != nil {
		return nil, nil, err
	}
	if err := q.reports(a, judge); err != nil {
		return nil, nil, err
	}
	assumed = append(assumed, q.ordinary(a, e)...)
	if err := q.happened(a); err != nil {
		return nil, nil, err
	}
	if err := q.Seen.describe(a, e); err != nil {
		return nil, nil, err
	}
	if len(q.Proved) == 0 {
		assumed = append(assumed, "Nothing has been proven yet (--proved METHOD says what has).")
	}
	return a, assumed, nil
}

func (q Attempt) through(a *attempt.Attempt, assumed *[]string) error {
	if slices.Contains(q.Unknown, "through") {
		return nil
	}
	through := attempt.Browser
	if q.Through == "" {
		*assumed = append(*assumed, "It is made through a browser.")
	} else if err := through.UnmarshalText([]byte(q.Through)); err != nil {
		return fmt.Errorf("--through: %w", err)
	}
	a.Through = attempt.Known(through)
	return nil
}

func (q Attempt) proofs(a *attempt.Attempt, e *engine.Directory) error {
	var known []string
	for _, m := range e.Methods() {
		known = append(known, m.Name)
	}
	for _, said := range q.Proved {
		method, age, isOld := strings.Cut(said, ":")
		if !slices.Contains(known, method) {
			return fmt.Errorf("--proved: the book has no method %q%s", method, nearest.DidYouMean(method, known))
		}
		if !isOld {
			a.Proofs = append(a.Proofs, attempt.Proof{Method: method, At: a.At})
			continue
		}
		var span directory.Span
		if err := span.UnmarshalText([]byte(age)); err != nil {
			return fmt.Errorf("--proved %s: %w", said, err)
		}
		a.Session.Proofs = append(a.Session.Proofs, attempt.Proof{Method: method, At: a.At.Add(-time.Duration(span))})
	}
	return nil
}

// ordinary fills in what is not said with the ordinary case, and says so.
func (q Attempt) ordinary(a *attempt.Attempt, e *engine.Directory) []string {
	var assumed []string
	left := func(fact string) bool { return slices.Contains(q.Unknown, fact) }
	switch {
	case q.Device != "":
		device := attempt.Device{}
		if !slices.ContainsFunc(e.Devices, func(d directory.Device) bool { return d.Name == q.Device }) {
			device = engine.UnregisteredDevice()
			assumed = append(
				assumed,
				fmt.Sprintf("The device %s is not registered, so it is nobody's, and seen before and not managed unless said otherwise.", q.Device),
			)
		}
		device.ID = attempt.Known(q.Device)
		a.Device = attempt.Known(device)
		if len(q.Seen.Facts) > 0 {
			break
		}
		if reported, ok := e.LastReport(a); ok && attempt.IsLater(reported, a.At) {
			e.LetReport(a, a.At.Add(-time.Hour))
			assumed = append(
				assumed,
				fmt.Sprintf("The last report of %s is dated later; it is taken to have reported the same an hour before.", q.Device),
			)
		}
	case !left("device"):
		a.Device = attempt.Known(engine.UnregisteredDevice())
		seen := "has been seen before"
		if q.Seen.New {
			seen = "has not been seen before"
		}
		assumed = append(assumed, "The device "+seen+", but does not say which one it is (--device ID does).")
	}
	switch {
	case q.Client != "":
		a.Client = attempt.Known(attempt.ClientAsk{ID: q.Client, Scopes: q.Asks, Consented: q.Consented})
	case !left("client"):
		a.Client = attempt.None[attempt.ClientAsk]()
	}
	if !left("previous") {
		a.Previous = attempt.None[attempt.Previous]()
	}
	if !left("failures") {
		a.Failures = attempt.None[[]time.Time]()
	}
	if !left("previous") && !left("failures") && q.Previous == "" && q.Failures == 0 {
		assumed = append(assumed, "No earlier sign-in and no failed one is known of.")
	}
	return assumed
}

// reports takes over what happened in the attempt, as far as the book knows of
// such a thing.
func (q Attempt) reports(a *attempt.Attempt, judge *engine.Judge) error {
	for _, name := range q.Signals {
		var known []string
		for _, s := range judge.Risk().Signals {
			known = append(known, s.Name)
		}
		if !slices.Contains(known, name) {
			return fmt.Errorf("--signal: the book has no signal %q%s", name, nearest.DidYouMean(name, known))
		}
		a.Signals = append(a.Signals, name)
	}
	for _, said := range q.Failed {
		method, reason, _ := strings.Cut(said, ":")
		f := attempt.Failure{Method: method}
		if _, ok := judge.Directory().FindMethod(method); !ok {
			return fmt.Errorf("--failed: the book has no method %q", method)
		}
		if err := f.Reason.UnmarshalText([]byte(reason)); err != nil {
			return fmt.Errorf("--failed %s: expected METHOD:REASON; %w", said, err)
		}
		a.Failed = append(a.Failed, f)
	}
	for _, said := range q.Checked {
		name, result, _ := strings.Cut(said, ":")
		var r attempt.CheckResult
		if err := r.UnmarshalText([]byte(result)); err != nil {
			return fmt.Errorf("--checked %s: expected CHECK:RESULT; %w", said, err)
		}
		if a.External == nil {
			a.External = make(map[string]attempt.CheckResult)
		}
		a.External[name] = r
	}
	for _, said := range q.Accepted {
		document, text, _ := strings.Cut(said, ":")
		version, err := strconv.Atoi(text)
		if err != nil || document == "" {
			return fmt.Errorf("--accepted %s: expected DOCUMENT:VERSION, such as crew-handbook:3", said)
		}
		a.Accepted = append(a.Accepted, attempt.Acceptance{Document: document, Version: version, At: a.At})
	}
	return nil
}

// Noticing returns a rulebook in which signals that it detects itself hold where the
// attempt names them, and says so in sentences. It is for trying what such a signal does,
// without the facts that it is detected from.
func Noticing(rules decide.Rulebook, signals []string) (changed decide.Rulebook, noticed []string) {
	rules.Risk.Signals = slices.Clone(rules.Risk.Signals)
	for i := range rules.Risk.Signals {
		if s := &rules.Risk.Signals[i]; !s.IsReported() && slices.Contains(signals, s.Name) {
			*s = risk.Signal{At: s.At, Name: s.Name, Points: s.Points}
			noticed = append(noticed, fmt.Sprintf("%s is taken as noticed, whatever the facts that the book detects it from.", s.Name))
		}
	}
	return rules, noticed
}

// ParseTime reads a moment; a text without an offset is wall-clock in zone.
func ParseTime(text string, zone *time.Location, now time.Time) (time.Time, error) {
	if text == "" {
		return now, nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, zone); err == nil {
			return t, nil
		}
	}
	if t, err := time.Parse("15:04", text); err == nil {
		today := now.In(zone)
		return time.Date(today.Year(), today.Month(), today.Day(), t.Hour(), t.Minute(), 0, 0, zone), nil
	}
	return time.Time{}, fmt.Errorf("%q is no time such as \"2026-11-23 14:10\", \"14:10\" or 2026-11-23T13:10:00Z", text)
}

// Circumstances makes of it those under which accounts try apps. What
// it does not say is the ordinary case of a working day: an own network of the
// book, and a device of one's own.
func (q Attempt) Circumstances(judge *engine.Judge, now time.Time) (reach.Circumstances, []string, error) {
	a, assumed, err := q.Make(judge, now)
	if err != nil {
		return reach.Circumstances{}, nil, err
	}
	c := reach.Circumstances{Attempt: *a}
	unless := func(fact string) bool { return !slices.Contains(q.Unknown, fact) }
	if q.IP == "" && q.Country == "" && unless("ip") {
		for _, n := range judge.Directory().Networks {
			if n.Ours && len(n.Ranges) > 0 {
				ip := n.Ranges[0].Sample()
				c.Attempt.IP = attempt.Known(ip)
				assumed = replaced(assumed, "The address is not known", fmt.Sprintf("Everyone comes from %s (%s).", n.Name, ip))
				break
			}
		}
	}
	if q.Device == "" && unless("device") {
		c.OwnDevice = true
		assumed = replaced(
			assumed,
			"The device has been seen before",
			"Each signs on from the registered device of their own, else from one that does not say which it is.",
		)
	}
	if q.Through == "" && unless("through") {
		c.Unattended = true
		assumed = replaced(
			assumed,
			"It is made through a browser",
			"People sign on through a browser, service accounts unattended with what they have enrolled just proven.",
		)
	}
	return c, assumed, nil
}

// replaced returns the sentences with another in the place of the one that begins
// so.
func replaced(sentences []string, begins, by string) []string {
	sentences = slices.Clone(sentences)
	for i := range sentences {
		if strings.HasPrefix(sentences[i], begins) {
			sentences[i] = by
		}
	}
	return sentences
}
