package desk_test

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/desk"
)

// large lays out a record of 100,000 acts; 10,000 of them are requests that wait.
func large(b *testing.B) string {
	path := filepath.Join(b.TempDir(), "consent.db")
	store, err := desk.OpenFile(path)
	require.NoError(b, err)
	defer store.Close()
	var acts []desk.Act
	for i := range 90_000 {
		acts = append(acts, desk.Act{At: monday, By: "rae", Kind: desk.GrantImported, Client: fmt.Sprint("program-", i%300),
			Account: fmt.Sprint("account-", i%9_000), Scopes: []string{"mail.read", "openid"}, Since: monday.AddDate(0, 0, -i%700)})
	}
	for i := range 10_000 {
		acts = append(acts, desk.Act{At: monday, By: fmt.Sprint("account-", i), Kind: desk.Asked, Client: "log",
			Account: fmt.Sprint("account-", i),
			Scopes:  []string{"mail.read", fmt.Sprint("mail.", i%20)}, RedirectURI: "https://log.example/cb", Because: "I need it for my work.",
			Until: monday.Add(14 * 24 * time.Hour)})
	}
	_, err = desk.Append(store, acts...)
	require.NoError(b, err)
	return path
}

// BenchmarkLargeRecord measures what a desk costs where 100,000 acts are on record and
// 10,000 requests wait. Each opens the file, as a command does.
func BenchmarkLargeRecord(b *testing.B) {
	path := large(b)
	consents := judge(b)
	i := 0
	for name, work := range map[string]func(d *desk.Desk) error{
		"open":            func(*desk.Desk) error { return nil },
		"queue":           func(d *desk.Desk) error { _, err := d.Queue(ctx, monday); return err },
		"register":        func(d *desk.Desk) error { _, err := d.Register(ctx, monday); return err },
		"usage":           func(d *desk.Desk) error { _, err := d.Usage(ctx, monday); return err },
		"acts":            func(d *desk.Desk) error { _, err := d.Acts(ctx); return err },
		"verify the acts": func(d *desk.Desk) error { return d.VerifyActs(ctx) },
		"verify":          func(d *desk.Desk) error { return d.Verify(ctx) },
		"ask": func(d *desk.Desk) error {
			i++
			_, err := d.Ask(ctx, consent.Request{At: monday.Add(time.Second), Account: "ann", Client: "log",
				Scopes: []string{"mail.read", fmt.Sprint("mail.", i%20)}, RedirectURI: "https://log.example/cb"}, "")
			return err
		},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				store, err := desk.OpenFile(path)
				require.NoError(b, err)
				require.NoError(b, work(desk.New(consents, store)))
				require.NoError(b, store.Close())
			}
		})
	}
}
