// Package prove reports whether the guarantees of a book hold: in all circumstances, not in those alone that
// somebody thought of. Each is proven, or there is an attempt on which it does not hold.
package prove

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/explore"
	"github.com/briskwarden/briskwarden/internal/words"
)

// State is what came of a guarantee. The zero State is Open.
type State uint8

// What may come of a guarantee.
const (
	// Open: it could not be found out.
	Open State = iota
	// Proven: it holds in all circumstances.
	Proven
	// Fails: there are circumstances in which it does not hold.
	Fails
)

var states = []string{"open", "proven", "fails"}

// String returns open, proven or fails.
func (s State) String() string { return words.Of(s, states, 0) }

// MarshalText writes String.
func (s State) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads open, proven or fails.
func (s *State) UnmarshalText(text []byte) error {
	return words.Parse(s, "what came of a guarantee", string(text), states, Open)
}

// States returns the words for what may come of a guarantee.
func States() []string { return append([]string{}, states...) }

// Report is what came of guarantees.
type Report struct {
	// Zone is that of the book.
	Zone *time.Location `json:"-"`
	// From and To bound the moments that were looked at.
	From    time.Time `json:"from" doc:"the first moment that was looked at"`
	To      time.Time `json:"to" doc:"the end of those that were looked at"`
	Results []Result  `json:"results" doc:"each guarantee, in the order of the book"`
}

// Count returns how many guarantees came to something.
func (r *Report) Count(of State) int {
	n := 0
	for i := range r.Results {
		if r.Results[i].State == of {
			n++
		}
	}
	return n
}

// Result is what came of a guarantee.
type Result struct {
	Name  string             `json:"name" doc:"the guarantee"`
	About string             `json:"about,omitzero" doc:"what it is to make sure of"`
	At    condition.Position `json:"at" doc:"where it stands in the book"`
	State State              `json:"state" doc:"proven, fails or open"`
	// Claim is what it says, in words, and Why why it is not proven.
	Claim string `json:"claim" doc:"what it says, in words"`
	Why   string `json:"why,omitzero" doc:"why it is not proven"`
	// Empty says that there are no circumstances that it is about: a name may be wrong, or its time is over.
	Empty bool `json:"empty,omitzero" doc:"true where there are no circumstances that it is about"`
	// Unlisted says that it holds for the accounts that are known, and that the book does not list all.
	Unlisted bool `json:"unlisted,omitzero" doc:"true where it holds for the accounts that are known, and there are others"`
	// Newcomers says that it holds too for the persons whom the book does not have that were looked at, and Newcomer is
	// one for whom it does not: it holds by accident of today's accounts.
	Newcomers bool      `json:"newcomers,omitzero" doc:"true where it was found to hold for persons whom the book does not have"`
	Newcomer  *Newcomer `json:"newcomer,omitempty" doc:"a person whom the book does not have, and for whom it would not hold"`
	// Attempt is one on which it does not hold, with what the book asks of it and the rules that do.
	Attempt *attempt.Attempt `json:"attempt,omitempty" doc:"an attempt on which it does not hold"`
	Asks    string           `json:"asks,omitzero" doc:"what the book asks of that attempt, in words"`
	Rules   []decide.Source  `json:"rules,omitempty" doc:"the rules behind what it asks"`
	// Noticed are the signals that hold on that attempt, and Perhaps those that may, where the guarantee is about the risk.
	Noticed []string `json:"noticed,omitempty" doc:"the signals that hold on that attempt"`
	Perhaps []string `json:"perhaps,omitempty" doc:"the signals that may, where the guarantee is about the risk"`
	// Alike is how many accounts of the book nothing tells apart from that of the attempt.
	Alike int `json:"alike,omitzero" doc:"how many accounts nothing tells apart from that of the attempt"`
	// Cells is how many circumstances with different terms, or reasons for them, were looked at; 0 where one
	// refuted the guarantee.
	Cells int64 `json:"cells,omitzero" doc:"how many cells of circumstances were looked at; absent where one refuted the guarantee"`
}

// Options say how far is looked.
type Options struct {
	// From is the first moment, and For how long from then on; 0 is 400 days.
	From time.Time
	For  time.Duration
	// Names are the guarantees that are looked at; none stands for all.
	Names []string
	// Newcomers has what is proven looked at once more with persons whom the book does not have.
	Newcomers bool
	// Progress, where it is not nil, is told how many steps more are done, and how many more there are. Several goroutines
	// call it.
	Progress func(done, more int)
}

