package ocsf_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	published10 "github.com/valllabh/ocsf-schema-golang/ocsfvalidate/1.0"
	published11 "github.com/valllabh/ocsf-schema-golang/ocsfvalidate/1.1"
	published12 "github.com/valllabh/ocsf-schema-golang/ocsfvalidate/1.2"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/attempt/ocsf"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
)

// TestEventsAreOCSF: what is written keeps to the published JSON Schema of the class
// in version 1.2, and without a location to those of 1.0 and 1.1; and it is read
// again as the same attempt.
func TestEventsAreOCSF(t *testing.T) {
	for _, a := range demo.History() {
		text, err := ocsf.Event(a)
		require.NoError(t, err)
		for _, published := range []func(string, []byte) error{published10.Validate, published11.Validate, published12.Validate} {
			require.NoError(t, published("authentication", text), "%s", text)
			require.Error(t, published("authentication", []byte("{}")))
		}
		require.True(t, ocsf.IsEvent(text))
		var again attempt.Attempt
		is, err := ocsf.Parse(text, ocsf.Known{}, &again)
		require.NoError(t, err)
		require.True(t, is)
		require.Equal(
			t,
			[]any{a.Account, a.App, a.At.UTC(), a.IP, a.Through, a.Failed},
			[]any{again.Account, again.App, again.At.UTC(), again.IP, again.Through, again.Failed},
		)
		require.Len(t, again.Proofs, len(a.Proofs))
	}
	_, err := ocsf.Event(&attempt.Attempt{Action: attempt.Enrol})
	require.ErrorContains(t, err, "the action enrol is no authentication event")
}

// TestParse reads events as other programs write them.
func TestParse(t *testing.T) {
	known := ocsf.Known{
		Account: func(name string) bool { return name == "ingrid@kestrelsound.example" },
		App:     func(name string) bool { return strings.HasPrefix(name, "till.") },
	}
	event := func(more string) string { return `{"class_uid": 3002, "activity_id": 1, ` + more + `}` }
	const plain = `"time": 1795468440000, "user": {"name": "ingrid", "email_addr": "ingrid@kestrelsound.example"}, "service": {"name": ` +
		`"Till"}, "http_request": {"user_agent": "x", "url": {"hostname": "till.kestrelsound.example", "path": "/open"}}`
	var a attempt.Attempt
	is, err := ocsf.Parse(
		[]byte(
			event(
				plain+`, "status_id": 2, "auth_factors": [{"factor_type_id": 7}, {"factor_type_id": 0}, {"factor_type_id": 99, "factor_type": "certificate"}],
		"src_endpoint": {"ip": "::ffff:198.51.100.70", "location": {"country": "NO", "coordinates": [10.7, 59.9]}}, "metadata": {"uid": "e-1"}, "session": {"uid": "s-9", "created_time": 1795468000000},
		"device": {"uid": "till-04", "type_id": 2, "is_managed": true, "os": {"name": "Windows", "type_id": 100}}`,
			),
		),
		known,
		&a,
	)
	require.NoError(t, err)
	require.True(t, is)
	require.Equal(t, []string{"e-1", "ingrid@kestrelsound.example", "till.kestrelsound.example/open", "2026-11-23T21:14:00Z", "s-9"},
		[]string{a.ID, a.Account, a.App, a.At.Format("2006-01-02T15:04:05Z"), a.Session.ID}, "of several names the one that the book knows")
	require.Equal(
		t,
		[]attempt.Failure{{Method: "otp-app", Reason: attempt.Refused}, {Method: "certificate", Reason: attempt.Refused}},
		a.Failed,
	)
	require.Equal(t, attempt.Known(attempt.Location{Lat: 59.9, Lon: 10.7}), a.Location)
	d, _ := a.Device.Get()
	require.Equal(t, attempt.Device{ID: attempt.Known("till-04"), Platform: attempt.Known("windows"), Managed: attempt.Known(true)}, d)

	for text, want := range map[string]string{
		`{"class_uid": 3002, "activity_id": 2}`:                               "", // a log-off
		`{"class_uid": 3001, "activity_id": 1}`:                               "", // an account that was changed
		event(`"time": 1`):                                                    "the event has no user.name",
		event(`"user": {"name": "x"}`):                                        "the event has no service.name",
		event(`"user": {"name": "x"}, "service": {"name": "y"}`):              "the event has no time",
		event(plain + `, "src_endpoint": {"ip": "here"}`):                     `"here" is no IP address`,
		event(plain + `, "src_endpoint": {"location": {"country":1}}`):        "not an OCSF event",
		event(plain + `, "src_endpoint": {"location": {"country":"Norway"}}`): "two capital letters",
	} {
		t.Run(text, func(t *testing.T) {
			is, err := ocsf.Parse([]byte(text), known, new(attempt.Attempt))
			require.False(t, is && err == nil, text)
			if want == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, want)
			}
		})
	}
}

// TestMethodsAndPlatforms: what has a number in OCSF is written and read by it.
func TestMethodsAndPlatforms(t *testing.T) {
	round := func(a *attempt.Attempt) *attempt.Attempt {
		text, err := ocsf.Event(a)
		require.NoError(t, err)
		require.NoError(t, published12.Validate("authentication", text), "%s", text)
		again := new(attempt.Attempt)
		is, err := ocsf.Parse(text, ocsf.Known{}, again)
		require.NoError(t, err)
		require.True(t, is)
		return again
	}
	plain := func() *attempt.Attempt {
		return &attempt.Attempt{At: demo.Moment(), Account: "ingrid@kestrelsound.example", App: "mail"}
	}
	for _, m := range directory.BuiltInMethods() {
		a := plain()
		a.Proofs = []attempt.Proof{{Method: m.Name, At: a.At}}
		require.Equal(t, m.Name, round(a).Proofs[0].Method)
		a = plain()
		a.Failed = []attempt.Failure{{Method: m.Name, Reason: attempt.TimedOut}}
		require.Equal(t, []attempt.Failure{{Method: m.Name, Reason: attempt.Refused}}, round(a).Failed, "OCSF has no place for the reason")
	}
	for _, platform := range []string{"windows", "macos", "linux", "ios", "android"} {
		a := plain()
		a.Device = attempt.Known(attempt.Device{ID: attempt.Known("d"), Platform: attempt.Known(platform), Managed: attempt.Known(false)})
		require.Equal(t, a.Device, round(a).Device)
	}
	a := plain()
	a.ID, a.Session, a.Country = "e-1", attempt.Session{ID: "s", Started: a.At.UTC()}, attempt.Known(attempt.CountryCode("NO"))
	a.Location, a.Through = attempt.Known(attempt.Location{Lat: 59.9, Lon: 10.7}), attempt.Known(attempt.Unattended)
	again := round(a)
	require.True(t, again.At.Equal(a.At))
	again.At = a.At
	require.Equal(t, a, again)
}

func FuzzParse(f *testing.F) {
	f.Add(
		`{"class_uid": 3002, "activity_id": 1, "time": 1, "user": {"name": "x"}, "service": {"name": "y"}, "src_endpoint": {"ip": "::1"}}`,
	)
	f.Fuzz(func(t *testing.T, text string) {
		var a attempt.Attempt
		is, err := ocsf.Parse([]byte(text), ocsf.Known{}, &a)
		if is && err == nil {
			require.NoError(t, a.Check())
			_, err := ocsf.Event(&a)
			require.NoError(t, err, "what was read can be written")
		}
	})
}
