package replay

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Filter picks attempts of a history. What is left out picks all.
type Filter struct {
	Verdicts []decide.Verdict
	// Account is the account's name, and App the name of the app that was found.
	Account, App string
	// Policy and Rule are behind the verdict.
	Policy, Rule string
}

// mostListed is how many attempts a list has at most, so that it stays in memory.
const mostListed = 100_000

// List is the attempts of a history that a filter picks, in the order of the history.
type List struct {
	Basis
	Listed []Listed `json:"listed" doc:"the attempts, in the order of the history"`
	// More counts those that are left out because there are too many.
	More int64 `json:"more" doc:"how many more there are"`
}

// Listed is an attempt with what it came to.
type Listed struct {
	At      time.Time      `json:"at" doc:"when it was made"`
	Account string         `json:"account" doc:"the account"`
	App     string         `json:"app" doc:"the app"`
	Action  attempt.Action `json:"action" doc:"what was attempted"`
	IP      string         `json:"ip,omitzero" doc:"the address that it came from"`
	Country string         `json:"country,omitzero" doc:"the country, as far as it is known"`
	Device  string         `json:"device,omitzero" doc:"the identity of the device"`
	Proved  []string       `json:"proved" doc:"the methods that were proven"`
	Verdict decide.Verdict `json:"verdict" doc:"what it came to"`
	Policy  string         `json:"policy,omitzero" doc:"the policy behind that, the first where there are several"`
	Rule    string         `json:"rule,omitzero" doc:"the rule"`
	Why     []string       `json:"why" doc:"the causes, in sentences"`

	number int64
}

// ListOf judges a history and lists the attempts that the filter picks. It returns what the
// history came to else as Run does, in the list's Basis.
func ListOf(ctx context.Context, judge *engine.Judge, sources []Source, o Options, f Filter) (*List, error) {
	list := &List{Listed: []Listed{}}
	judges, err := o.Judges([]*engine.Judge{judge})
	if err != nil {
		return list, err
	}
	judge = judges[0]
	var mu sync.Mutex
	var attempts, strangers int64
	var period Period
	visitor := func() Visit {
		var brief engine.Brief
		return func(ctx context.Context, number int64, filled []*attempt.Attempt) {
			a := filled[0]
			judge.Brief(ctx, a, &brief)
			picked := f.picks(a, &brief)
			var one Listed
			if picked {
				one = f.listed(ctx, judge, a, &brief)
				one.number = number
			}
			mu.Lock()
			defer mu.Unlock()
			attempts++
			if IsStranger(&brief) {
				strangers++
			}
			period.Include(a.At)
			if picked {
				list.add(one)
			}
		}
	}
	reading, err := Walk(ctx, judges, sources, o, visitor)
	list.Basis = reading.Basis(attempts, strangers, period, o)
	list.cut()
	return list, err
}

// add keeps an attempt, and now and then takes out the last ones.
func (l *List) add(one Listed) {
	if l.Listed = append(l.Listed, one); len(l.Listed) >= 2*mostListed {
		l.cut()
	}
}

// cut puts the list in order and takes out what is too many.
func (l *List) cut() {
	slices.SortFunc(l.Listed, func(a, b Listed) int { return int(a.number - b.number) })
	if more := len(l.Listed) - mostListed; more > 0 {
		l.More += int64(more)
		l.Listed = slices.Delete(l.Listed, mostListed, len(l.Listed))
	}
}

// picks reports whether an attempt is one that is listed.
func (f *Filter) picks(a *attempt.Attempt, b *engine.Brief) bool {
	return (len(f.Verdicts) == 0 || slices.Contains(f.Verdicts, b.Verdict)) &&
		(f.Account == "" || f.Account == a.Account) && (f.App == "" || f.App == b.App) &&
		(f.Policy+f.Rule == "" || f.cause(b) >= 0)
}

// cause returns which of the causes is the first that the filter names, -1 where none is.
func (f *Filter) cause(b *engine.Brief) int {
	return slices.IndexFunc(b.Causes, func(c decide.Cause) bool {
		return (f.Policy == "" || f.Policy == c.Policy) && (f.Rule == "" || f.Rule == c.Rule)
	})
}

func (f *Filter) listed(ctx context.Context, judge *engine.Judge, a *attempt.Attempt, b *engine.Brief) Listed {
	one := Listed{At: a.At, Account: strings.Clone(a.Account), App: b.App, Action: a.Action, Country: string(b.Country),
		Proved: []string{}, Verdict: b.Verdict, Why: []string{}}
	if one.App == "" {
		one.App = strings.Clone(a.App)
	}
	if ip, ok := a.IP.Get(); ok {
		one.IP = ip.String()
	}
	if device := a.Device.Ref(); device != nil {
		id, _ := device.ID.Get()
		one.Device = strings.Clone(id)
	}
	for _, p := range slices.Concat(a.Proofs, a.Session.Proofs) {
		if !slices.Contains(one.Proved, p.Method) {
			one.Proved = append(one.Proved, strings.Clone(p.Method))
		}
	}
	if i := max(0, f.cause(b)); i < len(b.Causes) {
		one.Policy, one.Rule = b.Causes[i].Policy, b.Causes[i].Rule
	}
	for _, c := range judge.Outline(ctx, a).Causes {
		one.Why = append(one.Why, c.Text)
	}
	return one
}

// WriteCSV writes the list as a table (RFC 4180).
func (l *List) WriteCSV(w io.Writer) error {
	table := csv.NewWriter(w)
	rows := [][]string{{"at", "account", "app", "action", "ip", "country", "device", "proved", "verdict", "policy", "rule", "why"}}
	for i := range l.Listed {
		one := &l.Listed[i]
		rows = append(rows, []string{one.At.Format(time.RFC3339), one.Account, one.App, one.Action.String(), one.IP, one.Country, one.Device,
			strings.Join(one.Proved, ";"), one.Verdict.String(), one.Policy, one.Rule, strings.Join(one.Why, " ")})
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

// WriteLines writes the list as JSON, one attempt a line.
func (l *List) WriteLines(w io.Writer) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	for i := range l.Listed {
		if err := encoder.Encode(&l.Listed[i]); err != nil {
			return err
		}
	}
	return nil
}

// String is the attempt in a sentence, with its time in a zone.
func (one *Listed) String(zone *time.Location) string {
	text := fmt.Sprintf("%s  %s at %s", one.At.In(zone).Format("2006-01-02 15:04"), one.Account, one.App)
	if one.Action != attempt.SignIn {
		text += " (" + one.Action.String() + ")"
	}
	if one.IP != "" {
		text += ", from " + one.IP
	}
	if one.Country != "" {
		text += " in " + one.Country
	}
	if len(one.Proved) > 0 {
		text += ", with " + words.List(one.Proved, "and")
	}
	return text
}
