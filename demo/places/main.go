// Places writes the small database of made-up places that the demo's book looks
// addresses up in, into the file that it is given. `go generate ./demo` runs it.
package main

import (
	"log"
	"net"
	"os"

	"github.com/maxmind/mmdbwriter"
	"github.com/maxmind/mmdbwriter/mmdbtype"
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: places FILE")
	}
	tree, err := mmdbwriter.New(mmdbwriter.Options{
		DatabaseType: "Kestrel-Places", RecordSize: 24, BuildEpoch: 1_790_000_000,
		Description:             map[string]string{"en": "Made-up places for documentation addresses"},
		IncludeReservedNetworks: true, // the documentation ranges of RFC 5737 and RFC 3849 are reserved
	})
	if err != nil {
		log.Fatal(err)
	}
	for _, place := range []struct {
		block, country string
		lat, lon       float64
	}{
		{"192.0.2.64/26", "NO", 60.39, 5.32},
		{"192.0.2.128/26", "BR", -22.91, -43.17},
		{"192.0.2.16/28", "PL", 54.35, 18.65},
		{"203.0.113.0/24", "NO", 58.97, 5.73},
		{"2001:db8:77::/48", "SE", 57.71, 11.97},
	} {
		_, block, err := net.ParseCIDR(place.block)
		if err != nil {
			log.Fatal(err)
		}
		record := mmdbtype.Map{
			"country":  mmdbtype.Map{"iso_code": mmdbtype.String(place.country)},
			"location": mmdbtype.Map{"latitude": mmdbtype.Float64(place.lat), "longitude": mmdbtype.Float64(place.lon)},
		}
		if err := tree.Insert(block, record); err != nil {
			log.Fatal(err)
		}
	}
	file, err := os.Create(os.Args[1])
	if err != nil {
		log.Fatal(err)
	}
	if _, err := tree.WriteTo(file); err != nil {
		log.Fatal(err)
	}
	if err := file.Close(); err != nil {
		log.Fatal(err)
	}
}
