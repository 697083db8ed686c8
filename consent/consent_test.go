package consent_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/directory"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// world is a book with people and programs; the rules are added to it.
const world = `briskwarden: 1
groups: [{name: crew, owners: [ann]}, {name: office}]
accounts: [{name: ann, groups: [crew]}, {name: bob, groups: [crew]}, {name: eve, groups: [office]}, {name: gone, disabled: true}]
scopes:
  mild: {gravity: 1, scopes: [openid, tides.read, "roster.*"]}
  middle: {gravity: 2, scopes: ["calendar.*", roster.swap]}
  grave: {gravity: 5, scopes: ["mail.*", "*.all"]}
clients:
  - {name: tides, publisher: {title: Tidewise, vetted: true}, redirect_uris: ["https://tides.example/cb", "http://127.0.0.1/cb"],
     standing: approved, tags: [sea]}
  - {name: voyages, redirect_uris: ["https://v.example/cb"]}
  - {name: wheel, redirect_uris: ["https://w.example/cb"], standing: barred, because: It sent letters.}
`

func compile(t require.TestingT, more string) *consent.Judge {
	b, err := book.OpenFS(fstest.MapFS{"world.yaml": {Data: []byte(world)}, "more.yaml": {Data: []byte("briskwarden: 1\n" + more)}})
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	consents, err := b.CompileConsent(judge)
	require.NoError(t, err)
	return consents
}

const allowMild = `consent: {rules: [{name: mild, when: {scopes_within: [mild]}, then: allow}, {name: mail, when: {scopes: ["mail.*"]}, ` +
	`then: refuse, say: No mail.}]}`

// TestARuleThatMayAllow: a rule that allows is not told as one that wants a reviewer.
func TestARuleThatMayAllow(t *testing.T) {
	rules := func(more string) *consent.Judge {
		return compile(t, "consent: {rules: [{name: some, when: {attributes: {rank: [mate]}}, then: allow}"+more+"]}")
	}
	for name, c := range map[string]struct{ more, want string }{
		"no other":        {"", "Whether some allows openid depends on a fact that is missing, so a reviewer looks."},
		"another reviews": {", {name: rest, then: review}", "rest wants a reviewer to look at openid."},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := rules(c.more).Decide(t.Context(), &consent.Request{At: monday, Account: "ann", Client: "tides", Scopes: []string{"openid"},
				RedirectURI: "https://tides.example/cb"}, consent.Known{})
			require.NoError(t, err)
			require.Equal(t, consent.Review, d.Outcome)
			require.Equal(t, c.want, d.Causes[0].Text)
		})
	}
}

