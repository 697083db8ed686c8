package alerts_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/alerts"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/internal/mailtest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/sqlite"
	"github.com/briskwarden/briskwarden/watch"
)

const hookURL, hookKey = "https://hooks.kestrelsound.example/warden", "0123456789abcdef0123456789abcdef"

// postbox is where letters arrive, by mail and by web hook: by their name, and how often each came.
type postbox struct {
	mail *mailtest.Server
	hook *httptest.Server

	mu    sync.Mutex
	texts map[string]string
	came  map[string]int
}

func newPostbox(t *testing.T) *postbox {
	p := &postbox{texts: map[string]string{}, came: map[string]int{}}
	var err error
	p.mail, err = mailtest.Start("", func(m *mailtest.Mail) error {
		p.take(m.Header.Get("Message-Id"), m.To[0]+": "+m.Subject+"\n"+strings.ReplaceAll(m.Text, "\r\n", "\n"))
		return nil
	})
	require.NoError(t, err)
	t.Cleanup(func() { p.mail.Close() })
	p.hook = httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		said := map[string]any{}
		if text, _ := io.ReadAll(r.Body); json.Unmarshal(text, &said) == nil {
			p.take(r.Header.Get("Idempotency-Key"), fmt.Sprintf("hook: %v\n%v", said["subject"], said["text"]))
		}
	}))
	t.Cleanup(p.hook.Close)
	return p
}

func (p *postbox) take(id, text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.came[id]++
	if p.texts[id] != "" && p.texts[id] != text {
		text = "a letter of one name came with two texts:\n" + text
	}
	p.texts[id] = text
}

// letters returns what came, each letter once, sorted.
func (p *postbox) letters() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	var list []string
	for _, text := range p.texts {
		list = append(list, text)
	}
	slices.Sort(list)
	return list
}

// watched is a configuration that sends to a postbox.
func (p *postbox) watched(t require.TestingT, dir string) func(*door.Config) {
	key := filepath.Join(dir, "hook.key")
	require.NoError(t, os.WriteFile(key, []byte(hookKey), 0o600))
	return func(c *door.Config) {
		c.Watch = door.WatchConfig{Mail: watch.MailServer{Address: p.mail.Address, From: "warden@kestrelsound.example", Security: watch.Clear},
			Hooks: []door.HookKey{{Recipient: "harbour-watch", Key: key}}}
	}
}

// watched is a house that looks and sends when a test says so.
type watched struct {
	*doortest.House
	*alerts.Waiting
}

func newWatched(t *testing.T, at time.Time, hook string, s store.Store, change func(*door.Config)) *watched {
	w := &watched{Waiting: new(alerts.Waiting)}
	w.House = doortest.NewAt(t, at, doortest.Edited(t, hookURL, hook), s, change, func(o *door.Options) {
		o.Rooms = append(o.Rooms, w.Room)
	})
	return w
}

// days is how much of the month is gone through. Each of its digests inspects the book, which takes the race detector long.
var days = flag.Int("days", wholeMonth, "how many days of the month of letters are gone through")

// The month is gone through in steps.
const (
	wholeMonth = 32
	monthStep  = 15 * time.Minute
)

func monthSize() int { return *days * int(24*time.Hour/monthStep) }

// month returns the attempts of the demo's month that alerts are about, and its beginning.
func month() (list []*attempt.Attempt, begin time.Time) {
	all := demo.History()
	for _, a := range all {
		ip, _ := a.IP.Get()
		if ip.String() == "192.0.2.230" || strings.HasPrefix(a.Account, "oskar@") || strings.HasPrefix(a.Account, "marek@") {
			list = append(list, a)
		}
	}
	return list, all[0].At.Truncate(24 * time.Hour)
}

// TestMonthOfLetters: every alert and every digest of a month arrives once, also where the door is killed
// at any moment and started again.
func TestMonthOfLetters(t *testing.T) {
	if dir := os.Getenv("BRISKWARDEN_MONTH"); dir != "" {
		liveThroughTheMonth(t, dir)
		return
	}
	if testing.Short() {
		t.Skip("a month takes a while")
	}
	chance := rand.New(rand.NewPCG(14, 5))
	run := func(kills int) (*postbox, int) {
		box, dir, next, killed := newPostbox(t), t.TempDir(), 0, 0
		for next < monthSize() {
			lives := -1
			if killed < kills {
				lives = 50 + chance.IntN(2*monthSize()/kills)
			}
			at := next
			next = live(t, box, dir, at, lives, time.Duration(chance.IntN(4000))*time.Microsecond)
			if next < monthSize() {
				killed++
			}
		}
		return box, killed
	}
	quiet, _ := run(0)
	kills := max(2, 12**days/wholeMonth)
	box, killed := run(kills)
	require.GreaterOrEqual(t, 3*killed, 2*kills)
	require.Equal(t, quiet.letters(), box.letters())
	twice := 0
	for _, n := range box.came {
		twice += n - 1
	}
	require.LessOrEqual(t, twice, killed, "only what was on its way when the door was killed comes again, under the same name")
	kinds := map[string]int{}
	for _, text := range quiet.letters() {
		subject, _, _ := strings.Cut(text, "\n")
		to, rest, _ := strings.Cut(subject, ": ")
		name, _, _ := strings.Cut(rest, ":")
		kinds[to+" "+name]++
	}
	// The yard hand is abroad on five days and tried once by somebody who tries all; that one address rings
	// once, and so does who counts the till after it has closed.
	want := map[string]int{
		"duty@kestrelsound.example many-refused": 1,
		"finance@kestrelsound.example till-shut": 1,
		"hook yard-from-elsewhere":               6,
	}
	if *days < wholeMonth { // some of them are still to come
		maps.DeleteFunc(kinds, func(kind string, _ int) bool { return want[kind] > 0 })
		clear(want)
	}
	_, begin := month()
	for day := begin; day.Before(begin.Add(time.Duration(monthSize()) * monthStep)); day = day.AddDate(0, 0, 1) {
		want["duty@kestrelsound.example yesterday"]++
		if day.Weekday() == time.Monday {
			want["shore-it@kestrelsound.example monday"]++
		}
	}
	require.Equal(t, want, kinds)
	require.Contains(t, strings.Join(quiet.letters(), ""), "nothing was decided", "a quiet day says so")
}

