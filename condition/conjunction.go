package condition

// Conjunction is a bound condition laid out for evaluation: the tests that must all
// hold stand in one list, some of them negated, and what has another form beside
// them. Most conditions are such lists, which are walked faster than trees. Of the zero
// Conjunction nothing is known.
type Conjunction struct {
	node  Node
	laid  bool
	tests []literal
	rest  []Node
}

// literal is a test that must hold, or must not.
type literal struct {
	holds   func(facts any, t *Test) Truth
	test    *Test
	negated bool
	// asks is the test in words, up to what it saw.
	asks string
}

func (c *Conjunction) addTest(t *Test, negated bool) {
	holds := t.holds
	if holds == nil { // of a test that is not bound nothing is known
		holds = func(any, *Test) Truth { return Unknown }
	}
	asks := (&Reason{Key: t.Key, Attribute: t.Attribute, Negated: negated, Wants: t.wants}).appendAsks(nil)
	c.tests = append(c.tests, literal{holds, t, negated, string(asks)})
}

// Conjoin lays out a bound condition. It comes to the same as the condition, whatever
// the facts.
func Conjoin(node Node) Conjunction {
	c := Conjunction{node: node, laid: true}
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

// WriteWhy appends to text what the reasons of [Why] say of the condition that it was
// made of, each behind a lead, and to ends where each of them ends.
func (c *Conjunction) WriteWhy(text []byte, ends []int, lead string, facts any) ([]byte, []int) {
	firstText, firstEnd := len(text), len(ends)
	if len(c.rest) > 0 {
		for _, r := range AppendWhy(nil, c.node, facts) {
			text = r.Append(append(text, lead...))
			ends = append(ends, len(text))
		}
		return text, ends
	}
	for i := range c.tests {
		l := &c.tests[i]
		holds := l.holds(facts, l.test)
		if l.negated {
			holds = holds.Not()
		}
		switch holds {
		case True:
			continue
		case False: // which settles it, whatever was unknown before
			text, ends = text[:firstText], ends[:firstEnd]
		}
		text = append(append(text, lead...), l.asks...)
		text = appendSaw(text, l.test.Saw(facts))
		ends = append(ends, len(text))
		if holds == False {
			break
		}
	}
	return text, ends
}

// Eval evaluates it, as [Eval] does the condition that it was made of.
func (c *Conjunction) Eval(facts any) Truth {
	if !c.laid {
		return Unknown
	}
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
