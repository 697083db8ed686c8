package directory_test

import (
	"encoding"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// TestARiskIsPutRight goes through what a changed password does for a standing risk:
// it puts right a leaked password, where it was changed after that was known.
func TestARiskIsPutRight(t *testing.T) {
	monday := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	at := func(days int) *time.Time { moment := monday.AddDate(0, 0, days); return &moment }
	for name, c := range map[string]struct {
		because        string
		since, changed *time.Time
		want           directory.Level
		isChanged      bool
	}{
		"a leak, and a password changed since":  {directory.LeakedPassword, at(-3), at(-1), directory.NoRisk, true},
		"a leak, and one changed before":        {directory.LeakedPassword, at(-3), at(-4), directory.HighRisk, false},
		"a leak, and one changed in the future": {directory.LeakedPassword, at(-3), at(1), directory.HighRisk, false},
		"a leak, and one never changed":         {directory.LeakedPassword, at(-3), nil, directory.HighRisk, false},
		"a leak of nobody knows when":           {directory.LeakedPassword, nil, at(-1), directory.HighRisk, false},
		"another reason":                        {"gossip", at(-3), at(-1), directory.HighRisk, true},
		"no reason":                             {"", at(-3), at(-1), directory.HighRisk, true},
	} {
		t.Run(name, func(t *testing.T) {
			a := directory.Account{PasswordChangedAt: c.changed,
				AccountRisk: &directory.AccountRisk{Level: directory.HighRisk, Because: c.because, Since: c.since}}
			require.Equal(t, c.want, a.RiskAt(monday))
			require.Equal(t, c.isChanged, a.ChangedSinceRisk(monday))
		})
	}
	require.Equal(t, directory.NoRisk, new(directory.Account).RiskAt(monday), "no risk is none")
}

// TestAnAccountIsCompletedKeyByKey completes each key of an account that states none,
// and none of one that states all.
func TestAnAccountIsCompletedKeyByKey(t *testing.T) {
	moment := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	full := func(word string) directory.Account {
		day := directory.DateOf(moment.AddDate(0, 0, len(word)))
		return directory.Account{Name: "ann", Kind: directory.Service, Groups: []string{word}, Methods: []string{word}, Joined: &day,
			Attributes: map[string]attempt.Scalar{word: attempt.TextScalar(word)}, AskedAt: &moment, PasswordChangedAt: &moment,
			AccountRisk: &directory.AccountRisk{Because: word}}
	}
	other := full("other")
	empty := directory.Account{Name: "ann"}
	empty.CompleteFrom(&other)
	require.Equal(t, other, empty)
	own := full("own")
	want := own
	own.CompleteFrom(&other)
	require.Equal(t, want, own)
	own.CompleteFrom(&directory.Account{Disabled: true})
	require.True(t, own.Disabled, "either one disables")
	none := directory.Account{Groups: []string{}}
	none.CompleteFrom(&other)
	require.Empty(t, none.Groups, "a list that is empty is stated")
}

// word is a value of a closed list.
type word interface {
	encoding.TextUnmarshaler
	fmt.Stringer
}

// TestWordsOfClosedLists reads and writes each word, and refuses any other with the
// nearest.
func TestWordsOfClosedLists(t *testing.T) {
	for name, c := range map[string]struct {
		words []string
		into  word
		wrong string
		hint  string
	}{
		"kinds":    {directory.Kinds(), new(directory.Kind), "persn", `did you mean "person"?`},
		"levels":   {directory.Levels(), new(directory.Level), "hihg", `did you mean "high"?`},
		"factors":  {directory.FactorKinds(), new(directory.FactorKind), "posession", `did you mean "possession"?`},
		"traits":   {directory.Traits(), new(directory.Trait), "devicebound", `did you mean "device_bound"?`},
		"weekdays": {directory.Weekdays(), new(directory.Weekday), "mom", `did you mean "mon"?`},
	} {
		t.Run(name, func(t *testing.T) {
			for _, text := range c.words {
				require.NoError(t, c.into.UnmarshalText([]byte(text)), text)
				require.Equal(t, text, c.into.String())
			}
			require.ErrorContains(t, c.into.UnmarshalText([]byte(c.wrong)), c.hint)
		})
	}
	require.Equal(t, "invalid (9)", directory.Kind(9).String())
	require.Equal(t, "invalid (9)", directory.Level(9).String())
}

// TestWhatIsNoRange refuses ranges made in Go that ParseRange would never return.
func TestWhatIsNoRange(t *testing.T) {
	ip := netip.MustParseAddr
	for wrong, r := range map[string]directory.Range{
		"the zero Range has none": {},
		"from IPv4 to IPv6":       {From: ip("192.0.2.1"), To: ip("2001:db8::1")},
		"ends before it begins":   {From: ip("192.0.2.9"), To: ip("192.0.2.1")},
		"write 192.0.2.1":         {From: ip("::ffff:192.0.2.1"), To: ip("192.0.2.9")},
	} {
		t.Run(wrong, func(t *testing.T) { require.ErrorContains(t, r.Check(), wrong) })
	}
}

// TestChecksInWords words what checks want, and refuses a check of two things.
func TestChecksInWords(t *testing.T) {
	yes, most := attempt.BoolScalar(true), 30.0
	for want, c := range map[string]directory.Check{
		"true":           {Is: &yes},
		"at most 30":     {AtMost: &most},
		"at least 14.5":  {AtLeast: &directory.Minimum{All: "14.5"}},
		"one of a, b":    {In: []attempt.Scalar{attempt.TextScalar("a"), attempt.TextScalar("b")}},
		"at least ios 9": {AtLeast: &directory.Minimum{ByPlatform: map[string]string{"ios": "9"}}},
	} {
		t.Run(want, func(t *testing.T) {
			require.NoError(t, c.Check())
			require.Equal(t, want, c.Wants())
		})
	}
	require.ErrorContains(t, (&directory.Check{}).Check(), "one of them only")
	require.ErrorContains(t, (&directory.Check{Is: &yes, AtMost: &most}).Check(), "one of them only")
}

// TestWindowsAndProblemsInWords words a window and a problem.
func TestWindowsAndProblemsInWords(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	from, to := directory.Clock(5*60), directory.Clock(23*60)
	first := directory.DateOf(time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC))
	w := directory.Window{
		Days:  []directory.Weekday{5, 6},
		From:  &from,
		To:    &to,
		Zone:  oslo,
		Dates: []directory.DateRange{{First: first, Last: first}},
	}
	require.Equal(t, "fri, sat 05:00-23:00 2026-05-01 Europe/Oslo", w.String())
	require.Equal(t, "from 05:00", (&directory.Window{From: &from}).String())
	require.Equal(t, "until 23:00", (&directory.Window{To: &to}).String())
	at := condition.Position{File: "a.yaml", Line: 3, Column: 7}
	require.EqualError(t, directory.Problems{{At: at, Text: "one"}, {Text: "two"}}, "a.yaml:3:7: one\ntwo")
}