func TestDecide(t *testing.T) {
	approvals := func(a ...consent.Approval) consent.Known { return consent.Known{Approvals: a} }
	for name, c := range map[string]struct {
		rules  string
		change func(*consent.Request)
		known  consent.Known
		want   consent.Outcome
		code   consent.CauseCode
		scopes string
		say    string
	}{
		"allowed": {allowMild, nil, consent.Known{}, consent.Allow, consent.RuleAllows, "openid=allow", ""},
		"gravest last": {allowMild, func(r *consent.Request) { r.Scopes = []string{"mail.read", "openid", "calendar.read", "openid"} },
			consent.Known{}, consent.Refuse, consent.RuleRefuses, "openid=allow calendar.read=review mail.read=refuse", "No mail."},
		"no rule": {allowMild, func(r *consent.Request) { r.Scopes = []string{"roster.swap"} }, consent.Known{}, consent.Review,
			consent.NoRule, "roster.swap=review", ""},
		"unlisted": {allowMild, func(r *consent.Request) { r.Scopes = []string{"chat"} }, consent.Known{}, consent.Review,
			consent.NoRule, "chat=review", ""},
		"barred": {allowMild, func(r *consent.Request) { r.Client, r.RedirectURI = "wheel", "https://w.example/cb" }, consent.Known{},
			consent.Refuse, consent.ClientBarred, "openid=refuse", ""},
		"barred by reviewer": {allowMild, nil, consent.Known{Barred: true, Because: "Sold."}, consent.Refuse, consent.ClientBarred,
			"openid=refuse", ""},
		"nobody": {allowMild, func(r *consent.Request) { r.Account = "nobody" }, consent.Known{}, consent.Refuse,
			consent.AccountUnknown, "openid=refuse", ""},
		"disabled": {allowMild, func(r *consent.Request) { r.Account = "gone" }, consent.Known{}, consent.Refuse,
			consent.AccountUnknown, "openid=refuse", ""},
		"other redirect": {allowMild, func(r *consent.Request) { r.RedirectURI = "https://tides.example/cb2" }, consent.Known{},
			consent.Refuse, consent.RedirectUnregistered, "openid=refuse", ""},
		"loopback port": {allowMild, func(r *consent.Request) { r.RedirectURI = "http://127.0.0.1:49152/cb" }, consent.Known{},
			consent.Allow, consent.RuleAllows, "openid=allow", ""},
		"loopback path": {allowMild, func(r *consent.Request) { r.RedirectURI = "http://127.0.0.1:49152/other" }, consent.Known{},
			consent.Refuse, consent.RedirectUnregistered, "openid=refuse", ""},
		"no redirect": {allowMild, func(r *consent.Request) { r.RedirectURI = "" }, consent.Known{}, consent.Review,
			consent.RedirectUnknown, "openid=review", ""},
		"unknown client": {allowMild, func(r *consent.Request) { r.Client = "new" }, consent.Known{}, consent.Review, consent.ClientUnknown,
			"openid=review", ""},
		"imported client": {allowMild, func(r *consent.Request) { r.Client = "new" }, consent.Known{Client: &consent.Client{Name: "new",
			RedirectURIs: []string{"https://tides.example/cb"}}}, consent.Allow, consent.RuleAllows, "openid=allow", ""},
		"no group": {allowMild, func(r *consent.Request) { r.Resource.Group = "deck" }, consent.Known{}, consent.Refuse,
			consent.GroupUnknown, "openid=refuse", ""},
		"unknown facts": {`consent: {rules: [{name: vetted, when: {publisher_vetted: true}, then: allow}, {name: rest, then: allow}]}`, func(
			r *consent.Request) {
			r.Client = "new"
		}, consent.Known{}, consent.Review, consent.ClientUnknown, "openid=review", ""},
		"unknown refuses": {`consent: {rules: [{name: bad, when: {client_tags: [bad]}, then: refuse}, {name: rest, then: allow}]}`, func(
			r *consent.Request) {
			r.Client = "new"
		}, consent.Known{}, consent.Refuse, consent.RuleRefuses, "openid=refuse", ""},
		"owner": {`consent: {rules: [{name: owners, when: {owns_group: true}, then: allow}, {name: rest, then: refuse}]}`, func(
			r *consent.Request) {
			r.Resource.Group = "crew"
		}, consent.Known{}, consent.Allow, consent.RuleAllows, "openid=allow", ""},
		"no owner": {`consent: {rules: [{name: owners, when: {owns_group: true}, then: allow}, {name: rest, then: refuse}]}`, func(
			r *consent.Request) {
			r.Resource.Group, r.Account = "crew", "bob"
		}, consent.Known{}, consent.Refuse, consent.RuleRefuses,
			"openid=refuse", ""},
		"approved": {allowMild, func(r *consent.Request) { r.Scopes = []string{"chat"} }, approvals(consent.Approval{Client: "tides",
			Scopes: []string{"chat"}}), consent.Allow, consent.ReviewerApproved, "chat=allow", ""},
		"approved for group": {allowMild, func(r *consent.Request) { r.Scopes = []string{"chat"} }, approvals(consent.Approval{Client: "tides",
			Scopes: []string{"chat"}, Group: "crew"}), consent.Allow, consent.ReviewerApproved, "chat=allow", ""},
		"other group": {allowMild, func(r *consent.Request) { r.Scopes, r.Account = []string{"chat"}, "eve" }, approvals(consent.Approval{
			Client: "tides", Scopes: []string{"chat"}, Group: "crew"}), consent.Review, consent.NoRule, "chat=review", ""},
		"other account": {allowMild, func(r *consent.Request) { r.Scopes = []string{"chat"} }, approvals(consent.Approval{Client: "tides",
			Scopes: []string{"chat"}, Account: "bob"}), consent.Review, consent.NoRule, "chat=review", ""},
		"another scope": {allowMild, func(r *consent.Request) { r.Scopes = []string{"chat", "talk"} }, approvals(consent.Approval{
			Client: "tides", Scopes: []string{"chat"}}), consent.Review, consent.NoRule, "chat=allow talk=review", ""},
		"approval over": {allowMild, func(r *consent.Request) { r.Scopes = []string{"chat"} }, approvals(consent.Approval{Client: "tides",
			Scopes: []string{"chat"}, Until: monday}), consent.Review, consent.NoRule, "chat=review", ""},
		"other data": {allowMild, func(r *consent.Request) { r.Scopes, r.Resource.Group = []string{"chat"}, "crew" }, approvals(
			consent.Approval{Client: "tides", Scopes: []string{"chat"}}), consent.Review, consent.NoRule, "chat=review", ""},
		"refused yet": {allowMild, func(r *consent.Request) { r.Scopes = []string{"mail.read"} }, approvals(consent.Approval{
			Client: "tides", Scopes: []string{"mail.read"}}), consent.Refuse, consent.RuleRefuses, "mail.read=refuse", "No mail."},
	} {
		t.Run(name, func(t *testing.T) {
			r := &consent.Request{
				At:          monday,
				Account:     "ann",
				Client:      "tides",
				Scopes:      []string{"openid"},
				RedirectURI: "https://tides.example/cb",
			}
			if c.change != nil {
				c.change(r)
			}
			d, err := compile(t, c.rules).Decide(context.Background(), r, c.known)
			require.NoError(t, err, name)
			require.Equal(t, c.want, d.Outcome, name)
			require.Equal(t, c.code, d.Causes[0].Code, "%s: %v", name, d.Causes)
			var scopes []string
			for _, s := range d.Scopes {
				scopes = append(scopes, fmt.Sprintf("%s=%s", s.Scope, s.Outcome))
			}
			require.Equal(t, c.scopes, strings.Join(scopes, " "), name)
			require.Equal(t, c.say, d.ToPerson.Say, name)
			require.Equal(t, d.Outcome == consent.Allow, len(d.ToPerson.Wanted) == 0, name)
		})
	}
	for want, r := range map[string]*consent.Request{
		"has no `account`": {}, "has no `client`": {Account: "ann"}, "has no `at`": {Account: "ann", Client: "c"}, "asks for no scope": {
			Account: "ann", Client: "c", At: monday},
		`"a b" is no scope`: {Account: "ann", Client: "c", At: monday, Scopes: []string{"a b"}},
	} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			_, err := compile(t, allowMild).Decide(context.Background(), r, consent.Known{})
			require.ErrorContains(t, err, want)
		})
	}
}

