package demo

import (
	"math/rand/v2"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
)

// Addresses of the book's networks, and of places that only its map knows.
const (
	pier  = "203.0.113.20"
	home  = "192.0.2.70"
	depot = "198.51.100.70"
	yard  = "192.0.2.20"
	rio   = "192.0.2.150"
	relay = "192.0.2.230"
)

// historyDays is how many days the history has, and historySeed what the times of
// day are drawn from.
const historyDays, historySeed = 31, 20261123

// habit is what an account does on its working days.
type habit struct {
	account, app, device, ip string
	// times is how often in a day, at some moment between two hours.
	times, from, to int
	methods         []string
	unattended      bool
	// checked says that the shipyard vouches for the person.
	checked  bool
	weekends bool
}

var habits = []habit{
	{
		account:  "ingrid@kestrelsound.example",
		app:      "card-till",
		device:   "laptop-ingrid",
		ip:       pier,
		times:    6,
		from:     6,
		to:       15,
		methods:  []string{"password"},
		weekends: true,
	},
	{
		account: "ingrid@kestrelsound.example",
		app:     "mail",
		device:  "laptop-ingrid",
		ip:      home,
		times:   2,
		from:    17,
		to:      21,
		methods: []string{"password", "push"},
	},
	{
		account:  "nina@kestrelsound.example",
		app:      "card-till",
		device:   "laptop-ingrid",
		ip:       pier,
		times:    5,
		from:     14,
		to:       22,
		methods:  []string{"password"},
		weekends: true,
	},
	{
		account: "einar@kestrelsound.example",
		app:     "card-till",
		device:  "laptop-einar",
		ip:      pier,
		times:   3,
		from:    9,
		to:      15,
		methods: []string{"password"},
	},
	{
		account: "einar@kestrelsound.example",
		app:     "mail",
		device:  "laptop-einar",
		ip:      pier,
		times:   5,
		from:    8,
		to:      16,
		methods: []string{"password"},
	},
	{
		account: "auditor@kestrelsound.example",
		app:     "card-till",
		device:  "laptop-auditor",
		ip:      home,
		times:   1,
		from:    9,
		to:      12,
		methods: []string{"password", "otp-app"},
	},
	{
		account: "ragna@kestrelsound.example",
		app:     "shore-vpn",
		device:  "laptop-ragna",
		ip:      home,
		times:   4,
		from:    7,
		to:      18,
		methods: []string{"password", "security-key"},
	},
	{
		account: "ragna@kestrelsound.example",
		app:     "berth-planner",
		device:  "laptop-ragna",
		ip:      pier,
		times:   3,
		from:    8,
		to:      16,
		methods: []string{"password", "security-key"},
	},
	{
		account:  "torstein@kestrelsound.example",
		app:      "crew-roster",
		device:   "bridge-terminal",
		ip:       depot,
		times:    5,
		from:     5,
		to:       22,
		methods:  []string{"password"},
		weekends: true,
	},
	{
		account:  "torstein@kestrelsound.example",
		app:      "berth-planner",
		device:   "bridge-terminal",
		ip:       depot,
		times:    6,
		from:     5,
		to:       22,
		methods:  []string{"password"},
		weekends: true,
	},
	{
		account:  "liv@kestrelsound.example",
		app:      "engine-logs",
		device:   "tablet-liv",
		ip:       depot,
		times:    6,
		from:     5,
		to:       22,
		methods:  []string{"password", "push"},
		weekends: true,
	},
	{
		account:  "jonas@kestrelsound.example",
		app:      "crew-roster",
		device:   "phone-jonas",
		ip:       home,
		times:    4,
		from:     6,
		to:       22,
		methods:  []string{"password"},
		weekends: true,
	},
	{
		account:  "solveig@kestrelsound.example",
		app:      "harbour-watch",
		device:   "desk-solveig",
		ip:       pier,
		times:    8,
		from:     5,
		to:       20,
		methods:  []string{"password", "security-key"},
		weekends: true,
	},
	{
		account: "astrid@kestrelsound.example",
		app:     "board-papers",
		device:  "tablet-astrid",
		ip:      home,
		times:   1,
		from:    8,
		to:      20,
		methods: []string{"password", "push"},
	},
	{
		account:  "pelle@kestrelsound.example",
		app:      "timetable",
		device:   "phone-pelle",
		ip:       home,
		times:    3,
		from:     5,
		to:       22,
		methods:  []string{"password"},
		weekends: true,
	},
	{
		account: "signe@kestrelsound.example",
		app:     "mail",
		device:  "phone-signe",
		ip:      home,
		times:   2,
		from:    6,
		to:      22,
		methods: []string{"password"},
	},
	{
		account: "marek@gdansk-yard.example",
		app:     "engine-logs",
		device:  "laptop-marek",
		ip:      yard,
		times:   4,
		from:    7,
		to:      17,
		methods: []string{"password", "otp-app"},
		checked: true,
	},
	{
		account:    "tide-gauge",
		app:        "timetable",
		ip:         depot,
		times:      24,
		from:       0,
		to:         24,
		methods:    []string{"certificate"},
		unattended: true,
		weekends:   true,
	},
	{
		account:    "kiosk-pier-2",
		app:        "card-till",
		device:     "kiosk-2",
		ip:         pier,
		times:      12,
		from:       5,
		to:         23,
		methods:    []string{"certificate"},
		unattended: true,
		weekends:   true,
	},
}

