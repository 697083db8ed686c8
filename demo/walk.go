package demo

import "time"

// Moment is the Monday on which the Scenes play and the Walk is made.
func Moment() time.Time { return Scenes()[0].Attempt.At }

// Step is a step of the walk: what an administrator does, and the command for it.
type Step struct {
	// Title and Why say what is done and what for.
	Title, Why string
	// Command are the words of the command behind the program's name.
	Command []string
	// Lines is how many lines of its output tell enough.
	Lines int
	// More is a command that shows more.
	More string
	// Scenes says that the six attempts are shown here instead of a command.
	Scenes bool
}

// The folders and the file that the walk goes by.
const (
	Folder         = "kestrel"
	ProposedFolder = "kestrel-next"
	HistoryFile    = "month.jsonl"
)

// Walk returns the steps in the order in which an administrator works. They go by
// the book in Folder, the proposed one in ProposedFolder, the month in HistoryFile,
// and the grants of the book on record.
func Walk() []Step {
	const book = " --book " + Folder
	words := func(more ...string) []string { return append(more, "--book", Folder) }
	return []Step{
		{Title: "Take stock", Why: "Can somebody always get back in, and does each policy reach those it is meant for?",
			Command: words("inspect"), Lines: 10, More: "briskwarden inspect" + book + " --explain all"},
		{Title: "Read it", Why: "What does a policy say, in sentences that an auditor reads?",
			Command: words("describe", "--policy", "card-till"), Lines: 9, More: "briskwarden describe" + book + " --by group"},
		{Title: "See who gets where", Why: "Who can open the till now, and what are they asked for?",
			Command: words("reach", "--app", "card-till"), Lines: 9, More: "briskwarden reach" + book},
		{Title: "Predict", Why: "What happens to one person from several places and at several hours?", Scenes: true,
			More: "briskwarden rehearse" + book +
				" --account ingrid@kestrelsound.example --app card-till --ip 198.51.100.200 --country BR --proved password --until-granted"},
		{Title: "Keep what must hold", Why: "A book keeps its own tests, and reports which changes they would not notice.",
			Command: words("drill", "--mutate"), Lines: 19, More: "briskwarden drill" + book + " --format junit"},
		{Title: "Try it on what happened", Why: "What does the book do to a month of sign-ons, with six troubles in it?",
			Command: append(
				words("replay"),
				HistoryFile,
			), Lines: 13, More: "briskwarden replay" + book + " --set risk.levels.medium=20,40,60 " + HistoryFile},
		{Title: "Weigh a change", Why: "Somebody proposes to open the till at all hours, and to let machines in from the depot alone.",
			Command: []string{"compare", Folder, ProposedFolder, "--history", HistoryFile, "--fail-on", "locked-out"}, Lines: 28,
			More: "briskwarden compare " + Folder + " " + ProposedFolder + " --history " + HistoryFile + " --examples stopped"},
		{Title: "Announce", Why: "Who has enrolled nothing yet, and would be locked out on the day?",
			Command: words("readiness", "--on", "2026-12-12"), Lines: 12, More: "briskwarden readiness" + book + " --format csv"},
		{Title: "Guard consent", Why: "Which outside programs were let in, and how dangerous is each?",
			Command: words("consent", "register"), Lines: 12, More: "briskwarden consent strays" + book},
	}
}
