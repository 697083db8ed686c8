package condition

// Holds reports whether the test holds of the facts. It must be bound: of one that is not, nothing is known.
func (n *Test) Holds(facts Facts) Truth {
	if !n.isBound {
		return Unknown
	}
	return facts.Holds(n)
}

// Eval evaluates a bound condition in Kleene's strong logic. It allocates nothing.
func Eval(node Node, facts Facts) Truth {
	switch n := node.(type) {
	case *Test:
		return n.Holds(facts)
	case *All:
		all := True
		for _, kid := range n.Of {
			if all = min(all, Eval(kid, facts)); all == False {
				break
			}
		}
		return all
	case *Any:
		any := False
		for _, kid := range n.Of {
			if any = max(any, Eval(kid, facts)); any == True {
				break
			}
		}
		return any
	case *Not:
		return Eval(n.Of, facts).Not()
	}
	if node == nil {
		return True // the nil condition limits nothing
	}
	return Unknown // of a node that nobody knows, nothing is
}

// Reason is one test and what became of it.
type Reason struct {
	Key Key
	// Attribute is the attribute that the key Attributes asks about.
	Attribute string
	// Negated says that the test stood under a `not` or `except`.
	Negated bool
	// Truth is what the test came to, before any negation.
	Truth Truth
	// Wants and Saw are for a reader. Saw is "" where the fact is unknown.
	Wants, Saw string
}

// String is the reason in one line: "countries: wants home-waters (DK, NO, SE),
// saw BR".
func (r Reason) String() string { return string(r.Append(nil)) }

// Append appends String to text.
func (r *Reason) Append(text []byte) []byte { return appendSaw(r.appendAsks(text), r.Saw) }

func (r *Reason) appendAsks(text []byte) []byte {
	text = append(text, r.Key.String()...)
	if r.Attribute != "" {
		text = append(append(text, ' '), r.Attribute...)
	}
	text = append(text, ": wants "...)
	if r.Negated {
		text = append(text, "not "...)
	}
	return append(append(text, r.Wants...), ", saw "...)
}

func appendSaw(text []byte, saw string) []byte {
	if saw == "" {
		return append(text, "nothing (unknown)"...)
	}
	return append(text, saw...)
}

// Why returns the tests that kept a bound condition from holding: of those that
// must all hold the first that failed, of alternatives each one. Where the
// condition is unknown, they are the unknown tests it depends on. It returns nil
// where the condition holds.
func Why(node Node, facts Facts) []Reason {
	return AppendWhy(nil, node, facts)
}

// AppendWhy appends to reasons what Why returns.
func AppendWhy(reasons []Reason, node Node, facts Facts) []Reason {
	came := Eval(node, facts)
	if came == True {
		return reasons
	}
	return explain(node, came, facts, false, reasons)
}

// Because returns the tests that made a bound condition hold: of those that must
// all hold each one, of alternatives the first that held. It returns nil where
// the condition does not hold.
func Because(node Node, facts Facts) []Reason { return AppendBecause(nil, node, facts) }

// AppendBecause appends to reasons what Because returns.
func AppendBecause(reasons []Reason, node Node, facts Facts) []Reason {
	if Eval(node, facts) != True {
		return reasons
	}
	first := len(reasons)
	reasons = explain(node, True, facts, true, reasons)
	for i := range reasons[first:] {
		reasons[first+i].Negated = !reasons[first+i].Negated
	}
	return reasons
}

// explain collects the tests that made node come to what it did, which is not
// what is wanted of it: True, or where negated is set, False.
func explain(node Node, came Truth, facts Facts, negated bool, found []Reason) []Reason {
	var kids []Node
	conjunction := false
	switch n := node.(type) {
	case *Test:
		return append(found, Reason{n.Key, n.Attribute, negated, came, n.wants, facts.Saw(n)})
	case *Not:
		return explain(n.Of, came.Not(), facts, !negated, found)
	case *All:
		kids, conjunction = n.Of, true
	case *Any:
		kids = n.Of
	}
	// One kid settles a conjunction that failed, or a disjunction that held against
	// the wish; otherwise each kid of that truth had a part in it.
	one := came != Unknown && conjunction != negated
	for _, kid := range kids {
		if Eval(kid, facts) == came {
			found = explain(kid, came, facts, negated, found)
			if one {
				break
			}
		}
	}
	return found
}
