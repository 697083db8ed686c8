// Package service runs a door as a process: it reads the files that the configuration names,
// listens, takes newer books as they come, and stops without dropping what it has accepted.
package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// mostConfig is how large a configuration, a key or a certificate may be, in bytes.
const mostConfig = 1 << 20

// ReadConfig reads a configuration from a file. The files that it names stand beside it, unless
// their paths are whole.
func ReadConfig(path string) (*door.Config, error) {
	text, err := wholefile.ReadPath(path, mostConfig)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	c, err := door.ReadConfig(path, text)
	if err != nil {
		return nil, err
	}
	if c.State == "" {
		c.State = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)) + ".state"
	}
	files := []*string{&c.Certificate, &c.Key, &c.ClientCA, &c.Store.File, &c.State, &c.Journal.Key, &c.Journal.Checkpoint, &c.Tell.Key,
		&c.Consent.Record, &c.Watch.Mail.Authorities, &c.Watch.Mail.Password}
	for i := range c.Watch.Hooks {
		files = append(files, &c.Watch.Hooks[i].Key)
	}
	for i := range c.Tell.Receivers {
		files = append(files, &c.Tell.Receivers[i].Bearer)
	}
	for i := range c.Tokens {
		files = append(files, &c.Tokens[i].Keys)
	}
	for i := range c.Events {
		files = append(files, &c.Events[i].Keys)
	}
	for _, name := range files {
		if strings.Contains(*name, "://") {
			continue // which is no file
		}
		if *name != "" && !filepath.IsAbs(*name) {
			*name = filepath.Join(filepath.Dir(path), *name)
		}
	}
	return c, nil
}

// Loader opens the book in a folder.
func Loader(dir string) door.Loader {
	return func(options ...briskwarden.Option) (*briskwarden.Book, error) {
		return briskwarden.Open(dir, append(options, briskwarden.WithDatabase(mmdb.Locator))...)
	}
}

// Token is a token for a caller, with the lines of a configuration that let its bearer in.
type Token struct {
	Token  string `json:"token" doc:"the token, which nobody can read again"`
	Config string `json:"config" doc:"the lines for the configuration, which have its digest alone"`
}

// NewToken makes a token for a caller of a name, who may do what the words of the rights say.
func NewToken(name string, may []string) (*Token, error) {
	if err := directory.CheckName(name); err != nil {
		return nil, fmt.Errorf("--for: %w", err)
	}
	for _, word := range may {
		if err := new(door.Right).UnmarshalText([]byte(word)); err != nil {
			return nil, fmt.Errorf("--may: %w", err)
		}
	}
	token, digest := door.NewToken()
	bounds := ""
	for _, right := range may {
		if right == door.MayPeople.String() || right == door.MayEvents.String() {
			bounds += fmt.Sprintf(",\n     %s: {domains: [], facts: [active]}", right) // which lets nobody be stated until it is filled in
		}
	}
	line := fmt.Sprintf("callers:\n  - {name: %q, token: %q, may: [%s]%s}\n", name, digest, strings.Join(may, ", "), bounds)
	return &Token{token, line}, nil
}

// tlsConfig is the TLS of a configuration, nil where it has none.
func tlsConfig(c *door.Config) (*tls.Config, error) {
	if c.Certificate == "" {
		return nil, nil
	}
	pair, err := tls.LoadX509KeyPair(c.Certificate, c.Key)
	if err != nil {
		return nil, fmt.Errorf("certificate and key: %w", err)
	}
	t := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}
	if c.ClientCA == "" {
		return t, nil
	}
	text, err := wholefile.ReadPath(c.ClientCA, mostConfig)
	if err != nil {
		return nil, fmt.Errorf("client_ca: %w", err)
	}
	t.ClientCAs, t.ClientAuth = x509.NewCertPool(), tls.VerifyClientCertIfGiven
	if !t.ClientCAs.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("client_ca: %s has no certificate in PEM", c.ClientCA)
	}
	return t, nil
}

// Service is a door that is about to run.
type Service struct {
	// Dir is the folder of the book.
	Dir    string
	Config *door.Config
	// Now is the clock; nil is time.Now.
	Now func() time.Time
	Log *slog.Logger
	// Reload asks for the book to be read again, whenever something comes on it; nil never does.
	Reload <-chan os.Signal
	// Journal are the flags of journal list that find the journal, as an administrator would write them.
	Journal []string
	// Checkpoint was kept elsewhere, and vouches for the store where the door kept no state of it; nil is none.
	Checkpoint []byte
	// Listening is told the address once requests are taken; nil needs not to know.
	Listening func(address string)
}

