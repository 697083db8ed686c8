package engine

import (
	"cmp"
	"math/big"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// sizeOf is the number of addresses of a range, less one.
func sizeOf(r directory.Range) *big.Int { return new(big.Int).Sub(number(r.To), number(r.From)) }

func number(a netip.Addr) *big.Int { return new(big.Int).SetBytes(a.AsSlice()) }

// Place is what is known of an address.
type Place struct {
	// Networks are the numbers of the networks that it lies in, ascending.
	Networks []int32
	// Country is stated by the narrowest of their ranges that states one. It is "" where none does, and
	// where equally narrow ones state different countries, so that it is Torn.
	Country attempt.CountryCode
	Torn    bool
	// Ours and Anonymous say that one of them is marked so.
	Ours, Anonymous bool

	// narrowest is the size of the range that Country is from.
	narrowest *big.Int
}

// placeTable finds the place of an address in one longest-prefix look-up: each
// prefix holds all that its wider ones hold too.
type placeTable struct {
	table bart.Table[*Place]
}

var nowhere Place

func newPlaceTable(networks []directory.Network) *placeTable {
	t := new(placeTable)
	for number := range networks {
		n := &networks[number]
		for _, r := range n.Ranges {
			for _, prefix := range r.Prefixes() {
				place, ok := t.table.Get(prefix)
				if !ok {
					place = new(Place)
					t.table.Insert(prefix, place)
				}
				place.add(int32(number), n, r)
			}
		}
	}
	// Inherit from wide to narrow, so that each parent is complete before its
	// children ask: AllSorted yields a wider prefix before those inside it.
	for prefix, place := range t.table.AllSorted() {
		if prefix.Bits() == 0 {
			continue
		}
		wider := netip.PrefixFrom(prefix.Addr(), prefix.Bits()-1).Masked()
		if _, parent, ok := t.table.LookupPrefixLPM(wider); ok {
			place.inherit(parent)
		}
	}
	return t
}

func (p *Place) add(number int32, n *directory.Network, r directory.Range) {
	p.Networks = append(p.Networks, number)
	p.Ours = p.Ours || n.Ours
	p.Anonymous = p.Anonymous || n.Anonymous
	if n.Country != "" {
		p.state(attempt.CountryCode(n.Country), false, sizeOf(r))
	}
	p.settle()
}

// state takes over a country, or that it is torn, where its range is narrower than that of what is known.
// Of as narrow ones that differ the country is torn, so that no order decides.
func (p *Place) state(country attempt.CountryCode, torn bool, size *big.Int) {
	order := -1
	if p.narrowest != nil {
		order = size.Cmp(p.narrowest)
	}
	switch {
	case order < 0:
		p.Country, p.Torn, p.narrowest = country, torn, size
	case order == 0 && (torn || country != p.Country):
		p.Country, p.Torn = "", true
	}
}

func (p *Place) inherit(wider *Place) {
	p.Networks = append(p.Networks, wider.Networks...)
	p.Ours = p.Ours || wider.Ours
	p.Anonymous = p.Anonymous || wider.Anonymous
	if wider.narrowest != nil {
		p.state(wider.Country, wider.Torn, wider.narrowest)
	}
	p.settle()
}

func (p *Place) settle() {
	slices.Sort(p.Networks)
	p.Networks = slices.Compact(p.Networks)
}

func (t *placeTable) find(a netip.Addr) *Place {
	if a.IsValid() {
		if place, ok := t.table.Lookup(directory.Plain(a)); ok {
			return place
		}
	}
	return &nowhere
}

// Neighbour is the network nearest to an address that lies in none.
type Neighbour struct {
	Network string
	Range   directory.Range
	// Away is how many addresses lie between, plus one.
	Away *big.Int
}

// nearestNetwork returns the network of the address's family whose range is nearest,
// and false where there is none.
func nearestNetwork(networks []directory.Network, a netip.Addr) (Neighbour, bool) {
	a = directory.Plain(a)
	var best Neighbour
	for i := range networks {
		for _, r := range networks[i].Ranges {
			if r.From.BitLen() != a.BitLen() {
				continue
			}
			edge := r.To
			if a.Less(r.From) {
				edge = r.From
			}
			away := new(big.Int).Sub(number(a), number(edge))
			away.Abs(away)
			if best.Away == nil || cmp.Or(away.Cmp(best.Away), cmp.Compare(networks[i].Name, best.Network)) < 0 {
				best = Neighbour{networks[i].Name, r, away}
			}
		}
	}
	return best, best.Away != nil
}
