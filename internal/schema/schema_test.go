package schema_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden"
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
	sums "github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/admin/start"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/schema"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/synth"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch/letter"
	"github.com/briskwarden/briskwarden/watch/lookout"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// compiled returns the schema of a document, ready to validate.
func compiled(t *testing.T, name string) *jsonschema.Schema {
	t.Helper()
	text, err := schema.Of(name)
	require.NoError(t, err)
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(t, c.AddResource("schema.json", document))
	s, err := c.Compile("schema.json")
	require.NoError(t, err, name)
	return s
}

// validate holds a value against a schema as encoding/json writes it.
func validate(t require.TestingT, s *jsonschema.Schema, value any) error {
	text, err := json.Marshal(value)
	require.NoError(t, err)
	instance, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	return s.Validate(instance)
}

// instance makes of YAML what an editor checks: dates are texts, as in the YAML
// 1.2 core schema.
func instance(t require.TestingT, n *yaml.Node) any {
	switch n.Kind {
	case yaml.DocumentNode:
		return instance(t, n.Content[0])
	case yaml.AliasNode:
		return instance(t, n.Alias)
	case yaml.SequenceNode:
		list := []any{}
		for _, item := range n.Content {
			list = append(list, instance(t, item))
		}
		return list
	case yaml.MappingNode:
		object := map[string]any{}
		for i := 0; i < len(n.Content); i += 2 {
			object[n.Content[i].Value] = instance(t, n.Content[i+1])
		}
		return object
	}
	if n.ShortTag() == "!!timestamp" {
		return n.Value
	}
	var value any
	require.NoError(t, n.Decode(&value))
	if text, ok := value.(string); ok {
		return text
	}
	encoded, err := json.Marshal(value)
	require.NoError(t, err)
	value, err = jsonschema.UnmarshalJSON(bytes.NewReader(encoded))
	require.NoError(t, err)
	return value
}

func yamlOf(t require.TestingT, text []byte) any {
	var document yaml.Node
	require.NoError(t, yaml.Unmarshal(text, &document))
	return instance(t, &document)
}

var yamlBlock = regexp.MustCompile("(?s)```yaml\n(.*?)```")

// TestEveryExampleOfABook holds the demo, the faulty demo, a new book and the
// README's examples against the book's schema.
func TestEveryExampleOfABook(t *testing.T) {
	s := compiled(t, "book")
	layout, err := start.New(start.Request{Today: monday, People: []byte("name,methods\nliv,password\n"), PeopleFile: "people.csv"})
	require.NoError(t, err)
	checked := 0
	for name, files := range map[string]fs.FS{"demo": demo.Files(), "faulty": demo.FaultyFiles(), "start": layout.Files} {
		t.Run(fmt.Sprint(name), func(t *testing.T) {
			names, err := fs.Glob(files, "*.yaml")
			require.NoError(t, err)
			for _, file := range names {
				text, err := fs.ReadFile(files, file)
				require.NoError(t, err)
				require.NoError(t, s.Validate(yamlOf(t, text)), "%s/%s", name, file)
				checked++
			}
		})
	}
	readme, err := os.ReadFile(filepath.Join("..", "..", "README.md"))
	require.NoError(t, err)
	for _, block := range yamlBlock.FindAllSubmatch(readme, -1) {
		require.NoError(t, s.Validate(yamlOf(t, block[1])), "README")
		checked++
	}
	require.Greater(t, checked, 15)
}

func TestGeneratedBooksFitTheSchema(t *testing.T) {
	s := compiled(t, "book")
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		for name, text := range synth.Small(chance, 8).Files(chance, 2) {
			require.NoError(t, s.Validate(yamlOf(t, []byte(text))), "%s:\n%s", name, text)
		}
	})
}

