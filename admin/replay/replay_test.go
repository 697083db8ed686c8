package replay_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/attempt/ocsf"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/synth"
)

func source(name, text string) replay.Source {
	return replay.Source{Name: name, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}
}

// lines writes attempts as a history.
func lines(t require.TestingT, attempts []*attempt.Attempt) string {
	var b strings.Builder
	for _, a := range attempts {
		text, err := json.Marshal(a)
		require.NoError(t, err)
		b.Write(append(text, '\n'))
	}
	return b.String()
}

func run(t require.TestingT, judge *engine.Judge, o replay.Options, sources ...replay.Source) *replay.Report {
	r, err := replay.Run(context.Background(), judge, sources, o)
	require.NoError(t, err)
	return r
}

// TestParallelIsSequential: however many goroutines there are the report is the
// same, and as recorded it is what judging one attempt after the other adds up to.
func TestParallelIsSequential(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 5)
		var history []*attempt.Attempt
		for range chance.IntN(300) {
			history = append(history, synth.Attempt(chance))
		}
		slices.SortFunc(history, func(a, b *attempt.Attempt) int { return a.At.Compare(b.At) })
		half := len(history) / 2
		one, two := source("a", lines(t, history[:half])), source("b", lines(t, history[half:]))
		require.Equal(t, run(t, judge, replay.Options{Workers: 1}, one, two), run(t, judge, replay.Options{Workers: 4}, one, two))

		r := run(t, judge, replay.Options{AsRecorded: true}, one, two)
		var want, shadow replay.Counts
		rules, accounts := map[string]int64{}, map[string]int64{}
		for _, a := range history {
			d := judge.Decide(context.Background(), a)
			for counts, v := range map[*replay.Counts]decide.Verdict{&want: d.Verdict, &shadow: d.WithShadow.Verdict} {
				switch v {
				case decide.Grant:
					counts.Grant++
				case decide.StepUp:
					counts.StepUp++
				default:
					counts.Block++
				}
			}
			if d.Verdict == decide.Block {
				accounts[a.Account]++
			}
			if d.Verdict != decide.Grant {
				for _, c := range d.Causes {
					rules[c.Policy+"/"+c.Rule]++
				}
			}
		}
		require.Equal(t, want, r.Verdicts)
		require.Equal(t, shadow, r.Shadow)
		require.Equal(t, int64(len(history)), r.Attempts)
		for _, rule := range r.Rules {
			if rule.Policy != "" {
				require.Equal(t, rules[rule.Policy+"/"+rule.Rule], rule.Asked+rule.Blocks)
			}
		}
		for _, c := range r.Stopped {
			if c.Name != "not in the book" {
				require.Equal(t, accounts[c.Name], c.Counts.Block)
			}
		}
		var byApp, byHour int64
		for _, c := range r.Apps {
			byApp += c.Counts.All()
		}
		for _, c := range r.Hours {
			byHour += c.All()
		}
		require.Equal(t, []int64{r.Attempts, r.Attempts}, []int64{byApp, byHour})
	})
}

// TestWhatTheHistoryKnows: the sign-in before, the devices that were seen and the
// failures before are filled in, of what came before and of nothing else.
func TestWhatTheHistoryKnows(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	at := func(minute int, more string) string {
		return fmt.Sprintf(
			`{"at": %q, "account": "ingrid@kestrelsound.example", "app": "card-till", "ip": "203.0.113.20", "country": "NO", "location": {"lat": `+
				`59.9, "lon": 10.7}, "through": "browser", "client": null, "device": {"id": "laptop-ingrid", "reported_at": "2026-11-23T12:00:00Z"}%s}`+
				"\n",
			time.Date(2026, time.November, 23, 13, minute, 0, 0, time.UTC).Format(time.RFC3339),
			more,
		)
	}
	proven := `, "proofs": [{"method": "password"}]`
	failed := `, "failed": [{"method": "push", "reason": "refused"}], "signals": []`
	// The first is not known to have none before it, so the till doubts it; the
	// second has; after five failures within ten minutes the till doubts again.
	history := at(0, proven) + at(1, proven) + strings.Repeat(at(2, failed), 5) + at(3, proven) + at(20, proven)
	r := run(t, judge, replay.Options{}, source("h", history))
	require.Equal(t, int64(2), r.Verdicts.Grant, "the second, and the last: %+v", r.Rules)
	require.Equal(
		t,
		int64(0),
		run(t, judge, replay.Options{AsRecorded: true}, source("h", history)).Verdicts.Grant,
		"what is not known never helps",
	)
	require.InDelta(t, 0, r.Prompts, 0.001)
	require.Equal(t, "card-till", r.Rules[0].Policy)
	require.Equal(t, "doubtful", r.Rules[0].Rule)
}

