package condition

import "slices"

// Conjunction is a bound condition laid out for evaluation: the tests that must all
// hold stand in one list, some of them negated, and what has another form beside
// them. Most conditions are such lists, which are walked faster than trees; those of a
// large book are seldom in the processor's caches, so what an evaluation looks at stands
// close together. Of the zero Conjunction nothing is known.
type Conjunction struct {
	// first is the first of the tests, without a test where there is none, and more are
	// the others.
	first literal
	more  []literal
	laid  bool
	// hasRest says that there is more in the layout than tests.
	hasRest bool
	layout  *layout
}

// literal is a test that must hold, or must not.
type literal struct {
	test    *Test
	negated bool
}

// layout is what only an explanation looks at, and the few conditions of another form.
type layout struct {
	node Node
	rest []Node
	// asks are the tests in words, up to what they saw.
	asks []string
}

func (l *literal) eval(facts Facts) Truth {
	holds := facts.Holds(l.test)
	if l.negated {
		return holds.Not()
	}
	return holds
}

func (c *Conjunction) addTest(t *Test, negated bool) {
	if !t.isBound { // whatever facts make of it, nothing is known
		c.layout.rest = append(c.layout.rest, t)
		return
	}
	l := literal{t, negated}
	if c.first.test == nil {
		c.first = l
	} else {
		c.more = append(c.more, l)
	}
	asks := (&Reason{Key: t.Key, Attribute: t.Attribute, Negated: negated, Wants: t.wants}).appendAsks(nil)
	c.layout.asks = append(c.layout.asks, string(asks))
}

// Conjoin lays out a bound condition. It comes to the same as the condition, whatever
// the facts.
func Conjoin(node Node) Conjunction {
	c := Conjunction{laid: true, layout: &layout{node: node}}
	c.add(node)
	c.hasRest = len(c.layout.rest) > 0
	return c
}

func (c *Conjunction) add(node Node) {
	switch n := node.(type) {
	case nil:
	case *Test:
		c.addTest(n, false)
	case *All:
		for _, kid := range n.Of {
			c.add(kid)
		}
	case *Not:
		if t, ok := n.Of.(*Test); ok {
			c.addTest(t, true)
			return
		}
		c.layout.rest = append(c.layout.rest, n)
	default:
		c.layout.rest = append(c.layout.rest, n)
	}
}

// WriteWhy appends to text what the reasons of [Why] say of the condition that it was
// made of, each behind a lead, and to ends where each of them ends.
func (c *Conjunction) WriteWhy(text []byte, ends []int, lead string, facts Facts) ([]byte, []int) {
	if c.layout == nil {
		return text, ends
	}
	firstText, firstEnd := len(text), len(ends)
	if c.hasRest {
		for _, r := range AppendWhy(nil, c.layout.node, facts) {
			text = r.Append(append(text, lead...))
			ends = append(ends, len(text))
		}
		return text, ends
	}
	for i := range c.layout.asks {
		l := &c.first
		if i > 0 {
			l = &c.more[i-1]
		}
		holds := l.eval(facts)
		switch holds {
		case True:
			continue
		case False: // which settles it, whatever was unknown before
			text, ends = text[:firstText], ends[:firstEnd]
		}
		text = append(append(text, lead...), c.layout.asks[i]...)
		text = appendSaw(text, facts.Saw(l.test))
		ends = append(ends, len(text))
		if holds == False {
			break
		}
	}
	return text, ends
}

// WriteBecause appends to text what the reasons of [Because] say of the condition that it
// was made of, each once, behind a lead.
func (c *Conjunction) WriteBecause(text []byte, lead string, facts Facts) []byte {
	if c.Eval(facts) != True {
		return text
	}
	if c.hasRest {
		reasons := AppendBecause(nil, c.layout.node, facts)
		for i := range reasons {
			if !slices.Contains(reasons[:i], reasons[i]) {
				text = reasons[i].Append(append(text, lead...))
			}
		}
		return text
	}
	for i, asks := range c.layout.asks {
		if slices.Contains(c.layout.asks[:i], asks) {
			continue
		}
		l := &c.first
		if i > 0 {
			l = &c.more[i-1]
		}
		text = appendSaw(append(append(text, lead...), asks...), facts.Saw(l.test))
	}
	return text
}

// Eval evaluates it, as [Eval] does the condition that it was made of.
func (c *Conjunction) Eval(facts Facts) Truth {
	if !c.laid {
		return Unknown
	}
	all := True
	if c.first.test != nil {
		if all = c.first.eval(facts); all == False {
			return False
		}
	}
	for i := range c.more {
		if all = min(all, c.more[i].eval(facts)); all == False {
			return False
		}
	}
	if !c.hasRest {
		return all
	}
	for _, node := range c.layout.rest {
		if all = min(all, Eval(node, facts)); all == False {
			return False
		}
	}
	return all
}
