package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch"
	"github.com/briskwarden/briskwarden/watch/letter"
	"github.com/briskwarden/briskwarden/watch/lookout"
	"github.com/briskwarden/briskwarden/watch/post"
	"github.com/briskwarden/briskwarden/watch/trial"
)

// asMail shows the mail of a digest or an alert, as it would be sent to the first of its recipients.
func (env *environment) asMail(flags *reportFlags, b *book.Book, o report.Options) error {
	if flags.format != "" && flags.format != "text" && !env.json {
		return errors.New("give --as-mail or --format: a mail has a text and an HTML part")
	}
	scheme := &b.Watch
	var names []string
	for i := range scheme.Digests {
		if d := &scheme.Digests[i]; d.Name == flags.mail {
			return env.digestAsMail(flags, b, d, o)
		}
		names = append(names, scheme.Digests[i].Name)
	}
	for i := range scheme.Alerts {
		if a := &scheme.Alerts[i]; a.Name == flags.mail {
			return env.alertAsMail(flags, b, a, o)
		}
		names = append(names, scheme.Alerts[i].Name)
	}
	if len(names) == 0 {
		return errors.New("--as-mail: the book has no digest and no alert; its section `watch` names them")
	}
	return fmt.Errorf("--as-mail: the book has no digest and no alert %q%s", flags.mail, nearest.DidYouMean(flags.mail, names))
}

func (env *environment) digestAsMail(flags *reportFlags, b *book.Book, d *watch.Digest, o report.Options) error {
	if !o.From.IsZero() || !o.To.IsZero() {
		return errors.New(
			"a digest has a stretch of its own, the day or the week before it is due; --at says which, in place of --from, --to and --last",
		)
	}
	zone := b.Settings.Zone
	due := d.LatestDue(o.At, zone)
	p := &lookout.Post{To: first(d.To), Digest: d.Name, From: d.Before(due, zone), Until: due}
	o.From, o.To, o.At = p.From, p.Until, due
	return env.makeReport(flags, b, o, func(made *report.Report) error {
		return env.writeMail(flags, b, letter.OfDigest(p, made, due, letter.Options{Zone: zone, Commands: o.Source.Flags}))
	})
}

func (env *environment) alertAsMail(flags *reportFlags, b *book.Book, a *watch.Alert, o report.Options) error {
	t, err := trial.Of(b)
	if err != nil {
		return err
	}
	f := journal.Filter{From: o.From, To: o.To}
	return env.overEither(flags, func(ctx context.Context, sources []replay.Source, ro replay.Options) (*replay.Basis, error) {
		return t.OverHistory(ctx, b, sources, ro, f)
	}, func(ctx context.Context, s store.Store) error { return t.OverJournal(ctx, s, f) }, func() error {
		p, rang := t.Posts[a.Name]
		if !rang && t.Rings(a.Name) > 0 {
			return fmt.Errorf("the alert %s would have rung, and nobody would have got it: its `to` names nobody", a.Name)
		}
		if !rang {
			return fmt.Errorf("the alert %s would not have rung, so there is no mail to show", a.Name)
		}
		p.To = first(a.To)
		return env.writeMail(flags, b, letter.OfRings(&p.Post, &b.Watch, p.At,
			letter.Options{Zone: b.Settings.Zone, Commands: o.Source.Flags}))
	})
}

// first returns the first of several names, "" of none.
func first(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// writeMail writes a letter as a mail, or as JSON as a web hook gets it.
func (env *environment) writeMail(flags *reportFlags, b *book.Book, l *letter.Letter) error {
	l.ID = "shown-by-report"
	var text []byte
	if env.json {
		text = l.Hook()
	} else {
		i := slices.IndexFunc(b.Watch.Recipients, func(r watch.Recipient) bool { return r.Name == l.To })
		if i < 0 || len(b.Watch.Recipients[i].Mail) == 0 {
			return fmt.Errorf("%s goes to nobody with a mail address; --json shows what a web hook is told", flags.mail)
		}
		to := b.Watch.Recipients[i].Mail
		var err error
		if text, err = post.Message(flags.sender(to[0]), to, l); err != nil {
			return err
		}
	}
	if flags.out == "" {
		_, err := env.gated().Write(text)
		return err
	}
	var gated bytes.Buffer
	_, _ = terminal.Gate(&gated).Write(text) // memory takes all that is written
	return newfile.Write(flags.out, gated.Bytes(), newfile.Private)
}

// sender is the address that mail comes from by the configuration, or one beside the recipient where there
// is none.
func (f *reportFlags) sender(to string) string {
	from := ""
	if _, err := os.Stat(f.config); err == nil && f.file == "" {
		if c, err := f.doorConfig(); err == nil {
			from = c.Watch.Mail.From
		}
	}
	_, domain, _ := strings.Cut(to, "@")
	return cmp.Or(from, "warden@"+domain)
}
