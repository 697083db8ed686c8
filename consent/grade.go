package consent

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Usage is what is known of how a client is used.
type Usage struct {
	// Holds are the scopes that it was given by anybody, Wants those that it
	// waits for.
	Holds, Wants []string
	// Users is how many people let it in.
	Users int
	// LastUsed is when it was last used; zero where that is not known.
	LastUsed time.Time
	// Since is when it was first let in; zero where it never was.
	Since time.Time
}

// Grade says how dangerous a client is, with the reasons.
type Grade struct {
	Danger int `json:"danger" doc:"points from 0, harmless, to 100"`
	// Level is low from 1, medium from 40 and high from 70 points.
	Level   directory.Level `json:"level" doc:"none, low, medium or high"`
	Reasons []Reason        `json:"reasons" doc:"what makes it so, the weightiest first"`
}

// Reason is what adds to the danger of a client.
type Reason struct {
	Points int    `json:"points" doc:"what it adds"`
	Text   string `json:"text" doc:"the reason in a sentence"`
}

// What adds to the danger of a client, in points. The gravest tier weighs
// gravest, and each milder one its part of that.
const (
	gravestTier      = 45
	unlistedScope    = 10
	lastingScope     = 10
	unvetted         = 15
	noPublisher      = 5
	plainRedirect    = 15
	wildcardRedirect = 20
	otherDomain      = 10
	schemeRedirect   = 5
	manyUsers        = 10
	longUnused       = 15
	wantsMore        = 5
	barredAndHeld    = 60

	// many is from how many users a client is used by many, and unusedAfter how long
	// it may rest.
	many        = 10
	unusedAfter = 90 * 24 * time.Hour
)

// GradeClient grades a client by what it holds and asks for, how many people use
// it, who makes it, where it is answered and how long it was not used. The client
// may be nil where nobody knows it.
func (j *Judge) GradeClient(client *Client, barred bool, u Usage, now time.Time) Grade {
	g := Grade{Reasons: []Reason{}}
	add := func(points int, format string, args ...any) {
		g.Reasons = append(g.Reasons, Reason{points, fmt.Sprintf(format, args...)})
		g.Danger += points
	}
	j.gradeScopes(u, add)
	gradePublisher(client, add)
	if client != nil {
		for _, uri := range client.RedirectURIs {
			gradeRedirect(client, uri, add)
		}
	}
	if u.Users >= many {
		add(manyUsers, "%s use it.", words.Count(u.Users, "account"))
	}
	if u.Users > 0 {
		last := u.LastUsed
		if last.IsZero() {
			last = u.Since
		}
		if !last.IsZero() && now.Sub(last) >= unusedAfter {
			add(longUnused, "It was not used for %s.", words.Count(int(now.Sub(last)/(24*time.Hour)), "day"))
		}
		if barred || client != nil && client.Standing == Barred {
			add(barredAndHeld, "It is barred, and %s let it in before.", words.Count(u.Users, "account"))
		}
	}
	g.Danger = min(g.Danger, 100)
	for _, bar := range []struct {
		from  int
		level directory.Level
	}{{1, directory.LowRisk}, {40, directory.MediumRisk}, {70, directory.HighRisk}} {
		if g.Danger >= bar.from {
			g.Level = bar.level
		}
	}
	slices.SortStableFunc(g.Reasons, func(a, b Reason) int { return cmp.Or(cmp.Compare(b.Points, a.Points), cmp.Compare(a.Text, b.Text)) })
	return g
}

func (j *Judge) gradeScopes(u Usage, add func(int, string, ...any)) {
	all := j.ladder.Sort(slices.Concat(u.Holds, u.Wants))
	if len(all) == 0 {
		return
	}
	gravest := all[len(all)-1]
	rank, listed := j.ladder.Rank(gravest)
	// The mildest tier weighs nothing and the gravest all; what no tier lists weighs
	// like the gravest.
	if steps := len(j.ladder.tiers) - 1; steps > 0 {
		if weight := gravestTier * min(rank, steps) / steps; weight > 0 {
			verb := "It holds"
			if !slices.Contains(u.Holds, gravest) {
				verb = "It asks for"
			}
			add(weight, "%s %s (%s).", verb, gravest, j.ladder.TierOf(gravest))
		}
	}
	if !listed {
		add(unlistedScope, "No tier lists %s.", gravest)
	}
	if i := slices.IndexFunc(u.Holds, j.ladder.IsLasting); i >= 0 {
		add(lastingScope, "It keeps its access when the person has left (%s).", u.Holds[i])
	}
	for _, want := range u.Wants {
		if len(u.Holds) > 0 && !slices.Contains(u.Holds, want) {
			add(wantsMore, "It asks for more than it holds: %s.", want)
			break
		}
	}
}

func gradePublisher(client *Client, add func(int, string, ...any)) {
	switch {
	case client == nil:
		add(unvetted+noPublisher, "Nobody knows who makes it.")
	case client.Publisher.Vetted:
	case client.Publisher.Title == "" && client.Publisher.Domain == "":
		add(unvetted+noPublisher, "It does not say who makes it.")
	default:
		add(unvetted, "Nobody vetted its publisher, %s.", cmp.Or(client.Publisher.Title, client.Publisher.Domain))
	}
}

// gradeRedirect looks at one place where a client may be answered.
func gradeRedirect(client *Client, uri string, add func(int, string, ...any)) {
	u, err := url.Parse(uri)
	switch domain := client.Publisher.Domain; {
	case strings.Contains(uri, "*"):
		add(wildcardRedirect, "It may be answered wherever %s fits.", uri)
	case err != nil || u.Scheme == "":
		add(plainRedirect, "%q is no place to be answered at.", uri)
	case isLoopback(u):
		// A native app that listens on its own machine (RFC 8252 §7.3).
	case u.Scheme == "http":
		add(plainRedirect, "It is answered over plain http at %s.", u.Host)
	case u.Scheme != "https":
		// A native app with a scheme of its own (RFC 8252 §7.1), which should be its
		// domain reversed; any app on the device can take another.
		if !strings.Contains(u.Scheme, ".") {
			add(plainRedirect, "Any program on the device can take %s: for itself.", u.Scheme)
		} else if domain != "" && reversed(domain) != u.Scheme && !strings.HasPrefix(u.Scheme, reversed(domain)+".") {
			add(schemeRedirect, "Its scheme %s is not its publisher's domain reversed.", u.Scheme)
		}
	case domain != "" && u.Hostname() != domain && !strings.HasSuffix(u.Hostname(), "."+domain):
		add(otherDomain, "It is answered at %s, which is not under %s.", u.Hostname(), domain)
	}
}

// reversed turns a domain round, as private-use schemes are named.
func reversed(domain string) string {
	labels := strings.Split(strings.ToLower(domain), ".")
	slices.Reverse(labels)
	return strings.Join(labels, ".")
}