func TestBadLinesStopNothing(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	good := `{"at": "2026-11-23T13:10:00Z", "account": "ingrid@kestrelsound.example", "app": "mail"}`
	text := good + "\n\n{broken\n" + good + "\n" + `{"at": "2026-11-23T13:10:00Z", "acount": "x"}` + "\n" + strings.Repeat(
		"x",
		2<<20,
	) + "\n" + good
	r := run(t, judge, replay.Options{Workers: 3}, source("a", text), source("b", strings.Repeat("?\n", 1000)))
	require.Equal(t, int64(3), r.Attempts)
	require.Equal(t, int64(1003), r.BadAll)
	require.Len(t, r.Bad, 20)
	require.Equal(t, []int64{3, 5, 6, 1}, []int64{r.Bad[0].Line, r.Bad[1].Line, r.Bad[2].Line, r.Bad[3].Line})
	require.Contains(t, r.Bad[1].Text, `an attempt has no key "acount"; did you mean "account"?`)
	require.Contains(t, r.Bad[2].Text, "the line is longer than")

	last := run(t, judge, replay.Options{}, source("a", good+"\n"+strings.Repeat("x", 2<<20)))
	require.Equal(t, []int64{1, 1}, []int64{last.Attempts, last.BadAll}, "a line without an end is a line")

	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err = w.Write([]byte(good + "\n" + good + "\n"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.Equal(t, int64(2), run(t, judge, replay.Options{}, source("a.gz", packed.String())).Attempts)
	zstandard, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	smaller := string(zstandard.EncodeAll([]byte(good+"\n"+good+"\n"+good), nil))
	require.Equal(t, int64(3), run(t, judge, replay.Options{}, source("a.zst", smaller)).Attempts)
	_, err = replay.Run(context.Background(), judge, []replay.Source{source("torn.zst", smaller[:len(smaller)-9])}, replay.Options{})
	require.ErrorContains(t, err, "torn.zst: ")
	cut, err := replay.Run(
		context.Background(),
		judge,
		[]replay.Source{source("torn.gz", packed.String()[:packed.Len()-9]), source("a", good)},
		replay.Options{},
	)
	require.ErrorContains(t, err, "torn.gz: unexpected EOF")
	require.Positive(t, cut.Attempts, "what can be read is judged")
	broken := replay.Source{Name: "gone", Open: func() (io.ReadCloser, error) { return nil, errors.New("no such file") }}
	none, err := replay.Run(context.Background(), judge, []replay.Source{broken}, replay.Options{})
	require.ErrorContains(t, err, "gone: no such file")
	require.Zero(t, none.Attempts)
}

// TestForms: the same history comes to the same as JSON, as OCSF events and as a
// table, and what cannot be read of each is kept aside.
func TestForms(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	var events, table strings.Builder
	table.WriteString("\ufeffwhen,who,service,ip,through,device.id,proofs,failed,remark\n")
	var bare []*attempt.Attempt
	for _, a := range demo.History()[:400] {
		a = &attempt.Attempt{
			At:      a.At.UTC(),
			Account: a.Account,
			App:     a.App,
			IP:      a.IP,
			Through: a.Through,
			Proofs:  a.Proofs,
			Failed:  a.Failed,
			Device:  a.Device,
		}
		if d, ok := a.Device.Get(); ok {
			a.Device = attempt.Known(attempt.Device{ID: d.ID})
		}
		bare = append(bare, a)
		event, err := ocsf.Event(a)
		require.NoError(t, err)
		events.Write(append(event, '\n'))
		ip, _ := a.IP.Get()
		d, _ := a.Device.Get()
		id, _ := d.ID.Get()
		through, _ := a.Through.Get()
		fmt.Fprintf(&table, "%s,%s,%s,%s,%s,%s,", a.At.Format(time.RFC3339), a.Account, a.App, ip, through, id)
		for _, p := range a.Proofs {
			table.WriteString(p.Method + ";")
		}
		table.WriteString(",")
		for _, f := range a.Failed {
			table.WriteString(f.Method + " ")
		}
		table.WriteString(",\"of two\nlines\"\n")
	}
	want := run(t, judge, replay.Options{}, source("h", lines(t, bare)))
	require.Equal(t, want, run(t, judge, replay.Options{}, source("h", events.String())))
	columns := replay.Columns{"at": "when", "account": "who", "app": "service"}
	require.Equal(t, want, run(t, judge, replay.Options{Columns: columns}, source("h", table.String())))

	var aside []string
	keep := func(line replay.BadLine, text []byte) { aside = append(aside, fmt.Sprintf("%d %s", line.Line, text)) }
	logOff := `{"class_uid": 3002, "activity_id": 2}` + "\n"
	good := strings.SplitAfter(events.String(), "\n")[0]
	r := run(t, judge, replay.Options{Aside: keep}, source("h", good+logOff+"{broken\n"+logOff+lines(t, bare[:1])))
	require.Equal(t, []int64{2, 2, 1}, []int64{r.Attempts, r.Skipped, r.BadAll}, "events and attempts may stand in one file")
	require.Equal(t, []string{"3 {broken"}, aside)

	fact := `{"at": "2026-11-23T13:10:00Z", "account": "ingrid@kestrelsound.example", "app": "mail", "device": {"facts": {"class_uid": 7}}}` +
		"\n"
	r = run(t, judge, replay.Options{}, source("h", fact+strings.Replace(fact, "app", "apq", 1)+fact))
	require.Equal(t, []int64{2, 0, 1}, []int64{r.Attempts, r.Skipped, r.BadAll}, "a fact of that name makes no event")
	require.Contains(t, r.Bad[0].Text, `an attempt has no key "apq"`)

	aside = nil
	const head = "at,account,app,ip,location.lat,location.lon,device.managed\n"
	r = run(
		t,
		judge,
		replay.Options{Columns: replay.Columns{}, Aside: keep},
		source(
			"h",
			head+
				"2026-11-23 "+
				"22:14:00,x,y,,59.9,10.7,TRUE\n2026-11-23,x,y,,,,\n2026-11-23T21:14:00Z,x,y,::1,,,perhaps\n2026-11-23T21:14:00Z,x\n2026-11-23T21:14:00Z,,y,,,,\n2026-11-23T21:14:00Z,x,y,a\"b,,,\n2026-11-23T21:14:00Z,x,y,here,,,\n2026-11-23T21:14:00Z,x,y,,north,,\n",
		),
	)
	require.Equal(t, int64(1), r.Attempts)
	require.Equal(t, "2026-11-23T21:14:00Z", r.First.UTC().Format(time.RFC3339), "a time without a zone is in the book's")
	var wrong []string
	for _, bad := range r.Bad {
		wrong = append(wrong, fmt.Sprintf("%d: %s", bad.Line, bad.Text))
	}
	require.Equal(
		t,
		[]string{
			`3: column 1: "2026-11-23" is no time; write one such as 2026-11-23T21:14:00Z or 2026-11-23 21:14:00`,
			`4: column 7: "perhaps" is not true or false`,
			"5: the line has 2 fields, the header 7",
			"6: the attempt has no `account`",
			"7: not CSV: a quote stands in a cell that does not begin with one; quote the cell, and double the quote",
			`8: column 4: "here" is no IP address`,
			`9: column 5: "north" is no number of degrees`,
		},
		wrong,
	)
	require.Len(t, aside, 7)
	// A quote that nobody closes takes nothing but its record, unless that never ends.
	open := "at,account,app\n2026-11-23T21:14:00Z,x,y\n2026-11-23T21:14:00Z,\"x,y\n" + strings.Repeat("2026-11-23T21:14:00Z,x,y\n", 100_000)
	unclosed, err := replay.Run(context.Background(), judge, []replay.Source{source("h", open)}, replay.Options{Columns: replay.Columns{}})
	require.ErrorContains(t, err, "h: a record is longer than 1048576 bytes; perhaps a quote is not closed")
	require.Equal(t, int64(1), unclosed.Attempts, "what came before is judged")
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err = w.Write([]byte(table.String()))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.Equal(t, want, run(t, judge, replay.Options{Columns: columns}, source("h.csv.gz", packed.String())))
	for text, c := range map[string]replay.Columns{
		`no column can hold "acount"; did you mean "account"?`:                    {"acount": "at"},
		`the header has no column "usr"; did you mean "user"?`:                    {"account": "usr"},
		"the header does not say which column is account or app; it has at, user": {},
	} {
		t.Run(fmt.Sprint(text), func(t *testing.T) {
			_, err := replay.Run(context.Background(), judge, []replay.Source{source("h", "at,user\n")}, replay.Options{Columns: c})
			require.ErrorContains(t, err, "h: "+text)
		})
	}
}

// TestFillingIn holds what is filled in against a search through all that came before.
func TestFillingIn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 2)
		var history []*attempt.Attempt
		for range chance.IntN(60) {
			history = append(history, synth.Attempt(chance))
		}
		if rapid.Bool().Draw(t, "in order") {
			slices.SortStableFunc(history, func(a, b *attempt.Attempt) int { return a.At.Compare(b.At) })
		}
		// As it is read: what it says nothing of is the same as on the wire.
		for i, line := range strings.Split(strings.TrimSpace(lines(t, history)), "\n") {
			if len(history) == 0 {
				break
			}
			read := new(attempt.Attempt)
			require.NoError(t, attempt.Parse([]byte(line), read, attempt.Options{}))
			history[i] = read
		}
		filled := make([]attempt.Attempt, len(history))
		visitor := func() replay.Visit {
			return func(_ context.Context, number int64, each []*attempt.Attempt) { filled[number] = *each[0] }
		}
		_, err := replay.Walk(
			context.Background(),
			[]*engine.Judge{judge},
			[]replay.Source{source("h", lines(t, history))},
			replay.Options{Workers: 3},
			visitor,
		)
		require.NoError(t, err)
		for i := range history {
			require.Equal(t, *filledIn(judge, history, i), filled[i], "attempt %d", i)
		}
	})
}