// random makes rules and requests of the names of the world.
type random struct{ *rand.Rand }

func (r random) one(list ...string) string { return list[r.IntN(len(list))] }

var scopes = []string{"openid", "tides.read", "roster.read", "roster.swap", "calendar.read", "mail.read", "all.all", "chat"}

func (r random) condition(deep int) string {
	if deep > 0 && r.IntN(3) == 0 {
		return r.one(
			fmt.Sprintf("{all: [%s, %s]}", r.condition(deep-1), r.condition(deep-1)),
			fmt.Sprintf("{any: [%s, %s]}", r.condition(deep-1), r.condition(deep-1)),
			fmt.Sprintf("{not: %s}", r.condition(deep-1)))
	}
	return r.one(
		"{publisher_vetted: true}",
		"{publisher_vetted: false}",
		"{scopes_within: [mild]}",
		"{scopes_within: [middle]}",
		"{scopes: [openid, chat]}",
		`{scopes: ["*.read"]}`,
		"{clients: [tides]}",
		"{client_tags: [sea]}",
		"{standing: [approved]}",
		"{standing: [unreviewed]}",
		"{resource: [own]}",
		"{resource: [group]}",
		"{owns_group: true}",
		"{groups: [crew]}",
		"{accounts: [eve]}",
		"{anyone: true}",
	)
}

