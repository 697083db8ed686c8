package decide

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
)

// Opening returns what anyone is told whose attempt has proven nothing yet and is
// not granted: which methods to begin with. It is made from the book and from what
// the attempt is made through alone, and looks no account up, so neither its words
// nor the time that it takes reveal whether an account exists. Ask it first of an
// attempt without proofs, and Decide once there is one.
func (j *Judge) Opening(a *attempt.Attempt) ToPerson { return j.opening(a, new([]string)) }

// opening is Opening with memory for names.
func (j *Judge) opening(a *attempt.Attempt, names *[]string) ToPerson {
	if through, known := a.Through.Get(); known && !through.CanBeAsked() {
		return ToPerson{Verdict: Block, Repairs: []string{"Sign in where you can be asked for a proof."}, Offer: []string{}}
	}
	first := len(*names)
	*names = append(*names, j.openers...)
	return ToPerson{Verdict: StepUp, Repairs: []string{}, Offer: (*names)[first:len(*names):len(*names)]}
}

// tellPerson makes the view for the one who signs on.
func (e *evaluation) tellPerson(d *Decision) {
	if len(e.gatherProofs()) == 0 && d.Verdict != Grant {
		d.ToPerson = e.judge.opening(e.Attempt, &e.draft.names)
		return
	}
	d.ToPerson = ToPerson{Verdict: d.Verdict, Repairs: []string{}, Offer: []string{}}
	if len(e.gatherProofs()) == 0 {
		return // a public app lets everybody in, and says no more
	}
	for _, n := range d.Notices {
		if n.Code == EnrolmentDue && (d.ToPerson.DaysLeft == 0 || n.DaysLeft < d.ToPerson.DaysLeft) {
			d.ToPerson.DaysLeft = n.DaysLeft
		}
	}
	if d.Verdict == Grant {
		return
	}
	d.ToPerson.Say = e.say()
	if e.blocks() || e.refusal() != "" {
		return // nothing that could be shown would help
	}
	offered := 0
	for i := range d.Demands {
		offered += d.Demands[i].offers()
	}
	d.ToPerson.Offer = e.draft.roomForNames(offered)
	for i := range d.Demands {
		if !d.Demands[i].Met {
			d.ToPerson.add(&d.Demands[i], d.Verdict == Block && !e.canBeAsked())
		}
	}
}

// offers counts the methods that a demand offers, those of its ways included.
func (d *Demand) offers() int {
	n := len(d.Offer)
	for _, way := range d.Ways {
		for i := range way {
			n += way[i].offers()
		}
	}
	return n
}

// add tells what to do about a demand, where nobody can be asked for something or else.
func (t *ToPerson) add(demand *Demand, unasked bool) {
	repair := func(format string, args ...any) {
		if text := fmt.Sprintf(format, args...); !slices.Contains(t.Repairs, text) {
			t.Repairs = append(t.Repairs, text)
		}
	}
	switch demand.Kind {
	case DemandMethod:
		if unasked {
			repair("Sign in where you can be asked for %s.", strings.Join(demand.AnyOf, " or "))
			return
		}
		for _, m := range demand.Offer {
			if t.Verdict == Block {
				break // it would not help
			}
			if !slices.Contains(t.Offer, m) {
				t.Offer = append(t.Offer, m)
			}
		}
	case DemandEnrol:
		repair("Enrol %s.", strings.Join(demand.AnyOf, " or "))
	case DemandPosture:
		t.addPosture(demand, repair)
	case DemandChangePassword:
		repair("Change your password.")
	case DemandAccept:
		repair("Read and accept %s, version %d.", demand.Document, demand.Version)
	case DemandConsent:
		if demand.Client != "" {
			repair("Let %s in, or turn it away.", demand.Client)
		} else {
			repair("Sign in where it can be told which program you are let in to.")
		}
	case DemandExternal:
		if demand.Impossible {
			repair("The check %s failed; ask the help desk.", demand.External)
		} else {
			repair("Pass the check %s.", demand.External)
		}
	case DemandOneOf:
		way := demand.easiestWay()
		for i := range way {
			if !way[i].Met {
				t.add(&way[i], unasked)
			}
		}
	}
}

// addPosture tells the three ways in which a device falls short apart: nothing
// identifies it, it did not report lately, or it is unfit.
func (t *ToPerson) addPosture(demand *Demand, repair func(string, ...any)) {
	fixed := false
	for _, f := range demand.Failing {
		if f.Fix != "" {
			repair("%s", f.Fix)
			fixed = true
		}
	}
	switch {
	case fixed:
	case len(demand.Failing) > 0 && demand.Impossible:
		repair("Have the device put in order: it does not pass %s.", demand.Posture)
	case demand.Impossible:
		repair("Use a browser or an app that says which device you are on.")
	default:
		repair("Let the device report its state, and sign in again.")
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
