package acts

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/consent"
)

// Batch is what several people wait for alike.
type Batch struct {
	Client   string           `json:"client" doc:"the client_id"`
	Title    string           `json:"title,omitzero" doc:"what people know it as"`
	Resource consent.Resource `json:"resource,omitzero" doc:"whose data it is about"`
	Redirect string           `json:"redirect_uri,omitzero" doc:"where the client wants to be answered"`
	// Scopes are from the mildest to the gravest, each with what the rules say.
	Scopes   []consent.ScopeDecision `json:"scopes" doc:"the scopes, the mildest first, with what the rules say"`
	Causes   []consent.Cause         `json:"causes" doc:"why a reviewer looks"`
	Grade    consent.Grade           `json:"grade" doc:"how dangerous the client is"`
	Requests []Request               `json:"requests" doc:"the requests, the oldest first"`
}

// Queue returns what waits at a moment, the most dangerous clients first.
func (d *Desk) Queue(ctx context.Context, at time.Time) ([]Batch, error) {
	batches := []Batch{}
	err := d.look(ctx, at, func(s *sitting) error {
		uses, err := s.usage()
		if err != nil {
			return err
		}
		knows := knowing(s)
		waiting, err := s.waiting("")
		if err != nil {
			return err
		}
		type key struct{ client, asked string }
		places := map[key]int{}
		for _, r := range waiting {
			k := key{r.Client, r.asked()}
			if i, is := places[k]; is {
				batches[i].Requests = append(batches[i].Requests, *r)
				continue
			}
			places[k] = len(batches)
			known, err := knows(r.Client)
			if err != nil {
				return err
			}
			decision, err := d.judge.Decide(ctx, r.of(at), known)
			if err != nil {
				return err
			}
			b := Batch{
				Client:   r.Client,
				Resource: r.Resource,
				Redirect: r.Redirect,
				Scopes:   decision.Scopes,
				Causes:   decision.Causes,
				Requests: []Request{*r},
			}
			c, err := s.clientOf(r.Client)
			if err != nil {
				return err
			}
			if c != nil {
				b.Title = c.Title
			}
			b.Grade = d.judge.GradeClient(c, known.Barred, *uses.of(r.Client), at)
			batches = append(batches, b)
		}
		return nil
	})
	slices.SortStableFunc(batches, func(a, b Batch) int {
		return cmp.Or(cmp.Compare(b.Grade.Danger, a.Grade.Danger), cmp.Compare(a.Requests[0].Number, b.Requests[0].Number))
	})
	return batches, err
}

// knowing returns a function that returns what is known of a client to anybody, which is
// read once.
func knowing(s *sitting) func(client string) (consent.Known, error) {
	seen := map[string]consent.Known{}
	return func(client string) (consent.Known, error) {
		if known, is := seen[client]; is {
			return known, nil
		}
		known, err := s.known(client)
		seen[client] = known
		return known, err
	}
}

// Entry is a client in the register.
type Entry struct {
	Client    string            `json:"client" doc:"the client_id"`
	Title     string            `json:"title,omitzero" doc:"what people know it as"`
	Publisher consent.Publisher `json:"publisher,omitzero" doc:"who makes it"`
	Standing  consent.Standing  `json:"standing" doc:"unreviewed, approved or barred"`
	Because   string            `json:"because,omitzero" doc:"the reason of its standing"`
	Grade     consent.Grade     `json:"grade" doc:"how dangerous it is"`
	Users     int               `json:"users" doc:"how many accounts let it in"`
	Ever      bool              `json:"ever" doc:"true where somebody let it in at some time"`
	Scopes    []string          `json:"scopes" doc:"what it was given by anybody, the mildest first"`
	LastUsed  time.Time         `json:"last_used,omitzero" doc:"when it was last used, as far as is known"`
	Waiting   int               `json:"waiting" doc:"how many requests wait"`
}

