package directory

import (
	"context"
	"net/netip"

	"github.com/briskwarden/briskwarden/attempt"
)

// Locator finds where an address is. It is asked at most once in a decision, where
// something asks for the country or the location and neither the attempt nor a
// network states it. It must be safe for concurrent use, and its time is part of
// the decision's.
type Locator interface {
	// Locate returns what is known of an address. With an error nothing is, and a
	// notice of the decision says so.
	Locate(ctx context.Context, address netip.Addr) (Whereabouts, error)
}

// Whereabouts is where an address is, as far as is known.
type Whereabouts struct {
	// Country is "" where it is not known.
	Country  attempt.CountryCode
	Location attempt.Fact[attempt.Location]
}
