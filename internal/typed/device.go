package typed

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Device is what is said of a device beside its identity.
type Device struct {
	// New says that it has not been seen before, and Managed that the organisation looks
	// after it.
	New, Managed bool
	Platform     string
	// Facts are NAME=VALUE, reported just now.
	Facts []string
	// Remembered are METHOD:AGE, asked for by the account of the attempt.
	Remembered []string
}

// isSilent reports whether nothing is said.
func (d *Device) isSilent() bool {
	return !d.New && !d.Managed && d.Platform == "" && len(d.Facts) == 0 && len(d.Remembered) == 0
}

// describe adds to the device of an attempt what is said of it.
func (d *Device) describe(a *attempt.Attempt, e *engine.Directory) error {
	if d.isSilent() {
		return nil
	}
	device, known := a.Device.Get()
	if !known {
		return fmt.Errorf("--unknown device: other flags say what the device is; leave one of the two out")
	}
	if d.New {
		device.Known = attempt.Known(false)
	}
	if d.Managed {
		device.Managed = attempt.Known(true)
	}
	if d.Platform != "" {
		device.Platform = attempt.Known(d.Platform)
	}
	for _, said := range d.Facts {
		name, text, ok := strings.Cut(said, "=")
		if !ok || text == "" {
			return fmt.Errorf("--fact %s: expected NAME=VALUE, such as firewall=true", said)
		}
		value, err := factValue(e, name, text)
		if err != nil {
			return fmt.Errorf("--fact %s: %w", said, err)
		}
		if device.Facts == nil {
			device.Facts = map[string]attempt.Scalar{}
		}
		device.Facts[name], device.ReportedAt = value, attempt.Known(a.At)
	}
	for _, said := range d.Remembered {
		method, age, _ := strings.Cut(said, ":")
		var span directory.Span
		if err := span.UnmarshalText([]byte(age)); err != nil {
			return fmt.Errorf("--remembered %s: expected METHOD:AGE, such as push:72h; %w", said, err)
		}
		if _, ok := e.FindMethod(method); !ok {
			return fmt.Errorf("--remembered: the book has no method %q%s", method,
				strings.TrimSuffix(nearest.End(method, e.Methods(), func(m directory.Method) string { return m.Name }), "."))
		}
		device.Remembered = append(device.Remembered, attempt.Remembered{Account: a.Account, Method: method, At: a.At.Add(-time.Duration(span))})
	}
	a.Device = attempt.Known(device)
	return nil
}

// factValue reads the value of a fact as the checks of the book take it: a version stays a
// text, for 14.10 is more than 14.9.
func factValue(e *engine.Directory, name, text string) (attempt.Scalar, error) {
	var known []string
	var isVersion bool
	for i := range e.Postures {
		for _, c := range e.Postures[i].Checks {
			known = append(known, c.Fact)
			isVersion = isVersion || c.Fact == name && c.AtLeast != nil
		}
	}
	slices.Sort(known)
	if known = slices.Compact(known); !slices.Contains(known, name) {
		return attempt.Scalar{}, fmt.Errorf("no posture of the book looks at it%s", nearest.DidYouMean(name, known))
	}
	if number, err := strconv.ParseFloat(text, 64); err == nil && !isVersion {
		return attempt.NumberScalar(number), nil
	}
	switch text {
	case "true", "false":
		return attempt.BoolScalar(text == "true"), nil
	}
	return attempt.TextScalar(text), nil
}

// happened adds to an attempt what went before it.
func (q *Attempt) happened(a *attempt.Attempt) error {
	if q.Previous != "" {
		age, country, _ := strings.Cut(q.Previous, ":")
		var span directory.Span
		if err := span.UnmarshalText([]byte(age)); err != nil {
			return fmt.Errorf("--previous %s: expected AGE or AGE:COUNTRY, such as 3h:NO; %w", q.Previous, err)
		}
		before := attempt.Previous{At: a.At.Add(-time.Duration(span))}
		if country != "" {
			var code attempt.CountryCode
			if err := code.UnmarshalText([]byte(country)); err != nil {
				return fmt.Errorf("--previous %s: %w", q.Previous, err)
			}
			before.Country = attempt.Known(code)
		}
		a.Previous = attempt.Known(before)
	}
	switch {
	case q.Failures < 0:
		return fmt.Errorf("--failures counts failed sign-ins, and %d is no number of them", q.Failures)
	case q.Failures > 0:
		a.Failures = attempt.Known(slices.Repeat([]time.Time{a.At.Add(-time.Minute)}, q.Failures))
	}
	return nil
}

// AtRisk returns a rulebook in which the account of the attempt has the standing risk that
// is said, and says so. The book's own risk of the account gives way.
func (q *Attempt) AtRisk(rules decide.Rulebook) (changed decide.Rulebook, assumed []string, err error) {
	if q.AccountRisk == "" {
		return rules, nil, nil
	}
	level, because, _ := strings.Cut(q.AccountRisk, ":")
	risk := directory.AccountRisk{Because: because}
	if err := risk.Level.UnmarshalText([]byte(level)); err != nil {
		return rules, nil, fmt.Errorf("--account-risk: %w", err)
	}
	rules.Directory.Accounts = slices.Clone(rules.Directory.Accounts)
	i := slices.IndexFunc(rules.Directory.Accounts, func(a directory.Account) bool { return a.Name == q.Account })
	if i < 0 {
		return rules, nil, fmt.Errorf("--account-risk: the book does not list %q", q.Account)
	}
	rules.Directory.Accounts[i].AccountRisk = &risk
	return rules, []string{fmt.Sprintf("The account is at %s risk.", level)}, nil
}
