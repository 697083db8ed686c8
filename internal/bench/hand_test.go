package bench_test

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
)

// hand decides by the demo's rules, written by hand as one Go function on the
// same data: what an engineer would write who had no library. It answers
// sign-ins in which no fact but the country is missing.
type hand struct {
	places   *engine.Directory
	locator  directory.Locator
	oslo     *time.Location
	accounts map[string]*handAccount
	apps     map[string]*directory.App
	devices  map[string]*directory.Device
}

type handAccount struct {
	directory.Account
	groups                map[string]bool
	held, strong, another bool // a second factor, one that resists phishing, any at all (fallbacks too)
	deadline              time.Time
	contractor, inBoard   bool
}

// isInShare reports whether an account is in the share of the policy board-papers, which
// is a matter of a hash that the judge takes.
func isInShare(judge *engine.Judge, account string) bool {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for _, p := range judge.Decide(context.Background(), &attempt.Attempt{At: at, Account: account, App: "board-papers"}).Policies {
		if p.Name == "board-papers" {
			return p.InForce == attempt.Known(condition.True)
		}
	}
	return false
}

func newHand(rulebook decide.Rulebook, judge *engine.Judge) *hand {
	h := &hand{places: judge.Directory(), locator: rulebook.Locator, oslo: rulebook.Directory.Zone,
		accounts: map[string]*handAccount{}, apps: map[string]*directory.App{}, devices: map[string]*directory.Device{}}
	for i, a := range rulebook.Directory.Accounts {
		x := &handAccount{Account: a, groups: map[string]bool{}}
		for _, g := range judge.Directory().Profile(i).Groups() {
			x.groups[g] = true
		}
		for _, m := range a.Methods {
			x.held = x.held || m == "push" || m == "otp-app" || m == "security-key" || m == "crew-card"
			x.another = x.another || x.held || m == "recovery-code" || m == "sms-code" && !x.groups["shore-it"]
			x.strong = x.strong || m == "security-key" || m == "passkey" || m == "certificate"
		}
		x.deadline = time.Date(2026, 12, 1, 0, 0, 0, 0, h.oslo)
		if a.Joined != nil {
			if t := a.Joined.Start(h.oslo).Add(30 * 24 * time.Hour); t.After(x.deadline) {
				x.deadline = t
			}
		}
		if a.AskedAt != nil {
			if t := a.AskedAt.Add(14 * 24 * time.Hour); t.After(x.deadline) {
				x.deadline = t
			}
		}
		x.contractor = len(a.Name) > 20 && a.Name[len(a.Name)-20:] == "@gdansk-yard.example"
		x.inBoard = x.groups["board"] && x.held && isInShare(judge, a.Name)
		h.accounts[a.Name] = x
	}
	for i := range rulebook.Directory.Apps {
		app := &rulebook.Directory.Apps[i]
		h.apps[app.Name] = app
		for _, alias := range app.KnownAs {
			h.apps[alias] = app
		}
	}
	for i := range rulebook.Directory.Devices {
		h.devices[rulebook.Directory.Devices[i].Name] = &rulebook.Directory.Devices[i]
	}
	return h
}

var refit = [2]time.Time{time.Date(2026, 9, 30, 22, 0, 0, 0, time.UTC), time.Date(2027, 3, 31, 22, 0, 0, 0, time.UTC)}

