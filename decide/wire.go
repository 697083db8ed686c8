package decide

import (
	"strconv"

	"github.com/briskwarden/briskwarden/internal/jsontext"
)

// AppendJSON appends the wire form of a decision to a text, as encoding/json writes it, in
// a fraction of its time. It is for a program that answers many attempts.
func (d *Decision) AppendJSON(text []byte) []byte {
	text = append(text, `{"verdict":"`...)
	text = append(append(text, d.Verdict.String()...), '"')
	text = jsontext.List(jsontext.Key(text, "causes"), d.Causes, appendCause)
	text = jsontext.List(jsontext.Key(text, "demands"), d.Demands, appendDemand)
	text = d.Limits.appendJSON(jsontext.Key(text, "limits"))
	text = d.Risk.appendJSON(jsontext.Key(text, "risk"))
	text = jsontext.List(jsontext.Key(text, "notices"), d.Notices, appendNotice)
	text = jsontext.Strings(jsontext.Key(text, "acr"), d.ACR)
	text = jsontext.Strings(jsontext.Key(text, "amr"), d.AMR)
	text = d.ToPerson.AppendJSON(jsontext.Key(text, "to_person"))
	text = append(jsontext.Key(text, "with_shadow"), `{"verdict":"`...)
	text = append(append(text, d.WithShadow.Verdict.String()...), '"', '}')
	text = jsontext.List(jsontext.Key(text, "policies"), d.Policies, appendPolicy)
	text = append(jsontext.Key(text, "judged_by"), '{')
	text = jsontext.String(jsontext.Key(text, "book"), d.JudgedBy.Book)
	text = jsontext.String(jsontext.Key(text, "rules"), d.JudgedBy.Rules)
	return append(text, '}', '}')
}

// AppendMinimal appends what one who enforces a decision needs of it, as AppendJSON writes it: the verdict, the demands, the limits and
// what the person is told. It is an object with the members of it, without its closing brace, for others to follow.
func (d *Decision) AppendMinimal(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "verdict"), d.Verdict.String())
	text = jsontext.List(jsontext.Key(text, "demands"), d.Demands, appendDemand)
	text = d.Limits.appendJSON(jsontext.Key(text, "limits"))
	return d.ToPerson.AppendJSON(jsontext.Key(text, "to_person"))
}

func appendCause(text []byte, c *Cause) []byte {
	text = append(text, '{')
	text = jsontext.String(jsontext.Key(text, "code"), string(c.Code))
	text = jsontext.Text(text, "policy", c.Policy)
	text = jsontext.Text(text, "rule", c.Rule)
	return append(jsontext.String(jsontext.Key(text, "text"), c.Text), '}')
}

func appendDemand(text []byte, d *Demand) []byte {
	text = append(text, '{')
	text = jsontext.String(jsontext.Key(text, "kind"), d.Kind.String())
	if len(d.AnyOf) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "any_of"), d.AnyOf)
	}
	if d.Within != nil {
		text = jsontext.String(jsontext.Key(text, "within"), d.Within.String())
	}
	text = jsontext.Text(text, "posture", d.Posture)
	text = jsontext.Text(text, "document", d.Document)
	if d.Version != 0 {
		text = jsontext.Int(jsontext.Key(text, "version"), d.Version)
	}
	if d.Every != 0 {
		text = jsontext.String(jsontext.Key(text, "every"), d.Every.String())
	}
	text = jsontext.Text(text, "external", d.External)
	text = jsontext.Text(text, "client", d.Client)
	if len(d.Scopes) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "scopes"), d.Scopes)
	}
	if len(d.Ways) > 0 {
		text = jsontext.List(jsontext.Key(text, "ways"), d.Ways, func(text []byte, way *[]Demand) []byte {
			return jsontext.List(text, *way, appendDemand)
		})
	}
	text = strconv.AppendBool(jsontext.Key(text, "met"), d.Met)
	text = jsontext.True(text, "impossible", d.Impossible)
	if len(d.Offer) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "offer"), d.Offer)
	}
	if len(d.Failing) > 0 {
		text = jsontext.List(jsontext.Key(text, "failing"), d.Failing, appendFailedCheck)
	}
	return append(jsontext.List(jsontext.Key(text, "from"), d.From, appendSource), '}')
}

