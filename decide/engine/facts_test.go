package engine_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// world is a small directory of each sort of fact.
func harbour(t *testing.T) *engine.Directory {
	t.Helper()
	day := directory.Date{Year: 2026, Month: time.November, Day: 1}
	november := func(day int) time.Time { return time.Date(2026, 11, day, 0, 0, 0, 0, time.UTC) }
	leaked, changed, asked := november(10), november(12), november(2)
	yes := attempt.BoolScalar(true)
	red := &condition.Test{Key: engine.KeyAttributes, Attribute: "team", Values: []string{"red"}}
	networks := func(text string) []directory.Range {
		r, err := directory.ParseRange(text)
		require.NoError(t, err)
		return []directory.Range{r}
	}
	d, err := engine.NewDirectory(directory.Contents{
		Networks: []directory.Network{
			{Name: "pier", Ranges: networks("203.0.113.0/24"), Ours: true, Country: "NO"},
			{Name: "relay", Ranges: networks("192.0.2.0/28"), Anonymous: true},
		},
		Regions:  []directory.Region{{Name: "north", Countries: []directory.Country{"NO", "SE"}}},
		Windows:  []directory.Window{{Name: "day", From: clock(t, "06:00"), To: clock(t, "18:00")}},
		Postures: []directory.Posture{{Name: "fit", Checks: []directory.Check{{Fact: "firewall", Is: &yes, Fix: "Turn it on."}}}},
		Methods:  []directory.Method{{Name: "sms-code", BarredFor: red}},
		Groups:   []directory.Group{{Name: "crew"}, {Name: "reds", Where: red}},
		Apps:     []directory.App{{Name: "mail", Tags: []string{"plain"}}, {Name: "till", OpenTo: []string{"crew"}}},
		Devices: []directory.Device{
			{
				Name:     "hub",
				Platform: "linux",
				Shared:   true,
				Owner:    "ann",
				Tags:     []string{"desk"},
				Facts:    map[string]attempt.Scalar{"firewall": attempt.BoolScalar(false)},
			},
		},
		Accounts: []directory.Account{
			{
				Name:       "ann",
				Groups:     []string{"crew"},
				Methods:    []string{"password", "sms-code"},
				Attributes: map[string]attempt.Scalar{"team": attempt.TextScalar("red"), "floor": attempt.NumberScalar(3)},
				Joined:     &day,
			},
			{
				Name:              "bob",
				Methods:           []string{"sms-code"},
				AccountRisk:       &directory.AccountRisk{Level: directory.HighRisk, Because: directory.LeakedPassword, Since: &leaked},
				PasswordChangedAt: &changed,
				AskedAt:           &asked,
			},
			{
				Name:              "cat",
				Kind:              directory.Emergency,
				Attributes:        map[string]attempt.Scalar{"team": {}},
				AccountRisk:       &directory.AccountRisk{Level: directory.MediumRisk, Because: "gossip", Since: &leaked},
				PasswordChangedAt: &changed,
			},
		},
	}, engine.Mentioned{})
	require.NoError(t, err)
	return d
}

