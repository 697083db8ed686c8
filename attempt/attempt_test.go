package attempt_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
)

// whole has every key that an attempt may have.
const whole = `{"id":"a-17","at":"2026-11-23T21:14:00Z","account":"ingrid@kestrelsound.example","app":"card-till","action":"sign-in",
 "ip":"198.51.100.70","country":"NO","location":{"lat":59.9,"lon":10.7},"through":"browser",
 "device":{"id":"till-04","platform":"windows","managed":true,"known":true,"shared":false,"owner":"ingrid@kestrelsound.example","tags":["till"],
  "facts":{"firewall":true,"os_version":"10.0.22631","patch_age_days":12,"disk":null},"reported_at":"2026-11-23T18:00:00Z",
  "remembered":[{"account":"ingrid@kestrelsound.example","method":"push","at":"2026-09-20T07:40:00Z"}]},
 "session":{"id":"s-9","started":"2026-11-23T20:55:00Z","proofs":[{"method":"password","at":"2026-11-23T20:55:00Z","app":"mail","fallback":true}]},
 "proofs":[{"method":"password","at":"2026-11-23T21:14:00Z"}],"failed":[{"method":"otp-app","reason":"refused"}],
 "external":{"shipyard-verifier":"passed"},"accepted":[{"document":"crew-handbook","version":3,"at":"2026-02-01T08:00:00Z"}],
 "signals":["leaked-list"],"previous":{"at":"2026-11-23T19:02:00Z","country":"NO","location":null},"failures":["2026-11-23T21:10:00Z"]}`

// parse reads a whole attempt.
func parse(text string) (*attempt.Attempt, error) {
	a := new(attempt.Attempt)
	return a, attempt.Parse([]byte(text), a, attempt.Options{})
}

func TestReadKeepsWhatIsSaid(t *testing.T) {
	for _, text := range []string{whole, strings.Replace(whole, `"country":"NO","location":{"lat":59.9,"lon":10.7}`, `"country":null`, 1)} {
		a, err := parse(text)
		require.NoError(t, err)
		again, err := json.Marshal(a)
		require.NoError(t, err)
		var want map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &want))
		delete(want, "action") // sign-in is what a missing action means
		wanted, err := json.Marshal(want)
		require.NoError(t, err)
		require.JSONEq(t, string(wanted), string(again))
	}
}

func TestReadSaysWhatIsWrong(t *testing.T) {
	for wrong, c := range map[string][2]string{
		`an attempt has no key "managd"; did you mean "managed"?`: {`"managed"`, `"managd"`},
		`an attempt has no key "methd"; did you mean "method"?`: {`[{"method":"password","at":"2026-11-23T21:14`,
			`[{"methd":"password","at":"2026-11-23T21:14`},
		"two capital letters":                                    {`"NO","location":{`, `"Norway","location":{`},
		"the reason of a failed proof is one of refused":         {`"refused"`, `"declined"`},
		"the result of an outside check is one of failed":        {`"passed"`, `"ok"`},
		"an action is one of sign-in":                            {`"sign-in"`, `"login"`},
		"a fact is true, false, a number, a text or null":        {`"disk":null`, `"disk":[1]`},
		`column 19: "yesterday" is no time; write one such as 2`: {`"at":"2026-11-23T21:14:00Z","account"`, `"at":"yesterday","account"`},
		"`version` is a number, not a JSON text":                 {`"version":3`, `"version":"3"`},
		`the key "ip" stands twice`:                              {`"country"`, `"ip"`},
		"an attempt is a JSON object, not a list":                {whole, "[]"},
	} {
		t.Run(fmt.Sprint(wrong), func(t *testing.T) {
			require.Contains(t, whole, c[0])
			_, err := parse(strings.Replace(whole, c[0], c[1], 1))
			require.ErrorContains(t, err, wrong)
			require.ErrorContains(t, err, "line ")
		})
	}
}

// TestOptions: an attempt that is made now, a part of one, and one that is too long.
func TestOptions(t *testing.T) {
	now := time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		text  string
		o     attempt.Options
		at    time.Time
		wrong string
	}{
		"no moment":           {`{"account":"a","app":"b"}`, attempt.Options{}, time.Time{}, "has no `at`"},
		"now":                 {`{"account":"a","app":"b"}`, attempt.Options{Now: now}, now, ""},
		"its own moment":      {`{"account":"a","app":"b","at":"2026-11-23T11:00:00Z"}`, attempt.Options{Now: now}, now.Add(-time.Hour), ""},
		"a part":              {`{"at":"2026-11-23T12:00:00Z"}`, attempt.Options{Part: true}, now, ""},
		"no part":             {"", attempt.Options{Part: true}, time.Time{}, ""},
		"nothing":             {"", attempt.Options{Now: now}, time.Time{}, "found nothing"},
		"a part that is none": {`{"att":1}`, attempt.Options{Part: true}, time.Time{}, "no key"},
		"too long":            {`{"account":"a"` + strings.Repeat(" ", attempt.MaxSize) + "}", attempt.Options{}, time.Time{}, "at most 1 MiB"},
	} {
		t.Run(name, func(t *testing.T) {
			a := new(attempt.Attempt)
			err := attempt.Parse([]byte(c.text), a, c.o)
			if c.wrong != "" {
				require.ErrorContains(t, err, c.wrong)
				return
			}
			require.NoError(t, err)
			require.True(t, a.At.Equal(c.at), a.At)
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add(whole)
	f.Add(`{"at":"2026-11-23T21:14:00Z","account":"a","app":"b","device":null,"previous":null}`)
	f.Fuzz(func(t *testing.T, text string) {
		a, err := parse(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		written, err := json.Marshal(a)
		require.NoError(t, err)
		_, err = parse(string(written))
		require.NoError(t, err, "what was read can be written and read again")
	})
}
