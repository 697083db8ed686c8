package main

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
)

const marek, ingrid, ragna = "marek@gdansk-yard.example", "ingrid@kestrelsound.example", "ragna@kestrelsound.example"

// listening starts a server on loopback.
func listening(t *testing.T) (*server, *standin.Clock, string) {
	stands := time.Now()
	c := standin.NewClock(func() time.Time { return stands })
	s, err := newServer(t.Context(), c.Now)
	require.NoError(t, err)
	t.Cleanup(func() { s.door.Close() })
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- s.serve(ctx, conn, []byte("fathom")) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-ended)
	})
	return s, c, conn.LocalAddr().String()
}

// asking is a request of a gateway.
type asking struct{ name, password, from, nas, state string }

func (q asking) packet(t *testing.T, secret string) *radius.Packet {
	p := radius.New(radius.CodeAccessRequest, []byte(secret))
	require.NoError(t, rfc2865.UserName_SetString(p, q.name))
	require.NoError(t, rfc2865.UserPassword_SetString(p, q.password))
	require.NoError(t, rfc2865.CallingStationID_SetString(p, q.from))
	if q.nas != "" {
		require.NoError(t, rfc2865.NASIdentifier_SetString(p, q.nas))
	}
	if q.state != "" {
		require.NoError(t, rfc2865.State_SetString(p, q.state))
	}
	p, err := signed(p)
	require.NoError(t, err)
	return p
}

// ask sends a request and returns the answer, whose Message-Authenticator is right.
func ask(t *testing.T, addr string, q asking) *radius.Packet {
	request := q.packet(t, "fathom")
	p, err := radius.Exchange(t.Context(), request, addr)
	require.NoError(t, err)
	again := *p
	again.Authenticator = request.Authenticator
	require.True(t, isSigned(&again))
	require.Equal(t, rfc2869.MessageAuthenticator_Type, p.Attributes[0].Type)
	return p
}

func TestSignOns(t *testing.T) {
	s, c, addr := listening(t)
	password := s.people.Password
	said := func(p *radius.Packet) string { return strings.Join(must(rfc2865.ReplyMessage_GetStrings(p)), "") }
	challenged := func(t *testing.T, q asking) (asking, string) {
		p := ask(t, addr, q)
		require.Equal(t, radius.CodeAccessChallenge, p.Code, said(p))
		q.state = rfc2865.State_GetString(p)
		return q, said(p)
	}
	inTheYard := asking{name: marek, password: password(marek), from: "192.0.2.20"}
	atHome := asking{name: ingrid, password: password(ingrid), from: "192.0.2.200", nas: "crew-roster"}
	t.Run("a code", func(t *testing.T) {
		q, text := challenged(t, inTheYard)
		require.Equal(t, "Type the code of your app.", text)
		q.password = s.people.Code(marek, c.Now())
		p := ask(t, addr, q)
		require.Equal(t, radius.CodeAccessAccept, p.Code, said(p))
		p = ask(t, addr, q)
		require.Equal(t, radius.CodeAccessReject, p.Code, "a state counts once")
		q, _ = challenged(t, inTheYard)
		q.password = s.people.Code(marek, c.Now())
		require.Equal(t, radius.CodeAccessChallenge, ask(t, addr, q).Code, "and so does a code")
	})
	t.Run("elsewhere", func(t *testing.T) {
		q := inTheYard
		q.from = "192.0.2.200"
		p := ask(t, addr, q)
		require.Equal(t, radius.CodeAccessReject, p.Code)
		require.Contains(t, said(p), "Sign on from the yard or from one of our piers.")
	})
	t.Run("a number on the phone", func(t *testing.T) {
		q, text := challenged(t, atHome)
		shown := s.phones.Waiting(ingrid)
		require.Len(t, shown, 1)
		require.Contains(t, text, fmt.Sprintf("pprove number %d on your phone", shown[0].Number))
		page := httptest.NewRecorder()
		s.phones.Page(s.people, time.Local).ServeHTTP(page, httptest.NewRequest("GET", "/phone?"+url.Values{"account": {ingrid}}.Encode(), nil))
		require.Contains(t, page.Body.String(), "Is it you who signs on to crew-roster?")
		require.True(t, s.phones.Answer(ingrid, shown[0].ID, true, shown[0].Number))
		q.password = ""
		p := ask(t, addr, q)
		require.Equal(t, radius.CodeAccessAccept, p.Code, said(p))
	})
	t.Run("the wrong number", func(t *testing.T) {
		q, _ := challenged(t, atHome)
		shown := s.phones.Waiting(ingrid)
		require.True(t, s.phones.Answer(ingrid, shown[0].ID, true, shown[0].Number+1))
		q.password = ""
		require.NotEqual(t, radius.CodeAccessAccept, ask(t, addr, q).Code)
	})
	t.Run("nobody answers, and it took too long", func(t *testing.T) {
		c.Forward(time.Hour) // what was refused is long ago
		q, _ := challenged(t, atHome)
		q.password = ""
		require.NotEqual(t, radius.CodeAccessAccept, ask(t, addr, q).Code)
		q, _ = challenged(t, atHome)
		c.Forward(waits + time.Second)
		p := ask(t, addr, q)
		require.Equal(t, radius.CodeAccessReject, p.Code)
		require.Contains(t, said(p), "Begin again")
	})
	t.Run("a key cannot be typed", func(t *testing.T) {
		p := ask(t, addr, asking{name: ragna, password: password(ragna), from: "203.0.113.20"})
		require.Equal(t, radius.CodeAccessReject, p.Code)
		require.Contains(t, said(p), "Sign on in a browser, where you can prove")
	})
	t.Run("strangers", func(t *testing.T) {
		known := ask(t, addr, asking{name: marek, password: "wrong", from: "192.0.2.20"})
		unknown := ask(t, addr, asking{name: "nobody@gdansk-yard.example", password: "wrong", from: "192.0.2.20"})
		require.Equal(t, radius.CodeAccessReject, known.Code)
		require.Equal(t, said(known), said(unknown))
	})
	t.Run("a request of somebody else's challenge", func(t *testing.T) {
		q, _ := challenged(t, inTheYard)
		q.name, q.password = ingrid, s.people.Code(marek, c.Now())
		require.Equal(t, radius.CodeAccessReject, ask(t, addr, q).Code)
	})
}

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}