// TestWhatTheReaderRefusesTheSchemaRefuses: of mistakes of form, not of
// references.
func TestWhatTheReaderRefusesTheSchemaRefuses(t *testing.T) {
	s := compiled(t, "book")
	for _, text := range []string{
		"accounts: []", "briskwarden: 2", "briskwarden: 1\npolicy: []", "briskwarden: 1\naccounts: [{name: a, grops: [g]}]",
		"briskwarden: 1\napps: [{tags: [x]}]",
		"briskwarden: 1\napps: [{name: 'a b'}]", "briskwarden: 1\nsettings: {otherwise: blok}", "briskwarden: 1\nwindows: {w: {from: 5}}",
		"briskwarden: 1\nwindows: {w: {days: [frid]}}",
		"briskwarden: 1\nregions: {r: [Norway]}", "briskwarden: 1\nnetworks: {n: {ours: true}}",
		"briskwarden: 1\nrisk: {signals: [{name: s, detect: trvel, points: 1}]}",
		"briskwarden: 1\npolicies: [{name: p, stage: live, who: anybody, apps: every, rules: []}]",
		"briskwarden: 1\npolicies: [{name: p, stage: live, who: {every: true}, apps: every, rules: []}]",
		"briskwarden: 1\npolicies: [{name: p, stage: live, who: {}, apps: every, rules: []}]",
		"briskwarden: 1\npolicies: [{name: p, stage: live, who: {kinds: [human]}, apps: every, rules: []}]",
		"briskwarden: 1\npolicies: [{name: p, stage: live, who: {share: 101}, apps: every, rules: []}]",
		"briskwarden: 1\npolicies: [{name: p, stage: live, who: {joined_within: soon}, apps: every, rules: []}]",
		"briskwarden: 1\npolicies: [{name: p, stage: live, who: anyone, apps: every, rules: [{name: r, then: {ask: [x]}}]}]",
		"briskwarden: 1\naccepted: [{name: x, because: y}]",
	} {
		require.Error(t, s.Validate(yamlOf(t, []byte(text))), text)
		_, err := book.OpenFS(fstest.MapFS{"x.yaml": {Data: []byte(text)}})
		require.Error(t, err, text)
	}
}

// sample is the attempt of the design's wire form.
const sample = `{"id": "a-17", "at": "2026-11-23T21:14:00Z", "account": "ingrid@kestrelsound.example", "app": "card-till", "action": "sign-in",
 "ip": "198.51.100.70", "country": "NO", "location": {"lat": 59.9, "lon": 10.7}, "through": "browser",
 "device": {"id": "till-04", "platform": "windows", "managed": true, "known": true, "tags": ["till"],
            "facts": {"firewall": true, "os_version": "10.0.22631", "patch_age_days": 12}, "reported_at": "2026-11-23T18:00:00Z",
            "remembered": [{"account": "ingrid@kestrelsound.example", "method": "push", "at": "2026-09-20T07:40:00Z"}]},
 "session": {"id": "s-9", "started": "2026-11-23T20:55:00Z", "proofs": [{"method": "password", "at": "2026-11-23T20:55:00Z", "app": "mail"}]},
 "proofs": [{"method": "password", "at": "2026-11-23T21:14:00Z"}], "failed": [{"method": "otp-app", "reason": "refused"}],
 "external": {"shipyard-verifier": "passed"}, "accepted": [{"document": "crew-handbook", "version": 3, "at": "2026-02-01T08:00:00Z"}],
 "signals": [], "previous": null}`

func TestAttempts(t *testing.T) {
	s := compiled(t, "attempt")
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(sample))
	require.NoError(t, err)
	require.NoError(t, s.Validate(document))
	for _, scene := range demo.Scenes() {
		require.NoError(t, validate(t, s, scene.Attempt), scene.Title)
	}
	for _, wrong := range [][2]string{{`"account"`, `"acount"`}, {`"NO"`, `"Norway"`}, {`"browser"`, `"pipe"`}, {`"refused"`, `"late"`}, {
		`"2026-11-23T21:14:00Z", "account"`, `"today", "account"`}, {`true, "known"`, `"yes", "known"`}} {
		text := strings.Replace(sample, wrong[0], wrong[1], 1)
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		require.NoError(t, err)
		require.Error(t, s.Validate(document), wrong[1])
		require.Error(t, attempt.Parse([]byte(text), new(attempt.Attempt), attempt.Options{}), "the reader refuses it too: %s", wrong[1])
	}
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		require.NoError(t, validate(t, s, synth.Attempt(chance)))
	})
}

func TestDecisions(t *testing.T) {
	s := compiled(t, "decision")
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 6)
		for range 20 {
			require.NoError(t, validate(t, s, judge.Decide(context.Background(), synth.Attempt(chance))))
		}
	})
}

func mustConsent(t *testing.T, b *book.Book, judge *engine.Judge) *consent.Judge {
	consents, err := b.CompileConsent(judge)
	require.NoError(t, err)
	return consents
}

