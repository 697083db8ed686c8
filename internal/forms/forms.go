// Package forms has the JSON Schemas of the core's types that are written in a form of their own,
// for a package that publishes the schema of a document with them.
package forms

import (
	"encoding/json"
	"maps"
	"net/netip"
	"reflect"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/jsonschema"
	"github.com/briskwarden/briskwarden/journal"
)

// span is the wire form of a length of time: 4h, 90m, 45s.
const span = `^\d+[hms]$`

var types = jsonschema.Types{
	reflect.TypeFor[netip.Addr]():            jsonschema.Text().Describe("an IPv4 or IPv6 address"),
	reflect.TypeFor[attempt.CountryCode]():   jsonschema.Matching(`^[A-Z]{2}$`),
	reflect.TypeFor[attempt.Action]():        jsonschema.Words(attempt.Actions()...),
	reflect.TypeFor[attempt.Through]():       jsonschema.Words(attempt.Throughs()...),
	reflect.TypeFor[attempt.FailureReason](): jsonschema.Words(attempt.FailureReasons()...),
	reflect.TypeFor[attempt.CheckResult]():   jsonschema.Words(attempt.CheckResults()...),
	reflect.TypeFor[attempt.Scalar]():        {Type: []string{"boolean", "number", "string", "null"}},
	reflect.TypeFor[condition.Truth]():       jsonschema.Words("true", "false", "unknown"),
	reflect.TypeFor[decide.Verdict]():        jsonschema.Words(decide.Verdicts()...),
	reflect.TypeFor[decide.Stage]():          jsonschema.Words(decide.Stages()...),
	reflect.TypeFor[decide.OutcomeKind]():    jsonschema.Words(decide.OutcomeKinds()...),
	reflect.TypeFor[decide.CauseCode]():      Words(decide.CauseCodes()),
	reflect.TypeFor[decide.NoticeCode]():     Words(decide.NoticeCodes()),
	reflect.TypeFor[decide.DemandKind]():     jsonschema.Words(decide.DemandKinds()...),
	reflect.TypeFor[journal.Kind]():          jsonschema.Words(journal.Kinds()...),
	reflect.TypeFor[decide.Within]():         jsonschema.Matching(`^now$|^session$|` + span),
	reflect.TypeFor[directory.Span]():        jsonschema.Matching(span),
	reflect.TypeFor[directory.Level]():       jsonschema.Words(directory.Levels()...),
	reflect.TypeFor[directory.Date]():        {Type: "string", Format: "date"},
	reflect.TypeFor[directory.Kind]():        jsonschema.Words(directory.Kinds()...),
	reflect.TypeFor[consent.Outcome]():       jsonschema.Words(consent.Outcomes()...),
	reflect.TypeFor[consent.Standing]():      jsonschema.Words(consent.Standings()...),
	reflect.TypeFor[consent.CauseCode]():     Words(consent.CauseCodes()),
	reflect.TypeFor[json.RawMessage]():       {},
}

// With returns the forms of the core's types and others.
func With(more jsonschema.Types) jsonschema.Types {
	all := maps.Clone(types)
	maps.Copy(all, more)
	return all
}

// Words is one of a closed list of words.
func Words[T ~string](list []T) *jsonschema.Schema {
	texts := make([]string, len(list))
	for i, word := range list {
		texts[i] = string(word)
	}
	return jsonschema.Words(texts...)
}