// TestLimits: a session lasts as long as the decision says, and no longer than until a window or a date passes.
func TestLimits(t *testing.T) {
	now := time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		limits      decide.Limits
		lasts, idle uint32
	}{
		"none":       {decide.Limits{}, 0, 0},
		"both":       {decide.Limits{Lasts: directory.Span(4 * time.Hour), Idle: directory.Span(15 * time.Minute)}, 4 * 60 * 60, 15 * 60},
		"until":      {decide.Limits{Until: now.Add(time.Hour)}, 60 * 60, 0},
		"until then": {decide.Limits{Lasts: directory.Span(4 * time.Hour), Until: now.Add(time.Hour)}, 60 * 60, 0},
		"before":     {decide.Limits{Lasts: directory.Span(30 * time.Minute), Until: now.Add(time.Hour)}, 30 * 60, 0},
	} {
		t.Run(name, func(t *testing.T) {
			r := &radius.Request{Packet: radius.New(radius.CodeAccessRequest, []byte("fathom"))}
			p, err := new(server).accept(r, &door.Answer{Decision: &decide.Decision{Limits: c.limits}}, now)
			require.NoError(t, err)
			require.Equal(t, c.lasts, uint32(rfc2865.SessionTimeout_Get(p)))
			require.Equal(t, c.idle, uint32(rfc2865.IdleTimeout_Get(p)))
		})
	}
}

// TestAskedAgain: a gateway that lost an answer gets the same one, and nothing is spent twice.
func TestAskedAgain(t *testing.T) {
	s, c, addr := listening(t)
	first := ask(t, addr, asking{name: marek, password: s.people.Password(marek), from: "192.0.2.20"})
	require.Equal(t, radius.CodeAccessChallenge, first.Code)
	p := asking{name: marek, password: s.people.Code(marek, c.Now()), from: "192.0.2.20",
		state: rfc2865.State_GetString(first)}.packet(t, "fathom")
	conn, err := net.Dial("udp", addr)
	require.NoError(t, err)
	defer conn.Close()
	text, err := p.Encode()
	require.NoError(t, err)
	var answers [2][]byte
	for i := range answers {
		_, err = conn.Write(text)
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(10*time.Second)))
		buffer := make([]byte, radius.MaxPacketLength)
		n, err := conn.Read(buffer)
		require.NoError(t, err)
		answers[i] = buffer[:n]
	}
	require.Equal(t, byte(radius.CodeAccessAccept), answers[0][0])
	require.True(t, bytes.Equal(answers[0], answers[1]))
}