// TestWhatAccountsShow holds each test on accounts, with what it saw.
func TestWhatAccountsShow(t *testing.T) {
	d := harbour(t)
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	const no, maybe, yes = condition.False, condition.Unknown, condition.True
	for _, c := range []struct {
		test    condition.Test
		account string
		want    condition.Truth
		saw     string
	}{
		{condition.Test{Key: engine.KeyAnyone, Values: []string{"true"}}, "ann", yes, "ann"},
		{condition.Test{Key: engine.KeyAccounts, Values: []string{"bob"}}, "ann", no, "ann"},
		{condition.Test{Key: engine.KeyGroups, Values: []string{"crew"}}, "ann", yes, "crew, reds"},
		{condition.Test{Key: engine.KeyGroups, Values: []string{"reds"}}, "bob", maybe, ""},
		{condition.Test{Key: engine.KeyGroups, Values: []string{"reds"}}, "cat", no, "no group"},
		{condition.Test{Key: engine.KeyKinds, Values: []string{"emergency"}}, "cat", yes, "emergency"},
		{condition.Test{Key: engine.KeyKinds, Values: []string{"person"}}, "ann", yes, "person"},
		{condition.Test{Key: engine.KeyAttributes, Attribute: "floor", Values: []string{"3"}}, "ann", yes, "3"},
		{condition.Test{Key: engine.KeyAttributes, Attribute: "team", Values: []string{"nothing"}}, "cat", no, "nothing"},
		{condition.Test{Key: engine.KeyAttributes, Attribute: "team", Values: []string{"red"}}, "bob", maybe, ""},
		{condition.Test{Key: engine.KeyEnrolled, Values: []string{"sms-code"}}, "ann", no, "password, sms-code"},
		{condition.Test{Key: engine.KeyEnrolled, Values: []string{"sms-code"}}, "bob", maybe, ""},
		{condition.Test{Key: engine.KeyEnrolled, Values: []string{"push"}}, "cat", no, "no method"},
		{condition.Test{Key: engine.KeyJoinedWithin, Values: []string{"30d"}}, "ann", yes, "joined 2026-11-01"},
		{condition.Test{Key: engine.KeyJoinedWithin, Values: []string{"20d"}}, "ann", no, "joined 2026-11-01"},
		{condition.Test{Key: engine.KeyJoinedWithin, Values: []string{"20d"}}, "bob", maybe, ""},
		{condition.Test{Key: engine.KeyAccountRiskAtLeast, Values: []string{"low"}}, "bob", no,
			"high (leaked-password, since 2026-11-10, put right by a changed password)"},
		{condition.Test{Key: engine.KeyAccountRiskAtLeast, Values: []string{"medium"}}, "cat", yes, "medium (gossip, since 2026-11-10)"},
		{condition.Test{Key: engine.KeyAccountRiskAtLeast, Values: []string{"low"}}, "ann", no, "none"},
		{condition.Test{Key: engine.KeyDomains, Values: []string{"one.example"}}, "ann", no, "no domain"},
	} {
		t.Run(c.account+" "+condition.Text(&c.test), func(t *testing.T) {
			bound, err := condition.Bind(&c.test, d.Vocabulary("owner"))
			require.NoError(t, err)
			p, ok := d.Find(c.account)
			require.True(t, ok)
			require.Equal(t, c.want, bound.(*condition.Test).Holds(engine.FactsOf(p, at)))
			require.Equal(t, c.saw, engine.FactsOf(p, at).Saw(bound.(*condition.Test)))
		})
	}
	bound, err := condition.Bind(&condition.Test{Key: engine.KeyAnyone, Values: []string{"true"}}, d.Vocabulary("owner"))
	require.NoError(t, err)
	require.Equal(t, "an account that nobody knows", engine.FactsOf(nil, at).Saw(bound.(*condition.Test)))
	require.Equal(t, condition.False, bound.(*condition.Test).Holds(engine.FactsOf(nil, at)))
	ann, _ := d.Find("ann")
	require.Equal(t, []any{"ann", directory.Person, false, 1}, []any{ann.Name(), ann.Kind(), ann.Disabled(), ann.Enrolled().Len()})
	till, _ := d.FindApp("till")
	require.True(t, d.IsOpenTo(till, ann))
	bob, _ := d.Find("bob")
	require.False(t, d.IsOpenTo(till, bob))
	require.Equal(t, bob.Barred(), bob.PerhapsEnrolled(), "what may be barred proves nothing, and may be enrolled")
}

