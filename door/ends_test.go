package door_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
)

// signedIn is a token of somebody who signed in at a moment.
type signedIn struct {
	issuer, sid, account string
	at                   time.Time
	token                string
}

// ends are until when what was authenticated counts no more, as section 10 of the design has it: of accounts, and of sessions.
type ends map[string]time.Time

func (e ends) until(name string, at time.Time) {
	if at.After(e[name]) {
		e[name] = at
	}
}

// holds reports whether an end holds against a token, in whole seconds.
func (e ends) holds(s *signedIn) bool {
	for _, name := range []string{s.account, s.sid + " of " + s.account, s.issuer + " " + s.sid + " of " + s.account} {
		if end := e[name]; !end.IsZero() && !s.at.Truncate(time.Second).After(end.Truncate(time.Second)) {
			return true
		}
	}
	return false
}

// TestEndsHold: nothing authenticated at or before a revocation, or a session's end, is admitted after it, at whichever of two doors, in
// whichever order they hear of it, while clocks are put forward and back; and who signs in after it is admitted.
func TestEndsHold(t *testing.T) {
	p := doortest.NewProvider(t)
	const second = "https://second.example"
	for seed := range *modelRuns {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(uint64(seed), 28))
			address := storetest.Postgres(t)
			var doors []*doortest.House
			for _, name := range []string{"north", "south"} {
				s, err := postgres.Open(t.Context(), address)
				require.NoError(t, err)
				t.Cleanup(func() { s.Close() })
				doors = append(doors, boundedHouse(t, p, s, name, func(c *door.Config) {
					other := c.Tokens[0]
					other.Issuer = second
					c.Tokens = append(c.Tokens, other)
				}))
			}
			either := func() *doortest.House { return doors[r.IntN(2)] }
			var tokens []*signedIn
			held, events := ends{}, 0
			tell := func(iss, kind string, subject map[string]any, at time.Time) {
				h := either()
				events++
				e := doortest.Event(fmt.Sprint("e-", events), kind, subject, map[string]any{"event_timestamp": at.Unix()})
				e["iss"], e["iat"] = iss, h.Clock().Unix()
				status, text := h.PushEvent(p.Sign("first", "secevent+jwt", e))
				require.Equal(t, http.StatusAccepted, status, text)
			}
			var story []string
			for range 60 {
				for _, h := range doors {
					h.Forget()
				}
				account, sid, iss := []string{"ann", "root"}[r.IntN(2)], []string{"s-1", "s-2"}[r.IntN(2)], []string{issuer, second}[r.IntN(2)]
				who := map[string]any{"format": "opaque", "id": account}
				what := map[string]any{"format": "complex", "user": who, "session": map[string]any{"format": "opaque", "id": sid}}
				now := doors[0].Clock()
				at := now.Add(-time.Duration(r.IntN(3)) * time.Minute) // an event may be late
				step := ""
				switch r.IntN(10) {
				case 0, 1, 2:
					s := &signedIn{issuer: iss, sid: sid, account: account, at: now}
					s.token = doors[0].Bearer(p, sid, map[string]any{"iss": iss, "sub": account})
					tokens, step = append(tokens, s), "signs in"
				case 3:
					tell(issuer, caep+"session-revoked", who, at)
					held.until(account, at)
					step = "is revoked"
				case 4:
					tell(issuer, caep+"session-revoked", what, at)
					held.until(issuer+" "+sid+" of "+account, at)
					step = "session is revoked by its issuer"
				case 5:
					tell(feed, caep+"session-revoked", what, at)
					held.until(sid+" of "+account, at)
					step = "session is revoked by another"
				case 6:
					status, _, _ := either().Ask("DELETE", "/v1/sessions/"+store.SessionID(iss, sid, account), all, nil)
					if status == http.StatusNoContent {
						held.until(iss+" "+sid+" of "+account, now)
					}
					step = fmt.Sprint("session is ended ", status)
				case 7:
					status, _, text := either().Ask("DELETE", "/v1/sessions?account="+account, all, nil)
					require.Equal(t, http.StatusNoContent, status, string(text))
					held.until(account, now)
					step = "is ended"
				case 8:
					_, err := either().Review(t.Context())
					require.NoError(t, err)
				default:
					d := time.Duration(r.IntN(160)-40) * time.Second // clocks may be put back
					for _, h := range doors {
						h.Pass(d)
					}
				}
				story = append(story, fmt.Sprintf("%s %s %s %s (at %s)", now.Format(time.TimeOnly), account, sid, iss+" "+step,
					at.Format(time.TimeOnly)))
				for i, s := range tokens {
					if r.IntN(3) > 0 && i < len(tokens)-1 {
						continue // not each is seen each time
					}
					status, text := either().Opens(s.token, "mail")
					ahead := s.at.After(doors[0].Clock().Add(attempt.Skew)) // of a clock that was put back since
					want := map[bool]int{true: 401, false: 200}[held.holds(s) || ahead]
					require.Equal(t, want, status, "%s %s %s of %s\n%s\n%v", s.issuer, s.sid, s.account, s.at.Format(time.TimeOnly), text, story)
				}
			}
		})
	}
}