// live runs the month from a step on in a process of its own, and kills it after some steps, where that is
// not below 0. It returns the step that is to be done next.
func live(t *testing.T, box *postbox, dir string, from, lives int, delay time.Duration) int {
	cmd := exec.Command(os.Args[0], "-test.run=^TestMonthOfLetters$", "-test.v", fmt.Sprintf("-days=%d", *days))
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	cmd.Env = append(os.Environ(), "BRISKWARDEN_MONTH="+dir, fmt.Sprintf("BRISKWARDEN_STEP=%d", from), "BRISKWARDEN_MAIL="+box.mail.Address,
		"BRISKWARDEN_HOOK="+box.hook.URL)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	next := from
	var said strings.Builder
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		var step int
		if n, _ := fmt.Sscanf(lines.Text(), "step %d", &step); n == 1 {
			next = step + 1
		} else {
			said.WriteString(lines.Text() + "\n")
		}
		if lives >= 0 && next-from == lives {
			time.Sleep(delay)
			require.NoError(t, cmd.Process.Kill())
			lives = -1
		}
	}
	if err := cmd.Wait(); err != nil && next < monthSize() && !strings.Contains(err.Error(), "killed") {
		require.NoError(t, err, "%s\n%s", said.String(), stderr.String())
	}
	return next
}

// liveThroughTheMonth is a door that goes through the month, and says each step that it has done.
func liveThroughTheMonth(t *testing.T, dir string) {
	var from int
	_, err := fmt.Sscan(os.Getenv("BRISKWARDEN_STEP"), &from)
	require.NoError(t, err)
	ctx := t.Context()
	s, err := sqlite.Open(filepath.Join(dir, "door.db"))
	require.NoError(t, err)
	box := &postbox{mail: &mailtest.Server{Address: os.Getenv("BRISKWARDEN_MAIL")}}
	attempts, begin := month()
	d := newWatched(t, begin.Add(time.Duration(from)*monthStep), os.Getenv("BRISKWARDEN_HOOK"), s, box.watched(t, dir))
	decided := 0
	for _, err := range s.Entries(ctx, journal.Filter{Kind: journal.Decision}) {
		require.NoError(t, err)
		decided++
	}
	for step := from; step < monthSize(); step++ {
		until := begin.Add(time.Duration(step) * monthStep)
		for decided < len(attempts) && attempts[decided].At.Before(until) {
			d.Set(attempts[decided].At)
			d.Decide(ctx, attempts[decided], door.Asked{Caller: "month"})
			decided++
		}
		d.Set(until)
		require.NoError(t, d.LookOnce(ctx))
		require.NoError(t, d.SendLetters(ctx), d.Logged)
		rows, err := s.List(ctx, store.Query{Kind: store.Letters})
		require.NoError(t, err)
		require.LessOrEqual(t, len(rows), 1, "what was on its way waits for its next try: %s", d.Logged)
		fmt.Printf("step %d\n", step)
	}
	require.NoError(t, d.Close())
	require.NoError(t, s.Close())
}

