package nearest_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/nearest"
)

func TestDidYouMean(t *testing.T) {
	known := []string{"countries", "networks", "our_network", "when", "who"}
	for wrong, want := range map[string]string{
		"countrys": `; did you mean "countries"?`, "country": `; did you mean "countries"?`, "NETWORKS": `; did you mean "networks"?`,
		"wehn": `; did you mean "when"?`, "wo": `; did you mean "who"?`, "zebra": "; it is one of countries, networks, our_network, when, who",
	} {
		t.Run(wrong, func(t *testing.T) {
			require.Equal(t, want, nearest.DidYouMean(wrong, known), wrong)
		})
	}
	require.Empty(t, nearest.DidYouMean("zebra", nil))
	require.Equal(
		t,
		[]string{"crew", "brew"},
		nearest.Names("crew", []string{"brew", "crow", "deck", "crew"}, 2),
		"the nearest comes first, then the alphabet",
	)
}
