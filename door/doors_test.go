package door_test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// told is something that is told to a door, and what it answers.
type told struct {
	what string
	at   func(h *doortest.House) int
}

// anything draws something to tell: statements by two feeds and two issuers, in and out of order, of accounts that come, go and
// are made anew, reports of a device, and sign-ins that fail and succeed.
func anything(r *rand.Rand, p *doortest.Provider) told {
	name := []string{"ann", "root", "new"}[r.IntN(3)]
	account := name + "@shop.example"
	feeds, issuers := []string{all, "bw_payroll"}, []string{feed, "https://other.example"}
	by, iss, minutes, active := feeds[r.IntN(2)], issuers[r.IntN(2)], r.IntN(5)-4, r.IntN(2) == 0
	more := fmt.Sprintf(`,"active":%t`, active)
	switch r.IntN(10) {
	case 0:
		return told{"POST " + name, func(h *doortest.House) int { return h.As(by, "POST", "/Users", doortest.User(name, more)) }}
	case 1, 2:
		return told{"PUT " + name, func(h *doortest.House) int {
			return h.As(by, "PUT", "/Users/"+doortest.UserID(name), doortest.User(name, more))
		}}
	case 3:
		return told{"DELETE " + name, func(h *doortest.House) int { return h.As(by, "DELETE", "/Users/"+doortest.UserID(name), "") }}
	case 4:
		members := []string{name, "root"}[:1+r.IntN(2)]
		return told{"PUT staff", func(h *doortest.House) int {
			if status := h.As(by, "PUT", "/Groups/"+doortest.GroupID("staff"), doortest.Group("staff", members...)); status != 404 {
				return status
			}
			return h.As(by, "POST", "/Groups", doortest.Group("staff", members...))
		}}
	case 5:
		kind := risc + []string{"account-disabled", "account-enabled"}[r.IntN(2)]
		return told{kind, func(h *doortest.House) int { return h.Tells(p, all, iss, kind, account, minutes, nil) }}
	case 6:
		level := []string{"LOW", "MEDIUM", "HIGH"}[r.IntN(3)]
		return told{"risk " + level, func(h *doortest.House) int {
			return h.Tells(p, all, iss, caep+"risk-level-change", account, minutes, map[string]any{"principal": "USER", "current_level": level})
		}}
	case 7:
		kind := caep + "credential-change"
		change := []string{"create", "revoke"}[r.IntN(2)]
		return told{kind, func(h *doortest.House) int {
			return h.Tells(p, all, iss, kind, account, minutes, map[string]any{"credential_type": "password", "change_type": change})
		}}
	case 8:
		body := fmt.Sprintf(`{"account":%q,"app":"mail","failed":[{"method":"password","reason":"refused"}]}`, account)
		return told{"fails", func(h *doortest.House) int { h.Answer(body); return 0 }}
	}
	body := fmt.Sprintf(`{"account":%q,"app":"mail","device":{"id":"till"},"session":{"id":"s-%d"},"proofs":[%s]}`, account, r.IntN(4),
		password)
	return told{"signs on", func(h *doortest.House) int { h.Answer(body); return 0 }}
}

// TestDoorsInTurnComeToTheSame: whatever is told, at whichever of two doors on one database, and on a file, comes to the facts
// that one door in memory comes to.
func TestDoorsInTurnComeToTheSame(t *testing.T) {
	p := doortest.NewProvider(t)
	at := storetest.Postgres(t)
	for seed := range 4 {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(uint64(seed), 27))
			if seed > 0 {
				at = storetest.Postgres(t)
			}
			onDatabase := func(name string) *doortest.House {
				s, err := postgres.Open(t.Context(), at)
				require.NoError(t, err)
				t.Cleanup(func() { s.Close() })
				return shopOn(t, s, name, p)
			}
			file, err := sqlite.Open(filepath.Join(t.TempDir(), "door.db"))
			require.NoError(t, err)
			t.Cleanup(func() { file.Close() })
			alone, onFile, doors := shopOn(t, nil, "door", p), shopOn(t, file, "door", p), []*doortest.House{
				onDatabase("north"),
				onDatabase("south"),
			}
			second := shopOn(t, &neverFirst{}, "door", p)
			houses := append([]*doortest.House{alone, onFile, second}, doors...)
			for range 60 {
				x := anything(r, p)
				for _, h := range houses {
					h.Pass(time.Second)
					h.Forget() // what another did is heard of in its time, which is not awaited here
				}
				want := x.at(alone)
				require.Equal(t, want, x.at(onFile), x.what)
				require.Equal(t, want, x.at(second), x.what)
				require.Equal(t, want, x.at(doors[r.IntN(2)]), x.what)
			}
			for _, name := range []string{"ann@shop.example", "root@shop.example", "new@shop.example"} {
				want := keptOf(t, alone, name)
				for _, h := range houses {
					h.Forget()
					require.JSONEq(t, want, keptOf(t, h, name), name)
				}
				for _, h := range houses[1:] { // which is noted, so that it comes last
					require.Equal(t, alone.Cause(name, "mail", ""), h.Cause(name, "mail", ""))
				}
			}
			for _, h := range houses[1:] {
				_, err := journal.Verify(t.Context(), h.Kept, journal.Verification{})
				require.NoError(t, err)
			}
		})
	}
}

// neverFirst is a store in which another is always first, so that each transaction is done again.
type neverFirst struct{ store.Memory }

// Update implements store.Store.
func (s *neverFirst) Update(ctx context.Context, change func(store.Tx) error) error {
	another := errors.New("another was first")
	if err := s.Memory.Update(ctx, func(tx store.Tx) error { return cmp.Or(change(tx), another) }); !errors.Is(err, another) {
		return err
	}
	return s.Memory.Update(ctx, change)
}

// keptOf is what a store keeps of an account, but for the resources that feeds pushed, which bear the time of their making.
func keptOf(t *testing.T, h *doortest.House, name string) string {
	a := h.Account(name)
	a.Pushed = nil
	text := store.RowOf(a).Value
	require.True(t, json.Valid(text))
	return string(text)
}
