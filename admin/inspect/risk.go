package inspect

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicRisk = "risk and posture"

var riskChecks = []Check{
	{"unreachable-level", topicRisk, Warning, "a level of risk that no sum of signals reaches",
		"The points of all signals together stay below the level, so no rule that asks for it ever matches.",
		"Lower the level, raise the points, or notice more.", unreachableLevel},
	{"one-signal-is-high", topicRisk, Warning, "a signal of daily life that alone makes the risk high",
		"A new telephone, a journey or a long holiday is no attack. Each of those whom it happens to is treated as one.",
		"Give the signal fewer points than the level `high` begins at.", oneSignalIsHigh},
	{"risk-in-two-places", topicRisk, Warning, "sign-in risk judged in two places that disagree",
		"Two policies that meet in an account and an app draw the line at different scores. The stricter one always wins there, and anyone " +
			"who reads the other is misled.",
		"Judge the risk in one policy, or draw the line at the same score.", riskInTwoPlaces},
	{"posture-without-fresh", topicRisk, Note, "a posture that takes a report of any age",
		"A device that reported once is fit for ever, whatever has become of it.",
		"Say how old a report may be, such as `fresh: 24h`.", postureWithoutFresh},
	{"posture-nobody-passes", topicRisk, Warning, "a posture that no registered device passes",
		"As the devices report today, each of them fails a check, however old a report may be. Anyone who is asked for it is stopped.",
		"Look at the checks; a value is mistyped, or the fleet is behind.", postureNobodyPasses},
}

func unreachableLevel(in *Pass) {
	model := in.Judge.Risk()
	if len(model.Signals) == 0 {
		return // then nothing is judged by risk
	}
	most, at := highestScore(model), in.where("setting", "risk.levels")
	if !at.IsValid() { // the levels are those of a book that states none
		at = model.Signals[0].At
	}
	for _, level := range []directory.Level{directory.LowRisk, directory.MediumRisk, directory.HighRisk} {
		if from := model.Levels.From(level); most < from {
			in.Report(level.String(), at, "The level %s begins at %d, and all signals together come to %d.", level, from, most)
		}
	}
}

// highestScore is what all signals together come to.
func highestScore(m risk.Scheme) int {
	sum := 0
	for _, signal := range m.Signals {
		sum += signal.Points
	}
	return min(sum, risk.MaxScore)
}

func oneSignalIsHigh(in *Pass) {
	model := in.Judge.Risk()
	for _, s := range model.Signals {
		switch s.Detect {
		case risk.NewDevice, risk.CountryChange, risk.Dormant:
			if high := model.Levels.From(directory.HighRisk); s.Points >= high {
				in.Report(s.Name, s.At, "%s (%s) has %s, and high begins at %d.", s.Name, s.Detect, words.Count(s.Points, "point"), high)
			}
		}
	}
}

// bars returns the scores from which a policy blocks and asks for more.
func (in *Pass) bars(s *Policy) map[string]int {
	bars := map[string]int{}
	for _, r := range s.Rules {
		condition.Walk(r.When, func(n condition.Node) bool {
			t, ok := n.(*condition.Test)
			if !ok {
				return true
			}
			bar := int(t.Limit())
			switch t.Key {
			case engine.KeyRiskAtLeast:
				bar = in.Judge.Risk().Levels.From(directory.Level(t.Limit()))
			case engine.KeyScoreAtLeast:
			default:
				return true
			}
			does := "asks for more"
			if r.Then.Blocks() {
				does = "blocks"
			}
			if known, ok := bars[does]; !ok || bar < known {
				bars[does] = bar
			}
			return true
		})
	}
	return bars
}

func riskInTwoPlaces(in *Pass) {
	live := in.Live()
	for i, s := range live {
		here := in.bars(s)
		if len(here) == 0 {
			continue
		}
		for _, t := range live[i+1:] {
			there := in.bars(t)
			if len(there) == 0 || !s.sharesApps(t) || linked(s, t) || !s.Audience.Meets(t.Audience) {
				continue
			}
			for _, does := range []string{"blocks", "asks for more"} {
				a, one := here[does]
				b, other := there[does]
				if one && other && a != b {
					in.Report(
						s.Name+"+"+t.Name,
						t.At,
						"%s %s from a score of %d, %s from %d, and both are for %s at %s.",
						s.Name,
						does,
						a,
						t.Name,
						b,
						in.accountNames(s.Audience.And(t.Audience)),
						in.appNames(common(s.AimedAt, t.AimedAt)),
					)
				}
			}
		}
	}
}

