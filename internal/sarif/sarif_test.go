package sarif_test

import (
	"bytes"
	"encoding/json"
	"net/url"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/internal/sarif"
)

// read is what a reader of the format (OASIS SARIF 2.1.0) looks for. Whatever else
// stands in a log is an error here.
type read struct {
	Schema  string `json:"$schema"`
	Version string `json:"version"`
	Runs    []struct {
		Tool struct {
			Driver struct {
				Name  string `json:"name"`
				Rules []struct {
					ID               string  `json:"id"`
					ShortDescription message `json:"shortDescription"`
					FullDescription  message `json:"fullDescription"`
					Help             message `json:"help"`
					Default          struct {
						Level string `json:"level"`
					} `json:"defaultConfiguration"`
				} `json:"rules"`
			} `json:"driver"`
		} `json:"tool"`
		ColumnKind string `json:"columnKind"`
		Results    []struct {
			RuleID       string            `json:"ruleId"`
			RuleIndex    int               `json:"ruleIndex"`
			Level        string            `json:"level"`
			Message      message           `json:"message"`
			Fingerprints map[string]string `json:"partialFingerprints"`
			Locations    []struct {
				Physical struct {
					Artifact struct {
						URI string `json:"uri"`
					} `json:"artifactLocation"`
					Region struct {
						StartLine   int `json:"startLine"`
						StartColumn int `json:"startColumn"`
					} `json:"region"`
				} `json:"physicalLocation"`
			} `json:"locations"`
			Suppressions []struct {
				Kind, Status, Justification string
			} `json:"suppressions"`
		} `json:"results"`
	} `json:"runs"`
}

type message struct {
	Text string `json:"text"`
}

// TestALogIsReadByItsFormat holds logs against the sections of the standard that
// they use: §3.13 to §3.15, §3.19, §3.27 to §3.30, §3.35, §3.49.
func TestALogIsReadByItsFormat(t *testing.T) {
	levels := []string{"none", "note", "warning", "error"}
	faulty, err := book.OpenFS(demo.FaultyFiles(), book.WithDatabase(mmdb.Locator))
	require.NoError(t, err)
	found, err := inspect.Inspect(t.Context(), faulty, time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC))
	require.NoError(t, err)
	_, errs := book.OpenFS(fstest.MapFS{"x.yaml": {Data: []byte("briskwarden: 1\napps: [{nam: x}]\n")}})
	odd := &inspect.Report{
		Findings: []inspect.Finding{
			{
				Check:    found.Findings[0].Check,
				At:       condition.Position{File: "a book/50%#?.yaml", Line: 3, Column: 1},
				Text:     "x",
				Severity: inspect.Warning,
			},
		},
	}
	for name, r := range map[string]*inspect.Report{"faulty": found, "unreadable": inspect.Unreadable(errs.(book.Errors)), "odd names": odd} {
		t.Run(name, func(t *testing.T) {
			encoded, err := json.Marshal(sarif.Of(r))
			require.NoError(t, err)
			decoder := json.NewDecoder(bytes.NewReader(encoded))
			decoder.DisallowUnknownFields()
			var log read
			require.NoError(t, decoder.Decode(&log))
			require.Equal(t, "2.1.0", log.Version)
			require.Len(t, log.Runs, 1)
			run := log.Runs[0]
			require.NotEmpty(t, run.Tool.Driver.Name)
			require.Contains(t, []string{"unicodeCodePoints", "utf16CodeUnits"}, run.ColumnKind)
			require.Len(t, run.Results, len(r.Findings)+len(r.Accepted))
			for _, result := range run.Results {
				rule := run.Tool.Driver.Rules[result.RuleIndex]
				require.Equal(t, rule.ID, result.RuleID)
				require.True(t, slices.Contains(levels, result.Level) && slices.Contains(levels, rule.Default.Level), result.Level)
				require.True(
					t,
					result.Message.Text != "" && rule.ShortDescription.Text != "" && rule.FullDescription.Text != "" &&
						rule.Help.Text != "",
				)
				for _, l := range result.Locations {
					reference, err := url.Parse(l.Physical.Artifact.URI)
					require.NoError(t, err)
					require.True(t, !reference.IsAbs() && reference.Fragment == "" && reference.RawQuery == "", l.Physical.Artifact.URI)
					require.True(t, l.Physical.Region.StartLine >= 1 && l.Physical.Region.StartColumn >= 1)
				}
				for _, s := range result.Suppressions {
					require.True(t, s.Kind == "external" && s.Status == "accepted" && s.Justification != "")
				}
			}
		})
	}
	require.NotEmpty(t, found.Accepted, "so that suppressions are looked at")
}
