package door_test

import "github.com/briskwarden/briskwarden/internal/doortest"

// What tests of this package say over and over.
const (
	abroad   = doortest.Abroad
	all      = doortest.All
	caep     = doortest.CAEP
	feed     = doortest.Feed
	idle     = doortest.Idle
	issuer   = doortest.Issuer
	mail     = doortest.Mail
	password = doortest.Password
	pier     = doortest.Pier
	push     = doortest.Push
	risc     = doortest.RISC
)

var noon = doortest.Noon