// Register returns all clients, the most dangerous first.
func (d *Desk) Register(ctx context.Context, at time.Time) ([]Entry, error) {
	entries := []Entry{}
	err := d.look(ctx, at, func(s *sitting) error {
		names, err := s.names()
		if err != nil {
			return err
		}
		uses, err := s.usage()
		if err != nil {
			return err
		}
		for _, name := range names {
			kept, err := s.client(name)
			if err != nil {
				return err
			}
			c, err := s.clientOf(name)
			if err != nil {
				return err
			}
			u := uses.of(name)
			e := Entry{Client: name, Grade: d.judge.GradeClient(c, kept.Bar != nil, *u, at), Users: u.Users, Ever: kept.Ever, Scopes: u.Holds,
				LastUsed: u.LastUsed, Waiting: uses.waiting[name]}
			if c != nil {
				e.Title, e.Publisher, e.Standing, e.Because = c.Title, c.Publisher, c.Standing, c.Because
			}
			if kept.Bar != nil {
				e.Standing, e.Because = consent.Barred, kept.Bar.Because
			}
			entries = append(entries, e)
		}
		return nil
	})
	slices.SortStableFunc(entries, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(b.Grade.Danger, a.Grade.Danger), cmp.Compare(a.Client, b.Client))
	})
	return entries, err
}

// Usage returns how each client is used, by name.
func (d *Desk) Usage(ctx context.Context, at time.Time) (map[string]consent.Usage, error) {
	all := map[string]consent.Usage{}
	err := d.look(ctx, at, func(s *sitting) error {
		names, err := s.names()
		if err != nil {
			return err
		}
		uses, err := s.usage()
		for _, name := range names {
			all[name] = *uses.of(name)
		}
		return err
	})
	return all, err
}

// uses is how clients are used, by name, and how many requests of each wait.
type uses struct {
	all     map[string]*consent.Usage
	waiting map[string]int
}

// of returns how a client is used.
func (u uses) of(client string) *consent.Usage {
	if u.all[client] == nil {
		u.all[client] = &consent.Usage{Holds: []string{}, Wants: []string{}}
	}
	return u.all[client]
}

// usage sums up how clients are used.
func (s *sitting) usage() (uses, error) {
	u := uses{map[string]*consent.Usage{}, map[string]int{}}
	grants, err := s.grants("")
	if err != nil {
		return u, err
	}
	holds, wants := map[string]map[string]bool{}, map[string]map[string]bool{}
	note := func(sets map[string]map[string]bool, client string, scopes []string) {
		if sets[client] == nil {
			sets[client] = map[string]bool{}
		}
		for _, scope := range scopes {
			sets[client][scope] = true
		}
	}
	before := new(grant)
	for _, g := range grants { // by client and account
		use := u.of(g.Client)
		if g.Client != before.Client || g.Account != before.Account {
			use.Users++
		}
		before = g
		note(holds, g.Client, g.Scopes)
		if g.LastUsed.After(use.LastUsed) {
			use.LastUsed = g.LastUsed
		}
		if use.Since.IsZero() || g.Since.Before(use.Since) {
			use.Since = g.Since
		}
	}
	waiting, err := s.waiting("")
	if err != nil {
		return u, err
	}
	for _, r := range waiting {
		u.waiting[r.Client]++
		note(wants, r.Client, r.Scopes)
	}
	for client := range holds {
		u.of(client).Holds = s.desk.judge.Ladder().Sort(slices.Collect(maps.Keys(holds[client])))
	}
	for client := range wants {
		u.of(client).Wants = s.desk.judge.Ladder().Sort(slices.Collect(maps.Keys(wants[client])))
	}
	return u, nil
}

// Stray is a grant that today's rules would not allow.
type Stray struct {
	Grant
	Outcome consent.Outcome `json:"outcome" doc:"what the rules would say today"`
	Causes  []consent.Cause `json:"causes" doc:"why"`
	// Over are the scopes that are not allowed.
	Over []string `json:"over" doc:"the scopes that are not allowed, the mildest first"`
}

