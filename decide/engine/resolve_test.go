package engine_test

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

func drawn(percent string) condition.Node {
	return &condition.Test{Key: engine.KeyShare, Values: []string{percent}}
}

func TestFindApp(t *testing.T) {
	e, err := engine.NewDirectory(directory.Contents{Apps: []directory.App{
		{Name: "till", KnownAs: []string{"urn:kestrel:till", "0oa-till"}, Hosts: []string{"till.kestrel.example"}},
		{Name: "admin", Hosts: []string{"till.kestrel.example/admin/*", "till.kestrel.example/setup"}},
		{Name: "backup", Hosts: []string{"till.kestrel.example/admin/backup/*"}},
		{Name: "any", Hosts: []string{"*.kestrel.example"}},
		{Name: "crew", Hosts: []string{"*.crew.kestrel.example", "bücher.example"}},
	}}, engine.Mentioned{})
	require.NoError(t, err)
	for text, want := range map[string]string{
		"till": "till", "urn:kestrel:till": "till", "0oa-till": "till", "Till": "",
		"till.kestrel.example": "till", "TILL.Kestrel.EXAMPLE": "till", "till.kestrel.example.": "till",
		"till.kestrel.example:8443": "till", "https://till.kestrel.example:443/": "till", "till.kestrel.example?next=/admin/x": "till",
		"other.kestrel.example": "any", "a.b.kestrel.example": "any", "kestrel.example": "", "evilkestrel.example": "",
		"till.kestrel.example.evil.example": "",
		"a.crew.kestrel.example":            "crew", "crew.kestrel.example": "any",
		"bücher.example": "crew", "xn--bcher-kva.example": "crew", "BÜCHER.example": "crew",
		"till.kestrel.example/pay":                        "till",
		"till.kestrel.example/admin":                      "admin",
		"till.kestrel.example/admin/":                     "admin",
		"till.kestrel.example/admin/users?x#y":            "admin",
		"till.kestrel.example/administration":             "till",
		"till.kestrel.example/admin/backup/now":           "backup",
		"till.kestrel.example/setup":                      "admin",
		"till.kestrel.example/setup/more":                 "till",
		"till.kestrel.example/x/../admin/users":           "admin",
		"till.kestrel.example/x/%2e%2E/admin/users":       "admin",
		"till.kestrel.example/./admin/./users":            "admin",
		"till.kestrel.example//admin/users":               "",
		"till.kestrel.example/x//admin":                   "till",
		"till.kestrel.example/admin//b":                   "", // the backup is below
		"till.kestrel.example/admin/backup/a%2Fb;v=1":     "backup",
		"till.kestrel.example/pay/100%25":                 "till",
		"till.kestrel.example/pay/caf%E9":                 "", // not UTF-8, and another app is near
		"any.kestrel.example/caf%E9/a//b;v=1/..%2f\\100%": "any",
		"till.kestrel.example/x/..;/admin":                "",
		"till.kestrel.example/x/..%3b/admin":              "",
		"till.kestrel.example/x/.%09./admin":              "",
		"till.kestrel.example/x/..%01/admin":              "",
		"till.kestrel.example/x/..%20/admin":              "",
		"till.kestrel.example/x/%20../admin":              "",
		"till.kestrel.example/x/.../admin":                "",
		"till.kestrel.example/x/%c0%ae%c0%ae/admin":       "",
		"till.kestrel.example/x/%ef%bc%8e%ef%bc%8e/admin": "",
		"till.kestrel.example/admin//../x":                "",
		"till.kestrel.example/x/%e2%80%8b/admin":          "",
		"till.kestrel.example/%61dmin/users":              "admin",
		"till.kestrel.example/admin/..":                   "till",
		"till.kestrel.example/../../admin/x":              "admin",
		"till.kestrel.example/admin%2Fusers":              "",
		"till.kestrel.example/%252e%252e/admin":           "",
		"till.kestrel.example/x\\..\\admin":               "",
		"till.kestrel.example\\@evil.example/":            "",
		"till.kestrel.example/%zz":                        "",
		"till.kestrel.example/%":                          "",
		"till.kestrel.example/%00admin":                   "",
		"user@till.kestrel.example":                       "",
		"":                                                "", "/": "", "..": "", "[::1]": "",
	} {
		t.Run(text, func(t *testing.T) {
			n, ok := e.FindApp(text)
			got := ""
			if ok {
				got = e.Apps[n].Name
			}
			require.Equal(t, want, got, text)
		})
	}
	for wrong, hosts := range map[string][]string{
		"names a port": {"till.example:443"}, "is no host": {"till.*.example"}, "a path has no": {"till.example/a/../b"}, "as its last part": {
			"till.example/*/b"},
	} {
		t.Run(fmt.Sprint(wrong), func(t *testing.T) {
			_, err := engine.NewDirectory(directory.Contents{Apps: []directory.App{{Name: "p", Hosts: hosts}}}, engine.Mentioned{})
			require.ErrorContains(t, err, wrong)
		})
	}
	_, err = engine.NewDirectory(
		directory.Contents{
			Apps: []directory.App{{Name: "p", Hosts: []string{"a.example/x"}}, {Name: "q", Hosts: []string{"A.example/x"}}},
		},
		engine.Mentioned{},
	)
	require.ErrorContains(t, err, "claims the host a.example/x too")
}

