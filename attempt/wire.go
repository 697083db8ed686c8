package attempt

import (
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/briskwarden/briskwarden/internal/jsontext"
)

// AppendJSON appends the wire form of an attempt to a text, as encoding/json writes it, in
// a fraction of its time. The attempt must be one that Check finds nothing wrong with.
func (a *Attempt) AppendJSON(text []byte) []byte {
	text = jsontext.Text(append(text, '{'), "id", a.ID)
	text = jsontext.Time(jsontext.Key(text, "at"), a.At)
	text = jsontext.String(jsontext.Key(text, "account"), a.Account)
	text = jsontext.String(jsontext.Key(text, "app"), a.App)
	if a.Action != SignIn {
		text = jsontext.String(jsontext.Key(text, "action"), a.Action.String())
	}
	if !a.IP.IsUnknown() {
		text = jsontext.Key(text, "ip")
		if ip := a.IP.Ref(); ip != nil {
			text = append(ip.AppendTo(append(text, '"')), '"')
		} else {
			text = append(text, "null"...)
		}
	}
	text = appendFact(text, "country", &a.Country, appendCountry)
	text = appendFact(text, "location", &a.Location, appendLocation)
	text = appendFact(text, "through", &a.Through, func(text []byte, t *Through) []byte { return jsontext.String(text, t.String()) })
	text = appendFact(text, "device", &a.Device, appendDevice)
	if s := &a.Session; s.ID != "" || s.Issuer != "" || !s.Started.IsZero() || !s.AsOf.IsZero() || s.Proofs != nil {
		text = a.Session.appendJSON(jsontext.Key(text, "session"))
	}
	if len(a.Proofs) > 0 {
		text = jsontext.List(jsontext.Key(text, "proofs"), a.Proofs, AppendProof)
	}
	if len(a.Failed) > 0 {
		text = jsontext.List(jsontext.Key(text, "failed"), a.Failed, func(text []byte, f *Failure) []byte {
			text = jsontext.String(jsontext.Key(append(text, '{'), "method"), f.Method)
			return append(jsontext.String(jsontext.Key(text, "reason"), f.Reason.String()), '}')
		})
	}
	if len(a.External) > 0 {
		text = append(jsontext.Key(text, "external"), '{')
		for _, name := range slices.Sorted(maps.Keys(a.External)) {
			text = jsontext.String(append(jsontext.String(jsontext.Next(text), name), ':'), a.External[name].String())
		}
		text = append(text, '}')
	}
	text = appendFact(text, "client", &a.Client, appendClient)
	if len(a.Accepted) > 0 {
		text = jsontext.List(jsontext.Key(text, "accepted"), a.Accepted, AppendAcceptance)
	}
	if len(a.Signals) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "signals"), a.Signals)
	}
	text = appendFact(text, "previous", &a.Previous, AppendPrevious)
	text = appendFact(text, "failures", &a.Failures, func(text []byte, times *[]time.Time) []byte {
		return jsontext.List(text, *times, func(text []byte, t *time.Time) []byte { return jsontext.Time(text, *t) })
	})
	return append(text, '}')
}

// appendFact appends a member of an object: nothing where the fact is unknown, and null
// where there is none.
func appendFact[T any](text []byte, name string, f *Fact[T], value func([]byte, *T) []byte) []byte {
	switch f.state {
	case unknown:
		return text
	case none:
		return append(jsontext.Key(text, name), "null"...)
	}
	return value(jsontext.Key(text, name), &f.value)
}

func appendTime(text []byte, name string, t time.Time) []byte {
	if t.IsZero() {
		return text
	}
	return jsontext.Time(jsontext.Key(text, name), t)
}

func appendCountry(text []byte, c *CountryCode) []byte { return jsontext.String(text, string(*c)) }

func appendLocation(text []byte, l *Location) []byte {
	text = jsontext.Float(jsontext.Key(append(text, '{'), "lat"), l.Lat)
	return append(jsontext.Float(jsontext.Key(text, "lon"), l.Lon), '}')
}

