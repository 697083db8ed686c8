// Package schema publishes the JSON Schemas (draft 2020-12) of what the project
// reads and writes, so that editors complete and programs check. They are made
// from the types that read and write.
package schema

import (
	"fmt"
	"reflect"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/admin/explain"
	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/admin/reach"
	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/admin/start"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/forms"
	"github.com/briskwarden/briskwarden/internal/jsonschema"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/watch/letter"
)

// Document is something that has a schema.
type Document struct {
	Name  string `json:"name" doc:"the name to ask for the schema by"`
	About string `json:"about" doc:"what it is the schema of"`
	write func() []byte
}

// Documents returns all that have a schema, those that people write first.
func Documents() []Document {
	return []Document{
		{"book", "a file of a book (YAML)", book.Schema},
		{"door", "the configuration of the door (YAML), for serve", door.Schema},
		{"attempt", "an attempt, as rehearse --attempt takes it", of[attempt.Attempt]("An attempt")},
		{"decision", "a decision on an attempt", of[decide.Decision]("A decision")},
		{"rehearsal", "what rehearse --json prints: a decision and more", of[rehearse.Report]("A rehearsal")},
		{"inspection", "what inspect --json prints", of[inspect.Report]("An inspection")},
		{"description", "what describe --json prints", of[describe.Document]("A description")},
		{"account-reach", "what reach --account --json prints", of[reach.AccountReach]("What an account can open")},
		{"app-reach", "what reach --app --json prints", of[reach.AppReach]("Who can open an app")},
		{"matrix", "what reach --json prints", of[reach.Matrix]("Groups by apps")},
		{"drills", "what drill --json prints", of[drill.Report]("What came of the drills")},
		{"replay", "what replay --json prints", of[replay.Report]("What a history came to")},
		{"replay-list", "what replay --list --json prints", of[replay.List]("Attempts of a history")},
		{"trials", "what replay --set --json prints", of[replay.Trials]("What a history came to with several values")},
		{"comparison", "what compare --json prints", of[compare.Report]("What changed between two books")},
		{"readiness", "what readiness --json prints", of[readiness.Report]("How ready people are")},
		{"consent-decision", "what consent rehearse --json prints", of[consent.Decision]("A decision on what an outside program asks for")},
		{"consent-answer", "what consent ask --json prints", of[acts.Answer]("What became of asking")},
		{"consent-queue", "what consent queue --json prints", of[acts.Queued]("What waits for a reviewer")},
		{"consent-register", "what consent register --json prints", of[acts.Registered]("Outside programs, graded")},
		{"consent-strays", "what consent strays --json prints", of[acts.Strayed]("Grants that today's rules would not allow")},
		{"consent-checkpoint", "what consent checkpoint --json prints", of[acts.Signed]("A signed checkpoint of the record")},
		{"consent-key", "what consent key --json prints", of[acts.PublicKey]("The public key of a new pair")},
		{"consent-acts", "what consent acts --json prints, and each act of a reviewer", of[acts.Record]("Acts on record")},
		{"journal", "what journal list --json prints", of[evidence.List]("Entries of a journal")},
		{
			"journal-history",
			"what journal list --history --json prints",
			of[evidence.HistoryList]("Attempts of a history, as a book judges them"),
		},
		{"journal-pruning", "what journal prune --json prints", of[journal.Pruning]("What was taken out of a journal")},
		{"journal-decision", "what journal show --json prints", of[evidence.Decision]("A decision of a journal")},
		{"journal-verification", "what journal verify --json prints", of[evidence.Verification]("What came of verifying a journal")},
		{"proof", "what prove --json prints", of[prove.Report]("What came of guarantees")},
		{"letter", "what a web hook of the watch is told", of[letter.Letter]("What an alert or a digest tells")},
		{"report", "what report --json prints", of[report.Report]("What came of a stretch of time")},
		{"serve-check", "what serve check --json prints", of[service.Checked]("What would keep a door from starting")},
		{"explanation", "what explain --json prints", of[explain.Report]("Words of the language of books")},
		{"started", "what start --json prints", of[start.Report]("A new book")},
	}
}

// Of returns the schema of a document, as JSON. The error suggests the nearest
// name.
func Of(name string) ([]byte, error) {
	var names []string
	for _, d := range Documents() {
		if d.Name == name {
			return d.write(), nil
		}
		names = append(names, d.Name)
	}
	return nil, fmt.Errorf("there is no schema %q%s", name, nearest.DidYouMean(name, names))
}

func of[T any](title string) func() []byte {
	return func() []byte { return jsonschema.Of(reflect.TypeFor[T](), title, types).Encode() }
}

// types are those that are written in a form of their own: those of the core, and those of what an
// administrator does.
var types = forms.With(jsonschema.Types{
	reflect.TypeFor[readiness.Status](): words(readiness.Statuses()),
	reflect.TypeFor[acts.Kind]():        words(acts.Kinds()),
	reflect.TypeFor[acts.State]():       words(acts.States()),
	reflect.TypeFor[compare.Effect]():   jsonschema.Words(compare.Effects()...),
	reflect.TypeFor[inspect.Severity](): jsonschema.Words(inspect.Severities()...),
	reflect.TypeFor[prove.State]():      jsonschema.Words(prove.States()...),
})

func words[T ~string](list []T) *jsonschema.Schema { return forms.Words(list) }
