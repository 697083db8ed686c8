// Package service runs a door as a process: it reads the files that the configuration names,
// listens, takes newer books as they come, and stops without dropping what it has accepted.
package service

import (
	"bytes"
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
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/alerts"
	"github.com/briskwarden/briskwarden/door/events"
	"github.com/briskwarden/briskwarden/door/metrics"
	"github.com/briskwarden/briskwarden/door/pages"
	"github.com/briskwarden/briskwarden/door/people"
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
	files := []*string{&c.Certificate, &c.Key, &c.ClientCA, &c.Store.File, &c.Store.PostgresFile, &c.State, &c.Journal.Key,
		&c.Journal.Checkpoint, &c.Tell.Key, &c.Consent.Record, &c.Watch.Mail.Authorities, &c.Watch.Mail.Password}
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
	if c.Store.PostgresFile != "" {
		address, err := wholefile.ReadPath(c.Store.PostgresFile, mostConfig)
		if err != nil {
			return nil, fmt.Errorf("%s: store.postgres_file: %w", path, err)
		}
		if c.Store.Postgres = string(bytes.TrimSpace(address)); c.Store.Postgres == "" {
			return nil, fmt.Errorf("%s: store.postgres_file: %s is empty; it has the address of a database", path, c.Store.PostgresFile)
		}
		c.Store.PostgresFile = ""
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

// settledTLS is the TLS of a configuration as it was last read.
type settledTLS struct{ last atomic.Pointer[tls.Config] }

// tlsOf reads the TLS of a configuration, nil where it has none.
func tlsOf(c *door.Config) (*settledTLS, error) {
	if c.Certificate == "" {
		return nil, nil
	}
	t := new(settledTLS)
	return t, t.read(c)
}

// config is one by which each connection has what was last read.
func (t *settledTLS) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
		return t.last.Load(), nil
	}}
}

// read reads the certificate, its key and the authorities of clients again. With an error those of before go on.
func (t *settledTLS) read(c *door.Config) error {
	pair, err := tls.LoadX509KeyPair(c.Certificate, c.Key)
	if err != nil {
		return fmt.Errorf("certificate and key: %w", err)
	}
	is := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}
	if c.ClientCA != "" {
		text, err := wholefile.ReadPath(c.ClientCA, mostConfig)
		if err != nil {
			return fmt.Errorf("client_ca: %w", err)
		}
		is.ClientCAs, is.ClientAuth = x509.NewCertPool(), tls.VerifyClientCertIfGiven
		if !is.ClientCAs.AppendCertsFromPEM(text) {
			return fmt.Errorf("client_ca: %s has no certificate in PEM", c.ClientCA)
		}
	}
	t.last.Store(is)
	return nil
}

// Service is a door that is about to run.
type Service struct {
	// Dir is the folder of the book.
	Dir    string
	Config *door.Config
	// Now is the clock; nil is time.Now.
	Now func() time.Time
	Log *slog.Logger
	// Reload asks for the book to be read again, whenever something comes on it; nil never does. Again reads the configuration again then;
	// nil leaves it as it is.
	Reload <-chan os.Signal
	Again  func() (*door.Config, error)
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
// answered and recorded. Where its store cannot be reached it starts for emergency accounts alone, and for everybody once it can be.
func (s *Service) Run(ctx context.Context) (err error) {
	untouched := make([]byte, headroom)
	defer runtime.KeepAlive(untouched)
	settled, err := tlsOf(s.Config)
	if err != nil {
		return err
	}
	sweepDrafts(s.Config)
	r, err := s.start(ctx, settled)
	away := isAway(err)
	if away {
		s.Log.Error("the store cannot be reached, so emergency accounts alone are let in until it can be", "error", err)
		r, err = s.startAway(ctx, settled)
	}
	if err != nil {
		return err
	}
	serving := new(switched)
	serving.to(r.door)
	listener, err := net.Listen("tcp", s.Config.Listen)
	if err != nil {
		return errors.Join(err, r.stop())
	}
	if settled != nil {
		listener = tls.NewListener(listener, settled.config())
	}
	read := time.Duration(s.Config.Limits.Read)
	server := &http.Server{Handler: serving, ReadHeaderTimeout: read, ReadTimeout: read, IdleTimeout: idle,
		WriteTimeout: 2*time.Duration(s.Config.Limits.Answer) + read, MaxHeaderBytes: 32 << 10,
		ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelWarn)}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	s.Log.Info("listening", "address", listener.Addr().String(), "tls", settled != nil)
	if s.Listening != nil {
		s.Listening(listener.Addr().String())
	}
	if away {
		r, err = s.comeBack(ctx, settled, serving, r, failed)
	}
	if err == nil {
		select {
		case err = <-failed:
		case <-ctx.Done():
			s.Log.Info("stopping: what was accepted is answered")
			ending, end := context.WithTimeout(context.Background(), stop)
			defer end()
			err = server.Shutdown(ending)
		}
	}
	return errors.Join(err, r.stop())
}

