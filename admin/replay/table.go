package replay

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/tables"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Columns name the columns of a table: for a key of an attempt, such as account or
// device.id, the name that stands in the header. A key that is not among them may
// stand in the header itself. The nil Columns say that there is no table.
type Columns map[string]string

// ColumnKeys returns the keys of an attempt that a column can hold. Proofs, failed
// and signals are lists with a space, a comma or a semicolon between names; what
// failed was refused. An empty cell is unknown.
func ColumnKeys() []string { return slices.Sorted(maps.Keys(cellReaders)) }

// cellReaders store a cell that is not empty under each key.
var cellReaders = map[string]func(a *attempt.Attempt, zone *time.Location, cell string) error{
	"id": func(a *attempt.Attempt, _ *time.Location, cell string) error { a.ID = cell; return nil },
	"at": func(a *attempt.Attempt, zone *time.Location, cell string) (err error) {
		a.At, err = tables.Time(cell, zone)
		return
	},
	"account": func(a *attempt.Attempt, _ *time.Location, cell string) error { a.Account = cell; return nil },
	"app":     func(a *attempt.Attempt, _ *time.Location, cell string) error { a.App = cell; return nil },
	"action": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		return a.Action.UnmarshalText([]byte(cell))
	},
	"ip": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		ip, err := netip.ParseAddr(cell)
		if err != nil {
			return fmt.Errorf("%q is no IP address", cell)
		}
		a.IP = attempt.Known(ip)
		return nil
	},
	"country": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		var code attempt.CountryCode
		err := code.UnmarshalText([]byte(cell))
		a.Country = attempt.Known(code)
		return err
	},
	"location.lat": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		return degrees(a, cell, func(l *attempt.Location) *float64 { return &l.Lat })
	},
	"location.lon": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		return degrees(a, cell, func(l *attempt.Location) *float64 { return &l.Lon })
	},
	"through": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		var through attempt.Through
		err := through.UnmarshalText([]byte(cell))
		a.Through = attempt.Known(through)
		return err
	},
	"device.id": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		return device(a, func(d *attempt.Device) error { d.ID = attempt.Known(cell); return nil })
	},
	"device.platform": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		return device(a, func(d *attempt.Device) error { d.Platform = attempt.Known(cell); return nil })
	},
	"device.managed": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		return device(a, func(d *attempt.Device) error { return truth(cell, &d.Managed) })
	},
	"device.known": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		return device(a, func(d *attempt.Device) error { return truth(cell, &d.Known) })
	},
	"session.id": func(a *attempt.Attempt, _ *time.Location, cell string) error { a.Session.ID = cell; return nil },
	"proofs": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		for _, method := range namesIn(cell) {
			a.Proofs = append(a.Proofs, attempt.Proof{Method: method})
		}
		return nil
	},
	"failed": func(a *attempt.Attempt, _ *time.Location, cell string) error {
		for _, method := range namesIn(cell) {
			a.Failed = append(a.Failed, attempt.Failure{Method: method, Reason: attempt.Refused})
		}
		return nil
	},
	"signals": func(a *attempt.Attempt, _ *time.Location, cell string) error { a.Signals = namesIn(cell); return nil },
}

func namesIn(cell string) []string {
	return strings.FieldsFunc(cell, func(r rune) bool { return r == ' ' || r == ',' || r == ';' })
}

func degrees(a *attempt.Attempt, cell string, of func(*attempt.Location) *float64) error {
	n, err := strconv.ParseFloat(cell, 64)
	if err != nil {
		return fmt.Errorf("%q is no number of degrees", cell)
	}
	at, _ := a.Location.Get()
	*of(&at) = n
	a.Location = attempt.Known(at)
	return nil
}

func device(a *attempt.Attempt, set func(*attempt.Device) error) error {
	d, _ := a.Device.Get()
	err := set(&d)
	a.Device = attempt.Known(d)
	return err
}

func truth(cell string, into *attempt.Fact[bool]) error {
	is, err := strconv.ParseBool(strings.ToLower(cell))
	if err != nil {
		return fmt.Errorf("%q is not true or false", cell)
	}
	*into = attempt.Known(is)
	return nil
}

// header reports which columns of a table are read, in the order of their keys.
type header struct {
	columns []tableColumn
	// text is the header as it stands, and decimalComma says that commas do not part cells,
	// so that one in a number stands for a point.
	text         []byte
	decimalComma bool
}

type tableColumn struct {
	key   string
	index int
}

// row is a record of a table: its fields, or why it has none.
type row struct {
	line   int64
	fields []string
	// text is kept where it may be put aside.
	text []byte
	err  error
}

// header finds the columns that are read among the names in a header.
func (c Columns) header(names []string) (*header, error) {
	for _, key := range slices.Sorted(maps.Keys(c)) {
		if cellReaders[key] == nil {
			return nil, fmt.Errorf(
				"no column can hold %q%s; the keys are %s",
				key,
				nearest.DidYouMean(key, ColumnKeys()),
				strings.Join(ColumnKeys(), ", "),
			)
		}
		if !slices.Contains(names, c[key]) {
			return nil, fmt.Errorf(
				"the header has no column %q%s; it has %s",
				c[key],
				nearest.DidYouMean(c[key], names),
				strings.Join(names, ", "),
			)
		}
	}
	h := &header{}
	var missing []string
	for _, key := range ColumnKeys() {
		name, named := c[key]
		if !named {
			name = key
		}
		switch i := slices.Index(names, name); {
		case i >= 0:
			h.columns = append(h.columns, tableColumn{key, i})
		case key == "at" || key == "account" || key == "app":
			missing = append(missing, key)
		}
	}
	if len(missing) > 0 {
		return nil, fmt.Errorf(
			"the header does not say which column is %s; it has %s, and --columns says which is which: --columns %s=%s",
			words.List(missing, "or"),
			strings.Join(names, ", "),
			missing[0],
			names[0],
		)
	}
	if (slices.ContainsFunc(h.columns, func(c tableColumn) bool { return c.key == "location.lat" })) !=
		slices.ContainsFunc(h.columns, func(c tableColumn) bool { return c.key == "location.lon" }) {
		return nil, errors.New("location.lat and location.lon go together")
	}
	return h, nil
}

// read makes an attempt of a record.
func (h *header) read(fields []string, zone *time.Location, a *attempt.Attempt) error {
	for _, c := range h.columns {
		cell := strings.TrimSpace(fields[c.index])
		if cell == "" {
			continue
		}
		if h.decimalComma && (c.key == "location.lat" || c.key == "location.lon") {
			cell = strings.Replace(cell, ",", ".", 1)
		}
		if err := cellReaders[c.key](a, zone, cell); err != nil {
			return fmt.Errorf("column %d: %w", c.index+1, err)
		}
	}
	return a.Check()
}
