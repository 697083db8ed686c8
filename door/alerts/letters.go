package alerts

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/outbox"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch"
	"github.com/briskwarden/briskwarden/watch/letter"
	"github.com/briskwarden/briskwarden/watch/post"
)

// How letters go, as store.Outgoing.By has it.
const (
	byMail = "mail"
	byHook = "hook"
)

// poster sends the letters of the watch.
type poster struct {
	door   *room
	mailer *post.Mailer
	hooks  *post.Hooks
	keys   map[string][]byte
	outbox *outbox.Outbox
}

// letterLasts is how long a letter is tried. Then it is given up, which the log says.
const letterLasts = 48 * time.Hour

func newPoster(d *room) (*poster, error) {
	p := &poster{door: d, hooks: post.NewHooks(d.Now)}
	var err error
	if p.mailer, p.keys, err = open(&d.Config().Watch); err != nil {
		return nil, err
	}
	p.outbox = outbox.New(outbox.Options{Kind: store.Letters, Store: d.Store(), Deliver: p.deliver, Now: d.Now, Log: d.Log(), Lane: laneOf,
		Line:   func(o *store.Outgoing) string { return o.ID },
		GiveUp: func(o *store.Outgoing, _ error, now time.Time) bool { return now.Sub(writtenAt(o)) > letterLasts },
		Done:   p.note})
	return p, nil
}

// open reads the files that the configuration names. There is no mailer where it names no server.
func open(c *door.WatchConfig) (mailer *post.Mailer, keys map[string][]byte, err error) {
	if c.Mail.Address != "" {
		if mailer, err = post.NewMailer(c.Mail); err != nil {
			return nil, nil, fmt.Errorf("watch.mail: %w", err)
		}
	}
	keys = map[string][]byte{}
	for _, h := range c.Hooks {
		key, err := wholefile.ReadPath(h.Key, mostKey)
		if err != nil {
			return nil, nil, fmt.Errorf("watch.hooks: %s: %w", h.Recipient, err)
		}
		if key = bytes.TrimSpace(key); len(key) < shortestKey {
			return nil, nil, fmt.Errorf("watch.hooks: %s: the key in %s has %d bytes; it takes %d, such as `openssl rand -base64 32` makes",
				h.Recipient, h.Key, len(key), shortestKey)
		}
		keys[h.Recipient] = key
	}
	return mailer, keys, nil
}

// CheckFiles reports what is wrong with the files that `watch` of a configuration names. It connects to nobody.
func CheckFiles(c *door.WatchConfig) error {
	_, _, err := open(c)
	return err
}

// mostKey is how many bytes the file with a key may have.
const mostKey = 1 << 20

// shortestKey is how many bytes the key of a web hook has at least: as many as its signature.
const shortestKey = 32

func writtenAt(o *store.Outgoing) time.Time {
	var l letter.Letter
	if json.Unmarshal(o.Letter, &l) != nil {
		return time.Time{} // it cannot be sent, and is given up
	}
	return l.At
}

// laneOf is the mail server, or the web hook of a recipient.
func laneOf(o *store.Outgoing) string {
	if o.By == byMail {
		return byMail
	}
	return byHook + " " + o.To
}

// note says what became of a try.
func (p *poster) note(o *store.Outgoing, err error, givenUp bool) {
	result := "sent"
	switch {
	case givenUp:
		result = "given_up"
		p.door.Log().
			Error("a letter was given up; nobody was told", "recipient", o.To, "by", o.By, "letter", o.ID, "tries", o.Tries, "error", err)
	case err != nil:
		result = "not_taken"
		p.door.Log().
			Warn("a letter was not taken; it is sent again", "recipient", o.To, "by", o.By, "letter", o.ID, "tries", o.Tries, "error", err)
	}
	p.door.Count(door.LettersTried, result)
}

// deliver sends a letter to where the book in force says that its recipient is.
func (p *poster) deliver(ctx context.Context, o *store.Outgoing) error {
	l := new(letter.Letter)
	if err := json.Unmarshal(o.Letter, l); err != nil {
		return err
	}
	l.ID = o.ID
	recipients := p.door.Book().Source().Watch.Recipients
	i := slices.IndexFunc(recipients, func(r watch.Recipient) bool { return r.Name == o.To })
	if i < 0 {
		return errors.New("the book has no such recipient any more")
	}
	r := &recipients[i]
	switch {
	case o.By == byMail && len(r.Mail) == 0 || o.By == byHook && r.Hook == "":
		return fmt.Errorf("the book no longer says where %s gets it", r.Name)
	case o.By == byMail && p.mailer == nil:
		return errNoMail
	case o.By == byMail:
		return p.mailer.Send(ctx, r.Mail, l)
	case p.keys[r.Name] == nil:
		return errNoKey
	}
	return p.hooks.Send(ctx, r.Hook, r.Name, p.keys[r.Name], l)
}

var (
	errNoMail = errors.New("the configuration names no mail server: watch.mail")
	errNoKey  = errors.New("the configuration has no key that signs what this recipient is told: watch.hooks")
)