func appendBool(text []byte, value *bool) []byte { return strconv.AppendBool(text, *value) }

func appendString(text []byte, value *string) []byte { return jsontext.String(text, *value) }

func appendDevice(text []byte, d *Device) []byte {
	text = appendFact(append(text, '{'), "id", &d.ID, appendString)
	text = appendFact(text, "platform", &d.Platform, appendString)
	text = appendFact(text, "managed", &d.Managed, appendBool)
	text = appendFact(text, "known", &d.Known, appendBool)
	text = appendFact(text, "shared", &d.Shared, appendBool)
	text = appendFact(text, "owner", &d.Owner, appendString)
	if d.Tags != nil {
		text = jsontext.Strings(jsontext.Key(text, "tags"), d.Tags)
	}
	if len(d.Facts) > 0 {
		text = AppendScalars(jsontext.Key(text, "facts"), d.Facts)
	}
	text = appendFact(text, "reported_at", &d.ReportedAt, func(text []byte, t *time.Time) []byte { return jsontext.Time(text, *t) })
	if len(d.Remembered) > 0 {
		text = jsontext.List(jsontext.Key(text, "remembered"), d.Remembered, AppendRemembered)
	}
	return append(text, '}')
}

// AppendScalars appends facts or attributes as a JSON object, in the order of their names.
func AppendScalars(text []byte, values map[string]Scalar) []byte {
	text = append(text, '{')
	for _, name := range slices.Sorted(maps.Keys(values)) {
		text = values[name].AppendJSON(append(jsontext.String(jsontext.Next(text), name), ':'))
	}
	return append(text, '}')
}

// AppendJSON appends the scalar as encoding/json writes it.
func (s Scalar) AppendJSON(text []byte) []byte {
	switch s.kind {
	case Bool:
		return strconv.AppendBool(text, s.number != 0)
	case Number:
		return jsontext.Float(text, s.number)
	case Text:
		return jsontext.String(text, s.text)
	}
	return append(text, "null"...)
}

func (s *Session) appendJSON(text []byte) []byte {
	text = jsontext.Text(jsontext.Text(append(text, '{'), "id", s.ID), "issuer", s.Issuer)
	text = appendTime(appendTime(text, "started", s.Started), "as_of", s.AsOf)
	if len(s.Proofs) > 0 {
		text = jsontext.List(jsontext.Key(text, "proofs"), s.Proofs, AppendProof)
	}
	return append(text, '}')
}

// AppendAcceptance appends an acceptance, for a program that keeps parts of attempts.
func AppendAcceptance(text []byte, x *Acceptance) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "document"), x.Document)
	text = jsontext.Int(jsontext.Key(text, "version"), x.Version)
	return append(appendTime(text, "at", x.At), '}')
}

// AppendPrevious appends an earlier sign-in.
func AppendPrevious(text []byte, p *Previous) []byte {
	text = appendTime(append(text, '{'), "at", p.At)
	text = appendFact(text, "country", &p.Country, appendCountry)
	return append(appendFact(text, "location", &p.Location, appendLocation), '}')
}

// AppendRemembered appends that an account asked to be remembered.
func AppendRemembered(text []byte, r *Remembered) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "account"), r.Account)
	text = jsontext.String(jsontext.Key(text, "method"), r.Method)
	return append(jsontext.Time(jsontext.Key(text, "at"), r.At), '}')
}

// AppendProof appends a proof.
func AppendProof(text []byte, p *Proof) []byte {
	text = appendTime(jsontext.String(jsontext.Key(append(text, '{'), "method"), p.Method), "at", p.At)
	text = jsontext.Text(text, "app", p.App)
	return append(jsontext.True(text, "fallback", p.Fallback), '}')
}

func appendClient(text []byte, c *ClientAsk) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "id"), c.ID)
	if len(c.Scopes) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "scopes"), c.Scopes)
	}
	if len(c.Consented) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "consented"), c.Consented)
	}
	return append(text, '}')
}
