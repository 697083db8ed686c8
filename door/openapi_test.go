package door_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/doortest"
)

func TestTheDescriptionSaysWhatIsAnswered(t *testing.T) {
	h := doortest.New(t, nil, doortest.Answering)
	d := h.Describe()
	require.Equal(t, "3.1.0", d.Openapi)
	for path, methods := range d.Paths {
		for method := range methods {
			t.Run(method+" "+path, func(t *testing.T) {
				status, _, _ := h.PlainAsk(strings.ToUpper(method), strings.ReplaceAll(path, "{id}", "x"), all, nil)
				require.NotEqual(t, 405, status)
				if status == 404 {
					require.Contains(t, path, "{id}")
				}
			})
		}
	}
}
