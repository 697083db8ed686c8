package store

import (
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/internal/jsontext"
)

func appendTime(text []byte, name string, t time.Time) []byte {
	if t.IsZero() {
		return text
	}
	return jsontext.Time(jsontext.Key(text, name), t)
}

func appendMoment(text []byte, name string, t *time.Time) []byte {
	if t == nil {
		return text
	}
	return jsontext.Time(jsontext.Key(text, name), *t)
}

// appendList appends a list that is not nil.
func appendList[T any](text []byte, name string, list []T, item func([]byte, *T) []byte) []byte {
	if list == nil {
		return text
	}
	return jsontext.List(jsontext.Key(text, name), list, item)
}

func appendString(text []byte, s *string) []byte { return jsontext.String(text, *s) }

func (a *Account) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "name"), a.Name)
	if m := a.Made; m != (Making{}) {
		text = appendTime(append(jsontext.Key(text, "made"), '{'), "at", m.At)
		text = jsontext.Text(jsontext.Text(text, "by", string(m.By)), "entry", m.Entry)
		text = append(jsontext.True(text, "first", m.IsFirst), '}')
	}
	text = appendTime(appendTime(text, "revoked", a.Revoked), "revoked_here", a.RevokedHere)
	text = appendList(text, "ended_sids", a.EndedSIDs, func(text []byte, e *EndedSID) []byte {
		return append(jsontext.Time(jsontext.Key(jsontext.String(jsontext.Key(append(text, '{'), "sid"), e.SID), "at"), e.At), '}')
	})
	if a.Changed != nil {
		text = append(jsontext.Key(text, "changed"), '{')
		for _, method := range slices.Sorted(maps.Keys(a.Changed)) {
			text = jsontext.Time(append(jsontext.String(jsontext.Next(text), method), ':'), a.Changed[method])
		}
		text = append(text, '}')
	}
	text = appendList(text, "stated", a.Stated, func(text []byte, s *Statement) []byte {
		text = jsontext.String(jsontext.Key(append(text, '{'), "fact"), string(s.Fact))
		text = jsontext.Text(text, "name", s.Name)
		text = jsontext.String(jsontext.Key(text, "by"), string(s.By))
		text = jsontext.Time(jsontext.Key(text, "at"), s.At)
		text = s.Value.AppendJSON(jsontext.Key(text, "value"))
		text = appendTime(text, "since", s.Since)
		return append(jsontext.True(jsontext.Text(text, "because", s.Because), "withdrawn", s.Withdrawn), '}')
	})
	text = appendMoment(text, "asked_at", a.AskedAt)
	text = appendList(text, "failures", a.Failures, func(text []byte, t *time.Time) []byte { return jsontext.Time(text, *t) })
	text = appendList(text, "accepted", a.Accepted, attempt.AppendAcceptance)
	if a.Pushed != nil {
		text = append(jsontext.Key(text, "pushed"), '{')
		for _, by := range slices.Sorted(maps.Keys(a.Pushed)) {
			text = a.Pushed[by].appendAs(text, string(by))
		}
		text = append(text, '}')
	}
	if a.Previous != nil {
		text = attempt.AppendPrevious(jsontext.Key(text, "previous"), a.Previous)
	}
	return append(text, '}')
}

// AppendJSON appends it as encoding/json writes it, which costs several times as much.
func (s *Shown) AppendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "name"), s.Name)
	if s.Kind != 0 {
		text = jsontext.String(jsontext.Key(text, "kind"), s.Kind.String())
	}
	text = jsontext.True(text, "disabled", s.Disabled)
	text = appendList(text, "groups", s.Groups, appendString)
	text = appendList(text, "may_be_in", s.MayBeIn, appendString)
	text = appendList(text, "methods", s.Methods, appendString)
	if s.Attributes != nil {
		text = attempt.AppendScalars(jsontext.Key(text, "attributes"), s.Attributes)
	}
	if s.Joined != nil {
		text = jsontext.String(jsontext.Key(text, "joined"), s.Joined.String())
	}
	text = appendMoment(text, "asked_at", s.AskedAt)
	if s.Risk != nil {
		text = jsontext.String(append(jsontext.Key(text, "account_risk"), `{"level":`...), s.Risk.Level.String())
		text = jsontext.Text(text, "because", s.Risk.Because)
		text = append(appendMoment(text, "since", s.Risk.Since), '}')
	}
	text = appendMoment(text, "password_changed_at", s.PasswordChangedAt)
	return append(jsontext.True(text, "whole", s.IsWhole), '}')
}

func (p *Pushed) appendAs(text []byte, name string) []byte {
	if p == nil {
		return text
	}
	text = jsontext.Text(append(jsontext.Key(text, name), '{'), "external_id", p.ExternalID)
	text = append(jsontext.Key(text, "attributes"), p.Attributes...)
	text = jsontext.Time(jsontext.Key(text, "created"), p.Created)
	text = jsontext.Time(jsontext.Key(text, "changed"), p.Changed)
	return append(jsontext.Int(jsontext.Key(text, "version"), p.Version), '}')
}