// filledIn fills in attempt i from those before it.
func filledIn(judge *engine.Judge, history []*attempt.Attempt, i int) *attempt.Attempt {
	a := *history[i]
	var before []*attempt.Attempt
	for _, b := range history[:i] {
		if b.Account == a.Account {
			before = append(before, b)
		}
	}
	if _, listed := judge.Directory().Find(a.Account); !listed || len(before) == 0 {
		return &a // nothing is known of an account that was not seen, or that nobody lists
	}
	var last *attempt.Attempt
	var devices []string
	var failures []time.Time
	for _, b := range before {
		if len(b.Failed) > 0 {
			failures = append(failures, b.At)
			continue
		}
		if len(b.Proofs) == 0 || b.Action != attempt.SignIn {
			continue
		}
		if last == nil || !b.At.Before(last.At) {
			last = b
		}
		if d := b.Device.Ref(); d != nil {
			if id, ok := d.ID.Get(); ok {
				devices = append(devices, id)
			}
		}
	}
	if a.Previous.IsUnknown() && last != nil && !last.At.After(a.At) {
		found, country := judge.Whereabouts(context.Background(), last), last.Country
		if found.Country != "" {
			country = attempt.Known(found.Country)
		}
		a.Previous = attempt.Known(attempt.Previous{At: last.At, Country: country, Location: found.Location})
	}
	if d := a.Device.Ref(); d != nil && d.Known.IsUnknown() {
		if id, ok := d.ID.Get(); ok && slices.Contains(devices, id) {
			d.Known = attempt.Known(true)
		}
	}
	if a.Failures.IsUnknown() {
		if failures = slices.DeleteFunc(failures, func(at time.Time) bool { return at.After(a.At) }); len(failures) == 0 {
			failures = nil
		}
		a.Failures = attempt.Known(failures)
	}
	return &a
}

