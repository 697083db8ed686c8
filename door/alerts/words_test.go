package alerts_test

import "github.com/briskwarden/briskwarden/internal/doortest"

// What tests of this package say over and over.
const (
	all = doortest.All
)

var noon = doortest.Noon