func (d *Device) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "id"), d.ID)
	text = jsontext.Text(text, "platform", d.Platform)
	if d.Facts != nil {
		text = attempt.AppendScalars(jsontext.Key(text, "facts"), d.Facts)
	}
	text = appendMoment(text, "reported_at", d.ReportedAt)
	text = appendList(text, "compliance", d.Compliance, func(text []byte, c *Compliance) []byte {
		text = jsontext.String(jsontext.Key(append(text, '{'), "by"), string(c.By))
		text = strconv.AppendBool(jsontext.Key(text, "compliant"), c.Compliant)
		return append(jsontext.Time(jsontext.Key(text, "at"), c.At), '}')
	})
	text = appendList(text, "seen_with", d.SeenWith, func(text []byte, s *SeenAccount) []byte {
		text = jsontext.String(jsontext.Key(append(text, '{'), "account"), s.Account)
		return append(jsontext.Time(jsontext.Key(text, "at"), s.At), '}')
	})
	return append(appendList(text, "remembered", d.Remembered, attempt.AppendRemembered), '}')
}

func (g *Group) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "name"), g.Name)
	text = jsontext.True(jsontext.String(jsontext.Key(text, "by"), string(g.By)), "managed", g.IsManaged)
	return append(g.Pushed.appendAs(text, "pushed"), '}')
}

func (m *Member) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "group"), m.Group)
	text = jsontext.String(jsontext.Key(text, "account"), m.Account)
	text = jsontext.Time(jsontext.Key(text, "since"), m.Since)
	return append(jsontext.True(text, "doubted", m.IsDoubted), '}')
}

func (s *Session) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "id"), s.ID)
	text = jsontext.String(jsontext.Key(text, "issuer"), s.Issuer)
	text = jsontext.String(jsontext.Key(text, "sid"), s.SID)
	text = jsontext.String(jsontext.Key(text, "account"), s.Account)
	text = jsontext.Time(jsontext.Key(text, "started"), s.Started)
	text = jsontext.List(jsontext.Key(text, "proofs"), s.Proofs, attempt.AppendProof)
	text = jsontext.List(jsontext.Key(text, "apps"), s.Apps, appendGranted)
	text = jsontext.Text(text, "device", s.Device)
	text = appendTime(appendTime(text, "seen", s.Seen), "ended", s.Ended)
	text = appendTime(jsontext.Text(text, "because", s.Because), "void_until", s.VoidUntil)
	text = appendTime(appendTime(text, "spared", s.Spared), "password_change", s.PasswordChange)
	return append(appendTime(text, "next", s.Next), '}')
}

func appendGranted(text []byte, g *Granted) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "app"), g.App)
	text = appendTime(jsontext.Time(jsontext.Key(text, "at"), g.At), "authenticated", g.Authenticated)
	if g.Attempt != nil {
		text = append(jsontext.Key(text, "attempt"), g.Attempt...)
	}
	if text = appendTime(text, "ends", g.Ends); g.Idle != 0 {
		text = jsontext.String(jsontext.Key(text, "idle"), g.Idle.String())
	}
	text = jsontext.String(jsontext.Key(appendTime(text, "used", g.Used), "decision"), g.Decision)
	return append(jsontext.Text(appendTime(text, "ended", g.Ended), "because", g.Because), '}')
}

func (c *Challenge) appendJSON(text []byte) []byte {
	text = jsontext.Text(jsontext.String(jsontext.Key(append(text, '{'), "whom"), c.Whom), "sid", c.SID)
	text = jsontext.Time(jsontext.Key(jsontext.String(jsontext.Key(text, "app"), c.App), "authenticated"), c.Authenticated)
	text = jsontext.Time(jsontext.Key(jsontext.Time(jsontext.Key(text, "first"), c.First), "last"), c.Last)
	return append(appendTime(text, "met", c.Met), '}')
}

func (o *Outgoing) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "id"), o.ID)
	text = jsontext.String(jsontext.Key(text, "to"), o.To)
	text = jsontext.String(jsontext.Key(text, "session"), o.Session)
	text = jsontext.Text(jsontext.Text(text, "token", o.Token), "by", o.By)
	if o.Letter != nil {
		text = append(jsontext.Key(text, "letter"), o.Letter...)
	}
	text = jsontext.Int(jsontext.Key(text, "tries"), o.Tries)
	return append(jsontext.Time(jsontext.Key(text, "next"), o.Next), '}')
}

func (s *SeenToken) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "issuer"), s.Issuer)
	text = jsontext.String(jsontext.Key(text, "jti"), s.JTI)
	return append(jsontext.Time(jsontext.Key(text, "at"), s.At), '}')
}

func (w *Watched) appendJSON(text []byte) []byte {
	text = append(jsontext.Key(append(text, '{'), "logs"), '{')
	for _, log := range slices.Sorted(maps.Keys(w.Next)) {
		text = strconv.AppendInt(jsontext.Key(text, log), w.Next[log], 10)
	}
	text = append(text, '}')
	text = appendTime(text, "busy", w.Busy)
	return append(append(jsontext.Key(text, "state"), w.State...), '}')
}

func (f *Form) appendJSON(text []byte) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "name"), f.Name)
	return append(jsontext.Int(jsontext.Key(text, "form"), f.Form), '}')
}