// running is a door that runs, with its store and what goes on beside it.
type running struct {
	door   *door.Door
	kept   store.Store
	cancel context.CancelFunc
	beside sync.WaitGroup
}

// stop ends what goes on, once what was accepted is recorded. Servers are to be shut down first.
func (r *running) stop() error {
	r.cancel()
	r.beside.Wait()
	err := r.door.Close()
	if r.kept == (away{}) {
		err = nil // which says no more than that the store is away
	}
	return errors.Join(err, r.kept.Close())
}

// start opens the store and the book, and begins what goes on beside the door.
func (s *Service) start(ctx context.Context, settled *settledTLS) (r *running, err error) {
	if err := carryOver(ctx, s.Config, func(what string) { s.Log.Info(what) }); err != nil {
		return nil, fmt.Errorf("the store cannot be opened: %w", err)
	}
	kept, err := openStore(ctx, s.Config)
	if err != nil {
		return nil, fmt.Errorf("the store cannot be opened: %w", err)
	}
	defer func() {
		if r == nil {
			err = errors.Join(err, kept.Close())
		}
	}()
	doubt := takeUp(ctx, s.Config, kept, s.Checkpoint)
	if is := new(inDoubt); doubt != nil && !errors.As(doubt, &is) {
		return nil, doubt
	}
	if err := takeOverActs(ctx, s.Config, kept, func(what string) { s.Log.Info(what) }); err != nil {
		return nil, err
	}
	made, first, err := s.open(ctx, kept, settled, door.Options{})
	if err != nil {
		return nil, err
	}
	watching := &storeWatch{Service: s, door: made.door, kept: kept}
	watching.settle(ctx, doubt) // before it answers anybody
	if first {
		if err := s.tellOfOthers(ctx, kept, made.door); err != nil {
			s.Log.Warn("it was not found out which books other doors have in force", "error", err)
		}
	}
	background, cancel := context.WithCancel(context.WithoutCancel(ctx))
	end := made.cancel
	made.cancel = func() { end(); cancel() }
	if stateOf(s.Config) != "" {
		made.beside.Go(func() { watching.run(background) })
	}
	if s.Config.Journal.Key != "" {
		made.beside.Go(func() { s.checkpoints(background, watching) })
	}
	return made, nil
}

// open makes a door on a store, and has it take newer books. First says that there was no book in force before.
func (s *Service) open(ctx context.Context, kept store.Store, settled *settledTLS, options door.Options) (r *running, first bool,
	err error) {
	own := keeperOf(s.Config)
	load, inForce, err := s.opens(own)
	if err != nil {
		return nil, false, err
	}
	var changes *folder
	if s.Config.Reload == door.OnChange {
		changes = watchFolder(s.Dir, s.Log) // before the book is read, so that no change falls between
	}
	options.Now, options.Log, options.InForce = s.Now, s.Log, inForce
	options.Rooms = []door.Room{people.Room, events.Room, pages.Room(pages.Options{Book: s.Dir}),
		alerts.Room(alerts.Options{Book: s.Dir, Journal: s.Journal}), metrics.Room}
	if own != nil {
		options.Keeper = own
		options.Taken = func(b *briskwarden.Book) {
			if err := own.keepBook(s.Dir, b); err != nil {
				s.Log.Error("the files of the book in force were not kept, so the next start takes the folder", "error", err)
			}
		}
	}
	d, err := door.New(ctx, load, kept, s.Config, options)
	if err != nil {
		return nil, false, err
	}
	background, cancel := context.WithCancel(context.WithoutCancel(ctx))
	r = &running{door: d, kept: kept, cancel: cancel}
	r.beside.Go(func() { s.reloads(background, d, changes, settled) })
	return r, inForce == nil, nil
}

