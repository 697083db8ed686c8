package door_test

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch"
)

// TestWhatNoRoomDoesIsNotPromised: a door whose configuration asks for what none of its rooms does is not made.
func TestWhatNoRoomDoesIsNotPromised(t *testing.T) {
	p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
	for key, change := range map[string]func(*door.Config){
		"events": func(c *door.Config) { doortest.Telling(t, p, r)(c); c.Tell = door.Telling{} },
		"tell":   func(c *door.Config) { doortest.Telling(t, p, r)(c); c.Events = nil },
		"watch": func(c *door.Config) {
			c.Watch.Mail = watch.MailServer{Address: "localhost:25", From: "warden@kestrelsound.example", Security: watch.Clear}
		},
	} {
		t.Run(key, func(t *testing.T) {
			_, err := door.New(t.Context(), load, new(store.Memory), doortest.Configured(change), silent)
			require.ErrorContains(t, err, "the configuration has `"+key+"`, and none of the door's rooms does what it says")
		})
	}
	t.Run("a room that cannot be opened", func(t *testing.T) {
		options := silent
		options.Rooms = []door.Room{func(*door.Door) (*door.Opened, error) { return nil, doortest.ErrBroken }}
		_, err := door.New(t.Context(), load, new(store.Memory), doortest.Configured(nil), options)
		require.ErrorIs(t, err, doortest.ErrBroken)
	})
}

// TestKeysOfAProgram: a program hands the door keys as values or by a function, which is asked again for a key that is not known.
func TestKeysOfAProgram(t *testing.T) {
	p := doortest.NewProvider(t)
	public := func(kid string) jose.JSONWebKey {
		return jose.JSONWebKey{Key: p.Keys[kid].Public(), KeyID: kid, Algorithm: "ES256", Use: "sig"}
	}
	token := func(h *doortest.House, kid string) int {
		status, _, _ := h.AskGuard(p.Sign(kid, "at+jwt", doortest.Claims(h.Clock(), "pwd", "mca")), mail, pier, nil)
		return status
	}
	by := func(from door.KeysFrom) *doortest.House {
		return doortest.New(t, nil, func(c *door.Config) {
			doortest.Guarded(p)(c)
			c.Tokens[0].Keys, c.Tokens[0].KeysFrom = "", from
		})
	}
	t.Run("values", func(t *testing.T) {
		require.Equal(t, http.StatusOK, token(by(door.FixedKeys(public("first"))), "first"))
		require.Equal(t, http.StatusUnauthorized, token(by(door.FixedKeys()), "first"), "no keys verify nothing")
	})
	t.Run("a function", func(t *testing.T) {
		asked, fails := 0, false
		h := by(func(context.Context) (set jose.JSONWebKeySet, err error) {
			if asked++; fails {
				return set, errors.New("the vault is shut")
			}
			for kid := range p.Keys {
				set.Keys = append(set.Keys, public(kid))
			}
			return set, nil
		})
		require.Equal(t, http.StatusOK, token(h, "first"))
		p.Rotate("second")
		h.Pass(11 * time.Second)
		require.Equal(t, http.StatusOK, token(h, "second"))
		require.Equal(t, 2, asked)
		fails = true
		h.Pass(25 * time.Hour)
		require.Equal(t, http.StatusUnauthorized, token(h, "second"), "keys that cannot be read again are good for a day")
	})
	t.Run("one of both", func(t *testing.T) {
		for name, issuer := range map[string]door.TokenIssuer{"neither": {}, "both": {Keys: "https://idp.example/jwks",
			KeysFrom: door.FixedKeys(public("second"))}} {
			issuer.Issuer, issuer.Audience, issuer.Accounts = "https://idp.example", []string{"a"}, []string{"anyone"}
			require.ErrorContains(t, (&door.Config{Tokens: []door.TokenIssuer{issuer}}).Check(), "and one of both", name)
		}
	})
}

// TestTheAccessLog: a line a request, with who asked and what came, and without what may name people.
func TestTheAccessLog(t *testing.T) {
	h := doortest.New(t, nil, func(c *door.Config) { c.AccessLog = true })
	h.Logged.Reset()
	h.Answer(doortest.Ingrid("mail", password, ""))
	h.Ask("GET", "/v1/sessions?account=ingrid@kestrelsound.example", idle, nil)
	h.PlainAsk("GET", "/nowhere", "", nil)
	var lines []map[string]any
	for line := range strings.Lines(h.Logged.String()) {
		said := map[string]any{}
		require.NoError(t, json.Unmarshal([]byte(line), &said))
		if said["msg"] == "request" {
			require.NotContains(t, line, "ingrid@")
			require.NotContains(t, line, all)
			lines = append(lines, map[string]any{"path": said["path"], "status": said["status"], "caller": said["caller"]})
		}
	}
	require.Equal(t, []map[string]any{{"path": "/v1/decisions", "status": 200., "caller": "gateway"},
		{"path": "/v1/sessions", "status": 403., "caller": "meter"}, {"path": "/nowhere", "status": 404., "caller": ""}}, lines)
	h = doortest.New(t, nil, nil)
	h.Answer(doortest.Ingrid("mail", password, ""))
	require.NotContains(t, h.Logged.String(), `"msg":"request"`, "it is off unless asked for")
}