func (h *hand) verdict(a *attempt.Attempt) decide.Verdict {
	who, app := h.accounts[a.Account], h.apps[a.App]
	if who == nil || app == nil || who.Disabled {
		return decide.Block
	}
	if who.Kind != directory.Emergency && app.OpenTo != nil {
		open := false
		for _, g := range app.OpenTo {
			open = open || who.groups[g]
		}
		if !open {
			return decide.Block
		}
	}
	ip, _ := a.IP.Get()
	place := h.places.Place(ip)
	through, _ := a.Through.Get()
	local := a.At.In(h.oslo)
	sailing := local.Hour() >= 5 && local.Hour() < 23

	// The device, with what is registered of it.
	device := a.Device.Ref()
	var registered *directory.Device
	id, managed, shared, known, own := "", false, false, false, false
	if device != nil {
		if id, _ = device.ID.Get(); id != "" {
			registered = h.devices[id]
		}
		if managed, _ = device.Managed.Get(); registered != nil {
			managed, shared, known, own = registered.Managed, registered.Shared, true, registered.Owner == who.Name
		}
		if said, ok := device.Known.Get(); ok {
			known = said
		}
	}

	// What was proven.
	till := app.Name == "card-till" // where only its own proofs count
	baseline := who.Kind == directory.Person || who.Kind == directory.UnstatedKind
	password, held, strong, any, certificateNow := false, false, false, false, false
	unreached, refused := false, false
	for _, f := range a.Failed {
		if f.Method == "push" || f.Method == "otp-app" || f.Method == "security-key" || f.Method == "crew-card" {
			unreached = unreached || f.Reason != attempt.Refused
			refused = refused || f.Reason == attempt.Refused
		}
	}
	anywherePassword, anywhereHeld := false, false // for whichever app
	unshared := till && (who.groups["ticket-office"] || who.groups["finance"]) && who.Name != "auditor@kestrelsound.example"
	fallback := func(p *attempt.Proof, recent, counts bool) {
		if recent && (unreached && !refused || p.Fallback || !who.held) {
			held = held || counts
			anywhereHeld = true
		}
	}
	prove := func(p *attempt.Proof, now bool) {
		counts := now || !unshared || h.apps[p.App] == app
		recent := now || !p.At.IsZero() && a.At.Sub(p.At) <= 12*time.Hour
		switch p.Method {
		case "password":
			password = password || counts
			anywherePassword = true
		case "push", "otp-app", "security-key", "crew-card":
			held = held || recent && counts
			anywhereHeld = anywhereHeld || recent
		case "sms-code":
			if who.groups["shore-it"] {
				return
			}
			fallback(p, recent, counts)
		case "recovery-code":
			fallback(p, recent, counts)
		case "passkey":
		case "certificate":
			certificateNow = certificateNow || now
		default:
			return
		}
		if !counts {
			return
		}
		strong = strong || p.Method == "security-key" || p.Method == "passkey" || p.Method == "certificate"
		any = true
	}
	for i := range a.Proofs {
		prove(&a.Proofs[i], true)
	}
	for i := range a.Session.Proofs {
		prove(&a.Session.Proofs[i], false)
	}

	// Devices, machines and the way back in have rules of their own.
	step := decide.StepUp
	if through == attempt.Unattended || through == attempt.Unpromptable {
		step = decide.Block
	}
	switch who.Kind {
	case directory.Emergency:
		if strong {
			return decide.Grant
		}
		return step
	case directory.Service:
		in := false
		for _, n := range h.places.NetworkNames(place) {
			in = in || n == "depot" || n == "pier-office"
		}
		depot := slices.Contains(h.places.NetworkNames(place), "depot")
		switch {
		case !in || through != attempt.Unattended:
			return decide.Block
		case certificateNow, who.Name == "tide-gauge" && depot && strong && local.Before(refit[1]):
			return decide.Grant
		}
		return step
	}

	// Risk.
	score := 0
	add := func(holds bool, points int) {
		if holds {
			score = min(100, score+points)
		}
	}
	country := place.Country
	var here attempt.Fact[attempt.Location]
	if country == "" {
		if said, ok := a.Country.Get(); ok {
			country = said
		} else {
			found, _ := h.locator.Locate(context.Background(), ip)
			country, here = found.Country, found.Location
		}
	}
	unknownRisk := 0
	if p := a.Previous.Ref(); p != nil {
		if here.IsUnknown() {
			found, _ := h.locator.Locate(context.Background(), ip)
			here = found.Location
		}
		if from, to := p.Location.Ref(), here.Ref(); from != nil && to != nil {
			add(engine.Speed(*from, *to, a.At.Sub(p.At)) > 900, 80)
		} else if !p.Location.IsNone() {
			unknownRisk += 80
		}
		if was := p.Country.Ref(); was != nil && country != "" {
			add(*was != country, 20)
		} else if !p.Country.IsNone() {
			unknownRisk += 20
		}
		add(a.At.Sub(p.At) >= 90*24*time.Hour, 20)
	}
	add(place.Anonymous, 60)
	add(!known, 15)
	if times := a.Failures.Ref(); times != nil {
		n := 0
		for _, t := range *times {
			if ago := a.At.Sub(t); ago >= 0 && ago <= 10*time.Minute {
				n++
			}
		}
		add(n >= 5, 50)
	}
	for _, f := range a.Failed {
		if f.Reason == attempt.Refused {
			add(true, 45)
			break
		}
	}
	add(!sailing, 20)
	add(slices.Contains(a.Signals, "leaked-list"), 40)
	high := min(100, score+unknownRisk)

	// A second factor that the rollout still gives time for is not asked.
	eased := !who.another && (who.groups["crew"] || who.groups["ticket-office"]) && high < 40 && who.RiskAt(a.At) < directory.MediumRisk &&
		a.At.Before(who.deadline)
	remembered := false
	if device != nil && id != "" {
		for _, r := range device.Remembered {
			would := r.Method == "push" || r.Method == "otp-app" || r.Method == "security-key" || r.Method == "crew-card"
			if would && slices.Contains(who.Methods, r.Method) && r.Account == who.Name && a.At.Sub(r.At) <= 30*24*time.Hour &&
				(who.PasswordChangedAt == nil || !who.PasswordChangedAt.After(r.At)) && (who.AccountRisk == nil || !who.AccountRisk.Since.After(r.At)) {
				remembered = true
			}
		}
	}
	proven := anywherePassword && (anywhereHeld || remembered) // whatever it was shown for
	two := password && (held || remembered || eased)

	fit := func() (fits, impossible bool) {
		if id == "" {
			return false, true
		}
		var facts map[string]attempt.Scalar
		var reported time.Time
		platform := ""
		if registered != nil {
			facts, platform = registered.Facts, registered.Platform
			if registered.ReportedAt != nil {
				reported = *registered.ReportedAt
			}
		}
		least, ok := map[string]string{"windows": "10.0.22631", "macos": "14.5"}[platform]
		if platform != "" && !ok {
			return false, true // a platform that is not listed fails, reported or not
		}
		if reported.IsZero() || a.At.Sub(reported) > 24*time.Hour {
			return false, false
		}
		if facts["firewall"] != attempt.BoolScalar(true) {
			return false, true
		}
		if version, has := facts["os_version"]; has && (!ok || version.String() < least) {
			return false, true
		}
		if days, has := facts["patch_age_days"]; has {
			if n, _ := days.Float(); n > 30 {
				return false, true
			}
		}
		_, hasVersion := facts["os_version"]
		_, hasAge := facts["patch_age_days"]
		return hasVersion && hasAge, false
	}

	ask := false // whether something is open
	auditor := who.Name == "auditor@kestrelsound.example"
	if till && (who.groups["ticket-office"] || who.groups["finance"]) && !auditor {
		fits, impossible := fit()
		switch {
		case !sailing, country != "NO" && country != "DK" && country != "SE", high >= 40, impossible:
			return decide.Block
		case !password, !fits:
			ask = true
		}
	}
	if till && auditor && !two {
		ask = true
	}
	if who.contractor && !a.At.Before(refit[0]) && a.At.Before(refit[1]) {
		baseline = false
		yard := place.Ours || slices.Contains(h.places.NetworkNames(place), "gdansk-yard")
		check, checked := a.External["shipyard-verifier"]
		switch {
		case !yard, checked && check == attempt.CheckFailed:
			return decide.Block
		case !two, !checked, check != attempt.CheckPassed:
			ask = true
		}
	}
	if who.groups["licensed"] && slices.Contains(app.Tags, "operations") {
		baseline = false
		bridge := registered != nil && shared && slices.Contains(registered.Tags, "bridge") &&
			registered.Facts["channel"] == attempt.TextScalar("stable")
		agreed := slices.ContainsFunc(a.Accepted, func(x attempt.Acceptance) bool {
			return x.Document == "crew-handbook" && x.Version >= 3 && a.At.Sub(x.At) <= 365*24*time.Hour
		})
		ask = ask || bridge && !password || !bridge && (!two || !agreed)
	}
	if who.RiskAt(a.At) >= directory.MediumRisk {
		ask = true // for a password changed since, which would have put it right
	}
	if who.groups["shore-it"] && (app.Name == "shore-vpn" || app.Name == "berth-planner") {
		fits, impossible := fit()
		switch {
		case slices.Contains(a.Signals, "leaked-list"), high >= 30 && impossible:
			return decide.Block
		case !strong, high >= 30 && !fits:
			ask = true
		}
	}
	if who.inBoard && app.Name == "board-papers" {
		if registered != nil && (registered.Platform == "ios" || registered.Platform == "android") {
			return decide.Block
		}
		ask = ask || !strong
	}
	if baseline {
		switch {
		case proven:
			ask = ask || !two
		case place.Ours && managed:
			ask = ask || !password
		case !strong && !two || !any:
			ask = true
		}
	}
	_ = own
	if ask || !any && !app.Public {
		return step
	}
	return decide.Grant
}