// TestFindAppOfEveryReading holds what is found of odd paths against how servers read them: encoded none, one or two times, with
// backslashes, parameters and empty parts taken one way or the other.
func TestFindAppOfEveryReading(t *testing.T) {
	e, err := engine.NewDirectory(directory.Contents{Apps: []directory.App{{Name: "site", Hosts: []string{"a.example"}},
		{Name: "admin", Hosts: []string{"a.example/admin/*"}}, {Name: "map", Hosts: []string{"a.example/map/*"}}}}, engine.Mentioned{})
	require.NoError(t, err)
	owner := func(path string) int {
		var parts []string
		for part := range strings.SplitSeq(path, "/") {
			switch part {
			case "", ".":
			case "..":
				parts = parts[:max(0, len(parts)-1)]
			default:
				parts = append(parts, part)
			}
		}
		return max(0, slices.Index([]string{"site", "admin", "map"}, append(parts, "")[0]))
	}
	parts := rapid.SampledFrom([]string{"/", "/", "/", "admin", "map", "x", "..", ".", "%2e%2E", "%252e.", "%2f", "%252F", "%5c", "\\", ";",
		";v=1", "%3b", "%25", "%", "%41"})
	found := 0
	rapid.Check(t, func(t *rapid.T) {
		path := "/" + strings.Join(rapid.SliceOfN(parts, 1, 9).Draw(t, "path"), "")
		n, ok := e.FindApp("a.example" + path)
		if !ok {
			return
		}
		found++
		path = strings.NewReplacer("%2e", ".", "%2E", ".", "%41", "A").Replace(path) // which all servers do (RFC 3986 §6.2.2.2)
		for range 3 {
			for _, reading := range []string{path, strings.ReplaceAll(path, "\\", "/"), parameters.ReplaceAllString(path, ""),
				parameters.ReplaceAllString(strings.ReplaceAll(path, "\\", "/"), "")} {
				require.Equal(t, owner(reading), n, "%s is read as %s", path, reading)
			}
			if path, err = url.PathUnescape(path); err != nil {
				return
			}
		}
	})
	require.Positive(t, found)
}

var parameters = regexp.MustCompile(`;[^/]*`)

// TestAShareEndsBeforeItsPercentage finds an account that is drawn at 50 % to the last
// digit: it is in no share of 50, and in the next.
func TestAShareEndsBeforeItsPercentage(t *testing.T) {
	var accounts []directory.Account
	for i := range 40_000 {
		accounts = append(accounts, directory.Account{Name: fmt.Sprint("hand-", i)})
	}
	d, err := engine.NewDirectory(directory.Contents{Accounts: accounts}, engine.Mentioned{})
	require.NoError(t, err)
	bind := func(percent string) *condition.Test {
		bound, err := condition.Bind(condition.Is("share", percent), d.Vocabulary("owner"))
		require.NoError(t, err)
		return bound.(*condition.Test)
	}
	half, more, drawn := bind("50"), bind("51"), 0
	for i := range accounts {
		f := engine.FactsOf(d.Profile(i), time.Time{})
		if f.Saw(half) == "50.00 %" {
			drawn++
			require.Equal(t, []condition.Truth{condition.False, condition.True}, []condition.Truth{half.Holds(f), more.Holds(f)})
		}
	}
	require.Positive(t, drawn)
}

func TestAWiderShareOnlyAddsAccounts(t *testing.T) {
	// Covered for each percentage by the order of shares: an account in a share is
	// in each wider one, and about as many are in as the share says.
	var accounts []directory.Account
	for _, c := range "abcdefghijklmnopqrstuvwxyz" {
		for _, d := range "0123456789abcdefghijklmnopqrstuvwxyz" {
			accounts = append(accounts, directory.Account{Name: string(c) + string(d) + "@kestrel.example"})
		}
	}
	in := map[int]bool{}
	last := 0
	for _, percent := range []string{"1", "10", "25", "50", "75", "99", "100"} {
		e, err := engine.NewDirectory(
			directory.Contents{Accounts: accounts, Groups: []directory.Group{{Name: "g", Where: drawn(percent)}}},
			engine.Mentioned{},
		)
		require.NoError(t, err)
		count := 0
		for i := range accounts {
			has := len(e.Profile(i).Groups()) == 1
			require.True(t, has || !in[i], "%s fell out of the share at %s %%", accounts[i].Name, percent)
			in[i] = has
			if has {
				count++
			}
		}
		require.GreaterOrEqual(t, count, last)
		if percent == "50" {
			require.InDelta(t, len(accounts)/2, count, 100)
		}
		last = count
	}
	require.Equal(t, len(accounts), last)
}

func TestAPlainHostIsWhatIDNAMakesOfIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const odd, plainly = `[a-zA-Z0-9.ü-]{0,12}|xn--[a-z0-9]{1,6}|[a-z]{60,66}\.example`, `([a-z0-9-]{1,5}\.){1,3}[a-z0-9-]{1,3}`
		host := rapid.StringMatching(odd+"|"+plainly).Draw(t, "host")
		plain, ascii, err := engine.PlainHost(host)
		if plain {
			require.NoError(t, err, host)
			require.Equal(t, ascii, host)
		}
	})
	plain, _, _ := engine.PlainHost("till-2.kestrelsound.example")
	require.True(t, plain)
}