// idle is how long a connection may rest between two requests, and stop how long requests that
// were accepted have to be answered when the service stops.
const (
	idle = 2 * time.Minute
	stop = 20 * time.Second
)

// headroom is memory that is taken and never touched, so that it costs none: the collector runs when
// the heap has grown by as much as there was, and with this it does not run many times a second while
// a door keeps little beyond a small book.
const headroom = 128 << 20

// Run runs the door until the context ends, and returns when all that it accepted has been
// answered and recorded.
func (s *Service) Run(ctx context.Context) (err error) {
	untouched := make([]byte, headroom)
	defer runtime.KeepAlive(untouched)
	settled, err := tlsConfig(s.Config)
	if err != nil {
		return err
	}
	if err := carryOver(ctx, s.Config, func(what string) { s.Log.Info(what) }); err != nil {
		return fmt.Errorf("the store cannot be opened: %w", err)
	}
	kept, err := openStore(ctx, s.Config)
	if err != nil {
		return fmt.Errorf("the store cannot be opened: %w", err)
	}
	defer func() { err = errors.Join(err, kept.Close()) }()
	doubt := takeUp(ctx, s.Config, kept, s.Checkpoint)
	if is := new(inDoubt); doubt != nil && !errors.As(doubt, &is) {
		return doubt
	}
	if err := takeOverActs(ctx, s.Config, kept, func(what string) { s.Log.Info(what) }); err != nil {
		return err
	}
	changes := watchFolder(s.Dir, s.Log) // before the book is read, so that no change falls between
	d, err := door.New(
		ctx,
		Loader(s.Dir),
		kept,
		s.Config,
		door.Options{Now: s.Now, Log: s.Log, Book: s.Dir, Journal: s.Journal},
	)
	if err != nil {
		return err
	}
	var running sync.WaitGroup
	background, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer func() {
		cancel()
		running.Wait()
		err = errors.Join(err, d.Close())
	}()
	watching := &storeWatch{Service: s, door: d, kept: kept}
	watching.settle(ctx, doubt) // before it answers anybody
	listener, err := net.Listen("tcp", s.Config.Listen)
	if err != nil {
		return err
	}
	if settled != nil {
		listener = tls.NewListener(listener, settled)
	}
	read := time.Duration(s.Config.Limits.Read)
	server := &http.Server{Handler: d.Handler(), ReadHeaderTimeout: read, ReadTimeout: read, IdleTimeout: idle,
		WriteTimeout: 2*time.Duration(s.Config.Limits.Answer) + read, MaxHeaderBytes: 32 << 10,
		ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelWarn)}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	running.Go(func() { s.reloads(background, d, changes) })
	if stateOf(s.Config) != "" {
		running.Go(func() { watching.run(background) })
	}
	if s.Config.Journal.Key != "" {
		running.Go(func() { s.checkpoints(background, watching) })
	}
	s.Log.Info("listening", "address", listener.Addr().String(), "tls", settled != nil)
	if s.Listening != nil {
		s.Listening(listener.Addr().String())
	}
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	s.Log.Info("stopping: what was accepted is answered")
	ending, end := context.WithTimeout(context.Background(), stop)
	defer end()
	return server.Shutdown(ending)
}

// reloads takes newer books into force: when asked to, and when the folder changes.
func (s *Service) reloads(ctx context.Context, d *door.Door, changes *folder) {
	changed := make(chan struct{}, 1)
	go changes.tell(ctx, changed)
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.Reload:
		case <-changed:
		}
		d.Reload()
	}
}

// checkpoints writes a signed checkpoint of the journal every so often, and one at the end.
func (s *Service) checkpoints(ctx context.Context, watching *storeWatch) {
	write := func(ctx context.Context) {
		if watching.doubted.Load() {
			return
		}
		if err := writeCheckpoint(ctx, watching.kept, &s.Config.Journal); err != nil {
			s.Log.Error("no checkpoint was written", "error", err)
		}
	}
	every := time.NewTicker(time.Duration(s.Config.Journal.Every))
	defer every.Stop()
	write(ctx)
	for {
		select {
		case <-ctx.Done():
			write(context.WithoutCancel(ctx))
			return
		case <-every.C:
			write(ctx)
		}
	}
}

