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

// AppendBinary appends the brief as it is kept. It implements encoding.BinaryAppender, and its error is
// nil.
func (b *Brief) AppendBinary(to []byte) ([]byte, error) {
	to = append(to, briefForm, byte(b.Verdict), byte(b.WithShadow), byte(b.Action), byte(b.Level))
	to = binary.AppendVarint(to, int64(b.Score))
	for _, text := range [...]string{b.App, b.Country, b.Device} {
		to = appendText(to, text)
	}
	to = appendText(to, b.IP.AsSlice())
	to = binary.AppendUvarint(to, uint64(len(b.Causes)))
	for i := range b.Causes {
		c := &b.Causes[i]
		to = appendText(appendText(appendText(to, string(c.Code)), c.Policy), c.Rule)
	}
	for _, list := range [...][]string{b.Proved, b.Signals, b.Due, b.Excused} {
		to = binary.AppendUvarint(to, uint64(len(list)))
		for _, text := range list {
			to = appendText(to, text)
		}
	}
	return to, nil
}

func appendText[T string | []byte](to []byte, text T) []byte {
	return append(binary.AppendUvarint(to, uint64(len(text))), text...)
}

var errBrief = errors.New("that is no brief of a decision")

// UnmarshalBinary reads what AppendBinary wrote. It implements encoding.BinaryUnmarshaler.
func (b *Brief) UnmarshalBinary(text []byte) error {
	return b.read(text, func(s []byte) string { return string(s) })
}

// Words keeps one copy of each text, for briefs that are read by the million: they say the same few
// things. It is used by one goroutine.
type Words map[string]string

// Read is UnmarshalBinary with words that were read before. It reuses the lists of the brief.
func (w Words) Read(text []byte, b *Brief) error {
	return b.read(text, func(s []byte) string {
		if known, ok := w[string(s)]; ok {
			return known
		}
		known := string(s)
		w[known] = known
		return known
	})
}

func (b *Brief) read(text []byte, word func([]byte) string) error {
	broken := false
	uvarint := func() uint64 {
		v, n := binary.Uvarint(text)
		if n <= 0 {
			broken, text = true, nil
			return 0
		}
		text = text[n:]
		return v
	}
	field := func() []byte {
		n := uvarint()
		if n > uint64(len(text)) {
			broken, text = true, nil
			return nil
		}
		f := text[:n]
		text = text[n:]
		return f
	}
	list := func(into []string) []string {
		into = into[:0]
		for n := uvarint(); n > 0 && !broken; n-- {
			into = append(into, word(field()))
		}
		return into
	}
	if len(text) < 5 || text[0] != briefForm {
		return errBrief
	}
	b.Verdict, b.WithShadow, b.Action, b.Level = decide.Verdict(text[1]), decide.Verdict(text[2]), attempt.Action(text[3]), directory.Level(text[4])
	text = text[5:]
	score, n := binary.Varint(text)
	if n <= 0 {
		return errBrief
	}
	text = text[n:]
	b.Score = int(score)
	b.App, b.Country, b.Device = word(field()), word(field()), word(field())
	b.IP = netip.Addr{}
	if ip := field(); len(ip) > 0 {
		var ok bool
		if b.IP, ok = netip.AddrFromSlice(ip); !ok {
			return errBrief
		}
	}
	b.Causes = b.Causes[:0]
	for n := uvarint(); n > 0 && !broken; n-- {
		b.Causes = append(b.Causes, BriefCause{decide.CauseCode(word(field())), word(field()), word(field())})
	}
	b.Proved, b.Signals, b.Due, b.Excused = list(b.Proved), list(b.Signals), list(b.Due), list(b.Excused)
	if broken || len(text) > 0 {
		return errBrief
	}
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
	return e.briefOfLeaf()
}

func (e *Entry) briefOfLeaf() (*Brief, error) {
	c, err := e.Content()
	if err != nil {
		return nil, err
	}
	var r recorded
	if err := json.Unmarshal(c.Answer, &r); err != nil {
		return nil, err
	}
	a := new(attempt.Attempt)
	if err := attempt.ParsePart(r.Facts.Attempt, a); err != nil {
		return nil, err
	}
	return BriefOf(&r.Decision, a, r.Facts.App, r.Facts.Country), nil
}