func postureWithoutFresh(in *Pass) {
	for _, p := range in.Directory.Postures {
		if p.Fresh == 0 {
			in.ReportWith(line("posture", p.Name, "fresh: %s", directory.Span(freshFor)), p.Name, in.where("posture", p.Name),
				"%s takes a report of any age.", p.Name)
		}
	}
}

func postureNobodyPasses(in *Pass) {
	if len(in.Directory.Devices) == 0 {
		return
	}
	for _, p := range in.Directory.Postures {
		var why []string
		passed := slices.ContainsFunc(in.Directory.Devices, func(d directory.Device) bool {
			// As if it had reported just now.
			probe := attempt.Attempt{
				At:     in.At,
				Device: attempt.Known(attempt.Device{ID: attempt.Known(d.Name), Facts: d.Facts, ReportedAt: attempt.Known(in.At)}),
			}
			view := in.Directory.View(&probe)
			for i := range p.Checks {
				if view.Passes(&p, &p.Checks[i]) != condition.True {
					why = append(why, fmt.Sprintf("%s fails %s", d.Name, p.Checks[i].Fact))
					return false
				}
			}
			return true
		})
		if !passed {
			in.Report(
				p.Name,
				in.where("posture", p.Name),
				"None of the %d registered devices passes %s: %s.",
				len(in.Directory.Devices),
				p.Name,
				strings.Join(why[:min(3, len(why))], ", "),
			)
		}
	}
}

const topicUpkeep = "upkeep"

var upkeepChecks = []Check{
	{"stale-import", topicUpkeep, Warning, "an import that is old",
		"People have come and gone since. Anyone who left still has an account here, and anyone who is new has none.",
		"Export the people again, and set `taken` to the day.", staleImport},
	{"skipped-in-import", topicUpkeep, Warning, "an import that was not read whole",
		"What could not be read is not in the book: an account that is missing cannot sign on.",
		"Correct the lines where the file is made.", skippedInImport},
	{"accepted-in-vain", topicUpkeep, Warning, "an accepted finding that does not occur",
		"What was accepted has been put right, or its name is mistyped. Left in the book, it would hide the same fault when it comes back.",
		"Take it out of `accepted`.", acceptedInVain},
}

// staleAfter is after how many days an import that does not say how fresh it is
// to be is old.
const staleAfter = 90

func staleImport(in *Pass) {
	for _, i := range in.Book.Imported {
		most := staleAfter
		if i.Fresh > 0 {
			most = int(time.Duration(i.Fresh) / (24 * time.Hour))
		}
		if n := in.daysSince(i.TakenAt); n > most {
			in.Report(
				i.Name,
				i.At,
				"The import %s (%s) is %s old, and %s is what it may be.",
				i.Name,
				i.File,
				words.Count(n, "day"),
				words.Count(most, "day"),
			)
		}
	}
}

func skippedInImport(in *Pass) {
	for _, i := range in.Book.Imported {
		if len(i.Skipped) > 0 {
			in.Report(
				i.Name,
				i.At,
				"Of %s something was left out in %s; the first is line %d: %s.",
				i.File,
				words.Count(len(i.Skipped), "place"),
				i.Skipped[0].Line,
				i.Skipped[0].Text,
			)
		}
	}
}

// acceptedInVain runs last, when all else has been found.
func acceptedInVain(in *Pass) {
	for _, a := range in.Book.Accepted {
		if in.names[a.Name] {
			continue
		}
		check, _, _ := strings.Cut(a.Name, ":")
		why := "does not occur"
		if !slices.ContainsFunc(in.checks, func(c Check) bool { return c.Name == check }) {
			why = "is the finding of no check"
		}
		in.Report(a.Name, a.At, "%s is accepted, and %s.", a.Name, why)
	}
}