// reloads takes newer books into force: when asked to, with what the configuration says of who may call, and, where that is configured,
// when the folder changes.
func (s *Service) reloads(ctx context.Context, d *door.Door, changes *folder, settled *settledTLS) {
	changed := make(chan struct{}, 1)
	if changes != nil {
		s.Log.Warn("the book is read whenever its folder changed and rested: a folder that is half written comes into force if it is a " +
			"valid book; with reload: on_signal it is read on SIGHUP alone")
		go changes.tell(ctx, changed)
	}
	if s.tellOfAnother(d) && changes != nil {
		d.Reload()
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.Reload:
			if s.Again != nil {
				s.readAgain(ctx, d, settled)
			}
		case <-changed:
		}
		d.Reload()
	}
}

// readAgain reads the configuration again: who may call, and the certificate. What is wrong with it changes nothing.
func (s *Service) readAgain(ctx context.Context, d *door.Door, settled *settledTLS) {
	c, err := s.Again()
	if err == nil {
		_, err = d.Reconfigure(ctx, c)
	}
	if err == nil && settled != nil && c.Certificate != "" {
		err = settled.read(c)
	}
	if err != nil {
		s.Log.Error("the configuration was not taken; callers, tokens and certificate go on as before", "error", err)
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

// draftOf is how drafts of a file are named.
func draftOf(path string) string { return ".new-" + filepath.Base(path) + "-*" }

// sweepDrafts removes drafts that a door left which was killed while it wrote them.
func sweepDrafts(c *door.Config) {
	patterns := []string{filepath.Join(c.State, draftOf(c.Journal.Door+".*"))}
	if c.Journal.Checkpoint != "" {
		patterns = append(patterns, filepath.Join(filepath.Dir(c.Journal.Checkpoint), draftOf(c.Journal.Checkpoint)))
	}
	for _, pattern := range patterns {
		drafts, err := filepath.Glob(pattern)
		if err != nil {
			continue // a name with brackets; its drafts are not swept
		}
		for _, draft := range drafts {
			if about, err := os.Stat(draft); err == nil && time.Since(about.ModTime()) > time.Minute {
				os.Remove(draft)
			}
		}
	}
}

// replace writes a file in place of an older one, so that a reader sees the one or the other.
func replace(path string, text []byte) error {
	draft, err := os.CreateTemp(filepath.Dir(path), draftOf(path))
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
		found.Unreached = alerts.Unreached(c, &opened.Source().Watch)
	}
	_, err = tlsOf(c)
	wrong(err)
	wrong(c.CheckKeyFiles())
	wrong(events.CheckFiles(c))
	wrong(alerts.CheckFiles(&c.Watch))
	if c.State != "" {
		wrong(checkWritable("state", c.State))
	}
	if c.Journal.Checkpoint != "" {
		wrong(checkWritable("journal.checkpoint", filepath.Dir(c.Journal.Checkpoint)))
	}
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

// checkWritable reports a folder in which nothing can be written, as the user who checks. One that is missing is to be made.
func checkWritable(what, dir string) error {
	for !exists(dir) && dir != filepath.Dir(dir) {
		dir = filepath.Dir(dir)
	}
	draft, err := os.CreateTemp(dir, ".new-*")
	if err != nil {
		return fmt.Errorf("%s: nothing can be written there: %w", what, err)
	}
	return errors.Join(draft.Close(), os.Remove(draft.Name()))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