func appendFailedCheck(text []byte, c *FailedCheck) []byte {
	text = append(text, '{')
	text = jsontext.String(jsontext.Key(text, "fact"), c.Fact)
	text = jsontext.String(jsontext.Key(text, "wants"), c.Wants)
	text = jsontext.String(jsontext.Key(text, "saw"), c.Saw)
	return append(jsontext.Text(text, "fix", c.Fix), '}')
}

func appendSource(text []byte, s *Source) []byte {
	text = jsontext.Text(append(text, '{'), "policy", s.Policy)
	text = jsontext.Text(text, "rule", s.Rule)
	return append(jsontext.Text(text, "assurance", s.Assurance), '}')
}

func (l *Limits) appendJSON(text []byte) []byte {
	text = append(text, '{')
	if l.Lasts != 0 {
		text = jsontext.String(jsontext.Key(text, "lasts"), l.Lasts.String())
	}
	if l.Idle != 0 {
		text = jsontext.String(jsontext.Key(text, "idle"), l.Idle.String())
	}
	text = strconv.AppendBool(jsontext.Key(text, "shared"), l.Shared)
	if !l.Until.IsZero() {
		text = jsontext.Time(jsontext.Key(text, "until"), l.Until)
	}
	return append(text, '}')
}

func (r *Risk) appendJSON(text []byte) []byte {
	text = jsontext.Int(jsontext.Key(append(text, '{'), "score"), r.Score)
	text = jsontext.Int(jsontext.Key(text, "at_most"), r.AtMost)
	text = jsontext.String(jsontext.Key(text, "level"), r.Level.String())
	text = jsontext.String(jsontext.Key(text, "level_at_most"), r.LevelAtMost.String())
	return append(jsontext.List(jsontext.Key(text, "signals"), r.Signals, appendSignal), '}')
}

func appendSignal(text []byte, s *SignalTrace) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "name"), s.Name)
	text = jsontext.Int(jsontext.Key(text, "points"), s.Points)
	return append(jsontext.String(jsontext.Key(text, "holds"), s.Holds.String()), '}')
}

func appendNotice(text []byte, n *Notice) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "code"), string(n.Code))
	text = jsontext.Text(jsontext.String(jsontext.Key(text, "text"), n.Text), "name", n.Name)
	if !n.Until.IsZero() {
		text = jsontext.Time(jsontext.Key(text, "until"), n.Until)
	}
	if n.DaysLeft != 0 {
		text = jsontext.Int(jsontext.Key(text, "days_left"), n.DaysLeft)
	}
	return append(text, '}')
}

// AppendJSON appends the wire form of what the person is told, as Decision.AppendJSON does.
func (t *ToPerson) AppendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "verdict"), t.Verdict.String())
	text = jsontext.String(jsontext.Key(text, "say"), t.Say)
	text = jsontext.Strings(jsontext.Key(text, "repairs"), t.Repairs)
	text = jsontext.Strings(jsontext.Key(text, "offer"), t.Offer)
	if t.DaysLeft != 0 {
		text = jsontext.Int(jsontext.Key(text, "days_left"), t.DaysLeft)
	}
	return append(text, '}')
}

func appendPolicy(text []byte, p *PolicyTrace) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "name"), p.Name)
	text = jsontext.String(jsontext.Key(text, "stage"), p.Stage.String())
	text = jsontext.String(jsontext.Key(text, "applies"), p.Applies.String())
	if inForce, known := p.InForce.Get(); known {
		text = jsontext.String(jsontext.Key(text, "in_force"), inForce.String())
	} else if p.InForce.IsNone() {
		text = append(jsontext.Key(text, "in_force"), "null"...)
	}
	text = jsontext.Text(text, "rule", p.Rule)
	if len(p.Rules) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "rules"), p.Rules)
	}
	if p.Outcome != 0 {
		text = jsontext.String(jsontext.Key(text, "outcome"), p.Outcome.String())
	}
	text = jsontext.Text(text, "silenced_by", p.SilencedBy)
	return append(jsontext.Strings(jsontext.Key(text, "why"), p.Why), '}')
}