// TestUnsigned: a request without a Message-Authenticator, or with a wrong one, is dropped.
func TestUnsigned(t *testing.T) {
	s, _, _ := listening(t)
	q := asking{name: marek, password: s.people.Password(marek), from: "192.0.2.20"}
	for name, p := range map[string]*radius.Packet{
		"another secret": q.packet(t, "leadline"),
		"none": func() *radius.Packet {
			p := q.packet(t, "fathom")
			rfc2869.MessageAuthenticator_Del(p)
			return p
		}(),
		"changed on the way": func() *radius.Packet {
			p := q.packet(t, "fathom")
			require.NoError(t, rfc2865.CallingStationID_SetString(p, "203.0.113.20"))
			return p
		}(),
	} {
		t.Run(name, func(t *testing.T) {
			sent := 0
			p.Secret = []byte("fathom")
			s.ServeRADIUS(writer(func(*radius.Packet) { sent++ }), &radius.Request{Packet: p, RemoteAddr: &net.UDPAddr{}})
			require.Zero(t, sent)
		})
	}
	sent := 0
	whole := q.packet(t, "fathom")
	r := (&radius.Request{Packet: whole, RemoteAddr: &net.UDPAddr{}}).WithContext(t.Context())
	s.ServeRADIUS(writer(func(*radius.Packet) { sent++ }), r)
	require.Equal(t, 1, sent, "the one as it was made is answered")
}

// FuzzPacket: no packet that somebody makes up stops the server, or gets an answer.
func FuzzPacket(f *testing.F) {
	p := radius.New(radius.CodeAccessRequest, []byte("leadline"))
	text, err := p.Encode()
	require.NoError(f, err)
	f.Add(text)
	f.Add(append(slices.Clone(text), 80, 18, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16))
	f.Add([]byte{1, 2, 0, 20})
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := radius.Parse(text, []byte("fathom"))
		if err != nil {
			return
		}
		require.False(t, isSigned(p), "it was made without the secret")
	})
}

type writer func(*radius.Packet)

func (w writer) Write(p *radius.Packet) error { w(p); return nil }

// TestRadclient has a real client go through a challenge.
func TestRadclient(t *testing.T) {
	program, err := exec.LookPath("radclient")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("radclient is missing; scripts/test installs Debian's freeradius-utils")
		}
		t.Skip("radclient is missing (Debian: freeradius-utils)")
	}
	s, c, addr := listening(t)
	run := func(request string) string {
		cmd := exec.CommandContext(t.Context(), program, "-x", "-r", "1", "-t", "10", addr, "auth", "fathom")
		cmd.Stdin = strings.NewReader(request + ", Calling-Station-Id=192.0.2.20, Message-Authenticator=0x00\n")
		out, _ := cmd.CombinedOutput() // it ends with 1 where it is not let in
		return string(out)
	}
	out := run(fmt.Sprintf("User-Name=%s, User-Password=%s", marek, s.people.Password(marek)))
	require.Contains(t, out, "Received Access-Challenge")
	require.Contains(t, out, `Reply-Message = "Type the code of your app."`)
	state := regexp.MustCompile(`State = (0x[0-9a-f]+)`).FindStringSubmatch(out)
	require.NotNil(t, state, out)
	out = run(fmt.Sprintf("User-Name=%s, User-Password=%s, State=%s", marek, s.people.Code(marek, c.Now()), state[1]))
	require.Contains(t, out, "Received Access-Accept")
	require.Contains(t, run(fmt.Sprintf("User-Name=%s, User-Password=wrong", marek)), "Received Access-Reject")
	const atHome = ", NAS-Identifier=crew-roster"
	out = run(fmt.Sprintf("User-Name=%s, User-Password=%s"+atHome, ingrid, s.people.Password(ingrid)))
	state = regexp.MustCompile(`State = (0x[0-9a-f]+)`).FindStringSubmatch(out)
	require.NotNil(t, state, out)
	prompt := s.phones.Waiting(ingrid)[0]
	require.True(t, s.phones.Answer(ingrid, prompt.ID, true, prompt.Number))
	out = run(fmt.Sprintf("User-Name=%s, User-Password=\" \", State=%s"+atHome, ingrid, state[1]))
	require.Contains(t, out, "Received Access-Accept")
	require.Contains(t, out, "Session-Timeout = 43200", "as long as the demo's book has a session last")
}
