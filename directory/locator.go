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

// Surveyor is a Locator that can say what it knows within a range. The explorer behind guarantees looks at an address of
// each kind that it tells; within the networks of a book it takes one that is no Surveyor at the borders of their ranges alone.
type Surveyor interface {
	Locator
	// Survey visits, in order, the first address of a range and each at which what is known may change, until visit
	// returns false. It takes time with the number of records in the range. The error is that of a record that cannot be
	// read.
	Survey(r Range, visit func(first netip.Addr, found Whereabouts) bool) error
}