// TestColumns: each key that a column can hold is read from it.
func TestColumns(t *testing.T) {
	cells := map[string]struct {
		cell string
		saw  func(a *attempt.Attempt) any
		want any
	}{
		"id":              {"a-17", func(a *attempt.Attempt) any { return a.ID }, "a-17"},
		"at":              {"2026-11-23T21:14:00Z", func(a *attempt.Attempt) any { return a.At.UTC().Hour() }, 21},
		"account":         {"ingrid", func(a *attempt.Attempt) any { return a.Account }, "ingrid"},
		"app":             {"mail", func(a *attempt.Attempt) any { return a.App }, "mail"},
		"action":          {"enrol", func(a *attempt.Attempt) any { return a.Action }, attempt.Enrol},
		"ip":              {"::1", func(a *attempt.Attempt) any { ip, _ := a.IP.Get(); return ip.String() }, "::1"},
		"country":         {"NO", func(a *attempt.Attempt) any { return a.Country }, attempt.Known(attempt.CountryCode("NO"))},
		"location.lat":    {"59.9", func(a *attempt.Attempt) any { l, _ := a.Location.Get(); return l.Lat }, 59.9},
		"location.lon":    {"10.7", func(a *attempt.Attempt) any { l, _ := a.Location.Get(); return l.Lon }, 10.7},
		"through":         {"native", func(a *attempt.Attempt) any { return a.Through }, attempt.Known(attempt.Native)},
		"device.id":       {"till-04", func(a *attempt.Attempt) any { return a.Device.Ref().ID }, attempt.Known("till-04")},
		"device.platform": {"ios", func(a *attempt.Attempt) any { return a.Device.Ref().Platform }, attempt.Known("ios")},
		"device.managed":  {"true", func(a *attempt.Attempt) any { return a.Device.Ref().Managed }, attempt.Known(true)},
		"device.known":    {"FALSE", func(a *attempt.Attempt) any { return a.Device.Ref().Known }, attempt.Known(false)},
		"session.id":      {"s-9", func(a *attempt.Attempt) any { return a.Session.ID }, "s-9"},
		"proofs": {
			"password;push",
			func(a *attempt.Attempt) any { return a.Proofs },
			[]attempt.Proof{{Method: "password"}, {Method: "push"}},
		},
		"failed": {
			"otp-app",
			func(a *attempt.Attempt) any { return a.Failed },
			[]attempt.Failure{{Method: "otp-app", Reason: attempt.Refused}},
		},
		"signals": {"leaked-list odd", func(a *attempt.Attempt) any { return a.Signals }, []string{"leaked-list", "odd"}},
	}
	var heads, row []string
	for _, key := range replay.ColumnKeys() {
		require.Contains(t, cells, key)
		heads, row = append(heads, key), append(row, cells[key].cell)
	}
	_, judge := synth.Open(rand.New(rand.NewPCG(1, 1)), 2)
	visited := 0
	visitor := func() replay.Visit {
		return func(_ context.Context, _ int64, filled []*attempt.Attempt) {
			visited++
			for key, c := range cells {
				require.Equal(t, c.want, c.saw(filled[0]), key)
			}
		}
	}
	table := strings.Join(heads, ",") + "\n" + strings.Join(row, ",") + "\n"
	reading, err := replay.Walk(
		context.Background(),
		[]*engine.Judge{judge},
		[]replay.Source{source("h", table)},
		replay.Options{Columns: replay.Columns{}, Workers: 1},
		visitor,
	)
	require.NoError(t, err)
	require.Empty(t, reading.Bad)
	require.Equal(t, 1, visited)
	// A cell that is wrong makes a bad line, and names its column.
	for i, key := range heads {
		wrong := map[string]string{"at": "now", "action": "login", "ip": "here", "country": "Norway", "location.lat": "north",
			"location.lon": "east", "through": "window", "device.managed": "perhaps", "device.known": "7"}[key]
		if wrong == "" {
			continue
		}
		bad := slices.Clone(row)
		bad[i] = wrong
		r := run(
			t,
			judge,
			replay.Options{Columns: replay.Columns{}},
			source("h", strings.Join(heads, ",")+"\n"+strings.Join(bad, ",")+"\n"),
		)
		require.Len(t, r.Bad, 1, key)
		require.Contains(t, r.Bad[0].Text, fmt.Sprintf("column %d: ", i+1))
	}
}

