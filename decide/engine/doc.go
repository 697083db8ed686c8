// Package engine judges attempts. It compiles a rulebook of package decide against its directory, and answers each attempt
// with a verdict, or with a decision that has its demands, causes and full trace.
//
// A [Judge] is what is compiled. What it holds beside the policies lies open to what describes or checks a book: the
// directory made ready for decisions ([Directory], [Profile]), the accounts that a condition is for ([Audience]), the terms
// that are asked for in some circumstances ([Terms]). Its numbers count in the order of the lists that it was compiled from,
// and are good for that judge alone.
//
// The way from an attempt to a decision:
//
//	evaluation.go    the attempt is looked up, the policies that apply are found, what they say is joined
//	profile.go       an account with what follows from its groups, device.go a device, network.go an address
//	keys_*.go        the keys of conditions, a file a family, each with all that is said of it
//	evidence.go      what is looked up once it is asked for: the country, the score, what was proven
//	weigh.go         the signals and the score
//	demand.go        what the joined outcomes demand, and what of it is met
//	brief.go         a decision without its words; explain.go, listing.go, trace.go, person.go with them
//	until.go         the moment at which a grant ends by itself
//
// The package computes and does nothing else. It reads no file and no clock; time, facts and history come in with the attempt.
package engine
