package door_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/store"
)

// TestReportsByClocksThatAreWrong: the latest report counts, and one of a clock that is ahead keeps none out that comes after it.
func TestReportsByClocksThatAreWrong(t *testing.T) {
	h := doortest.New(t, nil, nil)
	for _, c := range []struct {
		what     string
		after    time.Duration
		dated    time.Duration // from the door's clock
		status   int
		reported time.Duration // from noon, what counts afterwards
	}{
		{"as it was made", 0, 0, http.StatusNoContent, 0},
		{"a little ahead: as of its arrival", time.Second, 50 * time.Second, http.StatusNoContent, time.Second},
		{"an honest one, a second later", time.Second, 0, http.StatusNoContent, 2 * time.Second},
		{"far ahead", time.Second, 2 * time.Hour, http.StatusUnprocessableEntity, 2 * time.Second},
		{"an older one", time.Second, -time.Minute, http.StatusConflict, 2 * time.Second},
	} {
		h.Pass(c.after)
		status, _, text := h.Ask("PUT", "/v1/devices/laptop-ingrid/report", all, fmt.Sprintf(`{"facts":{"firewall":true},"reported_at":%q}`,
			h.Clock().Add(c.dated).Format(time.RFC3339)))
		require.Equal(t, c.status, status, "%s: %s", c.what, text)
		d := &store.Device{ID: "laptop-ingrid"}
		require.NoError(t, store.Load(t.Context(), h.Kept, d))
		require.WithinDuration(t, noon.Add(c.reported), *d.ReportedAt, 0, c.what)
	}
}