func (r random) rules() string {
	var rules []string
	for i := range 1 + r.IntN(5) {
		when := ""
		if r.IntN(5) > 0 {
			when = ", when: " + r.condition(2)
		}
		rules = append(rules, fmt.Sprintf("{name: r%d%s, then: %s}", i, when, r.one("allow", "review", "refuse")))
	}
	return "consent: {rules: [" + strings.Join(rules, ", ") + "]}"
}

func (r random) request() *consent.Request {
	q := &consent.Request{
		At:          monday,
		Account:     r.one("ann", "bob", "eve"),
		Client:      r.one("tides", "voyages", "wheel", "new"),
		Resource:    consent.Resource{Group: r.one("", "crew", "office")},
		RedirectURI: r.one("", "https://tides.example/cb", "https://v.example/cb", "https://w.example/cb"),
	}
	for range 1 + r.IntN(3) {
		q.Scopes = append(q.Scopes, r.one(scopes...))
	}
	return q
}

func (r random) approvals() []consent.Approval {
	var list []consent.Approval
	for range r.IntN(6) {
		list = append(
			list,
			consent.Approval{
				Client:   r.one("tides", "voyages", "new"),
				Scopes:   []string{r.one(scopes...)},
				Account:  r.one("", "", "ann"),
				Group:    r.one("", "", "crew"),
				Resource: consent.Resource{Group: r.one("", "crew")},
				By:       r.one("rae", "ann"),

				RedirectURI: r.one("", "", "https://tides.example/cb", "https://w.example/cb"),

				From: monday.Add(time.Duration(r.IntN(3)-1) * time.Hour),
			},
		)
	}
	return list
}

func TestProperties(t *testing.T) {
	allowed, barred := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		r := random{rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))}
		text := r.rules()
		judge := compile(t, text)
		for range 30 {
			q, known := r.request(), consent.Known{Approvals: r.approvals()}
			d, err := judge.Decide(context.Background(), q, known)
			require.NoError(t, err)
			// A barred client is never allowed.
			if q.Client == "wheel" {
				barred++
				require.Equal(t, consent.Refuse, d.Outcome)
			}
			banned := known
			banned.Barred = true
			refused, err := judge.Decide(context.Background(), q, banned)
			require.NoError(t, err)
			require.Equal(t, consent.Refuse, refused.Outcome)
			// More scopes are never easier than fewer.
			more := *q
			more.Scopes = append(slices.Clone(q.Scopes), r.one(scopes...))
			stricter, err := judge.Decide(context.Background(), &more, known)
			require.NoError(t, err)
			require.LessOrEqual(t, stricter.Outcome, d.Outcome, "%v with %v", text, more.Scopes)
			// Unknown never allows: what is allowed of a client that nobody knows a reviewer approved, and
			// nothing is without a place to be answered at.
			for _, s := range d.Scopes {
				if s.Outcome == consent.Allow {
					require.True(t, s.Approved || q.Client != "new")
					require.NotEmpty(t, q.RedirectURI)
				}
				// An approval never covers a scope that it did not name.
				if s.Approved {
					allowed++
					require.True(t, slices.ContainsFunc(known.Approvals, func(a consent.Approval) bool {
						return a.Client == q.Client && a.Resource == q.Resource && slices.Contains(a.Scopes, s.Scope)
					}))
				}
			}
			// What would be allowed of an unknown client is allowed whatever it is.
			if q.Client == "new" && d.Outcome == consent.Allow {
				for _, c := range []consent.Client{{Name: "new"}, {Name: "new", Publisher: consent.Publisher{Vetted: true}, Standing: consent.Approved,
					Tags: []string{"sea"}}} {
					c.RedirectURIs = []string{q.RedirectURI}
					knowing := known
					knowing.Client = &c
					d, err := judge.Decide(context.Background(), q, knowing)
					require.NoError(t, err)
					require.Equal(t, consent.Allow, d.Outcome)
				}
			}
		}
	})
	require.Positive(t, allowed)
	require.Positive(t, barred)
}

