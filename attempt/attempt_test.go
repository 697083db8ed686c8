package attempt_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

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

func TestReadKeepsWhatIsSaid(t *testing.T) {
	for _, text := range []string{whole, strings.Replace(whole, `"country":"NO","location":{"lat":59.9,"lon":10.7}`, `"country":null`, 1)} {
		a, err := attempt.Read(strings.NewReader(text))
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
			_, err := attempt.Read(strings.NewReader(strings.Replace(whole, c[0], c[1], 1)))
			require.ErrorContains(t, err, wrong)
			require.ErrorContains(t, err, "line ")
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add(whole)
	f.Add(`{"at":"2026-11-23T21:14:00Z","account":"a","app":"b","device":null,"previous":null}`)
	f.Fuzz(func(t *testing.T, text string) {
		a, err := attempt.Read(strings.NewReader(text))
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		written, err := json.Marshal(a)
		require.NoError(t, err)
		_, err = attempt.Read(strings.NewReader(string(written)))
		require.NoError(t, err, "what was read can be written and read again")
	})
}
