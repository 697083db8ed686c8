// Package facts holds a directory made ready for decisions: names found fast, each
// account with what follows from the groups, addresses with their networks, and the
// keys by which conditions ask for all of them. It is the machinery behind packages
// decide and consent. Its numbers count in the order of the lists in
// [directory.Contents], and are nobody else's.
//
// A key of conditions is defined in the file of its family: keys_account.go,
// keys_app.go, keys_attempt.go, keys_device.go, keys_place.go or keys_time.go. Keys
// about risk and proofs are in decide/keys.go, and those about outside programs in
// consent/keys.go.
package facts
