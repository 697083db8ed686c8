package condition

// Conjunction is a bound condition laid out for evaluation: the tests that must all
// hold stand in one list, some of them negated, and what has another form beside
// them. Most conditions are such lists, which are walked faster than trees. The zero
// Conjunction always holds.
type Conjunction struct {
	node  Node
	tests []literal
	rest  []Node
}

// literal is a test that must hold, or must not.
type literal struct {
	holds   func(facts any, t *Test) Truth
	test    *Test
	negated bool
}

func (c *Conjunction) addTest(t *Test, negated bool) {
	holds := t.holds
	if holds == nil { // of a test that is not bound nothing is known
		holds = func(any, *Test) Truth { return Unknown }
	}
	c.tests = append(c.tests, literal{holds, t, negated})
}

// Conjoin lays out a bound condition. It comes to the same as the condition, whatever
// the facts.
func Conjoin(node Node) Conjunction {
	c := Conjunction{node: node}
	c.add(node)
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
		c.rest = append(c.rest, n)
	default:
		c.rest = append(c.rest, n)
	}
}

// AppendWhy appends to reasons what [Why] returns of the condition that it was made of.
func (c *Conjunction) AppendWhy(reasons []Reason, facts any) []Reason {
	if len(c.rest) > 0 {
		return AppendWhy(reasons, c.node, facts)
	}
	first := len(reasons)
	for i := range c.tests {
		l := &c.tests[i]
		came := l.holds(facts, l.test)
		holds := came
		if l.negated {
			holds = came.Not()
		}
		if holds == True {
			continue
		}
		reason := Reason{l.test.Key, l.test.Attribute, l.negated, came, l.test.wants, l.test.Saw(facts)}
		if holds == False { // which settles it, whatever was unknown before
			return append(reasons[:first], reason)
		}
		reasons = append(reasons, reason)
	}
	return reasons
}

// Eval evaluates it, as [Eval] does the condition that it was made of.
func (c *Conjunction) Eval(facts any) Truth {
	all := True
	for i := range c.tests {
		l := &c.tests[i]
		holds := l.holds(facts, l.test)
		if l.negated {
			holds = holds.Not()
		}
		if holds == False {
			return False
		}
		all = min(all, holds)
	}
	for _, node := range c.rest {
		if all = min(all, Eval(node, facts)); all == False {
			return False
		}
	}
	return all
}
