package inspect

import (
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/explore"
)

// Whether somebody gets in at all, now and in the coming year, is found out from all circumstances.

// ahead is all that can come about until the horizon, with the conditions under which accounts have to get in.
type ahead struct {
	space *explore.Space
	// atHome is from an own network and in a browser, unattended as machines sign on, and anyhow whatever is so.
	atHome, unattended, anyhow condition.Node
}

// horizon is how far ahead things are looked at.
const horizon = explore.Horizon

// longestShut is how long nobody notices that an account gets in nowhere: for that long the book's hours may shut it
// out.
const longestShut = 7 * 24 * time.Hour

// lookAhead makes the space of all circumstances, once.
func (in *Pass) lookAhead() (*ahead, error) {
	if in.ahead != nil {
		return in.ahead, nil
	}
	through := func(t attempt.Through) condition.Node {
		return &condition.Test{Key: engine.KeyThrough, Values: []string{t.String()}}
	}
	home := []condition.Node{through(attempt.Browser)}
	if in.hasOwnNetwork() {
		home = append(home, &condition.Test{Key: engine.KeyOurNetwork, Values: []string{"true"}})
	}
	a := &ahead{atHome: &condition.All{Of: home}, unattended: through(attempt.Unattended), anyhow: &condition.All{}}
	var err error
	asked := append([]condition.Node{a.atHome, a.unattended}, in.valuesAlone()...)
	if a.space, err = explore.New(in.Judge, in.At, in.At.Add(horizon), asked...); err != nil {
		return nil, err
	}
	for _, where := range []*condition.Node{&a.atHome, &a.unattended} {
		if *where, err = a.space.Bind("inspect", *where); err != nil {
			return nil, err
		}
	}
	in.ahead = a
	return a, nil
}

// daysAhead are now and the days until the horizon on which something of the book begins or ends.
func (in *Pass) daysAhead() []time.Time {
	days := []time.Time{in.At}
	if a, err := in.lookAhead(); err == nil {
		days = append(days, a.space.Days()...)
	}
	return days
}

func (in *Pass) hasOwnNetwork() bool {
	for i := range in.Directory.Networks {
		if in.Directory.Networks[i].Ours {
			return true
		}
	}
	return false
}

// shutOut says from when on, and until when, an account gets in nowhere for more than a week until the horizon, in days of
// the book's zone, on a fit device of its own, and on those registered that it may use.
func (in *Pass) shutOut(account *directory.Account, under func(*ahead) condition.Node) (when string, is bool) {
	a, err := in.lookAhead()
	if err != nil {
		return "", false // the judge was compiled from the same
	}
	shut, is := a.space.Quiet(in.goodDevices(account.Name)).ShutOut(in.Context, account.Name, under(a), longestShut)
	if !is {
		return "", false
	}
	day := func(t time.Time) string { return t.In(in.Directory.Zone).Format(time.DateOnly) }
	if shut.To.Before(in.At.Add(horizon)) {
		return "from " + day(shut.From) + " until " + day(shut.To), true
	}
	return "from " + day(shut.From) + " on", true
}
