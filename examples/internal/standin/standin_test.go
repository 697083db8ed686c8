package standin

import (
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/directory"
)

const liv = "liv@kestrelsound.example"

var noon = time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC)

func TestSecretsCountOnce(t *testing.T) {
	p := NewPeople([]directory.Account{{Name: liv}})
	require.True(t, p.HasPassword(liv, p.Password(liv)))
	for name, password := range map[string]string{liv: "", "nobody": "", "nobody ": p.Password(liv)} {
		require.False(t, p.HasPassword(name, password), name)
	}
	code := p.Code(liv, noon)
	require.False(t, p.FitsCode("nobody", code, noon))
	require.False(t, p.FitsCode(liv, "", noon))
	require.True(t, p.FitsCode(liv, code, noon.Add(30*time.Second)), "one step of skew")
	require.False(t, p.FitsCode(liv, code, noon.Add(30*time.Second)), "it was used")
	require.False(t, p.FitsCode(liv, p.Code(liv, noon), noon.Add(2*time.Minute)), "it is too old")
	paper := p.RecoveryCodes(liv)
	require.Len(t, paper, 5)
	require.True(t, p.SpendRecoveryCode(liv, paper[0], noon))
	require.False(t, p.SpendRecoveryCode(liv, paper[0], noon) || p.SpendRecoveryCode(liv, "", noon) ||
		p.SpendRecoveryCode("nobody", paper[1], noon))
}

// TestCodesAreNotGuessed: after some wrong ones none fits for a while, whichever they are of.
func TestCodesAreNotGuessed(t *testing.T) {
	p := NewPeople([]directory.Account{{Name: liv}})
	paper := p.RecoveryCodes(liv)
	for i := range mostGuesses {
		require.False(t, p.FitsCode(liv, "none", noon.Add(time.Duration(i)*time.Second)))
	}
	require.False(t, p.FitsCode(liv, p.Code(liv, noon), noon.Add(10*time.Second)))
	require.False(t, p.SpendRecoveryCode(liv, paper[0], noon.Add(10*time.Second)))
	later := noon.Add(wrongFor + time.Minute)
	require.True(t, p.FitsCode(liv, p.Code(liv, later), later))
	require.True(t, p.SpendRecoveryCode(liv, paper[0], later))
}

func TestPhones(t *testing.T) {
	at := noon
	p := NewPhones(func() time.Time { return at })
	for name, c := range map[string]struct {
		do   func(Prompt)
		want Answer
	}{
		"nothing yet":     {func(Prompt) {}, Waiting},
		"the number":      {func(x Prompt) { p.Answer(liv, x.ID, true, x.Number) }, Approved},
		"another number":  {func(x Prompt) { p.Answer(liv, x.ID, true, x.Number+1) }, Refused},
		"no":              {func(x Prompt) { p.Answer(liv, x.ID, false, x.Number) }, Refused},
		"another's phone": {func(x Prompt) { p.Answer("oskar", x.ID, true, x.Number) }, Waiting},
		"too late":        {func(x Prompt) { at = at.Add(2 * PushLasts); p.Answer(liv, x.ID, true, x.Number) }, TimedOut},
		"given up":        {func(x Prompt) { p.GiveUp(x.ID); p.Answer(liv, x.ID, true, x.Number) }, TimedOut},
		"changed of mind": {func(x Prompt) { p.Answer(liv, x.ID, false, 0); p.Answer(liv, x.ID, true, x.Number) }, Refused},
	} {
		t.Run(name, func(t *testing.T) {
			x := p.Push(liv, "mail", "")
			c.do(x)
			require.Equal(t, c.want, p.State(x.ID))
		})
	}
	require.Equal(t, TimedOut, p.State("none"))
	p.SendText(liv)
	first := p.Texts(liv)[0].Code
	p.SendText(liv)
	require.Len(t, p.Texts(liv), 1)
	if code := p.Texts(liv)[0].Code; code != first {
		require.False(t, p.FitsText(liv, first), "a newer one was sent")
	}
	for range mostWrong {
		require.False(t, p.FitsText(liv, "none"))
	}
	require.Empty(t, p.Texts(liv), "after some wrong ones it counts no more")
	p.SendText(liv)
	p.Silence(liv, true)
	require.Empty(t, p.Texts(liv))
}

// TestContrast holds the colours of the pages against WCAG 2.2 (success criterion 1.4.3), in light and in dark.
func TestContrast(t *testing.T) {
	schemes := strings.SplitN(style, "@media (prefers-color-scheme: dark)", 2)
	require.Len(t, schemes, 2)
	for i, scheme := range schemes {
		colours := map[string]float64{}
		for _, x := range regexp.MustCompile(`--(\w+): #(\w{6})`).FindAllStringSubmatch(strings.SplitN(scheme, "}", 2)[0], -1) {
			colours[x[1]] = luminance(t, x[2])
		}
		for _, pair := range [][2]string{{"ink", "foam"}, {"ink", "card"}, {"quiet", "foam"}, {"quiet", "card"}, {"link", "foam"},
			{"link", "card"}, {"sea", "foam"}, {"sea", "card"}, {"deep", "card"}, {"warn", "foam"}, {"warn", "card"}} {
			a, b := colours[pair[0]], colours[pair[1]]
			require.GreaterOrEqual(t, (max(a, b)+0.05)/(min(a, b)+0.05), 4.5, "%v in scheme %d", pair, i)
		}
	}
}

// luminance is the relative luminance of a colour (WCAG 2.2, definitions).
func luminance(t *testing.T, hex string) (sum float64) {
	for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
		n, err := strconv.ParseUint(hex[2*i:2*i+2], 16, 8)
		require.NoError(t, err)
		if c := float64(n) / 255; c <= 0.04045 {
			sum += weight * c / 12.92
		} else {
			sum += weight * math.Pow((c+0.055)/1.055, 2.4)
		}
	}
	return sum
}
