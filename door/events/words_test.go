package events_test

import "github.com/briskwarden/briskwarden/internal/doortest"

// What tests of this package say over and over.
const (
	all      = doortest.All
	caep     = doortest.CAEP
	feed     = doortest.Feed
	issuer   = doortest.Issuer
	mail     = doortest.Mail
	password = doortest.Password
	pier     = doortest.Pier
	push     = doortest.Push
	risc     = doortest.RISC
)

var noon = doortest.Noon
