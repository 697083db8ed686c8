// Package report sums up a stretch of time for the one who watches: what was decided, who was stopped
// and by what, what had a risk, whether people can still work, and what to do first. It counts what a
// journal says, or a history as a book judges it, and writes nothing.
package report

import (
	"time"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/directory"
)

// Report is what came of a stretch of time.
type Report struct {
	// Basis says how much of a history was judged; it is nil where the report is of a journal.
	Basis *replay.Basis `json:"basis,omitempty" doc:"how much of a history was judged; absent for a journal"`
	Book  string        `json:"book" doc:"digest of the book"`
	Zone  string        `json:"zone" doc:"the time zone of days and hours"`
	Made  time.Time     `json:"made" doc:"when the report was made"`
	// From and To bound the stretch, zero where they were not given; First and Last are the decisions at
	// its ends.
	From  time.Time `json:"from,omitzero" doc:"the beginning that was asked for"`
	To    time.Time `json:"to,omitzero" doc:"the end that was asked for"`
	First time.Time `json:"first,omitzero" doc:"the time of the earliest decision"`
	Last  time.Time `json:"last,omitzero" doc:"the time of the latest decision"`
	// Happened, Wrong and Do are the three sentences at its beginning.
	Happened string `json:"happened" doc:"what happened, in a sentence"`
	Wrong    string `json:"wrong" doc:"what is wrong, in a sentence"`
	Do       string `json:"do" doc:"what to do first, in a sentence"`

	Verdicts replay.Counts `json:"verdicts" doc:"how many decisions came to what"`
	Shadow   replay.Counts `json:"with_shadow" doc:"the same were the shadow policies live"`
	Accounts int           `json:"accounts" doc:"how many accounts made attempts"`
	// Troubles are what looks wrong, the worst first.
	Troubles []Trouble `json:"troubles" doc:"what looks wrong, the worst first"`

	Days    []Day               `json:"days" doc:"by day"`
	Hours   [24]replay.Counts   `json:"hours" doc:"by hour of the day"`
	Rules   []Rule              `json:"rules" doc:"the rules that stopped or asked, those that did most first"`
	Stopped []Person            `json:"stopped" doc:"the accounts that were stopped most"`
	Apps    []replay.NamedCount `json:"apps" doc:"by app"`

	Countries []replay.NamedCount `json:"countries" doc:"by country, as far as it is known"`
	Methods   []Method            `json:"methods" doc:"how often each method was proven"`
	Addresses []Address           `json:"addresses" doc:"addresses from which several accounts were stopped, and few let in"`

	AccountsWithRisk []AccountWithRisk `json:"accounts_with_risk" doc:"accounts with attempts at medium risk or higher, the gravest first"`
	AttemptsWithRisk []AttemptWithRisk `json:"attempts_with_risk" doc:"attempts at medium risk or higher, the gravest first"`
	// AccountsBefore and AttemptsBefore are the same under the keys that they had before, until the next version.
	AccountsBefore []AccountWithRisk `json:"risky_accounts" doc:"accounts_with_risk under the key that it had before"`
	AttemptsBefore []AttemptWithRisk `json:"risky_sign_ins" doc:"attempts_with_risk under the key that it had before"`
	Noticed        []Noticing        `json:"noticed" doc:"how often each signal was noticed"`
	// NoticedBefore is the same under the key that it had before, until the next version.
	NoticedBefore []Noticing `json:"detections" doc:"noticed under the key that it had before"`
	Standing      []Standing `json:"standing_risk" doc:"accounts with a standing risk"`

	Work Work `json:"work" doc:"whether people can work"`

	Rollouts   []Rollout    `json:"rollouts" doc:"who is enrolled"`
	Exemptions []Exemption  `json:"exemptions" doc:"exemptions, with their ends and their use"`
	Programs   []acts.Entry `json:"programs" doc:"outside programs, the most dangerous first"`

	Score *Score `json:"score,omitempty" doc:"the score of inspect"`
	// Next lists what to do, with a command for each.
	Next []Step `json:"next" doc:"what to do, the most urgent first"`
	// Plots are what is drawn, with the very numbers.
	Plots []Plot `json:"plots" doc:"what is drawn, with the very numbers"`

	zone   *time.Location
	source Source
}

// Trouble is something that looks wrong.
type Trouble struct {
	Text string `json:"text" doc:"what it is, in a sentence"`
	// Do is what to do about it.
	Do      string    `json:"do" doc:"what to do about it"`
	Since   time.Time `json:"since" doc:"when it was seen first"`
	Last    time.Time `json:"last" doc:"when it was seen last"`
	Command string    `json:"command" doc:"the command that shows what is behind it"`

	weight int
}