// TestMadeUpHistories: what the generator makes for the benchmarks can be read, in
// order of time, and judged.
func TestMadeUpHistories(t *testing.T) {
	size := synth.Size{Accounts: 50, Policies: 10, Apps: 20, Networks: 5, RangesEach: 4, Speaking: 3}
	chance := rand.New(rand.NewPCG(3, 4))
	_, judge := synth.Large(chance, size).Open(chance)
	var text strings.Builder
	require.NoError(t, synth.LargeHistory(chance, size, 2000, &text))
	r := run(t, judge, replay.Options{}, source("h", text.String()))
	require.Equal(t, []int64{2000, 0}, []int64{r.Attempts, r.BadAll})
	require.Positive(t, r.Verdicts.Grant*r.Verdicts.StepUp)
	var last time.Time
	for line := range strings.Lines(text.String()) {
		a := new(attempt.Attempt)
		require.NoError(t, attempt.Parse([]byte(line), a, attempt.Options{}))
		require.False(t, a.At.Before(last))
		last = a.At
	}
}

// TestEach: judging by several books at once is judging by one after the other.
func TestEach(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, one := synth.Open(chance, 4)
		_, two := synth.Open(chance, 4)
		var history []*attempt.Attempt
		for range chance.IntN(120) {
			history = append(history, synth.Attempt(chance))
		}
		text := lines(t, history)
		both, err := replay.Each(
			context.Background(),
			[]*engine.Judge{one, two},
			[]replay.Source{source("a", text)},
			replay.Options{Workers: 3},
		)
		require.NoError(t, err)
		require.Equal(
			t,
			[]*replay.Report{run(t, one, replay.Options{}, source("a", text)), run(t, two, replay.Options{}, source("a", text))},
			both,
		)
	})
}

