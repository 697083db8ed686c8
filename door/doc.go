// Package door puts a book in force: it answers decisions over HTTP by open standards and guards
// apps behind a reverse proxy or in a Go program, on facts that live in a store.
//
// A [Door] is made from a book, a store and a [Config]; its Handler is an http.Handler. The
// command `briskwarden serve` is this package with files and a listener around it. A program
// may as well call Decide, or wrap its pages in Guard, and have no HTTP of the door's at all.
//
// # Rooms
//
// What else a door does is a [Room], each in a package of its own, so that a program links what it uses:
//
//   - door/people: another system pushes people and groups (SCIM)
//   - door/events: other systems tell what they noticed, and are told of sessions that end (security event tokens)
//   - door/pages: people look at a report and at decisions, with a browser
//   - door/alerts: people hear of decisions, by mail and web hooks
//   - door/metrics: Prometheus reads what the door does
//
// A room changes facts by [Door.Change], as a program that has a feed of its own may.
//
// # What it does where something fails
//
// What the store would have said is unknown where it cannot be reached, and an account that
// nobody can find out about is blocked. A grant that cannot be recorded is not given. An answer
// that rests on less than it should says so in `degraded`.
package door