// naive answers a request as the words have it, by names alone.
func naive(scheme consent.Scheme, q *consent.Request, approvals []consent.Approval) consent.Outcome {
	tier := map[string]int{
		"openid":        1,
		"tides.read":    1,
		"roster.read":   1,
		"roster.swap":   2,
		"calendar.read": 2,
		"mail.read":     5,
		"all.all":       5,
		"chat":          9,
	}
	redirects := map[string]string{"tides": "https://tides.example/cb", "voyages": "https://v.example/cb", "wheel": "https://w.example/cb"}
	group := map[string]string{"ann": "crew", "bob": "crew", "eve": "office"}
	if at, registered := redirects[q.Client]; q.Client == "wheel" || registered && q.RedirectURI != "" && q.RedirectURI != at {
		return consent.Refuse
	}
	worst := consent.Allow
	for _, scope := range q.Scopes {
		var holds func(n condition.Node) condition.Truth
		holds = func(n condition.Node) condition.Truth {
			switch n := n.(type) {
			case *condition.All:
				truth := condition.True
				for _, kid := range n.Of {
					truth = min(truth, holds(kid))
				}
				return truth
			case *condition.Any:
				truth := condition.False
				for _, kid := range n.Of {
					truth = max(truth, holds(kid))
				}
				return truth
			case *condition.Not:
				return holds(n.Of).Not()
			case *condition.Test:
				has := func(v string) condition.Truth { return condition.Of(slices.Contains(n.Values, v)) }
				flag := func(is bool) condition.Truth { return has(fmt.Sprint(is)) }
				switch n.Key.String() {
				case "scopes_within":
					return condition.Of(tier[scope] <= map[string]int{"mild": 1, "middle": 2}[n.Values[0]])
				case "scopes":
					return max(has(scope), condition.Of(strings.HasSuffix(scope, ".read") && n.Values[0] == "*.read"))
				case "clients":
					return has(q.Client)
				case "resource":
					return has(q.Resource.Kind().String())
				case "owns_group":
					return flag(q.Account == "ann" && q.Resource.Group == "crew")
				case "groups":
					return has(group[q.Account])
				case "accounts":
					return has(q.Account)
				case "anyone":
					return condition.True
				}
				if q.Client == "new" {
					return condition.Unknown
				}
				switch n.Key.String() {
				case "publisher_vetted":
					return flag(q.Client == "tides")
				case "client_tags":
					return condition.Of(q.Client == "tides" && n.Values[0] == "sea")
				case "standing":
					return has(map[string]string{"tides": "approved", "voyages": "unreviewed"}[q.Client])
				}
			}
			return condition.True
		}
		outcome, sure := consent.Allow, false
		for _, r := range scheme.Rules {
			if truth := holds(r.When); truth != condition.False {
				outcome = min(outcome, r.Then)
				if sure = truth == condition.True; sure {
					break
				}
			}
		}
		if !sure || q.Client == "new" || q.RedirectURI == "" {
			outcome = min(outcome, consent.Review)
		}
		approved := slices.ContainsFunc(approvals, func(a consent.Approval) bool {
			return a.By != q.Account && q.RedirectURI != "" &&
				(a.RedirectURI == q.RedirectURI || a.RedirectURI == "" && q.Client != "new") && a.Client == q.Client &&
				a.Resource == q.Resource && slices.Contains(a.Scopes, scope) && !a.From.After(q.At) &&
				(a.Account == q.Account || a.Account == "" && (a.Group == "" || a.Group == group[q.Account]))
		})
		if outcome == consent.Review && approved {
			outcome = consent.Allow
		}
		worst = min(worst, outcome)
	}
	return worst
}

func TestANaiveEvaluatorAgrees(t *testing.T) {
	seen := map[consent.Outcome]int{}
	for seed := range uint64(3000) {
		r := random{rand.New(rand.NewPCG(seed, 7))}
		text := r.rules()
		b, err := book.OpenFS(fstest.MapFS{"world.yaml": {Data: []byte(world)}, "more.yaml": {Data: []byte("briskwarden: 1\n" + text)}})
		require.NoError(t, err)
		judge := compile(t, text)
		for range 10 {
			q, approvals := r.request(), r.approvals()
			d, err := judge.Decide(context.Background(), q, consent.Known{Approvals: approvals})
			require.NoError(t, err)
			want := naive(b.Consent, q, approvals)
			require.Equal(t, want, d.Outcome, "%s for %+v with %+v", text, q, approvals)
			seen[want]++
		}
	}
	require.Len(t, seen, 3)
}