// Prove reports whether the guarantees of a book hold. It takes both processors. Where the context ends before
// it is through, those that are left are open.
//
// What is proven holds for all accounts and apps that the book has, at all moments until the horizon, wherever
// an attempt comes from, on whatever device, whether or not a fact is known. Who is not listed, and what is no
// app, is refused before any policy is asked. It rests on what an attempt states being true, and on the
// accounts as the book has them.
func Prove(ctx context.Context, b *book.Book, judge *engine.Judge, o Options) (*Report, error) {
	if o.For == 0 {
		o.For = explore.Horizon
	}
	r := &Report{Zone: b.Settings.Zone, From: o.From, To: o.From.Add(o.For), Results: []Result{}}
	var chosen []*book.Guarantee
	for i := range b.Guarantees {
		g := &b.Guarantees[i]
		if len(o.Names) == 0 || slices.Contains(o.Names, g.Name) {
			chosen = append(chosen, g)
		}
	}
	proofs, err := proveEach(ctx, judge, r.From, r.To, chosen, o.Progress)
	if err != nil {
		return nil, err
	}
	if o.Newcomers && b.ListsAll() {
		if err := lookAtNewcomers(ctx, judge, r.From, r.To, proofs, o.Progress); err != nil {
			return nil, err
		}
	}
	for _, p := range proofs {
		if p.Attempt != nil {
			p.explain(judge)
		}
		if !b.ListsAll() && (p.State == Proven || p.Empty) {
			p.State, p.Unlisted, p.Empty = Open, true, false
			p.Why = "The accounts are outside the book, so nobody knows of all. List them, and it can be proven."
		}
		r.Results = append(r.Results, p.Result)
	}
	return r, nil
}

// proveEach goes through all circumstances for each of some guarantees.
func proveEach(
	ctx context.Context, judge *engine.Judge, from, to time.Time, guarantees []*book.Guarantee, progress func(done, more int),
) ([]*proof, error) {
	var conditions []condition.Node
	for _, g := range guarantees {
		conditions = append(conditions, g.Where)
	}
	space, err := explore.New(judge, from, to, conditions...)
	if err != nil {
		return nil, err
	}
	space.Progress = progress
	proofs := make([]*proof, len(guarantees))
	for i, g := range guarantees {
		if proofs[i], err = newProof(space, judge, g); err != nil {
			return nil, fmt.Errorf("guarantee %s: %w", g.Name, err)
		}
	}
	// One after the other leaves processors idle at the end of each.
	var group sync.WaitGroup
	turns := make(chan struct{}, 2)
	for _, p := range proofs {
		turns <- struct{}{}
		group.Go(func() {
			p.run(ctx)
			<-turns
		})
	}
	group.Wait()
	return proofs, nil
}

// proof is a guarantee that is being proven.
type proof struct {
	Result
	g     *book.Guarantee
	space *explore.Space
	judge *engine.Judge
	// where is its condition for the space, and real for the judge.
	where, real condition.Node

	mu    sync.Mutex
	found bool
	// order is that of the cell which was found.
	order int
	fault string
	// unsettled is how many cells were not settled.
	unsettled int
	// covers says that there are circumstances that it is about.
	covers bool
}

func newProof(space *explore.Space, judge *engine.Judge, g *book.Guarantee) (*proof, error) {
	p := &proof{g: g, space: space, judge: judge, Result: Result{Name: g.Name, About: g.About, At: g.At}}
	var err error
	if p.where, err = space.Bind("guarantee", g.Where); err != nil {
		return nil, err
	}
	if p.real, err = judge.Bind("guarantee", g.Where); err != nil {
		return nil, err
	}
	p.Claim = claimWords(g, p.real)
	return p, nil
}

// claimWords is what a guarantee says, in words. Where is its condition, bound.
func claimWords(g *book.Guarantee, where condition.Node) string {
	text := "where " + describe.When(where)
	switch {
	case g.Always != 0:
		return "nobody gets in " + text
	case len(g.NeverWithout) > 0:
		return "nobody gets in without " + words.List(g.NeverWithout, "and") + " " + text
	case len(g.Enough) > 0:
		return words.List(g.Enough, "and") + " is enough to get in " + text
	}
	return "nothing beyond " + words.List(g.AtMost, "and") + " is asked for " + text
}

// isAbout reports whether a guarantee is about circumstances in which its condition has a truth, and terms
// that nobody asked a policy for.
func (p *proof) isAbout(where condition.Truth, t *engine.Terms) bool {
	if len(p.g.Enough)+len(p.g.AtMost) > 0 {
		return where == condition.True && t.Refused != decide.AppNotOpen && t.Refused != decide.AccountUnknown && t.Refused != decide.AppUnknown
	}
	return where != condition.False
}

// holds reports whether a guarantee holds of terms.
func (p *proof) holds(t *engine.Terms) bool {
	switch {
	case p.g.Always != 0:
		return t.Block
	case len(p.g.NeverWithout) > 0:
		for _, name := range p.g.NeverWithout {
			if !t.Imply(name) {
				return false
			}
		}
		return true
	case len(p.g.Enough) > 0:
		return t.MetBy(p.g.Enough)
	}
	return t.Block || t.MetBy(p.g.AtMost)
}