// Strays returns the grants that would not be allowed today, by client and
// account: rules were tightened, an approval ended, or they were imported.
func (d *Desk) Strays(ctx context.Context, at time.Time) ([]Stray, error) {
	strays := []Stray{}
	err := d.look(ctx, at, func(s *sitting) error {
		grants, err := s.granted("")
		if err != nil {
			return err
		}
		knows := knowing(s)
		for _, g := range grants {
			known, err := knows(g.Client)
			if err != nil {
				return err
			}
			decision, err := d.judge.Decide(ctx, &consent.Request{At: at, Account: g.Account, Client: g.Client, Scopes: g.Scopes,
				Resource: g.Resource, RedirectURI: d.answeredAt(known, g)}, known)
			if err != nil {
				return err
			}
			if decision.Outcome == consent.Allow {
				continue
			}
			stray := Stray{Grant: *g, Outcome: decision.Outcome, Causes: decision.Causes, Over: []string{}}
			for _, scope := range decision.Scopes {
				if scope.Outcome != consent.Allow {
					stray.Over = append(stray.Over, scope.Scope)
				}
			}
			strays = append(strays, stray)
		}
		return nil
	})
	slices.SortFunc(strays, func(a, b Stray) int {
		return cmp.Or(
			cmp.Compare(a.Outcome, b.Outcome),
			cmp.Compare(a.Client, b.Client),
			cmp.Compare(a.Account, b.Account),
			cmp.Compare(a.Resource.String(), b.Resource.String()),
		)
	})
	return strays, err
}

// answeredAt returns where the client of a grant is answered. A grant that came
// from another system does not say, so the client's first place stands in.
func (d *Desk) answeredAt(known consent.Known, g *Grant) string {
	if g.Redirect != "" {
		return g.Redirect
	}
	c := known.Client
	if of := d.judge.Clients()[g.Client]; of != nil {
		c = of
	}
	if c != nil && len(c.RedirectURIs) > 0 {
		return c.RedirectURIs[0]
	}
	return ""
}

// Holds returns the grants of one client, by account.
func (d *Desk) Holds(ctx context.Context, client string, at time.Time) ([]Grant, error) {
	grants := []Grant{}
	err := d.look(ctx, at, func(s *sitting) error {
		if err := s.mustKnow(client); err != nil {
			return err
		}
		held, err := s.granted(client)
		for _, g := range held {
			grants = append(grants, *g)
		}
		return err
	})
	return grants, err
}

// Queued, Registered, Strayed and Record are what the commands print as JSON.
type (
	// Queued is what waits.
	Queued struct {
		Batches []Batch `json:"batches" doc:"what waits, the most dangerous clients first"`
	}
	// Registered are the clients.
	Registered struct {
		Clients []Entry `json:"clients" doc:"all clients, the most dangerous first"`
		// Grants are set where one client was asked for.
		Grants []Grant `json:"grants,omitempty" doc:"who let the client in, and to what, where one was asked for"`
	}
	// Strayed are the grants that would not be allowed today.
	Strayed struct {
		Grants []Stray `json:"grants" doc:"grants that today's rules would not allow"`
	}
	// Record are acts.
	Record struct {
		Acts []Act `json:"acts" doc:"acts, in order"`
		// Covered is set where the record was held against a checkpoint.
		Covered *Covered `json:"covered,omitempty" doc:"what a checkpoint shows of the record, where one was given"`
	}
	// Signed is a checkpoint.
	Signed struct {
		Checkpoint string `json:"checkpoint" doc:"the checkpoint, a signed note"`
	}
	// PublicKey is what is told of a new key pair.
	PublicKey struct {
		Public string `json:"public_key" doc:"the public key, by which checkpoints are verified"`
	}
)
