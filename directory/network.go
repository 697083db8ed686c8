package directory

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"go4.org/netipx"
)

// Network is a named set of address ranges.
type Network struct {
	Name   string  `book:"-"`
	Ranges []Range `book:"ranges,required" doc:"addresses, CIDR blocks and ranges a-b, IPv4 and IPv6"`
	// Ours marks the organisation's own networks.
	Ours bool `book:"ours" doc:"true for one's own network"`
	// Country, where given, is where the network is, whatever else is said.
	Country Country `book:"country" doc:"ISO 3166-1 country of the network; it wins over the attempt's"`
	// Anonymous marks networks that hide where people come from.
	Anonymous bool `book:"anonymous" doc:"true for networks that hide where people come from"`
}

// Range is an unbroken stretch of addresses of one family, both ends included.
// IPv4-mapped IPv6 addresses (RFC 4291 §2.5.5.2) and those behind the well-known
// prefix of NAT64 are the IPv4 ones, as [Plain] has it.
type Range struct{ From, To netip.Addr }

// ParseRange reads an address, a CIDR block or a range a-b. The error quotes
// what was given and says what would be right.
func ParseRange(text string) (Range, error) {
	if from, to, ok := strings.Cut(text, "-"); ok {
		return parseSpread(text, strings.TrimSpace(from), strings.TrimSpace(to))
	}
	if strings.Contains(text, "/") {
		return parseBlock(text)
	}
	addr, err := parseAddr(text)
	return Range{addr, addr}, err
}

// nat64 is the well-known prefix behind which IPv6 carries an IPv4 address (RFC
// 6052 §2.1).
var nat64 = netip.MustParsePrefix("64:ff9b::/96")

// Plain returns the address in the form in which addresses are compared: without a
// zone, and as the IPv4 address that it is where it is IPv4-mapped (RFC 4291
// §2.5.5.2) or lies behind the well-known prefix of NAT64 (RFC 6052 §2.1). Other
// carriers of an IPv4 address, such as 6to4, Teredo and a translator's own prefix,
// stay the IPv6 addresses that they are, since not every network translates them.
func Plain(addr netip.Addr) netip.Addr {
	addr = addr.Unmap().WithZone("")
	if addr.Is6() && nat64.Contains(addr) {
		bytes := addr.As16()
		return netip.AddrFrom4([4]byte(bytes[12:]))
	}
	return addr
}

func parseAddr(text string) (netip.Addr, error) {
	addr, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("%q is no IP address, CIDR block or range a-b", text)
	}
	if addr.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%q names an interface; write %s", text, addr.WithZone(""))
	}
	return Plain(addr), nil
}

func parseSpread(text, from, to string) (Range, error) {
	first, err := parseAddr(from)
	if err != nil {
		return Range{}, err
	}
	last, err := parseAddr(to)
	if err != nil {
		return Range{}, err
	}
	switch {
	case first.Is4() != last.Is4():
		return Range{}, fmt.Errorf("%q runs from IPv%d to IPv%d; write one range for each", text, family(first), family(last))
	case last.Less(first):
		return Range{}, fmt.Errorf("%q ends before it begins; write %s-%s", text, last, first)
	}
	return Range{first, last}, nil
}

func family(a netip.Addr) int {
	if a.Is4() {
		return 4
	}
	return 6
}

func parseBlock(text string) (Range, error) {
	block, err := netip.ParsePrefix(text)
	if err != nil {
		return Range{}, fmt.Errorf("%q is no CIDR block such as 203.0.113.0/24 or 2001:db8:51::/48", text)
	}
	if carried := Plain(block.Addr()); carried.Is4() && block.Addr().Is6() {
		if block.Bits() < 96 {
			return Range{}, fmt.Errorf("%q is wider than all of IPv4, which ::ffff:0:0/96 stands for", text)
		}
		block = netip.PrefixFrom(carried, block.Bits()-96)
	}
	if block != block.Masked() {
		return Range{}, fmt.Errorf("%q has bits set behind the /%d; write %s for the block or %s for the one address",
			text, block.Bits(), block.Masked(), block.Addr())
	}
	r := netipx.RangeOfPrefix(block)
	return Range{r.From(), r.To()}, nil
}

// Sample returns an address of the range that could be somebody's: the second,
// where there is one, since the first of a block stands for the block.
func (r Range) Sample() netip.Addr {
	if second := r.From.Next(); r.Contains(second) {
		return second
	}
	return r.From
}

// UnmarshalText reads what ParseRange reads.
func (r *Range) UnmarshalText(text []byte) (err error) {
	*r, err = ParseRange(string(text))
	return err
}

// Check reports what keeps a range from being one: an end that is no address or
// has a zone, ends of two families, or an end before the beginning. ParseRange
// returns only sound ranges.
func (r Range) Check() error {
	switch {
	case !r.From.IsValid() || !r.To.IsValid():
		return errors.New("a range has two ends that are addresses; the zero Range has none")
	case r.From != Plain(r.From) || r.To != Plain(r.To):
		return fmt.Errorf("%s-%s: write %s-%s", r.From, r.To, Plain(r.From), Plain(r.To))
	case r.From.BitLen() != r.To.BitLen():
		return fmt.Errorf("%s-%s runs from IPv%d to IPv%d", r.From, r.To, family(r.From), family(r.To))
	case r.To.Less(r.From):
		return fmt.Errorf("%s-%s ends before it begins", r.From, r.To)
	}
	return nil
}

// Contains reports whether the address lies in the range.
func (r Range) Contains(a netip.Addr) bool {
	a = Plain(a)
	return a.BitLen() == r.From.BitLen() && !a.Less(r.From) && !r.To.Less(a)
}

// Prefixes returns the fewest CIDR blocks that make up the range.
func (r Range) Prefixes() []netip.Prefix { return netipx.IPRangeFrom(r.From, r.To).Prefixes() }

// String returns the range as an address, a CIDR block or a-b, whichever is
// shortest.
func (r Range) String() string {
	if r.From == r.To {
		return r.From.String()
	}
	if p, ok := netipx.IPRangeFrom(r.From, r.To).Prefix(); ok {
		return p.String()
	}
	return r.From.String() + "-" + r.To.String()
}