func TestScopes(t *testing.T) {
	ladder := compile(t, allowMild).Ladder()
	for scope, tier := range map[string]string{"openid": "mild", "roster.read": "mild", "roster.swap": "middle", "roster.read.all": "grave",
		"calendar.": "middle", "chat": consent.Unlisted, "all": consent.Unlisted} {
		t.Run(scope, func(t *testing.T) {
			require.Equal(t, tier, ladder.TierOf(scope), scope)
		})
	}
	require.Equal(
		t,
		[]string{"openid", "tides.read", "roster.swap", "mail.x", "chat"},
		ladder.Sort([]string{"chat", "mail.x", "roster.swap", "tides.read", "openid", "chat"}),
	)
	for want, tiers := range map[string][]consent.Tier{
		"have the same gravity": {{Name: "a", Gravity: 1}, {Name: "b", Gravity: 1}}, "gravity counts from 1": {{Name: "a"}},
		"both name the scope x": {{Name: "a", Gravity: 1, Scopes: []string{"x"}}, {Name: "b", Gravity: 2, Scopes: []string{"x"}}},
		"no tier can be named":  {{Name: "unlisted", Gravity: 1}}, "is no scope": {{Name: "a", Gravity: 1, Scopes: []string{"a b"}}},
		"more stars": {{Name: "a", Gravity: 1, Scopes: []string{"*****"}}},
	} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			_, err := consent.NewLadder(tiers)
			require.ErrorContains(t, err, want)
		})
	}
}

func FuzzMatches(f *testing.F) {
	f.Add("calendar.*", "calendar.read")
	f.Add("*.all", "mail.all")
	f.Add("a*b*c", "abbc")
	f.Fuzz(func(t *testing.T, pattern, scope string) {
		if strings.Count(pattern, "*") > 4 || len(pattern)+len(scope) > 60 {
			return
		}
		require.Equal(t, slowly(pattern, scope), consent.Matches(pattern, scope), "%q %q", pattern, scope)
	})
}

// slowly matches letter by letter.
func slowly(pattern, scope string) bool {
	switch {
	case pattern == "":
		return scope == ""
	case pattern[0] == '*':
		return slowly(pattern[1:], scope) || scope != "" && slowly(pattern, scope[1:])
	}
	return scope != "" && scope[0] == pattern[0] && slowly(pattern[1:], scope[1:])
}