// TestWhatPlacesAndDevicesShow holds the tests on addresses, countries and devices.
func TestWhatPlacesAndDevicesShow(t *testing.T) {
	d := harbour(t)
	const no, maybe, yes = condition.False, condition.Unknown, condition.True
	bind := func(key condition.Key, value string) *condition.Test {
		bound, err := condition.Bind(&condition.Test{Key: key, Values: []string{value}}, d.Vocabulary("owner"))
		require.NoError(t, err)
		return bound.(*condition.Test)
	}
	onDevice := func(v *engine.DeviceView) *engine.Facts {
		return &engine.Facts{Directory: d, Device: v, Attempt: &attempt.Attempt{Account: "ann"}}
	}
	pier, relay := d.Place(netip.MustParseAddr("203.0.113.9")), d.Place(netip.MustParseAddr("192.0.2.1"))
	require.Equal(
		t,
		[]condition.Truth{yes, no, yes, yes},
		[]condition.Truth{
			bind(engine.KeyOurNetwork, "true").Holds(&engine.Facts{Directory: d, Place: pier}),
			bind(engine.KeyOurNetwork, "true").Holds(&engine.Facts{Directory: d, Place: relay}),
			bind(engine.KeyOurNetwork, "false").Holds(&engine.Facts{Directory: d, Place: relay}),
			bind(engine.KeyNetworks, "pier").Holds(&engine.Facts{Directory: d, Place: pier}),
		},
	)
	north := bind(engine.KeyCountries, "north")
	for code, want := range map[attempt.CountryCode]condition.Truth{"SE": yes, "BR": no, "br": maybe, "UK": maybe, "ZZ": maybe, "": maybe,
		"NOR": maybe, "Aa": maybe} {
		t.Run(fmt.Sprint(code), func(t *testing.T) {
			require.Equal(t, want, engine.CountryHolds(code, north), code)
		})
	}
	require.Equal(t, yes, d.CountryMayHold("SE", north), "the only network that states a country is there too")
	require.Equal(t, maybe, d.CountryMayHold("BR", north))
	require.True(t, d.MayStateOther("SE", "SE"))
	require.False(t, d.MayStateOther("SE", "BR"))
	elsewhere, ok := d.AddressElsewhere()
	require.True(t, ok)
	require.Empty(t, d.NetworkNames(d.Place(elsewhere)))
	require.Equal(t, []string{"mail"}, d.NearestApps("mial", 1))
	require.Equal(t, []string{"ann"}, d.NearestAccounts("anne", 1))

	view := d.View(&attempt.Attempt{Device: attempt.Known(attempt.Device{ID: attempt.Known("hub")})})
	strange := d.View(&attempt.Attempt{Device: attempt.Known(attempt.Device{Known: attempt.Known(false)})})
	for _, c := range []struct {
		key         condition.Key
		value       string
		hub, strang condition.Truth
	}{
		{engine.KeyPlatforms, "linux", yes, maybe}, {engine.KeyDeviceTags, "desk", yes, maybe}, {engine.KeyPosture, "fit", no, maybe},
		{engine.KeyDevice, "known", yes, no}, {engine.KeyDevice, "managed", no, maybe},
		{engine.KeyDevice, "shared", yes, maybe}, {engine.KeyDevice,
			"own", yes, maybe},
	} {
		t.Run(c.value, func(t *testing.T) {
			require.Equal(
				t,
				[]condition.Truth{c.hub, c.strang},
				[]condition.Truth{
					bind(c.key, c.value).Holds(onDevice(&view)),
					bind(c.key, c.value).Holds(onDevice(&strange)),
				},
				"%s %s",
				c.key,
				c.value,
			)
		})
	}
	require.Equal(
		t,
		"known, shared, own, not managed",
		onDevice(&view).Saw(bind(engine.KeyDevice, "own")),
	)
	require.Equal(
		t,
		"firewall false",
		onDevice(&view).Saw(bind(engine.KeyPosture, "fit")),
	)
	require.Equal(t, "desk", onDevice(&view).Saw(bind(engine.KeyDeviceTags, "desk")))
	require.Equal(t, "linux", onDevice(&view).Saw(bind(engine.KeyPlatforms, "linux")))
	require.Equal(
		t,
		"a device that nothing identifies (unknown)",
		onDevice(&strange).Saw(bind(engine.KeyPosture, "fit")),
	)
	failing := view.Failing(&d.Postures[0])
	require.Equal(t, []string{"false", "true", "Turn it on."}, []string{failing[0].Saw, failing[0].Check.Wants(), failing[0].Check.Fix})
	require.Equal(
		t,
		[]string{"plain", "an app that the book does not have"},
		[]string{
			d.FactsOfApp(0).Saw(bind(engine.KeyTags, "plain")),
			d.FactsOfApp(-1).Saw(bind(engine.KeyTags, "plain")),
		},
	)
	lost := view.With(nil)
	require.Equal(t, maybe, lost.Shared())
	require.False(t, lost.Registered())
}

// supplied answers with one account, or an error.
type supplied struct {
	account directory.Account
	err     error
}

func (s supplied) Account(context.Context, string) (directory.Account, error) {
	return s.account, s.err
}

// TestLookup: found, not there, and not to be found out are three things.
func TestLookup(t *testing.T) {
	d := harbour(t)
	down := errors.New("down")
	for _, c := range []struct {
		name, account string
		from          directory.Accounts
		found         bool
		groups        []string
		err           string
	}{
		{"the book's", "ann", nil, true, []string{"crew", "reds"}, ""},
		{"nobody", "eve", nil, false, nil, ""},
		{"supplied", "eve", supplied{account: directory.Account{Name: "eve", Groups: []string{"crew", "ghosts"}}}, true, []string{"crew"}, ""},
		{"completed", "ann", supplied{account: directory.Account{Name: "ann", Groups: []string{}}}, true, []string{"reds"}, ""},
		{"not there", "eve", supplied{err: directory.ErrNotFound}, false, nil, ""},
		{"the book's where it is not there", "ann", supplied{err: directory.ErrNotFound}, true, []string{"crew", "reds"}, ""},
		{"down", "ann", supplied{err: down}, false, nil, "down"},
		{"another's", "ann", supplied{account: directory.Account{Name: "bob"}}, false, nil, `answered for "bob"`},
		{"nobody's", "ann", supplied{}, false, nil, "without a name"},
		{"a strange kind", "ann", supplied{account: directory.Account{Name: "ann", Kind: 77}}, false, nil, "its kind"},
		{"a strange risk", "ann", supplied{account: directory.Account{Name: "ann", AccountRisk: &directory.AccountRisk{Level: 77}}}, false,
			nil, "the level"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var room engine.Room
			p, err := d.Lookup(context.Background(), c.from, c.account, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), &room)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				require.Nil(t, p)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.found, p != nil)
			if p != nil {
				require.Equal(t, c.groups, p.Groups())
				require.Equal(t, room.Holds(p), c.from != nil && c.from.(supplied).err == nil)
			}
			room.Clear()
		})
	}
}

