package engine

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
)

// Opening returns what anyone is told whose attempt has proven nothing yet and is
// not granted: which methods to begin with. It is made from the book and from what
// the attempt is made through alone, and looks no account up, so neither its words
// nor the time that it takes reveal whether an account exists. Ask it first of an
// attempt without proofs, and Decide once there is one.
func (j *Judge) Opening(a *attempt.Attempt) decide.ToPerson { return j.opening(a, new([]string)) }

// opening is Opening with memory for names.
func (j *Judge) opening(a *attempt.Attempt, names *[]string) decide.ToPerson {
	if through, known := a.Through.Get(); known && !through.CanBeAsked() {
		return decide.ToPerson{Verdict: decide.Block, Repairs: []string{"Sign in where you can be asked for a proof."}, Offer: []string{}}
	}
	first := len(*names)
	*names = append(*names, j.openers...)
	return decide.ToPerson{Verdict: decide.StepUp, Repairs: []string{}, Offer: (*names)[first:len(*names):len(*names)]}
}

// tellPerson makes the view for the one who signs on.
func (e *evaluation) tellPerson(d *decide.Decision) {
	if len(e.gatherProofs()) == 0 && d.Verdict != decide.Grant {
		d.ToPerson = e.judge.opening(e.Attempt, &e.draft.names)
		return
	}
	d.ToPerson = decide.ToPerson{Verdict: d.Verdict, Repairs: []string{}, Offer: []string{}}
	if len(e.gatherProofs()) == 0 {
		return // a public app lets everybody in, and says no more
	}
	for _, n := range d.Notices {
		if n.Code == decide.EnrolmentDue && (d.ToPerson.DaysLeft == 0 || n.DaysLeft < d.ToPerson.DaysLeft) {
			d.ToPerson.DaysLeft = n.DaysLeft
		}
	}
	if d.Verdict == decide.Grant {
		return
	}
	d.ToPerson.Say = e.say()
	if e.blocks() || e.refusal() != "" {
		return // nothing that could be shown would help
	}
	offered := 0
	for i := range d.Demands {
		offered += offers(&d.Demands[i])
	}
	d.ToPerson.Offer = e.draft.roomForNames(offered)
	tells := teller{&d.ToPerson, d.Verdict == decide.Block && !e.canBeAsked()}
	for i := range d.Demands {
		if !d.Demands[i].Met {
			tells.demand(&d.Demands[i])
		}
	}
}

// offers counts the methods that a demand offers, those of its ways included.
func offers(d *decide.Demand) int {
	n := len(d.Offer)
	for _, way := range d.Ways {
		for i := range way {
			n += offers(&way[i])
		}
	}
	return n
}

// teller tells the person what is still to be done.
type teller struct {
	*decide.ToPerson
	// unasked says that nobody can be asked for anything.
	unasked bool
}

// repair adds what the person can do, once.
func (t teller) repair(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(t.Repairs, text) {
		t.Repairs = append(t.Repairs, text)
	}
}

// demand tells what to do about a demand that is open.
func (t teller) demand(demand *decide.Demand) {
	switch demand.Kind {
	case decide.DemandMethod:
		if t.unasked {
			t.repair("Sign in where you can be asked for %s.", strings.Join(demand.AnyOf, " or "))
			return
		}
		for _, m := range demand.Offer {
			if t.Verdict == decide.Block {
				break // it would not help
			}
			if !slices.Contains(t.Offer, m) {
				t.Offer = append(t.Offer, m)
			}
		}
	case decide.DemandEnrol:
		t.repair("Enrol %s.", strings.Join(demand.AnyOf, " or "))
	case decide.DemandPosture:
		t.posture(demand)
	case decide.DemandChangePassword:
		t.repair("Change your password.")
	case decide.DemandAccept:
		t.repair("Read and accept %s, version %d.", demand.Document, demand.Version)
	case decide.DemandConsent:
		if demand.Client != "" {
			t.repair("Let %s in, or turn it away.", demand.Client)
		} else {
			t.repair("Sign in where it can be told which program you are let in to.")
		}
	case decide.DemandExternal:
		if demand.Impossible {
			t.repair("The check %s failed; ask the help desk.", demand.External)
		} else {
			t.repair("Pass the check %s.", demand.External)
		}
	case decide.DemandOneOf:
		for _, open := range demand.EasiestWay() {
			t.demand(&open)
		}
	}
}

// posture tells apart the three ways in which a device falls short: nothing identifies it, it did not report lately, or
// it is unfit.
func (t teller) posture(demand *decide.Demand) {
	fixed := false
	for _, f := range demand.Failing {
		if f.Fix != "" {
			t.repair("%s", f.Fix)
			fixed = true
		}
	}
	switch {
	case fixed:
	case len(demand.Failing) > 0 && demand.Impossible:
		t.repair("Have the device put in order: it does not pass %s.", demand.Posture)
	case demand.Impossible:
		t.repair("Use a browser or an app that says which device you are on.")
	default:
		t.repair("Let the device report its state, and sign in again.")
	}
}

// say joins what the rules say that stand in the way.
func (e *evaluation) say() string {
	said := make([]string, 0, 4)
	blocks := e.blocks()
	for i := range e.outcomes {
		o := &e.outcomes[i]
		if o.policy == none {
			continue
		}
		stands := o.outcome.block || !blocks && e.weighing(o).state != met
		if text := e.judge.policies[o.policy].Rules[o.rule].Say; stands && text != "" && !slices.Contains(said, text) {
			said = append(said, text)
		}
	}
	return strings.Join(said, " ")
}
