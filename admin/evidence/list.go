package evidence

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/attempt/ocsf"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
)

// Filter says which entries are looked at. What is zero does not narrow. What is about decisions leaves
// out all other entries.
type Filter struct {
	// From is included, To is not.
	From, To time.Time
	Kind     journal.Kind
	Account  string
	// The rest is about decisions. App is the name of an app, or what was asked for; Policy and Rule are
	// behind the verdict, and Cause is its code; Country is where it came from, as it was judged.
	App, Policy, Rule string
	Cause             decide.CauseCode
	Country           attempt.CountryCode
	Verdicts          []decide.Verdict
	// Ranges hold the address.
	Ranges []directory.Range
}

// Words are a filter as it is written: the flags of journal list, or a query.
type Words struct {
	Kind, Cause, Country string
	Verdicts, Ranges     []string
}

// Take reads words into the filter. Each error begins with the name of what is wrong.
func (f *Filter) Take(w *Words) error {
	if w.Kind != "" {
		if err := f.Kind.UnmarshalText([]byte(w.Kind)); err != nil {
			return fmt.Errorf("kind: %w", err)
		}
	}
	for _, word := range w.Verdicts {
		var v decide.Verdict
		if err := v.UnmarshalText([]byte(word)); err != nil {
			return fmt.Errorf("verdict: %w", err)
		}
		f.Verdicts = append(f.Verdicts, v)
	}
	if w.Country != "" {
		if err := f.Country.UnmarshalText([]byte(w.Country)); err != nil {
			return fmt.Errorf("country: %w", err)
		}
		if !f.Country.IsAssigned() {
			return fmt.Errorf("country: %q is no assigned ISO 3166-1 code, so nobody comes from there", w.Country)
		}
	}
	if w.Cause != "" {
		var codes []string
		for _, code := range decide.CauseCodes() {
			codes = append(codes, string(code))
		}
		if !slices.Contains(codes, w.Cause) {
			return fmt.Errorf("cause: there is no cause %q%s", w.Cause, nearest.DidYouMean(w.Cause, codes))
		}
		f.Cause = decide.CauseCode(w.Cause)
	}
	for _, text := range w.Ranges {
		r, err := directory.ParseRange(text)
		if err != nil {
			return fmt.Errorf("ip: %w", err)
		}
		f.Ranges = append(f.Ranges, r)
	}
	return nil
}

// aboutDecisions reports whether only decisions can match.
func (f *Filter) aboutDecisions() bool {
	return f.App+f.Policy+f.Rule+string(f.Cause)+string(f.Country) != "" || len(f.Verdicts) > 0 || len(f.Ranges) > 0
}

// Of returns what a store is asked for, the latest entries first.
func (f *Filter) Of() journal.Filter {
	asked := journal.Filter{From: f.From, To: f.To, Kind: f.Kind, Account: f.Account, Latest: true}
	if !f.aboutDecisions() {
		return asked
	}
	if asked.Kind == 0 {
		asked.Kind = journal.Decision
	}
	asked.Match = func(e *journal.Entry) bool {
		brief, err := e.ReadBrief()
		// An entry without a brief is looked at once its leaf is there.
		return err == nil && f.matches(brief) || e.Brief == nil && e.Kind == journal.Decision && e.Leaf == nil
	}
	return asked
}

// matches reports whether a decision is one that the filter leaves, but for its time and its account.
func (f *Filter) matches(b *journal.Brief) bool {
	return (f.App == "" || f.App == b.App) && (f.Country == "" || string(f.Country) == b.Country) &&
		(len(f.Verdicts) == 0 || slices.Contains(f.Verdicts, b.Verdict)) &&
		(f.Policy+f.Rule+string(f.Cause) == "" || f.cause(b) >= 0) &&
		(len(f.Ranges) == 0 || b.IP.IsValid() && slices.ContainsFunc(f.Ranges, func(r directory.Range) bool { return r.Contains(b.IP) }))
}