// TestCheckReportsEverything: each problem of each kind, all at once.
func TestCheckReportsEverything(t *testing.T) {
	bad := directory.Clock(2000)
	many := make([]directory.Method, engine.MaxMethods)
	for i := range many {
		many[i].Name = string(rune('a'+i%26)) + string(rune('a'+i/26))
	}
	c := directory.Contents{
		Accounts: []directory.Account{{Name: "a", Kind: 9, AccountRisk: &directory.AccountRisk{Level: 9}, Methods: []string{"smoke"}}},
		Groups: []directory.Group{
			{
				Name:     "g",
				Members:  []string{"nobody"},
				Includes: []string{"h"},
				Where:    &condition.Test{Key: engine.KeyGroups, Values: []string{"g"}},
			},
		},
		Methods: append(
			many,
			directory.Method{
				Name:      "m",
				Traits:    []directory.Trait{99},
				BarredFor: &condition.Test{Key: engine.KeyEnrolled, Values: []string{"m"}},
			},
		),
		Networks: []directory.Network{
			{
				Name:    "192.0.2.1",
				Country: "UK",
				Ranges: []directory.Range{
					{From: netip.MustParseAddr("192.0.2.1"), To: netip.MustParseAddr("::1")},
					{From: netip.MustParseAddr("::ffff:192.0.2.1"), To: netip.MustParseAddr("192.0.2.9")},
				},
			},
		},
		Regions: []directory.Region{{Name: "NO", Countries: []directory.Country{"ZZ"}}},
		Windows: []directory.Window{
			{
				Name: "w",
				From: &bad,
				Days: []directory.Weekday{9},
				Dates: []directory.DateRange{
					{First: directory.Date{Year: 2027, Month: 1, Day: 1}, Last: directory.Date{Year: 2026, Month: 1, Day: 1}},
				},
			},
		},
		Postures: []directory.Posture{{Name: "p"}, {Name: "q", Checks: []directory.Check{{Fact: "x"}}}},
		Apps:     []directory.App{{Name: "x", OpenTo: []string{"h"}, KnownAs: []string{"y"}}, {Name: "y", Hosts: []string{"a:1"}}},
	}
	var all directory.Problems
	engine.CheckContents(&c, func(p directory.Problem) { all = append(all, p) })
	text := all.Error()
	for _, want := range []string{"its kind is none", "the level of its risk is none", `account a: method "smoke" is not defined`,
		`group g: account "nobody" is not defined`, `group g: group "h" is not defined`,
		"where cannot ask for groups", "barred_for cannot ask for enrolled", "are more than the 64", "trait 99 is none", "named like an address",
		`"UK" is no assigned`, "runs from IPv4 to IPv6", "write 192.0.2.1-192.0.2.9",
		"named like a country", `"ZZ" is no assigned`, "2000 minutes after midnight", "day 9 is none", "ends before it begins",
		"posture p checks nothing", "posture q, check 1", `app x: group "h" is not defined`,
		`apps y and x are both known as "y"`, "names a port"} {
		require.Contains(t, text, want)
	}
	_, err := engine.NewDirectory(c, engine.Mentioned{})
	require.EqualError(t, err, text, "New refuses with all of it")
}

// TestEveryKeyKnowsWhatItIsNotShown: facts that do not show what a key asks for leave
// it unknown, and no key says nothing of itself.
func TestEveryKeyKnowsWhatItIsNotShown(t *testing.T) {
	for _, key := range condition.Keys() {
		d := key.Definition()
		test := &condition.Test{Key: key, Values: []string{"true"}}
		none := &engine.Facts{}
		require.Equal(t, condition.Unknown, none.Holds(test), d.Name)
		require.Empty(t, none.Saw(test), d.Name)
		require.NotEqual(t, d.Says(test, false), d.Says(test, true), d.Name)
		require.NotEmpty(t, d.Doc, d.Name)
	}
}
