package decide_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// TestZeroValuesAreTheStrictest holds that nothing that was left out lets
// somebody in.
func TestZeroValuesAreTheStrictest(t *testing.T) {
	require.Equal(t, decide.Block, decide.Verdict(0))
	require.Equal(t, decide.Block, decide.Decision{}.Verdict)
	require.Equal(t, decide.Block, decide.Decision{}.ToPerson.Verdict)
	require.Equal(t, decide.Block, decide.Brief{}.Verdict)
	require.True(t, decide.Outcome{}.Blocks())
	require.Equal(t, "block", decide.Outcome{}.String())
	require.Equal(t, attempt.CheckFailed, attempt.CheckResult(0))
	require.Equal(t, attempt.Refused, attempt.FailureReason(0))
	require.Equal(t, consent.Refuse, consent.Decision{}.Outcome)
	require.Equal(t, directory.Unfit, directory.Fitness(0))
	require.Negative(t, decide.Block.Compare(decide.StepUp))
	require.Negative(t, decide.StepUp.Compare(decide.Grant))
}
