// Package mmdb looks up where addresses are, in an MMDB file. It stands outside
// the core: to that, a database is any decide.Locator.
package mmdb

import (
	"fmt"
	"maps"
	"net/netip"
	"sync"
	"sync/atomic"

	"github.com/oschwald/maxminddb-golang/v2"

	"github.com/briskwarden/briskwarden/attempt"
)

// Database is an MMDB file in memory. It is safe for concurrent use.
//
// Many addresses share a record, so a record is decoded once and then found by
// its place in the file: without a lock and without allocating once it has been
// settled.
type Database struct {
	reader  *maxminddb.Reader
	settled atomic.Pointer[map[uintptr]place]

	mutex sync.Mutex
	// fresh are records that are not settled yet.
	fresh map[uintptr]place
}

type place struct {
	country  attempt.CountryCode
	location attempt.Fact[attempt.Location]
}

// Open reads the bytes of an MMDB file, which must not change afterwards.
func Open(file []byte) (*Database, error) {
	reader, err := maxminddb.OpenBytes(file)
	if err != nil {
		return nil, fmt.Errorf("this is no MMDB file: %w", err)
	}
	d := &Database{reader: reader, fresh: make(map[uintptr]place)}
	d.settled.Store(&map[uintptr]place{})
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
// database knows them; it implements decide.Locator. A record that cannot be
// read is one that is not there.
func (d *Database) Locate(ip netip.Addr) (attempt.CountryCode, attempt.Fact[attempt.Location]) {
	result := d.reader.Lookup(ip)
	if !result.Found() {
		return "", attempt.Fact[attempt.Location]{}
	}
	found, ok := (*d.settled.Load())[result.Offset()]
	if !ok {
		found = d.learn(result)
	}
	return found.country, found.location
}

// learn decodes a record that is not settled yet. Fresh records are settled when
// there are a quarter as many as settled ones, so that each is copied but a few
// times.
func (d *Database) learn(result maxminddb.Result) place {
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

func decode(result maxminddb.Result) place {
	var found record
	if err := result.Decode(&found); err != nil {
		return place{}
	}
	var p place
	if p.country.UnmarshalText([]byte(found.Country.Code)) != nil {
		p.country = ""
	}
	if found.Location.Lat != nil && found.Location.Lon != nil {
		p.location = attempt.Known(attempt.Location{Lat: *found.Location.Lat, Lon: *found.Location.Lon})
	}
	return p
}