// TestInterrupted: a replay that is interrupted reports what it has.
func TestInterrupted(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	line := `{"at": "2026-11-23T13:10:00Z", "account": "ingrid@kestrelsound.example", "app": "mail"}` + "\n"
	endless := replay.Source{Name: "endless", Open: func() (io.ReadCloser, error) { return io.NopCloser(&repeating{text: line}), nil }}
	ctx, cancel := context.WithCancel(context.Background())
	var judged atomic.Int64
	r, err := replay.Run(ctx, judge, []replay.Source{endless}, replay.Options{Progress: func(n int64) {
		if judged.Add(n) > 2000 {
			cancel()
		}
	}})
	require.NoError(t, err)
	require.True(t, r.Cut)
	require.Equal(t, judged.Load(), r.Attempts)
}

// repeating is a text again and again, without an end.
type repeating struct {
	text string
	at   int
}

func (r *repeating) Read(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		k := copy(p[n:], r.text[r.at:])
		n, r.at = n+k, (r.at+k)%len(r.text)
	}
	return n, nil
}

// BenchmarkReplay replays a history, and in turn only decodes the same lines with
// the same decoder and as many goroutines: as one would write it, each attempt in
// memory of its own, and into the same memory again and again. The ratios are the
// medians of neighbours, since a machine whose speed drifts slows all alike.
func BenchmarkReplay(b *testing.B) {
	month := slices.Concat(slices.Repeat([][]*attempt.Attempt{demo.History()}, 16)...)
	b.Run("month", func(b *testing.B) { benchmarkReplay(b, month) })
	// Each attempt with all that the wire form has place for.
	var full []*attempt.Attempt
	for i, a := range month[:len(month)/4] {
		at := a.At.Format(time.RFC3339)
		whole := new(attempt.Attempt)
		err := attempt.Parse(
			[]byte(strings.ReplaceAll(`{"id":"a-17","at":"AT","account":"ingrid@kestrelsound.example","app":"card-till","action":"sign-in",
			"ip":"203.0.113.20","country":"NO","location":{"lat":59.9,"lon":10.7},"through":"browser",
			"device":{"id":"till-04","platform":"windows","managed":true,"known":true,"tags":["till"],"facts":{"firewall":true,"os_version":"10.0.22631","patch_age_days":12},
			"reported_at":"AT","remembered":[{"account":"ingrid@kestrelsound.example","method":"push","at":"AT"}]},
			"session":{"id":"s-9","started":"AT","proofs":[{"method":"password","at":"AT","app":"mail"}]},
			"proofs":[{"method":"password","at":"AT"}],"failed":[{"method":"otp-app","reason":"refused"}],"external":{"shipyard-verifier":"passed"},
			"accepted":[{"document":"crew-handbook","version":3,"at":"AT"}],"signals":[],"previous":{"at":"AT","country":"NO","location":{"lat":58.1,"lon":7.9}}}`,
				"AT", at)), whole, attempt.Options{},
		)
		require.NoError(b, err)
		whole.Account = month[i].Account
		full = append(full, whole)
	}
	b.Run("full", func(b *testing.B) { benchmarkReplay(b, full) })
}