// Day is what a day came to.
type Day struct {
	Date   string        `json:"date" doc:"the day"`
	Counts replay.Counts `json:"counts" doc:"how many decisions came to what"`
}

// Rule is what a rule did.
type Rule struct {
	replay.RuleCount
	Accounts int    `json:"accounts" doc:"to how many accounts"`
	Command  string `json:"command" doc:"the command that shows what is behind it"`
}

// Person is an account that was stopped.
type Person struct {
	Account string        `json:"account" doc:"the account"`
	Counts  replay.Counts `json:"counts" doc:"what its attempts came to"`
	// own is how often it was stopped, without what came from addresses from which many accounts were
	// tried.
	own int64
	// Rule is what stopped it most.
	Policy  string    `json:"policy,omitzero" doc:"the policy that stopped it most"`
	Rule    string    `json:"rule" doc:"the rule that stopped it most, or the cause where no rule was the reason"`
	First   time.Time `json:"first" doc:"when it was stopped first"`
	Last    time.Time `json:"last" doc:"when it was stopped last"`
	Granted time.Time `json:"granted,omitzero" doc:"when it was let in last, absent where it was not"`
	Command string    `json:"command" doc:"the command that shows what is behind it"`
}

// Method is how often a method was proven.
type Method struct {
	Name     string `json:"name" doc:"the method"`
	Times    int64  `json:"times" doc:"in how many attempts it was proven"`
	Accounts int    `json:"accounts" doc:"by how many accounts"`
}

// Address is one from which several accounts were stopped, and few let in.
type Address struct {
	IP       string    `json:"ip" doc:"the address"`
	Stopped  int64     `json:"stopped" doc:"how many attempts were stopped"`
	Granted  int64     `json:"granted" doc:"how many were granted"`
	Accounts int       `json:"accounts" doc:"of how many accounts"`
	First    time.Time `json:"first" doc:"the time of the first"`
	Last     time.Time `json:"last" doc:"the time of the last"`
	Command  string    `json:"command" doc:"the command that shows what is behind it"`
}

// AccountWithRisk is an account with attempts at medium risk or higher.
type AccountWithRisk struct {
	Account  string          `json:"account" doc:"the account"`
	Level    directory.Level `json:"level" doc:"the highest level"`
	Signals  []string        `json:"signals" doc:"what was noticed"`
	Attempts int64           `json:"attempts" doc:"how many attempts at medium risk or higher"`
	Granted  int64           `json:"granted" doc:"how many of them were granted"`
	Since    time.Time       `json:"since" doc:"the time of the first"`
	Last     time.Time       `json:"last" doc:"the time of the last"`
	// PutRight says that its password was changed after the last of them.
	PutRight bool   `json:"put_right" doc:"true where its password was changed after the last"`
	Command  string `json:"command" doc:"the command that shows what is behind it"`

	// own is the same without what came from addresses from which many accounts were tried.
	own *AccountWithRisk
	// machine says that nobody sits behind the account, and granted is when it was let in last.
	machine bool
	letIn   time.Time
}

// AttemptWithRisk is one attempt at medium risk or higher.
type AttemptWithRisk struct {
	At      time.Time       `json:"at" doc:"when"`
	Account string          `json:"account" doc:"the account"`
	App     string          `json:"app" doc:"the app"`
	IP      string          `json:"ip,omitzero" doc:"the address"`
	Country string          `json:"country,omitzero" doc:"the country, as it was judged"`
	Level   directory.Level `json:"level" doc:"the level"`
	Score   int             `json:"score" doc:"the score"`
	Signals []string        `json:"signals" doc:"what was noticed"`
	Verdict string          `json:"verdict" doc:"what it came to"`
}

// Noticing is how often a signal held.
type Noticing struct {
	Signal   string `json:"signal" doc:"the signal"`
	Times    int64  `json:"times" doc:"how often it held"`
	Accounts int    `json:"accounts" doc:"of how many accounts"`
	Granted  int64  `json:"granted" doc:"how often the attempt was granted all the same"`
}

// Standing is the standing risk of an account.
type Standing struct {
	Account string          `json:"account" doc:"the account"`
	Level   directory.Level `json:"level" doc:"the level"`
	Because string          `json:"because,omitzero" doc:"the reason"`
	Since   *time.Time      `json:"since,omitempty" doc:"when it arose"`
	// PutRight says that a password changed since puts it right.
	PutRight bool `json:"put_right" doc:"true where a password changed since puts it right"`
}