// TestWhatTheCommandsPrint holds what each command prints on the demo's book
// against its schema.
func TestWhatTheCommandsPrint(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	check := func(name string, value any) {
		t.Helper()
		require.NoError(t, validate(t, compiled(t, name), value), name)
		require.Error(t, validate(t, compiled(t, name), map[string]any{"other": 1}), "%s refuses other documents", name)
	}
	report := rehearse.Rehearse(judge, &demo.Scenes()[4].Attempt, nil)
	report.Rehearsal.Grid, err = rehearse.Vary(judge, &demo.Scenes()[4].Attempt, []string{"country", "hour"})
	require.NoError(t, err)
	report.Rehearsal.UntilGranted, err = rehearse.UntilGranted(judge, &demo.Scenes()[4].Attempt)
	require.NoError(t, err)
	check("rehearsal", report)
	found, err := inspect.Inspect(t.Context(), b, monday)
	require.NoError(t, err)
	found.Against(found)
	check("inspection", found)
	words, err := explain.Of("policies")
	require.NoError(t, err)
	check("explanation", words)
	account, err := describe.Account(judge, "tide-gauge", monday)
	require.NoError(t, err)
	for _, doc := range []*describe.Document{account, describe.Book(judge, describe.ByPolicy, monday), describe.Book(judge, describe.ByApp,
		monday), describe.Book(judge, describe.ByGroup, monday)} {
		check("description", doc)
	}
	circumstances := reach.Circumstances{Attempt: demo.Scenes()[0].Attempt}
	apps, err := reach.OfAccount(judge, circumstances, []string{}, "ingrid@kestrelsound.example")
	require.NoError(t, err)
	check("account-reach", apps)
	accounts, err := reach.OfApp(judge, circumstances, []string{}, "mail")
	require.NoError(t, err)
	check("app-reach", accounts)
	check("matrix", reach.OfGroups(judge, circumstances, []string{}))
	layout, err := start.New(start.Request{Today: monday})
	require.NoError(t, err)
	check("started", &start.Report{Folder: "harbour", Files: []string{"harbour/people.yaml"}, Layout: layout, Inspection: found})
	for i := range b.Drills {
		if a := b.Drills[i].Attempt; a != nil {
			require.NoError(t, validate(t, compiled(t, "attempt"), a), b.Drills[i].Name)
		}
	}
	drilled := drill.Run(judge, mustConsent(t, b, judge), b.Drills)
	drilled.Mutations, err = drill.Mutate(
		drill.Book{Rulebook: b.Rulebook(), Consent: b.Consent, Tiers: b.Scopes, Clients: b.Clients},
		b.Drills,
	)
	require.NoError(t, err)
	check("drills", drilled)
	ready, err := readiness.Of(judge, "", nil, monday)
	require.NoError(t, err)
	check("readiness", ready)
	line, err := json.Marshal(&demo.Scenes()[0].Attempt)
	require.NoError(t, err)
	history := replay.Source{Name: "history", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(append(line, "\nno attempt"...))), nil
	}}
	replayed, err := replay.Run(context.Background(), judge, []replay.Source{history}, replay.Options{})
	require.NoError(t, err)
	check("replay", replayed)
	listed, err := replay.ListOf(context.Background(), judge, []replay.Source{history}, replay.Options{}, replay.Filter{})
	require.NoError(t, err)
	require.Len(t, listed.Listed, 1)
	check("replay-list", listed)
	check("trials", replay.Trials{Setting: "risk.levels.medium", Trials: []replay.Trial{{Value: "20", Report: replayed}}})
	faulty, err := book.OpenFS(demo.FaultyFiles(), book.WithDatabase(mmdb.Locator))
	require.NoError(t, err)
	compared, err := compare.Books(b, faulty, monday)
	require.NoError(t, err)
	require.NoError(t, compared.AddHistory(context.Background(), []replay.Source{history}, replay.Options{}))
	require.NotEmpty(t, compared.Changed)
	check("comparison", compared)
	consents := mustConsent(t, b, judge)
	ctx := context.Background()
	record := new(store.Memory)
	reviewers := acts.New(consents, record, "door")
	wants := consent.Request{
		At:          monday,
		Account:     "liv@kestrelsound.example",
		Client:      "crew-swap",
		Scopes:      []string{"roster.swap", "mail.read"},
		RedirectURI: "http://swap.harbourapps.example/answer",
	}
	decision, err := reviewers.Rehearse(ctx, wants)
	require.NoError(t, err)
	check("consent-decision", decision)
	answer, err := reviewers.Ask(ctx, wants, "To swap.")
	require.NoError(t, err)
	check("consent-answer", answer)
	held, err := acts.ReadImport([]byte("client_id,scope,account\ncrew-swap,openid,jonas@kestrelsound.example\n"))
	require.NoError(t, err)
	_, err = reviewers.Import(ctx, "ragna@kestrelsound.example", held, monday)
	require.NoError(t, err)
	private, public, err := journal.NewKey("kestrelsound.example/consent")
	require.NoError(t, err)
	check("consent-key", &acts.PublicKey{Public: public})
	heads, err := record.Heads(ctx)
	require.NoError(t, err)
	signed, err := journal.Checkpoint(heads, private)
	require.NoError(t, err)
	check("consent-checkpoint", &acts.Signed{Checkpoint: string(signed)})
	acted, err := reviewers.Acts(ctx, journal.Verification{Checkpoint: signed, PublicKey: public})
	require.NoError(t, err)
	require.Equal(t, &acts.Covered{Origin: "kestrelsound.example/consent", Acts: 2}, acted.Covered)
	check("consent-acts", acted)
	queue, err := reviewers.Queue(ctx, monday)
	require.NoError(t, err)
	check("consent-queue", &acts.Queued{Batches: queue})
	register, err := reviewers.Register(ctx, monday)
	require.NoError(t, err)
	holds, err := reviewers.Holds(ctx, "crew-swap", monday)
	require.NoError(t, err)
	require.NotEmpty(t, holds)
	check("consent-register", &acts.Registered{Clients: register, Grants: holds})
	strays, err := reviewers.Strays(ctx, monday)
	require.NoError(t, err)
	require.Len(t, strays, 1)
	check("consent-strays", &acts.Strayed{Grants: strays})
	_, err = schema.Of("decison")
	require.ErrorContains(t, err, `there is no schema "decison"; did you mean "decision"?`)
	kept := new(store.Memory)
	config := &door.Config{Journal: door.JournalConfig{Mode: door.JournalRequired}}
	d, err := door.New(ctx, func(o ...briskwarden.Option) (*briskwarden.Book, error) {
		return briskwarden.OpenFS(demo.Files(), append(o, briskwarden.WithDatabase(mmdb.Locator))...)
	}, kept, config, door.Options{Now: func() time.Time { return monday }})
	require.NoError(t, err)
	d.Decide(ctx, &demo.Scenes()[0].Attempt, door.Asked{Caller: "gateway"})
	require.NoError(t, d.Close())
	all := &evidence.Filter{}
	entries, err := all.ListOf(kept.Entries(ctx, all.Of()), 10)
	require.NoError(t, err)
	require.Len(t, entries.Entries, 2)
	check("journal", entries)
	entry, err := evidence.Find(ctx, kept, entries.Entries[0].ID)
	require.NoError(t, err)
	recorded, err := evidence.Read(entry)
	require.NoError(t, err)
	require.NoError(t, recorded.Compare(b))
	require.Equal(t, recorded.Verdict, recorded.Today.Verdict)
	check("journal-decision", recorded)
	verified, err := evidence.Verify(ctx, kept, journal.Verification{})
	require.NoError(t, err)
	check("journal-verification", verified)
	judged, err := all.ListHistory(ctx, judge, []replay.Source{{Name: "history.jsonl", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(`{"at":"2026-11-23T13:10:00Z","account":"ingrid@kestrelsound.example","app":"mail"}`)), nil
	}}}, replay.Options{}, 10)
	require.NoError(t, err)
	require.Len(t, judged.Entries, 1)
	check("journal-history", judged)
	summed, err := sums.OfJournal(ctx, b, kept, sums.Options{At: monday})
	require.NoError(t, err)
	check("report", summed)
	proven, err := prove.Prove(ctx, b, judge, prove.Options{From: monday, Names: []string{"till-stays-home"}})
	require.NoError(t, err)
	proven.Results[0].Attempt = &demo.Scenes()[0].Attempt
	check("proof", proven)
	digest := letter.OfDigest(&lookout.Post{To: "duty", Digest: "monday", From: monday.AddDate(0, 0, -7), Until: monday}, summed, monday,
		letter.Options{Zone: b.Settings.Zone})
	check("letter", json.RawMessage(digest.Hook()))
	rang := &lookout.Post{To: "duty", Rings: []lookout.Ring{{Alert: "a", Count: 1, Accounts: 1, Latest: []lookout.Noted{{Account: "liv"}}}}}
	check("letter", json.RawMessage(letter.OfRings(rang, &b.Watch, monday, letter.Options{Zone: b.Settings.Zone}).Hook()))
	check("journal-pruning", &journal.Pruning{Before: monday, By: "ragna@kestrelsound.example", Entries: 7})
	check("serve-check", service.Check(ctx, "nowhere", config))
	require.Len(t, schema.Documents(), 35)
	for _, d := range schema.Documents() {
		t.Run(d.Name, func(t *testing.T) { compiled(t, d.Name) })
	}
	require.NotEmpty(t, decide.CauseCodes())
}
