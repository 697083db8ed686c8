package journal

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"errors"
	"net/netip"
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/packed"
)

// Brief is what lists and reports show of a decision. It is kept beside the entry, so that millions
// of them are counted without reading what else was recorded.
type Brief struct {
	Verdict decide.Verdict
	// WithShadow is what the verdict would be were the shadow policies live.
	WithShadow decide.Verdict
	Action     attempt.Action
	// Level and Score are those of the risk.
	Level directory.Level
	Score int
	// App is the name of the app, or what was asked for where the book has none.
	App string
	// Country is where it came from, as it was judged; "" where that is not known. IP may be invalid,
	// and Device "".
	Country string
	Device  string
	IP      netip.Addr
	// Causes are those of the decision.
	Causes []BriefCause
	// Proved are the methods that were proven, and Signals what was noticed.
	Proved, Signals []string
	// Due are the rollouts that let the person in for some days yet, and Excused the exemptions that
	// took demands away.
	Due, Excused []string
}

// BriefCause is a cause without its text.
type BriefCause struct {
	Code         decide.CauseCode
	Policy, Rule string
}

// BriefOf returns the brief of a decision on an attempt at an app that came from a country: "" where the
// book has no such app, or nobody knows the country. It shares what they hold.
func BriefOf(d *decide.Decision, a *attempt.Attempt, app string, country attempt.CountryCode) *Brief {
	b := &Brief{Verdict: d.Verdict, WithShadow: d.WithShadow.Verdict, Action: a.Action, Level: d.Risk.Level, Score: d.Risk.Score,
		App: cmp.Or(app, a.App), Country: string(country), Causes: make([]BriefCause, len(d.Causes))}
	b.IP, _ = a.IP.Get()
	if device := a.Device.Ref(); device != nil {
		b.Device, _ = device.ID.Get()
	}
	for i, c := range d.Causes {
		b.Causes[i] = BriefCause{c.Code, c.Policy, c.Rule}
	}
	for _, proofs := range [...][]attempt.Proof{a.Proofs, a.Session.Proofs} {
		for i := range proofs {
			if !slices.Contains(b.Proved, proofs[i].Method) {
				b.Proved = append(b.Proved, proofs[i].Method)
			}
		}
	}
	for i := range d.Risk.Signals {
		if s := &d.Risk.Signals[i]; s.Holds == condition.True {
			b.Signals = append(b.Signals, s.Name)
		}
	}
	for i := range d.Notices {
		switch n := &d.Notices[i]; n.Code {
		case decide.EnrolmentDue:
			b.Due = append(b.Due, n.Name)
		case decide.Exempted:
			b.Excused = append(b.Excused, n.Name)
		}
	}
	return b
}

// briefForm is the first byte of a brief. A new form has another.
const briefForm = 1

// AppendBinary appends the brief as it is kept: first what is each attempt's own, and then what many
// have alike. It implements encoding.BinaryAppender, and its error is nil.
func (b *Brief) AppendBinary(to []byte) ([]byte, error) {
	to = binary.AppendVarint(append(to, briefForm), int64(b.Score))
	to = packed.Append(packed.Append(to, b.Device), b.IP.AsSlice())
	to = append(to, byte(b.Verdict), byte(b.WithShadow), byte(b.Action), byte(b.Level))
	to = packed.Append(packed.Append(to, b.App), b.Country)
	to = binary.AppendUvarint(to, uint64(len(b.Causes)))
	for i := range b.Causes {
		c := &b.Causes[i]
		to = packed.Append(packed.Append(packed.Append(to, string(c.Code)), c.Policy), c.Rule)
	}
	for _, list := range [...][]string{b.Proved, b.Signals, b.Due, b.Excused} {
		to = binary.AppendUvarint(to, uint64(len(list)))
		for _, text := range list {
			to = packed.Append(to, text)
		}
	}
	return to, nil
}

var errBrief = errors.New("that is no brief of a decision")

// briefReader reads a brief.
type briefReader struct{ packed.Reader }

func (r *briefReader) list() (list []string) {
	for n := r.Uvarint(); n > 0 && !r.Broken; n-- {
		list = append(list, string(r.Field()))
	}
	return list
}