func writeCheckpoint(ctx context.Context, kept store.Store, c *door.JournalConfig) error {
	key, err := wholefile.ReadPath(c.Key, mostConfig)
	if err != nil {
		return err
	}
	heads, err := kept.Heads(ctx)
	if err != nil {
		return err
	}
	signed, err := journal.Checkpoint(heads, string(key))
	if err != nil {
		return err
	}
	return replace(c.Checkpoint, signed)
}

// replace writes a file in place of an older one, so that a reader sees the one or the other.
func replace(path string, text []byte) error {
	draft, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(draft.Name())
	_, err = draft.Write(text)
	if err := errors.Join(err, draft.Sync(), draft.Close()); err != nil {
		return err
	}
	return os.Rename(draft.Name(), path)
}

// Checked is what serve check found.
type Checked struct {
	// Wrong is what keeps the door from starting, or a book from being taken.
	Wrong []string `json:"wrong" doc:"what keeps the door from starting or the book from being taken into force"`
	Book  string   `json:"book,omitzero" doc:"the digest of the book"`
	// Drills is how many passed.
	Drills int `json:"drills" doc:"how many drills there are; all pass where nothing is wrong"`
	// Callers are who may call, and what each may do.
	Callers []string `json:"callers" doc:"who may call, and what each may do"`
	Listen  string   `json:"listen" doc:"where it listens"`
	// Unreached says who of the book's section watch would be told nothing.
	Unreached []string `json:"unreached,omitempty" doc:"who of the book's section watch would be told nothing, and why"`
	Store     string   `json:"store" doc:"where facts and the journal are kept"`
}

// Check looks at what a door would start with, and starts nothing: the book and its drills, the
// files of the configuration, and the store.
func Check(ctx context.Context, dir string, c *door.Config) *Checked {
	found := &Checked{Wrong: []string{}, Callers: []string{}, Listen: c.Listen, Store: "in memory, lost when the door stops"}
	wrong := func(err error) {
		var all book.Errors
		if errors.As(err, &all) {
			for _, e := range all {
				found.Wrong = append(found.Wrong, e.String())
			}
		} else if err != nil {
			found.Wrong = append(found.Wrong, err.Error())
		}
	}
	opened, err := Loader(dir)()
	wrong(err)
	if err == nil {
		found.Book, found.Drills = opened.Digest(), len(opened.Source().Drills)
		failed, err := door.Drills(opened)
		wrong(err)
		found.Wrong = append(found.Wrong, failed...)
		failed, err = door.Guarantees(opened, time.Now(), 0)
		wrong(err)
		found.Wrong = append(found.Wrong, failed...)
		found.Unreached = c.Unreached(&opened.Source().Watch)
	}
	_, err = tlsConfig(c)
	wrong(err)
	wrong(c.Watch.CheckFiles())
	if c.Journal.Key != "" {
		key, err := wholefile.ReadPath(c.Journal.Key, mostConfig)
		if err == nil {
			_, err = journal.Checkpoint(nil, string(key))
		}
		if err != nil {
			wrong(fmt.Errorf("journal.key: %w", err))
		}
	}
	if c.Consent.Record != "" {
		if _, _, err := recordBefore(ctx, c); err != nil && !errors.Is(err, store.ErrNotFound) {
			wrong(fmt.Errorf("consent.record: %w", err))
		}
	}
	for _, caller := range c.Callers {
		may := ""
		for i, right := range caller.May {
			if i > 0 {
				may += ", "
			}
			may += right.String()
		}
		found.Callers = append(found.Callers, caller.Name+" may "+may)
	}
	switch {
	case c.Store.File != "":
		found.Store = "the SQLite file " + c.Store.File
	case c.Store.Postgres != "":
		found.Store = "a PostgreSQL database"
	}
	var kept store.Store = new(store.Memory) // stands for one that is made when the door starts
	if c.Store.Postgres != "" || c.Store.File != "" && exists(c.Store.File) {
		switch s, err := ReadStore(ctx, c); {
		case err == nil:
			kept = s
		case errors.Is(err, sqlite.ErrOlder):
			found.Store += ", of the version before: it is carried over when the door starts, and kept as it was beside it"
		case !errors.Is(err, postgres.ErrNone):
			wrong(err)
		}
	}
	wrong(c.Unbounded(ctx, kept))
	if _, made := kept.(*store.Memory); !made {
		wrong(lookAt(ctx, c, kept, nil))
	}
	wrong(kept.Close())
	return found
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