// TestWhoHears: letters of a door whose clock is moved.
func TestWhoHears(t *testing.T) {
	ctx := t.Context()
	open := func(t *testing.T, s store.Store, box *postbox, change func(*door.Config)) *watched {
		h := newWatched(t, noon, box.hook.URL, s, change)
		require.NoError(t, h.LookOnce(ctx))
		return h
	}
	emergency := func(h *watched) {
		h.Decide(ctx, &attempt.Attempt{At: h.Clock(), Account: "harbour-key@kestrelsound.example", App: "shore-vpn"},
			door.Asked{Caller: "gateway"})
	}
	untold := func(t *testing.T, h *watched) []store.Row {
		rows, err := h.Kept.List(ctx, store.Query{Kind: store.Letters})
		require.NoError(t, err)
		return rows
	}
	t.Run("each recipient once, of two doors on one store", func(t *testing.T) {
		box, s := newPostbox(t), new(store.Memory)
		one, other := open(t, s, box, box.watched(t, t.TempDir())), open(t, s, box, box.watched(t, t.TempDir()))
		emergency(one)
		var together sync.WaitGroup
		for _, h := range []*watched{one, other} {
			together.Go(func() {
				for range 20 {
					if h.LookOnce(ctx) != nil || h.SendLetters(ctx) != nil {
						panic("the door could not look")
					}
				}
			})
		}
		together.Wait()
		require.Len(t, box.letters(), 2)
		require.Contains(t, box.letters()[0], "duty@kestrelsound.example: key-of-last-resort: 1 decision on harbour-key@kestrelsound.example\n")
		require.Contains(t, box.letters()[0], "To do: Call the holder of the key.")
		require.Contains(t, box.letters()[0],
			"\n  briskwarden journal list --config door.yaml --account harbour-key@kestrelsound.example --from ")
		require.Equal(t, []int{1, 1}, []int{box.came[ids(box)[0]], box.came[ids(box)[1]]})
		_, _, text := one.Ask(http.MethodGet, "/metrics", all, nil)
		_, _, more := other.Ask(http.MethodGet, "/metrics", all, nil)
		require.Equal(t, 2, sent(t, text)+sent(t, more))
	})
	t.Run("nothing of the time before there was a watch", func(t *testing.T) {
		box, s := newPostbox(t), new(store.Memory)
		h := open(t, s, box, box.watched(t, t.TempDir()))
		whole := h.Files
		h.Read(withoutWatch(t))
		require.True(t, h.Reload().Taken)
		require.NoError(t, h.LookOnce(ctx))
		emergency(h)
		h.Read(whole)
		require.True(t, h.Reload().Taken)
		require.NoError(t, h.LookOnce(ctx))
		require.Empty(t, untold(t, h))
		emergency(h)
		require.NoError(t, h.LookOnce(ctx))
		require.Len(t, untold(t, h), 2)
	})
	t.Run("links where the door says its address", func(t *testing.T) {
		box := newPostbox(t)
		h := open(t, new(store.Memory), box, func(c *door.Config) {
			box.watched(t, t.TempDir())(c)
			c.Watch.Door = "https://door.kestrelsound.example/"
		})
		emergency(h)
		require.NoError(t, h.LookOnce(ctx))
		require.NoError(t, h.SendLetters(ctx))
		require.Contains(
			t,
			box.letters()[0],
			"\n  https://door.kestrelsound.example/watch/decisions?account=harbour-key%40kestrelsound.example&from=",
		)
		h.Pass(24 * time.Hour)
		require.NoError(t, h.LookOnce(ctx))
		require.NoError(t, h.SendLetters(ctx))
		require.Contains(t, strings.Join(box.letters(), ""), "https://door.kestrelsound.example/watch?from=2026-11-23T06%3A30%3A00%2B01%3A00&to=")
	})
	t.Run("nobody is reached", func(t *testing.T) {
		h := open(t, new(store.Memory), newPostbox(t), nil)
		require.Contains(t, h.Logged.String(), "Duty gets no mail: the configuration names no mail server: watch.mail.")
		require.Contains(t, h.Logged.String(), "The web hook of harbour-watch is told nothing")
		emergency(h)
		require.NoError(t, h.LookOnce(ctx))
		for range 30 {
			require.NoError(t, h.SendLetters(ctx))
			h.Pass(2 * time.Hour)
		}
		require.Empty(t, untold(t, h))
		require.Equal(t, 2, strings.Count(h.Logged.String(), "a letter was given up; nobody was told"))
	})
	t.Run("a key that is none", func(t *testing.T) {
		c := doortest.Configured(func(c *door.Config) {
			c.Watch.Hooks = []door.HookKey{{Recipient: "harbour-watch", Key: filepath.Join(t.TempDir(), "none")}}
		})
		require.Error(t, alerts.CheckFiles(&c.Watch))
		require.NoError(t, os.WriteFile(c.Watch.Hooks[0].Key, []byte("short"), 0o600))
		require.ErrorContains(t, alerts.CheckFiles(&c.Watch), "has 5 bytes; it takes 32")
	})
}

func ids(p *postbox) (list []string) {
	for id := range p.came {
		list = append(list, id)
	}
	return list
}

// sent reads how many letters a door says that it sent.
func sent(t *testing.T, metrics []byte) int {
	for line := range strings.Lines(string(metrics)) {
		n := 0
		if found, _ := fmt.Sscanf(line, `briskwarden_letters_total{result="sent"} %d`, &n); found == 1 {
			return n
		}
	}
	return 0
}

// withoutWatch is the demo's book without its section watch.
func withoutWatch(t *testing.T) fstest.MapFS {
	files := doortest.Edited(t, "watch:", "watch:")
	delete(files, "watch.yaml")
	return files
}