// cause returns which of the causes is the first that the filter names, -1 where none is.
func (f *Filter) cause(b *journal.Brief) int {
	return slices.IndexFunc(b.Causes, func(c journal.BriefCause) bool {
		return (f.Policy == "" || f.Policy == c.Policy) && (f.Rule == "" || f.Rule == c.Rule) && (f.Cause == "" || f.Cause == c.Code)
	})
}

// Line is an entry in a list.
type Line struct {
	Log     string       `json:"log,omitzero" doc:"the log that it is in, which is that of a door"`
	Number  int64        `json:"number" doc:"its place in the log, from 0 on"`
	ID      string       `json:"id" doc:"its name"`
	At      time.Time    `json:"at" doc:"when it was recorded"`
	Kind    journal.Kind `json:"kind" doc:"what it records"`
	Account string       `json:"account,omitzero" doc:"whom it is about"`
	Caller  string       `json:"caller,omitzero" doc:"who asked for it"`
	// The following are of decisions.
	App     string     `json:"app,omitzero" doc:"of a decision, the app"`
	IP      netip.Addr `json:"ip,omitzero" doc:"of a decision, the address"`
	Country string     `json:"country,omitzero" doc:"of a decision, where it came from, as it was judged"`
	Device  string     `json:"device,omitzero" doc:"of a decision, the identity of the device"`
	Proved  []string   `json:"proved,omitempty" doc:"of a decision, the methods that were proven"`
	Verdict string     `json:"verdict,omitzero" doc:"of a decision, the verdict"`
	Policy  string     `json:"policy,omitzero" doc:"of a decision, the policy behind it, the first where there are several"`
	Rule    string     `json:"rule,omitzero" doc:"of a decision, the rule"`
	Level   string     `json:"risk,omitzero" doc:"of a decision, the level of its risk"`
	Signals []string   `json:"signals,omitempty" doc:"of a decision, what was noticed"`
	// Text says what happened, in a sentence.
	Text string `json:"text" doc:"what happened"`
}

// List are entries of a journal.
type List struct {
	Entries []Line `json:"entries" doc:"the entries, the latest first"`
	// More says that there are others that the filter leaves.
	More bool `json:"more" doc:"true where there are more that match"`
}

// errPruned is the error for what an entry no longer says.
var errPruned = errors.New("pruned: its hash is kept")