// run goes through all circumstances that a guarantee is about.
func (p *proof) run(ctx context.Context) {
	cells, whole := p.space.Walk(ctx, p.where, p.look)
	p.Cells = cells
	switch {
	case p.found:
		p.State, p.Cells = Fails, 0 // which depends on who was first
	case p.fault != "":
		p.Why = p.fault + p.space.Unexplored()
	case !whole:
		p.Why = fmt.Sprintf("The time was up after %s; none of them refutes it.", words.Count(int(cells), "cell"))
	case !p.covers:
		p.State, p.Empty = Fails, true
		p.Why = "Its `where` holds of nothing that the book lists, so it says nothing."
	default:
		p.State = Proven
	}
}

// mostUnsettled is how many cells that are not settled are looked at: each takes long, and one is enough for the
// guarantee to be open.
const mostUnsettled = 10

// look holds one cell against the guarantee.
func (p *proof) look(c *explore.Cell) bool {
	if !p.isAbout(c.Where, &c.Terms) {
		return true
	}
	if p.holds(&c.Terms) {
		p.mu.Lock()
		p.covers = true
		p.mu.Unlock()
		return true
	}
	a, settled := c.Witness(func(a *attempt.Attempt) bool {
		where, t := p.judge.TermsWhere(context.Background(), a, p.real)
		return p.isAbout(where, &t) && !p.holds(&t)
	})
	p.mu.Lock()
	defer p.mu.Unlock()
	if a == nil {
		if p.unsettled >= mostUnsettled {
			return false
		}
		switch {
		case !settled:
			p.unsettled++
			p.fault = fmt.Sprintf("The book may ask %s at %s for %s, and whether that can come about was not settled.",
				c.Account, c.App, c.Terms.String())
		case !c.IsFree():
			p.fault = fmt.Sprintf("A fault in the proof: the book seems to ask for %s of %s at %s, and no attempt shows it. Please report it.",
				c.Terms.String(), c.Account, c.App)
		}
		return true
	}
	if !p.found || c.Order < p.order {
		p.covers, p.found, p.order = true, true, c.Order
		p.Attempt, p.Alike = a, len(c.Accounts)
	}
	return false
}

// explain fills in what the book asks of the attempt that refutes the guarantee.
func (p *proof) explain(judge *engine.Judge) {
	t := judge.Terms(context.Background(), p.Attempt)
	for _, signal := range judge.Decide(context.Background(), p.Attempt).Risk.Signals {
		switch {
		case signal.Holds == condition.True:
			p.Noticed = append(p.Noticed, signal.Name)
		case condition.Asks(p.g.Where, engine.KeySignals, engine.KeyRiskAtLeast, engine.KeyScoreAtLeast):
			p.Perhaps = append(p.Perhaps, signal.Name)
		}
	}
	p.Asks, p.Rules = t.String(), t.Sources
	var missing []string
	for _, name := range p.g.NeverWithout {
		if !t.Imply(name) {
			missing = append(missing, name)
		}
	}
	got := "The book asks for " + p.Asks
	if t.Block {
		got = "The book blocks"
	}
	switch {
	case len(missing) > 0:
		p.Why = fmt.Sprintf("%s, which does without %s.", got, words.List(missing, "and"))
	case p.g.Always != 0:
		p.Why = got + ", and then lets in."
	case len(p.g.Enough) > 0 && t.Block:
		p.Why = got + " whatever is proven."
	default:
		p.Why = fmt.Sprintf("%s, which is more than %s.", got, words.List(append(p.g.Enough, p.g.AtMost...), "and"))
	}
}

// Cells returns how many cells of circumstances were looked at for what is proven.
func (r *Report) Cells() (n int64) {
	for i := range r.Results {
		n += r.Results[i].Cells
	}
	return n
}

// Shown says of the attempt that refutes a guarantee what it is like, in words, with its time in a zone.
func (r *Result) Shown(zone *time.Location) string {
	a := r.Attempt
	parts := []string{a.Account + " at " + a.App}
	if a.Action != attempt.SignIn {
		parts[0] += " (" + a.Action.String() + ")"
	}
	if ip, ok := a.IP.Get(); ok {
		parts = append(parts, "from "+ip.String())
	} else {
		parts = append(parts, "from an address that is not known")
	}
	if c, ok := a.Country.Get(); ok {
		parts = append(parts, "in "+string(c))
	}
	if through, ok := a.Through.Get(); ok {
		parts = append(parts, "through "+through.String())
	}
	if d := a.Device.Ref(); d != nil {
		parts = append(parts, "on a device of its kind")
	} else {
		parts = append(parts, "on a device that is not known")
	}
	if len(r.Noticed) > 0 {
		parts = append(parts, "with "+words.List(r.Noticed, "and")+" noticed")
	}
	if len(r.Perhaps) > 0 {
		parts = append(parts, "perhaps with "+words.List(r.Perhaps, "and")+" noticed")
	}
	if len(a.Proofs) > 0 {
		var methods []string
		for i := range a.Proofs {
			methods = append(methods, a.Proofs[i].Method)
		}
		parts = append(parts, words.List(methods, "and")+" proven")
	}
	return strings.Join(parts, ", ") + ", " + a.At.In(zone).Format("Mon 2006-01-02 15:04 MST")
}
