package inspect

import (
	"net/netip"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Some checks ask the judge itself: they make attempts and look at what would
// become of them.

// prepareAttempts makes what all attempts have in common: they are made through a
// browser, with nothing odd about them, with each document of the book accepted
// and each outside check passed.
func (in *Pass) prepareAttempts() {
	a := &in.Ordinary
	a.Through, a.Previous, a.Failures = attempt.Known(attempt.Browser), attempt.None[attempt.Previous](), attempt.None[[]time.Time]()
	a.Client = attempt.None[attempt.ClientAsk]()
	a.Country, a.External = in.homeCountry(), map[string]attempt.CheckResult{}
	for _, assurance := range in.Judge.Assurances() {
		if assurance.Accept != nil {
			a.Accepted = append(
				a.Accepted,
				attempt.Acceptance{Document: assurance.Accept.Document, Version: assurance.Accept.Version, At: in.At},
			)
		}
		if assurance.External != "" {
			a.External[assurance.External] = attempt.CheckPassed
		}
	}
	in.stranger = in.strangeAddress()
	seen := map[string]bool{}
	for hour := range 7 * 24 {
		var open []byte
		for w := range in.Directory.Windows {
			if in.Directory.InWindow(w, in.At.Add(time.Duration(hour)*time.Hour)) {
				open = append(open, '1')
			} else {
				open = append(open, '0')
			}
		}
		if !seen[string(open)] {
			seen[string(open)] = true
			in.hours = append(in.hours, hour)
		}
	}
}

// attempt makes the ordinary attempt of an account at an app, both by number, so
// many hours from now.
func (in *Pass) attempt(account, app, hours int) *attempt.Attempt {
	a := in.Ordinary
	a.At, a.Account, a.App = in.At.Add(time.Duration(hours)*time.Hour), in.Directory.Accounts[account].Name, in.Directory.Apps[app].Name
	return &a
}

// homeCountry is the country of the first own network that states one.
func (in *Pass) homeCountry() attempt.Fact[attempt.CountryCode] {
	for _, n := range in.Directory.Networks {
		if n.Ours && n.Country != "" {
			return attempt.Known(attempt.CountryCode(n.Country))
		}
	}
	return attempt.Fact[attempt.CountryCode]{}
}

// proveAll adds a proof of each method that the account has enrolled.
func (in *Pass) proveAll(a *attempt.Attempt, account int) {
	for _, m := range in.Judge.MethodNames(in.Directory.Profile(account).Enrolled()) {
		a.Proofs = append(a.Proofs, attempt.Proof{Method: m, At: a.At})
	}
}

// ownAddresses returns an address of each own network that could matter: of those
// that some condition names, and of the others one for each country; where the
// book has none, an address that lies nowhere.
func (in *Pass) ownAddresses() []attempt.Fact[netip.Addr] {
	named := in.Judge.Values(engine.KeyNetworks)
	seen := map[string]bool{}
	var found []attempt.Fact[netip.Addr]
	for _, n := range in.Directory.Networks {
		like := "in " + string(n.Country)
		if slices.Contains(named, n.Name) {
			like = n.Name
		}
		if n.Ours && len(n.Ranges) > 0 && !seen[like] {
			seen[like] = true
			found = append(found, attempt.Known(n.Ranges[0].Sample()))
		}
	}
	if len(found) == 0 {
		found = append(found, in.stranger)
	}
	return found
}

// strangeAddress is one that lies in no network, as far as there is such a one.
func (in *Pass) strangeAddress() attempt.Fact[netip.Addr] {
	if ip, ok := in.Directory.AddressElsewhere(); ok {
		return attempt.Known(ip)
	}
	return attempt.Fact[netip.Addr]{}
}

// mostDevices bounds how many registered devices are tried for one account.
const mostDevices = 20

// goodDevices returns devices that could serve an account: a made-up one of its
// own that is managed and passes each posture that one device can pass, and those
// registered that are its own or shared.
func (in *Pass) goodDevices(account string) []attempt.Device {
	found := []attempt.Device{in.fitDevice(account)}
	for _, d := range in.Directory.Devices {
		if (d.Owner == account || d.Shared) && len(found) <= mostDevices {
			found = append(found, attempt.Device{ID: attempt.Known(d.Name)})
		}
	}
	return found
}

// fitDevice returns a device of an account's own, managed, that has just reported what passes postures.
func (in *Pass) fitDevice(account string) attempt.Device {
	device := attempt.Device{
		ID:         attempt.Known("inspected"),
		Platform:   attempt.Known(in.platform()),
		Managed:    attempt.Known(true),
		Known:      attempt.Known(true),
		Shared:     attempt.Known(false),
		Owner:      attempt.Known(account),
		Tags:       []string{},
		Facts:      map[string]attempt.Scalar{},
		ReportedAt: attempt.Known(in.At),
	}
	for _, p := range in.Directory.Postures {
		for _, c := range p.Checks {
			device.Facts[c.Fact] = passing(c, in.platform())
		}
	}
	return device
}

// platform is one that the postures list, where they list any.
func (in *Pass) platform() string {
	first := ""
	for _, p := range in.Directory.Postures {
		for _, c := range p.Checks {
			if c.AtLeast == nil {
				continue
			}
			for platform := range c.AtLeast.ByPlatform {
				if first == "" || platform < first {
					first = platform
				}
			}
		}
	}
	if first == "" {
		return "linux"
	}
	return first
}

// passing returns a value that passes a check on a platform.
func passing(c directory.Check, platform string) attempt.Scalar {
	switch {
	case c.Is != nil:
		return *c.Is
	case len(c.In) > 0:
		return c.In[0]
	case c.AtMost != nil:
		return attempt.NumberScalar(*c.AtMost)
	case c.AtLeast != nil && c.AtLeast.ByPlatform == nil:
		return attempt.TextScalar(c.AtLeast.All)
	case c.AtLeast != nil:
		return attempt.TextScalar(c.AtLeast.ByPlatform[platform])
	}
	return attempt.Scalar{}
}

// strangeDevice is one that nobody knows.
func strangeDevice() attempt.Fact[attempt.Device] {
	return attempt.Known(attempt.Device{Known: attempt.Known(false), Managed: attempt.Known(false),
		Shared: attempt.Known(false), Owner: attempt.Known(""), Tags: []string{}})
}

// mostTried bounds the accounts for which a check makes attempts at each app.
const mostTried = 200

// persons returns accounts of persons that fit, up to mostTried.
func (in *Pass) persons(fits func(account int) bool) []int {
	var found []int
	for n := range in.Directory.Accounts {
		if in.Directory.Profile(n).Kind() == directory.Person && !in.Directory.Profile(n).Disabled() && fits(n) {
			if found = append(found, n); len(found) == mostTried {
				break
			}
		}
	}
	return found
}

// secondFactors are the methods that rest on something else than knowledge.
func (in *Pass) secondFactors() engine.MethodSet {
	var set engine.MethodSet
	for i, m := range in.Directory.Methods() {
		if m.Kind != directory.Knowledge && m.Name != directory.DeskPass {
			set = set.Add(i)
		}
	}
	return set
}

// knowing returns the first method of knowledge that an account has, "" where it
// has none.
func (in *Pass) knowing(account int) string {
	for i, m := range in.Directory.Methods() {
		if m.Kind == directory.Knowledge && in.Directory.Profile(account).Enrolled().Has(i) {
			return m.Name
		}
	}
	return ""
}
