package jsontext_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/internal/jsontext"
)

func TestAsEncodingJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		nanos := rapid.SampledFrom([]int64{0, 1, 10, 120_000_000, 123_456_789, 999_999_999, 100}).Draw(t, "nanos")
		at := time.Unix(rapid.Int64Range(-62_135_596_800, 253_402_300_799).Draw(t, "seconds"), nanos).UTC()
		if rapid.Bool().Draw(t, "elsewhere") {
			at = at.In(time.FixedZone("", 60*rapid.IntRange(-720, 720).Draw(t, "minutes")))
		}
		if year := at.Year(); year >= 0 && year <= 9999 { // others are no moments of RFC 3339
			want, err := json.Marshal(at)
			require.NoError(t, err)
			require.Equal(t, string(want), string(jsontext.Time(nil, at)))
		}
		text := rapid.String().Draw(t, "text")
		var back string
		require.NoError(t, json.Unmarshal(jsontext.String(nil, text), &back))
		require.Equal(t, text, back)
	})
}