// demoAttempt makes a sign-in on the demo's book in which no fact but the country
// and the place before is missing.
func demoAttempt(random *rand.Rand, e *engine.Directory) *attempt.Attempt {
	one := func(words ...string) string { return words[random.IntN(len(words))] }
	at := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC).Add(time.Duration(random.IntN(30*24*60)) * time.Minute)
	account, app := e.Accounts[random.IntN(len(e.Accounts))].Name, e.Apps[random.IntN(len(e.Apps))].Name
	if random.IntN(3) == 0 {
		account, app = one("ingrid@kestrelsound.example", "einar@kestrelsound.example", "nina@kestrelsound.example"), "card-till"
		at = at.Truncate(24*time.Hour).AddDate(0, 0, 23-at.Day()).Add(13 * time.Hour)
	}
	a := &attempt.Attempt{At: at, Account: account, App: app, Through: attempt.Known(attempt.Through(min(2, random.IntN(9)/3*2))),
		IP: attempt.Known(
			netip.MustParseAddr(
				one(
					"203.0.113.9",
					"203.0.113.20",
					"198.51.100.7",
					"192.0.2.20",
					"192.0.2.70",
					"192.0.2.150",
					"192.0.2.230",
					"198.51.100.200",
				),
			),
		),
		Previous: attempt.None[attempt.Previous](), Failures: attempt.None[[]time.Time]()}
	// One that nothing identifies is known to be nothing in particular.
	a.Device = attempt.Known(attempt.Device{Known: attempt.Known(false), Managed: attempt.Known(false), Shared: attempt.Known(false),
		Platform: attempt.Known("windows"), Owner: attempt.Known(""), Tags: []string{}})
	if id := one("", "laptop-ingrid", "laptop-einar", "bridge-terminal", "kiosk-2"); id != "" {
		device := attempt.Device{ID: attempt.Known(id)}
		if random.IntN(4) == 0 {
			device.Remembered = []attempt.Remembered{
				{Account: account, Method: one("push", "otp-app"), At: at.AddDate(0, 0, -random.IntN(40))},
			}
		}
		a.Device = attempt.Known(device)
	}
	if random.IntN(3) == 0 {
		a.Previous = attempt.Known(
			attempt.Previous{
				At:       at.Add(-time.Duration(random.IntN(100*24)) * time.Hour),
				Country:  attempt.Known(attempt.CountryCode(one("NO", "BR"))),
				Location: attempt.Known(attempt.Location{Lat: 60, Lon: 5}),
			},
		)
	}
	methods := []string{"password", "password", "push", "otp-app", "security-key", "crew-card", "sms-code", "certificate", "recovery-code"}
	for range random.IntN(4) {
		a.Proofs = append(a.Proofs, attempt.Proof{Method: one(methods...), At: at})
	}
	for range random.IntN(3) {
		a.Session.Proofs = append(
			a.Session.Proofs,
			attempt.Proof{
				Method: one(methods...),
				At:     at.Add(-time.Duration(random.IntN(20)) * time.Hour),
				App:    one("mail", "card-till", "card-till"),
			},
		)
	}
	if random.IntN(4) == 0 {
		a.Failed = []attempt.Failure{{Method: one("push", "otp-app"), Reason: attempt.FailureReason(random.IntN(3))}}
	}
	if random.IntN(8) == 0 {
		a.Signals = []string{"leaked-list"}
	}
	if random.IntN(2) == 0 {
		a.External = map[string]attempt.CheckResult{"shipyard-verifier": attempt.CheckResult(random.IntN(3))}
		a.Accepted = []attempt.Acceptance{{Document: "crew-handbook", Version: 3, At: at.AddDate(0, -random.IntN(18), 0)}}
	}
	return a
}

// TestHandWritten holds the function that the benchmark compares with against the
// judge: it would be no comparison if it decided otherwise.
func TestHandWritten(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	h := newHand(b.Rulebook(), judge)
	random := rand.New(rand.NewPCG(5, 6))
	seen := map[decide.Verdict]int{}
	for range 50_000 {
		a := demoAttempt(random, judge.Directory())
		want := judge.Verdict(context.Background(), a)
		seen[want]++
		if got := h.verdict(a); got != want {
			d := judge.Decide(context.Background(), a)
			t.Fatalf("hand-written %s, judged %s\n%+v\n%+v\n%+v\n%+v", got, want, *a, d.Causes, d.Demands, d.Risk)
		}
	}
	require.Len(t, seen, 3, "%v", seen)
}