// Work says whether people can work.
type Work struct {
	// PersonDays is how many days there are on which an account made attempts, of all accounts together.
	PersonDays int64 `json:"person_days" doc:"days with attempts, of all accounts together"`
	// Prompts is how many step-ups there were on such a day.
	Prompts Spread `json:"prompts" doc:"step-ups for each account and day with attempts"`
	// Grants are all grants, FirstTry those before which the account was not stopped at the same app
	// within ten minutes, and CameBack the others.
	Grants   int64 `json:"grants" doc:"how many grants there were"`
	FirstTry int64 `json:"first_try" doc:"grants at the first try"`
	CameBack int64 `json:"came_back" doc:"grants within ten minutes of being stopped at the same app"`
	// Asked are the accounts that were asked most on one day.
	Asked []Asked `json:"asked" doc:"the accounts that were asked most on one day"`
}

// Spread is how numbers are spread.
type Spread struct {
	Mean   float64 `json:"mean" doc:"the mean"`
	Median int     `json:"median" doc:"the median"`
	P95    int     `json:"p95" doc:"95 of 100 are at most this"`
	Worst  int     `json:"worst" doc:"the highest"`
}

// Asked is an account on a day on which it was asked often.
type Asked struct {
	Account string `json:"account" doc:"the account"`
	Date    string `json:"date" doc:"the day"`
	Prompts int    `json:"prompts" doc:"how often it was asked for more"`
	Command string `json:"command" doc:"the command that shows what is behind it"`
}

// Rollout is who is enrolled, and who was let in without being so.
type Rollout struct {
	Name     string            `json:"name" doc:"the rollout"`
	Enforced directory.Date    `json:"enforced" doc:"the day from which it is demanded"`
	DaysLeft int               `json:"days_left" doc:"days until then; below 0 where it is past"`
	Counts   readiness.Counts  `json:"counts" doc:"how many stand how"`
	Groups   []readiness.Group `json:"groups" doc:"the same by group"`
	// Enrolled counts for each day those who have enrolled: an account counts from the day on after the
	// last on which it was let in without.
	Enrolled []DayCount `json:"enrolled" doc:"by day, accounts that have enrolled, as far as sign-ins show"`
	// Eased counts for each day the accounts that it let in though they are not enrolled.
	Eased []DayCount `json:"eased" doc:"by day, accounts that were let in though they are not enrolled"`
	// Left are those who are not ready, the worst first.
	Left    []readiness.Account `json:"left" doc:"those who are not ready, the worst first"`
	Command string              `json:"command" doc:"the command that shows who is left"`
}

// DayCount is a number for a day.
type DayCount struct {
	Date  string `json:"date" doc:"the day"`
	Count int    `json:"count" doc:"the number"`
}

// Exemption is an exemption with its use.
type Exemption struct {
	Name    string          `json:"name" doc:"the exemption"`
	From    []string        `json:"from" doc:"the assurances that are not asked"`
	Because string          `json:"because" doc:"the reason"`
	Until   *directory.Date `json:"until,omitempty" doc:"its last day; absent where it has no end"`
	Times   int64           `json:"times" doc:"how often it took demands away"`
	Last    time.Time       `json:"last,omitzero" doc:"when it did last"`
	Ended   bool            `json:"ended" doc:"true where its last day is past"`
}

// Score is that of inspect, now and as it moved.
type Score struct {
	Reached  int                `json:"reached" doc:"points reached"`
	Possible int                `json:"possible" doc:"points possible"`
	Brings   []inspect.OpenItem `json:"brings" doc:"what brings most"`
	// Moved is what it was for each book that a door took into force, in order; none for a history.
	Moved []ScoreAt `json:"moved" doc:"what it was for each book that a door took into force"`
}

// ScoreAt is the score of a book that was taken into force.
type ScoreAt struct {
	At       time.Time `json:"at" doc:"when it was inspected"`
	Book     string    `json:"book" doc:"digest of the book"`
	Reached  int       `json:"reached" doc:"points reached"`
	Possible int       `json:"possible" doc:"points possible"`
}

// Step is something to do.
type Step struct {
	Text    string `json:"text" doc:"what to do"`
	Command string `json:"command,omitzero" doc:"the command for it"`
}

// Plot is numbers that are drawn: for each label one bar, made of the series one on the other.
type Plot struct {
	Name   string   `json:"name" doc:"its name in the document"`
	Title  string   `json:"title" doc:"what it shows"`
	Labels []string `json:"labels" doc:"what stands below each bar"`
	Series []Series `json:"series" doc:"the parts of each bar, from the bottom"`
}

// Series is one part of each bar.
type Series struct {
	Name   string  `json:"name" doc:"what it counts"`
	Values []int64 `json:"values" doc:"the numbers, one for each label"`
}