func TestGrades(t *testing.T) {
	judge := compile(t, allowMild)
	at := func(uris ...string) *consent.Client {
		return &consent.Client{Name: "c", Publisher: consent.Publisher{Title: "P", Domain: "p.example", Vetted: true}, RedirectURIs: uris}
	}
	for name, c := range map[string]struct {
		client *consent.Client
		usage  consent.Usage
		danger int
		level  directory.Level
		reason string
	}{
		"harmless": {at("https://p.example/cb"), consent.Usage{Holds: []string{"openid"}, Users: 3, LastUsed: monday}, 0, directory.NoRisk,
			""},
		"below domain": {at("https://app.p.example/cb", "http://[::1]:7/cb", "example.p:/cb", "example.p.app:/cb"), consent.Usage{}, 0,
			directory.NoRisk, ""},
		"middle tier": {at(), consent.Usage{Holds: []string{"calendar.read"}}, 22, directory.LowRisk, "It holds calendar.read (middle)."},
		"gravest tier": {at(), consent.Usage{Holds: []string{"openid"}, Wants: []string{"mail.read"}}, 50, directory.MediumRisk,
			"It asks for mail.read (grave)."},
		"unlisted":   {at(), consent.Usage{Wants: []string{"chat"}}, 55, directory.MediumRisk, "No tier lists chat."},
		"plain http": {at("http://p.example/cb"), consent.Usage{}, 15, directory.LowRisk, "It is answered over plain http at p.example."},
		"wildcard": {at("https://*.p.example/cb"), consent.Usage{}, 20, directory.LowRisk,
			"It may be answered wherever https://*.p.example/cb fits."},
		"other domain": {at("https://q.example/cb"), consent.Usage{}, 10, directory.LowRisk,
			"It is answered at q.example, which is not under p.example."},
		"bare scheme": {at("myapp:/cb"), consent.Usage{}, 15, directory.LowRisk, "Any program on the device can take myapp: for itself."},
		"other scheme": {at("example.q:/cb"), consent.Usage{}, 5, directory.LowRisk,
			"Its scheme example.q is not its publisher's domain reversed."},
		"many": {at(), consent.Usage{Users: 10, LastUsed: monday}, 10, directory.LowRisk, "10 accounts use it."},
		"unused": {at(), consent.Usage{Users: 1, LastUsed: monday.AddDate(0, 0, -100)}, 15, directory.LowRisk,
			"It was not used for 100 days."},
		"never used":   {at(), consent.Usage{Users: 1, Since: monday.AddDate(-1, 0, 0)}, 15, directory.LowRisk, "It was not used for 365 days."},
		"nobody knows": {nil, consent.Usage{}, 20, directory.LowRisk, "Nobody knows who makes it."},
		"unvetted": {&consent.Client{Publisher: consent.Publisher{Title: "P"}}, consent.Usage{}, 15, directory.LowRisk,
			"Nobody vetted its publisher, P."},
		"nameless": {&consent.Client{}, consent.Usage{}, 20, directory.LowRisk, "It does not say who makes it."},
		"barred, held": {&consent.Client{Standing: consent.Barred, Publisher: consent.Publisher{Vetted: true}}, consent.Usage{Users: 1,
			LastUsed: monday}, 60, directory.MediumRisk, "It is barred, and 1 account let it in before."},
		"all at once": {&consent.Client{RedirectURIs: []string{"http://x.example", "https://*"}}, consent.Usage{Holds: []string{"all.all"},
			Users: 12}, 100, directory.HighRisk, "It holds all.all (grave)."},
	} {
		t.Run(name, func(t *testing.T) {
			g := judge.GradeClient(c.client, false, c.usage, monday)
			require.Equal(t, c.danger, g.Danger, "%s: %v", name, g.Reasons)
			require.Equal(t, c.level, g.Level, name)
			if c.reason != "" {
				require.True(
					t,
					slices.ContainsFunc(g.Reasons, func(r consent.Reason) bool { return r.Text == c.reason }),
					"%s: %v",
					name,
					g.Reasons,
				)
			}
		})
	}
}

// TestHowLongAnApprovalIsTold: of several for one scope the longest, and of several scopes the shortest.
func TestHowLongAnApprovalIsTold(t *testing.T) {
	approval := func(scope string, days int) consent.Approval {
		a := consent.Approval{Client: "tides", Scopes: []string{scope}}
		if days > 0 {
			a.Until = monday.AddDate(0, 0, days)
		}
		return a
	}
	for name, c := range map[string]struct {
		approvals []consent.Approval
		days      int
	}{
		"one":                {[]consent.Approval{approval("chat", 3), approval("talk", 0)}, 3},
		"the longer of two":  {[]consent.Approval{approval("chat", 3), approval("chat", 5), approval("talk", 9)}, 5},
		"in the other order": {[]consent.Approval{approval("chat", 5), approval("chat", 3), approval("talk", 9)}, 5},
		"one without an end": {[]consent.Approval{approval("chat", 5), approval("chat", 0), approval("talk", 9)}, 9},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := compile(t, allowMild).Decide(t.Context(), &consent.Request{At: monday, Account: "ann", Client: "tides",
				Scopes: []string{"chat", "talk"}, RedirectURI: "https://tides.example/cb"}, consent.Known{Approvals: c.approvals})
			require.NoError(t, err)
			require.Equal(t, monday.AddDate(0, 0, c.days), d.Until)
		})
	}
}

func TestWhoMayReview(t *testing.T) {
	judge := compile(t, "consent: {reviewers: {accounts: [ann, gone]}}")
	for name, may := range map[string]bool{"ann": true, "gone": false, "bob": false, "nobody": false} {
		require.Equal(t, may, judge.MayReview(t.Context(), name, monday), name)
	}
}
