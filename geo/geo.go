// Package geo looks up where addresses are, in an MMDB file. It stands outside
// the core: to that, a database is any decide.Locator.
package geo

import (
	"fmt"
	"net/netip"

	"github.com/oschwald/maxminddb-golang/v2"

	"github.com/briskwarden/briskwarden/attempt"
)

// Database is an MMDB file in memory. It is safe for concurrent use.
type Database struct{ reader *maxminddb.Reader }

// Open reads the bytes of an MMDB file, which must not change afterwards.
func Open(file []byte) (*Database, error) {
	reader, err := maxminddb.OpenBytes(file)
	if err != nil {
		return nil, fmt.Errorf("this is no MMDB file: %w", err)
	}
	return &Database{reader}, nil
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
	var found record
	if err := d.reader.Lookup(ip).Decode(&found); err != nil {
		return "", attempt.Fact[attempt.Location]{}
	}
	var code attempt.CountryCode
	if code.UnmarshalText([]byte(found.Country.Code)) != nil {
		code = ""
	}
	if found.Location.Lat == nil || found.Location.Lon == nil {
		return code, attempt.Fact[attempt.Location]{}
	}
	return code, attempt.Known(attempt.Location{Lat: *found.Location.Lat, Lon: *found.Location.Lon})
}
