package engine_test

import (
	"context"
	"encoding/json"
	"net/netip"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// fill sets all that can be reached of a value, so that no field is left out of what is
// written.
func fill(v reflect.Value, depth int) {
	switch v.Interface().(type) {
	case time.Time:
		v.Set(reflect.ValueOf(time.Date(2026, time.November, 23, 13, 10, 0, 500, time.UTC)))
		return
	case attempt.CountryCode:
		v.Set(reflect.ValueOf(attempt.CountryCode("NO")))
		return
	case attempt.Fact[condition.Truth]:
		v.Set(reflect.ValueOf(attempt.Known(condition.Unknown)))
		return
	case map[string]attempt.Scalar:
		v.Set(reflect.ValueOf(map[string]attempt.Scalar{"b": attempt.BoolScalar(true), "a\"<\n": attempt.NumberScalar(-1.5e22),
			"none": {}, "text": attempt.TextScalar("\u2028é")}))
		return
	case map[string]attempt.CheckResult:
		v.Set(reflect.ValueOf(map[string]attempt.CheckResult{"z": attempt.CheckPassed, "y": attempt.CheckUnreachable}))
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		if known := v.Addr().MethodByName("Ref"); known.IsValid() {
			fillFact(v, depth)
			return
		}
		for i := range v.NumField() {
			fill(v.Field(i), depth)
		}
	case reflect.Slice:
		if depth > 6 {
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range 2 {
			fill(v.Index(i), depth+1)
		}
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), depth)
	case reflect.String:
		v.SetString("é \"quoted\" <b>\x01")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(90 * time.Minute))
	case reflect.Uint8:
		v.SetUint(1)
	case reflect.Float64:
		v.SetFloat(-59.9)
	}
}

// fillFact makes a fact known.
func fillFact(v reflect.Value, depth int) {
	inner := reflect.New(v.Interface().(interface{ Inner() reflect.Type }).Inner()).Elem()
	if inner.Type() == reflect.TypeFor[netip.Addr]() {
		inner.Set(reflect.ValueOf(netip.MustParseAddr("2001:db8::1")))
	} else {
		fill(inner, depth)
	}
	text, err := json.Marshal(inner.Interface())
	if err == nil {
		err = json.Unmarshal(text, v.Addr().Interface())
	}
	if err != nil {
		panic(err)
	}
}

func TestAppendJSONWritesWhatEncodingJSONWrites(t *testing.T) {
	same := func(t require.TestingT, value any, written []byte) {
		want, err := json.Marshal(value)
		require.NoError(t, err)
		require.JSONEq(t, string(want), string(written))
	}
	t.Run("everything set", func(t *testing.T) {
		var d decide.Decision
		fill(reflect.ValueOf(&d).Elem(), 0)
		same(t, &d, d.AppendJSON(nil))
		var a attempt.Attempt
		fill(reflect.ValueOf(&a).Elem(), 0)
		same(t, &a, a.AppendJSON(nil))
	})
	t.Run("nothing set", func(t *testing.T) {
		same(t, new(decide.Decision), new(decide.Decision).AppendJSON(nil))
		same(t, new(attempt.Attempt), new(attempt.Attempt).AppendJSON(nil))
		none := &attempt.Attempt{Previous: attempt.None[attempt.Previous](), Failures: attempt.None[[]time.Time](),
			IP: attempt.None[netip.Addr](), Client: attempt.None[attempt.ClientAsk]()}
		same(t, none, none.AppendJSON(nil))
	})
	t.Run("decisions", func(t *testing.T) {
		rapid.Check(t, func(t *rapid.T) {
			c := chance{t}
			judge := compile(t, c, synth.Small(c, 3))
			a := synth.Attempt(c)
			d := judge.Explain(context.Background(), a)
			same(t, d, d.AppendJSON(nil))
			same(t, a, a.AppendJSON(nil))
		})
	})
}
