// Package mmdb looks up where addresses are, in an MMDB file. It stands outside
// the core: to that, a database is any directory.Locator.
package mmdb

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"sync"
	"sync/atomic"

	"github.com/oschwald/maxminddb-golang/v2"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// Database is an MMDB file in memory. It is safe for concurrent use.
//
// Many addresses share a record, so a record is decoded once and then found by
// its place in the file: without a lock and without allocating once it has been
// settled.
type Database struct {
	reader  *maxminddb.Reader
	settled atomic.Pointer[map[uintptr]directory.Whereabouts]

	mutex sync.Mutex
	// fresh are records that are not settled yet.
	fresh map[uintptr]directory.Whereabouts
}

// Open reads the bytes of an MMDB file, which must not change afterwards.
func Open(file []byte) (*Database, error) {
	reader, err := maxminddb.OpenBytes(file)
	if err != nil {
		return nil, fmt.Errorf("this is no MMDB file: %w", err)
	}
	d := &Database{reader: reader, fresh: make(map[uintptr]directory.Whereabouts)}
	d.settled.Store(&map[uintptr]directory.Whereabouts{})
	return d, nil
}

// Locator is Open for a program that opens a book: it is the reader that
// book.WithDatabase takes.
func Locator(file []byte) (directory.Locator, error) {
	d, err := Open(file)
	if err != nil {
		return nil, err
	}
	return d, nil
}

// record is what is read of an address; the fields are those of the databases
// that are commonly published.
type record struct {
	Country struct {
		Code string `maxminddb:"iso_code"`
	} `maxminddb:"country"`
	Location struct {
		Lat *float64 `maxminddb:"latitude"`
		Lon *float64 `maxminddb:"longitude"`
	} `maxminddb:"location"`
}

// Locate returns the country and the location of an address, as far as the
// database knows them; it implements directory.Locator. A record that cannot be
// read is one that is not there. It waits for nothing, and its error is always nil.
func (d *Database) Locate(_ context.Context, ip netip.Addr) (directory.Whereabouts, error) {
	result := d.reader.Lookup(ip)
	if !result.Found() {
		return directory.Whereabouts{}, nil
	}
	found, ok := (*d.settled.Load())[result.Offset()]
	if !ok {
		found = d.learn(result)
	}
	return found, nil
}

// Survey implements directory.Surveyor. A part of the range that has no record is visited too.
func (d *Database) Survey(r directory.Range, visit func(first netip.Addr, found directory.Whereabouts) bool) error {
	for _, prefix := range r.Prefixes() {
		for result := range d.reader.NetworksWithin(prefix, maxminddb.IncludeNetworksWithoutData()) {
			if err := result.Err(); err != nil {
				return err
			}
			first := directory.Plain(result.Prefix().Addr())
			if first.Less(prefix.Addr()) { // the record is of more than the range
				first = prefix.Addr()
			}
			found, err := d.Locate(context.Background(), first)
			if err != nil {
				return err
			}
			if !visit(first, found) {
				return nil
			}
		}
	}
	return nil
}

// learn decodes a record that is not settled yet. Fresh records are settled when
// there are a quarter as many as settled ones, so that each is copied but a few
// times.
func (d *Database) learn(result maxminddb.Result) directory.Whereabouts {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	found, ok := d.fresh[result.Offset()]
	if ok {
		return found
	}
	found = decode(result)
	d.fresh[result.Offset()] = found
	settled := *d.settled.Load()
	if len(d.fresh)*4 > len(settled) {
		all := maps.Clone(settled)
		maps.Copy(all, d.fresh)
		d.settled.Store(&all)
		clear(d.fresh)
	}
	return found
}

func decode(result maxminddb.Result) directory.Whereabouts {
	var found record
	if err := result.Decode(&found); err != nil {
		return directory.Whereabouts{}
	}
	var p directory.Whereabouts
	if p.Country.UnmarshalText([]byte(found.Country.Code)) != nil {
		p.Country = ""
	}
	if found.Location.Lat != nil && found.Location.Lon != nil {
		p.Location = attempt.Known(attempt.Location{Lat: *found.Location.Lat, Lon: *found.Location.Lon})
	}
	return p
}