func benchmarkReplay(b *testing.B, history []*attempt.Attempt) {
	opened, err := demo.Open()
	require.NoError(b, err)
	judge, err := opened.Compile()
	require.NoError(b, err)
	text := lines(b, history)
	rate := func(do func()) float64 {
		begun := time.Now()
		do()
		return float64(len(history)) / time.Since(begun).Seconds()
	}
	figures := map[string][]float64{}
	for b.Loop() {
		replayed := rate(func() { run(b, judge, replay.Options{}, source("h", text)) })
		decoded := rate(func() { decodeOnly(b, text, false) })
		reusing := rate(func() { decodeOnly(b, text, true) })
		for name, value := range map[string]float64{"replayed/s": replayed, "decoded/s": decoded, "decoded-reusing/s": reusing,
			"ratio": replayed / decoded, "ratio-reusing": replayed / reusing} {
			figures[name] = append(figures[name], value)
		}
	}
	for name, values := range figures {
		slices.Sort(values)
		b.ReportMetric(values[len(values)/2], name)
	}
}

// decodeOnly reads lines and decodes them.
func decodeOnly(b *testing.B, text string, reusing bool) {
	batches := make(chan [][]byte, runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			a := new(attempt.Attempt)
			for batch := range batches {
				for _, line := range batch {
					if *a = (attempt.Attempt{}); !reusing {
						a = new(attempt.Attempt)
					}
					if err := attempt.Parse(line, a, attempt.Options{}); err != nil {
						b.Error(err)
					}
				}
			}
		})
	}
	in := bufio.NewReader(strings.NewReader(text))
	var batch [][]byte
	for {
		line, err := in.ReadBytes('\n')
		if err != nil {
			break
		}
		if batch = append(batch, line); len(batch) == 256 {
			batches <- batch
			batch = nil
		}
	}
	batches <- batch
	close(batches)
	wait.Wait()
}

// TestWorkersAreBounded: a number that no machine could use is an error, not a panic
// or a great deal of memory.
func TestWorkersAreBounded(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	for _, workers := range []int{-3, 100_000} {
		_, err := replay.Walk(
			context.Background(),
			[]*engine.Judge{judge},
			nil,
			replay.Options{Workers: workers},
			func() replay.Visit { return nil },
		)
		require.ErrorContains(t, err, "not by "+strconv.Itoa(workers))
	}
}
