// Package bench measures what decisions cost; scripts/bench prints its figures as one
// table. It has tests only. They stand in a package of their own because a process that
// measures should hold what a program that decides holds: tables of a test library in
// its memory would make the garbage collector run more often than it does there.
package bench