// readOwn reads what is the attempt's own, and returns the name of its device.
func (r *briefReader) readOwn(b *Brief) (device []byte) {
	if r.Byte() != briefForm {
		r.Broken = true
		return nil
	}
	b.Score = int(r.Varint())
	device = r.Field()
	b.IP = netip.Addr{}
	if ip := r.Field(); len(ip) > 0 {
		var ok bool
		b.IP, ok = netip.AddrFromSlice(ip)
		r.Broken = r.Broken || !ok
	}
	return device
}

// readAlike reads what many attempts have alike.
func (r *briefReader) readAlike(b *Brief) {
	b.Verdict, b.WithShadow, b.Action, b.Level = decide.Verdict(
		r.Byte(),
	), decide.Verdict(
		r.Byte(),
	), attempt.Action(
		r.Byte(),
	), directory.Level(
		r.Byte(),
	)
	b.App, b.Country = string(r.Field()), string(r.Field())
	b.Causes = nil
	for n := r.Uvarint(); n > 0 && !r.Broken; n-- {
		b.Causes = append(b.Causes, BriefCause{decide.CauseCode(r.Field()), string(r.Field()), string(r.Field())})
	}
	b.Proved, b.Signals, b.Due, b.Excused = r.list(), r.list(), r.list(), r.list()
	r.Broken = r.Broken || len(r.Text) > 0
}

// UnmarshalBinary reads what AppendBinary wrote. It implements encoding.BinaryUnmarshaler.
func (b *Brief) UnmarshalBinary(text []byte) error {
	r := briefReader{packed.Reader{Text: text}}
	b.Device = string(r.readOwn(b))
	r.readAlike(b)
	if r.Broken {
		return errBrief
	}
	return nil
}

// Briefs reads briefs by the million: what was read before of those that are alike is used again. The
// zero Briefs is ready. It is used by one goroutine.
type Briefs struct{ alike map[string]*Brief }

// mostAlike is how many are kept: somebody may invent as many names of apps as she likes.
const mostAlike = 50_000

// Read reads what AppendBinary wrote, but for the device. Nobody changes the lists of the brief.
func (s *Briefs) Read(text []byte, b *Brief) error {
	r := briefReader{packed.Reader{Text: text}}
	r.readOwn(b)
	if r.Broken {
		return errBrief
	}
	known := s.alike[string(r.Text)]
	if known == nil {
		key := string(r.Text)
		known = new(Brief)
		if r.readAlike(known); r.Broken {
			return errBrief
		}
		if s.alike == nil {
			s.alike = map[string]*Brief{}
		}
		if len(s.alike) < mostAlike {
			s.alike[key] = known
		}
	}
	score, ip := b.Score, b.IP
	*b = *known
	b.Score, b.IP = score, ip
	return nil
}

// recorded is what is read of a decision's leaf to make its brief.
type recorded struct {
	decide.Decision
	Facts struct {
		Attempt json.RawMessage     `json:"attempt"`
		App     string              `json:"app"`
		Country attempt.CountryCode `json:"country"`
	} `json:"facts"`
}

// ReadBrief reads the brief of a decision: as it is kept, or of its leaf where it was recorded before
// briefs were. The error says that the entry is no decision, or was pruned.
func (e *Entry) ReadBrief() (*Brief, error) {
	if e.Kind != Decision {
		return nil, errBrief
	}
	if e.Brief != nil {
		b := new(Brief)
		return b, b.UnmarshalBinary(e.Brief)
	}
	c, err := e.Content()
	if err != nil {
		return nil, err
	}
	return c.brief()
}

// brief makes the brief of a decision.
func (c *Content) brief() (*Brief, error) {
	var r recorded
	if err := readJSON(c.Answer, &r); err != nil {
		return nil, err
	}
	a := new(attempt.Attempt)
	if err := attempt.Parse(r.Facts.Attempt, a, attempt.Options{Part: true}); err != nil {
		return nil, err
	}
	return BriefOf(&r.Decision, a, r.Facts.App, r.Facts.Country), nil
}