// History is the month before the Scenes, always the same, in order of time: what
// people do day by day, and six troubles in it. Nina's password leaks. Ragna's account
// signs on in Norway and an hour later in Brazil. Oskar counts the till after it
// has closed. The certificate of a kiosk expires. Marek's account is used from the
// yard and from Brazil. And from one address a password is tried on everybody.
func History() []*attempt.Attempt {
	chance := rand.New(rand.NewPCG(historySeed, 0))
	last := Scenes()[0].Attempt.At
	day := func(n int) time.Time { // so many days before the day of the scenes
		return time.Date(last.Year(), last.Month(), last.Day()-n, 0, 0, 0, 0, last.Location())
	}
	facts := map[string]map[string]attempt.Scalar{}
	if b, err := Open(); err == nil { // the book is part of the program
		for _, d := range b.Devices {
			facts[d.Name] = d.Facts
		}
	}
	var history []*attempt.Attempt
	for n := historyDays; n > 0; n-- {
		weekend := day(n).Weekday() == time.Saturday || day(n).Weekday() == time.Sunday
		for _, h := range habits {
			if weekend && !h.weekends {
				continue
			}
			for range h.times {
				second := h.from*60*60 + chance.IntN((h.to-h.from)*60*60)
				history = append(history, h.attempt(day(n).Add(time.Duration(second)*time.Second)))
			}
		}
	}
	for _, a := range history {
		switch {
		case a.Account == "nina@kestrelsound.example" && a.At.After(day(3)):
			a.Signals = []string{"leaked-list"}
		case a.Account == "kiosk-pier-2" && a.At.After(day(6)):
			a.Proofs, a.Failed = nil, []attempt.Failure{{Method: "certificate", Reason: attempt.Refused}}
		}
	}
	for n := range 10 { // Oskar joined on the tenth
		count := habit{
			account: "oskar@kestrelsound.example",
			app:     "card-till",
			device:  "laptop-ingrid",
			ip:      pier,
			methods: []string{"password"},
		}
		history = append(history, count.attempt(day(n+1).Add(23*time.Hour+20*time.Minute)))
	}
	from := habit{
		account: "ragna@kestrelsound.example",
		app:     "shore-vpn",
		device:  "laptop-ragna",
		ip:      home,
		methods: []string{"password", "security-key"},
	}
	history = append(history, from.attempt(day(12).Add(19*time.Hour)))
	from.ip, from.device, from.methods = rio, "laptop-elsewhere", []string{"password"}
	history = append(history, from.attempt(day(12).Add(20*time.Hour)))
	for n := range 5 {
		lent := habit{
			account: "marek@gdansk-yard.example",
			app:     "engine-logs",
			device:  "laptop-elsewhere",
			ip:      rio,
			methods: []string{"password", "otp-app"},
		}
		history = append(history, lent.attempt(day(n+4).Add(13*time.Hour)))
	}
	sprayed := day(9).Add(3 * time.Hour)
	for round := range 6 {
		for i, h := range habits {
			a := habit{
				account: h.account,
				app:     "mail",
				ip:      relay,
			}.attempt(
				sprayed.Add(time.Duration(round)*time.Minute + time.Duration(i)*time.Second),
			)
			a.Failed = []attempt.Failure{{Method: "password", Reason: attempt.Refused}}
			history = append(history, a)
		}
	}
	for _, a := range history {
		if d := a.Device.Ref(); d != nil { // it reports the same each time
			id, _ := d.ID.Get()
			d.Facts = facts[id]
		}
	}
	slices.SortStableFunc(history, func(a, b *attempt.Attempt) int { return a.At.Compare(b.At) })
	return history
}

// attempt is what the habit does at a time.
func (h habit) attempt(at time.Time) *attempt.Attempt {
	a := &attempt.Attempt{
		At:      at,
		Account: h.account,
		App:     h.app,
		IP:      address(h.ip),
		Through: attempt.Known(attempt.Browser),
		Client:  attempt.None[attempt.ClientAsk](),
	}
	if h.unattended {
		a.Through = attempt.Known(attempt.Unattended)
	}
	if h.device != "" {
		a.Device = attempt.Known(attempt.Device{ID: attempt.Known(h.device), ReportedAt: attempt.Known(at.Add(-time.Hour))})
	}
	if h.checked {
		a.External = map[string]attempt.CheckResult{"shipyard-verifier": attempt.CheckPassed}
	}
	for _, method := range h.methods {
		a.Proofs = append(a.Proofs, attempt.Proof{Method: method, At: at})
	}
	return a
}