// Matching returns those of some entries that a filter leaves. The entries are those of a store that was
// asked with Of, or any others.
func (f *Filter) Matching(entries iter.Seq2[journal.Entry, error]) iter.Seq2[journal.Entry, error] {
	if !f.aboutDecisions() {
		return entries
	}
	return func(yield func(journal.Entry, error) bool) {
		for e, err := range entries {
			if err == nil {
				if e.Kind != journal.Decision || e.Leaf == nil {
					continue
				}
				var brief *journal.Brief
				if brief, err = e.ReadBrief(); err == nil && !f.matches(brief) {
					continue
				}
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// ListOf makes a list of at most so many entries.
func (f *Filter) ListOf(entries iter.Seq2[journal.Entry, error], most int) (*List, error) {
	list := &List{Entries: []Line{}}
	for e, err := range f.Matching(entries) {
		if err != nil {
			return nil, err
		}
		if len(list.Entries) == most {
			list.More = true
			break
		}
		line, err := f.lineOf(&e)
		if err != nil {
			return nil, err
		}
		list.Entries = append(list.Entries, line)
	}
	return list, nil
}

// decided fills in what the brief of a decision says.
func (l *Line) decided(f *Filter, b *journal.Brief) {
	l.App, l.IP, l.Country, l.Device, l.Proved = b.App, b.IP, b.Country, b.Device, b.Proved
	l.Verdict, l.Level, l.Signals = b.Verdict.String(), b.Level.String(), b.Signals
	if i := max(0, f.cause(b)); i < len(b.Causes) {
		l.Policy, l.Rule = b.Causes[i].Policy, b.Causes[i].Rule
	}
}

func (f *Filter) lineOf(e *journal.Entry) (Line, error) {
	line := Line{Log: e.Log, Number: e.Number, ID: e.ID, At: e.At, Kind: e.Kind, Account: e.Account}
	if e.Leaf == nil {
		line.Text = errPruned.Error()
		return line, nil
	}
	c, err := e.Content()
	if err != nil {
		return line, err
	}
	line.Caller = c.Caller
	if e.Kind != journal.Decision {
		line.Text, err = sentence(e.Kind, c)
		return line, err
	}
	brief, err := e.ReadBrief()
	if err != nil {
		return line, err
	}
	line.decided(f, brief)
	var o journal.Outline
	if err := json.Unmarshal(c.Answer, &o); err != nil {
		return line, err
	}
	if len(o.Causes) > 0 {
		line.Text = o.Causes[0].Text
	}
	return line, nil
}

// sentence says what an entry records that is no decision.
func sentence(kind journal.Kind, c *journal.Content) (text string, err error) {
	switch kind {
	case journal.Reload:
		var r struct {
			Taken bool
			Book  string
			Why   []string
		}
		err = json.Unmarshal(c.Reload, &r)
		if r.Taken {
			return "the book " + ShortDigest(r.Book) + " is in force", err
		}
		text = "a book was refused"
		if len(r.Why) > 0 {
			text += ": " + r.Why[0]
		}
	case journal.Report:
		var r struct{ Device string }
		err = json.Unmarshal(c.Report, &r)
		text = "the device " + r.Device + " reported"
	case journal.Event:
		var r struct {
			Issuer, Type, Result string
			Changes              []change
		}
		err = json.Unmarshal(c.Event, &r)
		text = fmt.Sprintf("%s of %s: %s", r.Type, r.Issuer, r.Result) + changesIn(r.Changes)
	case journal.People:
		var r struct {
			Resource, Name, Change, Because string
			Changes                         []change
			Done                            []string
		}
		err = json.Unmarshal(c.People, &r)
		text = fmt.Sprintf("the %s %s was %s by %s", r.Resource, r.Name, r.Change, c.Caller) + changesIn(r.Changes)
		if r.Because != "" { // an act of an administrator
			text = strings.Join(r.Done, " ") + " Because: " + r.Because
		}
	case journal.SessionEnd:
		var r struct{ ID, SID, App, Because string }
		err = json.Unmarshal(c.Session, &r)
		text = "the session " + cmp.Or(r.SID, r.ID) + " ended" // that of before had no sid beside its id
		if r.App != "" {
			text += " at " + r.App
		}
		text += ": " + r.Because
	case journal.Consent:
		var act acts.Act
		err = json.Unmarshal(c.Consent, &act)
		text = act.Sentence()
	case journal.Pruned:
		var p journal.Pruning
		err = json.Unmarshal(c.Pruned, &p)
		text = fmt.Sprintf("what was recorded before %s was taken out", p.Before.Format("2006-01-02 15:04:05"))
	case journal.Restored:
		var p journal.PutBack
		err = json.Unmarshal(c.Restored, &p)
		text = fmt.Sprintf("the store was put back: the log %s had %d entries, and has %d. Because: %s", p.Log, p.From, p.To, p.Because)
		if p.Resynced != "" {
			text = fmt.Sprintf("the store, which was put back, is resynced with %s. Because: %s", p.Resynced, p.Because)
		}
	case journal.Witness:
		var w journal.Witnessed
		err = json.Unmarshal(c.Witness, &w)
		text = fmt.Sprintf("the log %s began", w.Log)
		if w.Size > 0 {
			text = fmt.Sprintf("the door of the log %s stopped, with %d entries in it", w.Log, w.Size)
		}
	case journal.Inspection:
		var i journal.Inspected
		err = json.Unmarshal(c.Inspection, &i)
		text = fmt.Sprintf("the book %s reaches %d of %d points of inspect", ShortDigest(i.Book), i.Reached, i.Possible)
	}
	return text, err
}

// WriteCSV writes the list as a table (RFC 4180), in UTC.
func (l *List) WriteCSV(w io.Writer) error {
	table := csv.NewWriter(w)
	rows := [][]string{
		{"log", "number", "id", "at", "kind", "account", "caller", "app", "ip", "country", "device", "proved", "verdict", "policy", "rule",
			"risk", "signals", "text"},
	}
	for i := range l.Entries {
		e := &l.Entries[i]
		ip := ""
		if e.IP.IsValid() {
			ip = e.IP.String()
		}
		rows = append(
			rows,
			[]string{e.Log, strconv.FormatInt(e.Number, 10), e.ID, e.At.UTC().Format(time.RFC3339Nano), e.Kind.String(), e.Account, e.Caller,
				e.App, ip, e.Country, e.Device, strings.Join(e.Proved, ";"), e.Verdict, e.Policy, e.Rule, e.Level,
				strings.Join(e.Signals, ";"), e.Text},
		)
	}
	for _, row := range rows {
		for i := range row {
			row[i] = words.Cell(row[i])
		}
	}
	if err := table.WriteAll(rows); err != nil {
		return err
	}
	return table.Error()
}

// WriteLines writes entries as JSON, one a line, each as it was recorded: replay reads them. Those that
// were pruned are left out. At most so many are written; 0 writes all.
func WriteLines(w io.Writer, entries iter.Seq2[journal.Entry, error], most int) error {
	return write(w, entries, most, func(e *journal.Entry) ([]byte, error) { return e.Leaf, nil })
}

// WriteOCSF writes the decisions on sign-ins among some entries as OCSF authentication events (class
// 3002), one a line, which replay reads back to the same verdicts. At most so many are written; 0 writes
// all.
func WriteOCSF(w io.Writer, entries iter.Seq2[journal.Entry, error], most int) error {
	return write(w, entries, most, func(e *journal.Entry) ([]byte, error) {
		if e.Kind != journal.Decision {
			return nil, nil
		}
		d, err := Read(e)
		if err != nil || d.Attempt.Action != attempt.SignIn {
			return nil, err
		}
		facts, err := json.Marshal(&d.recorded)
		if err != nil {
			return nil, err
		}
		because := ""
		if len(d.Causes) > 0 {
			because = d.Causes[0].Text
		}
		return ocsf.Decided(d.Attempt, d.ID, d.Verdict, because, facts)
	})
}

func write(w io.Writer, entries iter.Seq2[journal.Entry, error], most int, line func(*journal.Entry) ([]byte, error)) error {
	written := 0
	for e, err := range entries {
		if err != nil {
			return err
		}
		if e.Leaf == nil {
			continue
		}
		text, err := line(&e)
		if err != nil {
			return err
		}
		if text == nil {
			continue
		}
		if _, err := w.Write(append(slices.Clip(text), '\n')); err != nil {
			return err
		}
		if written++; written == most {
			return nil
		}
	}
	return nil
}

// change is a fact that was changed, as entries on people and events have it.
type change struct {
	Fact, Name, Account string
	From, To            *attempt.Scalar
}

// String says it in a few words.
func (c change) String() string {
	what := strings.TrimSpace(c.Fact + " " + c.Name)
	if c.Account != "" {
		what += " of " + c.Account
	}
	switch {
	case c.To == nil && c.From == nil:
		return what
	case c.To == nil:
		return fmt.Sprintf("%s is no longer stated (it was %s)", what, c.From)
	case c.From == nil:
		return fmt.Sprintf("%s is %s", what, c.To)
	}
	return fmt.Sprintf("%s was %s and is %s", what, c.From, c.To)
}

// mostTold is how many changes a line of a list tells of.
const mostTold = 5

// changesIn ends a sentence with what was changed.
func changesIn(list []change) (text string) {
	for i, c := range list {
		if i == mostTold {
			return text + fmt.Sprintf("; and %d more", len(list)-i)
		}
		text += map[bool]string{true: ": ", false: "; "}[i == 0] + c.String()
	}
	return text
}
