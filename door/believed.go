package door

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
)

// believed is who may call and who is believed, as the configuration says. It is read again without a restart.
type believed struct {
	config  *Config
	callers *callers
	tokens  *tokens
	// transmitters may send events.
	transmitters []*transmitter
	// sources are who states facts.
	sources []source
}

// believe makes that of a configuration. Keys that were read by the one before are read again in the background, and serve until then.
func (d *Door) believe(c *Config, before *believed) (*believed, error) {
	known := map[string]*keySet{}
	if before != nil {
		for _, issuer := range before.tokens.issuers {
			known[issuer.keys.at] = issuer.keys
		}
		for _, t := range before.transmitters {
			known[t.keys.at] = t.keys
		}
	}
	keysAt := func(at string, from KeysFrom, refresh time.Duration) *keySet {
		if from != nil {
			return newKeySet("", from, refresh, d.now, nil)
		}
		if s := known[at]; s != nil && s.refresh == refresh {
			s.readNow()
			return s
		}
		s := newKeySet(at, nil, refresh, d.now, d.keeper)
		known[at] = s
		return s
	}
	if err := c.CheckKeyFiles(); err != nil {
		return nil, err
	}
	all := &believed{config: c, sources: c.sources(), tokens: newTokens(c, d.now, keysAt)}
	for i := range c.Events {
		all.transmitters = append(all.transmitters, &transmitter{&c.Events[i], keysAt(c.Events[i].Keys, c.Events[i].KeysFrom, keysRefresh)})
	}
	var err error
	all.callers, err = newCallers(c)
	return all, err
}

// CheckKeyFiles reports files with keys of issuers that cannot be read: none of their tokens would count. A door that starts reads
// them too.
func (c *Config) CheckKeyFiles() error {
	var errs []error
	check := func(what, issuer, at string) {
		if at == "" || strings.Contains(at, "://") {
			return // which may be silent now
		}
		if _, err := newKeySet(at, nil, 0, time.Now, nil).fetch(); err != nil {
			errs = append(errs, fmt.Errorf("%s: the keys of %s: %w", what, issuer, err))
		}
	}
	for _, t := range c.Tokens {
		check("tokens", t.Issuer, t.Keys)
	}
	for _, t := range c.Events {
		check("events", t.Issuer, t.Keys)
	}
	return errors.Join(errs...)
}

// Reconfigure takes from a configuration that was read again who may call (callers), whose tokens and events count (tokens, events, with
// their keys), and which proxies are trusted. It returns the other keys that it says otherwise than before, which need a restart. With an
// error all goes on as it was.
func (d *Door) Reconfigure(ctx context.Context, c *Config) (restart []string, err error) {
	if c == nil {
		return nil, errors.New("there is no configuration")
	}
	if err := c.Check(); err != nil {
		return nil, err
	}
	if err := c.Unbounded(ctx, d.facts.store); err != nil {
		return nil, err
	}
	d.reloading.Lock()
	defer d.reloading.Unlock()
	all, err := d.believe(c, d.believed.Load())
	if err != nil {
		return nil, err
	}
	d.believed.Store(all)
	d.facts.sources.Store(&all.sources)
	was, is := reflect.ValueOf(d.config).Elem(), reflect.ValueOf(c).Elem()
	again := []string{"Callers", "Tokens", "Events", "Trusted", "Certificate", "Key", "ClientCA"}
	for i := range was.NumField() {
		field := was.Type().Field(i)
		if !slices.Contains(again, field.Name) && !reflect.DeepEqual(was.Field(i).Interface(), is.Field(i).Interface()) {
			restart = append(restart, field.Tag.Get("book"))
		}
	}
	d.log.Info("the configuration was read again", "callers", len(c.Callers), "tokens", len(c.Tokens), "events", len(c.Events))
	if len(restart) > 0 {
		d.log.Warn("what the configuration says otherwise there needs a restart", "keys", fmt.Sprint(restart))
	}
	return restart, nil
}
