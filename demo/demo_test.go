package demo_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
)

// TestTheBookUsesEverything holds the demo's book against what a book can say:
// each key of each section is used at least once, each key of the conditions,
// each detector and each kind of demand.
func TestTheBookUsesEverything(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	used := map[string]bool{}
	conditions := map[condition.Key]bool{}
	look(reflect.ValueOf(b.Sections), "book", used, conditions)
	used["book.Settings.Directory"] = true // inside is the default, and written out
	for field, is := range used {
		require.True(t, is, "%s is never used", field)
	}
	for _, key := range condition.Keys() {
		if key == engine.KeyEvery {
			continue // `apps: every` is the short form of it
		}
		require.True(t, conditions[key], "the condition %s is never used", key)
	}
	for _, word := range risk.Detectors() {
		require.True(
			t,
			slices.ContainsFunc(b.Risk.Signals, func(s risk.Signal) bool { return s.Detect.String() == word }),
			"%s is never used",
			word,
		)
	}
	require.True(t, slices.ContainsFunc(b.Policies, func(p decide.Policy) bool {
		return slices.ContainsFunc(p.Rules, func(r decide.Rule) bool {
			return slices.ContainsFunc(r.Then.Require, func(r decide.Requirement) bool { return len(r.OneOf) > 1 })
		})
	}), "one_of is never used")
}

// look notes for each tagged field whether it is ever set, and the keys of
// conditions.
func look(v reflect.Value, path string, used map[string]bool, keys map[condition.Key]bool) {
	switch v.Kind() {
	case reflect.Interface, reflect.Pointer:
		if node, ok := v.Interface().(condition.Node); ok {
			condition.Walk(node, func(n condition.Node) bool {
				if test, ok := n.(*condition.Test); ok {
					keys[test.Key] = true
				}
				return true
			})
		} else if !v.IsNil() {
			look(v.Elem(), path, used, keys)
		}
	case reflect.Slice:
		for i := range v.Len() {
			look(v.Index(i), path, used, keys)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if tag := v.Type().Field(i).Tag.Get("book"); tag != "" && tag != "-" {
				field := v.Type().String() + "." + v.Type().Field(i).Name
				used[field] = used[field] || !v.Field(i).IsZero() || field == "book.Settings.Otherwise" ||
					field == "consent.Scheme.OwnRequests" // whose zero values are meant
				look(v.Field(i), field, used, keys)
			}
		}
	}
}

func TestThePlacesAreAsGenerated(t *testing.T) {
	made := filepath.Join(t.TempDir(), "places.mmdb")
	out, err := exec.Command("go", "run", "./places", made).CombinedOutput()
	require.NoError(t, err, string(out))
	want, err := os.ReadFile(made)
	require.NoError(t, err)
	got, err := fs.ReadFile(demo.Files(), "places.mmdb")
	require.NoError(t, err)
	require.Equal(t, want, got, "run go generate ./demo")
}

func TestABrokenDatabaseIsAnErrorOfTheBook(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	for name, want := range map[string]string{
		"places.mmdb": "is no MMDB file", "missing.mmdb": "the file cannot be read", "../x.mmdb": "names a file in the book's folder",
	} {
		t.Run(name, func(t *testing.T) {
			write("places.mmdb", "these are no places")
			write("book.yaml", "briskwarden: 1\nsettings: {ip_database: "+name+"}\n")
			_, err := book.Open(dir, book.WithDatabase(mmdb.Locator))
			require.ErrorContains(t, err, want)
			require.ErrorContains(t, err, "book.yaml:2:12: ")
		})
	}
}

// TestTheHiddenTroubles: replay finds each trouble of the month where it should.
func TestTheHiddenTroubles(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	require.Equal(t, demo.History(), demo.History(), "the month is always the same")
	replayed := func(keep func(*attempt.Attempt) bool) *replay.Report {
		var text bytes.Buffer
		for _, a := range demo.History() {
			if keep(a) {
				require.NoError(t, json.NewEncoder(&text).Encode(a))
			}
		}
		source := replay.Source{Name: "month", Open: func() (io.ReadCloser, error) { return io.NopCloser(&text), nil }}
		r, err := replay.Run(context.Background(), judge, []replay.Source{source}, replay.Options{})
		require.NoError(t, err)
		require.Zero(t, r.BadAll)
		return r
	}
	month := replayed(func(*attempt.Attempt) bool { return true })
	require.Equal(t, int64(len(demo.History())), month.Attempts)
	for rule, least := range map[string]int64{
		"account-risk/leaked": 100, "administrators/uneasy": 1, "card-till/shut": 10, "machines/from-the-depot": 60, "yard-hands/elsewhere": 5,
	} {
		t.Run(fmt.Sprint(rule), func(t *testing.T) {
			i := slices.IndexFunc(month.Rules, func(r replay.RuleCount) bool { return r.Policy+"/"+r.Rule == rule })
			require.GreaterOrEqual(t, i, 0, rule)
			require.GreaterOrEqual(t, month.Rules[i].Asked+month.Rules[i].Blocks, least, rule)
		})
	}
	for _, account := range []string{"kiosk-pier-2", "oskar@kestrelsound.example", "marek@gdansk-yard.example", "nina@kestrelsound.example"} {
		require.True(t, slices.ContainsFunc(month.Stopped, func(c replay.NamedCount) bool { return c.Name == account }), account)
	}
	sprayed := replayed(func(a *attempt.Attempt) bool { return a.App == "mail" && len(a.Failed) > 0 })
	require.Zero(t, sprayed.Verdicts.Grant)
	require.Greater(t, sprayed.Attempts, int64(90))
}
