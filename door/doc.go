// Package door puts a book in force: it answers decisions over HTTP by open standards, guards
// apps behind a reverse proxy or in a Go program, and takes in what others report, on facts
// that live in a store.
//
// A [Door] is made from a book, a store and a [Config]; its Handler is an http.Handler. The
// command `briskwarden serve` is this package with files and a listener around it. A program
// may as well call Decide and have no HTTP at all.
//
// # What it does where something fails
//
// What the store would have said is unknown where it cannot be reached, and an account that
// nobody can find out about is blocked. A grant that cannot be recorded is not given. An answer
// that rests on less than it should says so in `degraded`.
package door
