package engine

import (
	"bufio"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// fingerprint is "sha256:" and a hash of all that a rulebook says, wherever it is
// from: two rulebooks that say the same have the same, and one that was changed in
// Go has another. Places in files do not count, nor what is supplied at decision
// time.
func fingerprint(book *decide.Rulebook) string {
	sum := sha256.New()
	w := fingerprinter{bufio.NewWriterSize(sum, 1<<16)}
	w.accounts(book.Directory.Accounts)
	rest := *book
	rest.Digest, rest.Directory.Accounts, rest.Watched = "", nil, nil
	w.value(reflect.ValueOf(rest))
	_ = w.Flush() // a hash takes whatever is written
	return "sha256:" + hex.EncodeToString(sum.Sum(nil))
}

// Fingerprint returns a hash of what a part of a rulebook says, wherever it is from: two parts that say the same
// have the same.
func Fingerprint(part any) string {
	sum := sha256.New()
	w := fingerprinter{bufio.NewWriter(sum)}
	w.value(reflect.ValueOf(part))
	_ = w.Flush() // a hash takes whatever is written
	return hex.EncodeToString(sum.Sum(nil))
}

// fingerprinter writes values so that two that differ are written differently:
// each with its length or its kind before it.
type fingerprinter struct{ *bufio.Writer }

func (w fingerprinter) number(n uint64) {
	_, _ = w.Write(binary.AppendUvarint(w.AvailableBuffer(), n)) // hashing is what costs
}

func (w fingerprinter) text(s string) {
	w.number(uint64(len(s)))
	_, _ = w.WriteString(s)
}

func (w fingerprinter) texts(list []string) {
	w.number(uint64(len(list)))
	for _, s := range list {
		w.text(s)
	}
}

// accounts is value for accounts, which a book has many of: what most of them state
// is written without reflection, and the rest of what one states by value, so that a
// key that is added counts without being named here.
func (w fingerprinter) accounts(accounts []directory.Account) {
	var rest directory.Account
	asValue := reflect.ValueOf(&rest).Elem()
	var names []string
	for i := range accounts {
		a := &accounts[i]
		w.text(a.Name)
		w.number(uint64(a.Kind))
		w.truth(a.Disabled)
		w.texts(a.Groups)
		w.texts(a.Methods)
		names = slices.AppendSeq(names[:0], maps.Keys(a.Attributes))
		slices.Sort(names)
		w.number(uint64(len(names)))
		for _, name := range names {
			w.text(name)
			w.scalar(a.Attributes[name])
		}
		w.truth(a.Joined != nil)
		if a.Joined != nil {
			w.number(uint64(a.Joined.Year))
			w.number(uint64(a.Joined.Month))
			w.number(uint64(a.Joined.Day))
		}
		rest = *a
		rest.Name, rest.Kind, rest.Disabled, rest.Groups, rest.Methods, rest.Attributes, rest.Joined = "", 0, false, nil, nil, nil, nil
		w.truth(asValue.IsZero())
		if !asValue.IsZero() {
			w.value(asValue)
		}
	}
}

func (w fingerprinter) truth(b bool) {
	if b {
		w.number(1)
	} else {
		w.number(0)
	}
}

func (w fingerprinter) scalar(s attempt.Scalar) {
	w.number(uint64(s.Kind()))
	w.text(s.String())
}

var (
	positionType = reflect.TypeFor[condition.Position]()
	momentType   = reflect.TypeFor[time.Time]()
	zoneType     = reflect.TypeFor[time.Location]()
	scalarType   = reflect.TypeFor[attempt.Scalar]()
	rangeType    = reflect.TypeFor[directory.Range]()
)

// value writes any value that a rulebook holds. Interfaces other than conditions
// are what is supplied at decision time, and are left out.
func (w fingerprinter) value(v reflect.Value) {
	switch t := v.Type(); t {
	case positionType:
		return
	case momentType:
		w.text(v.Interface().(time.Time).UTC().Format(time.RFC3339Nano))
		return
	case zoneType:
		zone := v.Addr().Interface().(*time.Location)
		w.text(zone.String())
		return
	case scalarType:
		w.scalar(v.Interface().(attempt.Scalar))
		return
	case rangeType:
		w.text(v.Interface().(directory.Range).String())
		return
	}
	switch v.Kind() {
	case reflect.String:
		w.text(v.String())
	case reflect.Bool:
		w.truth(v.Bool())
	case reflect.Float64:
		w.number(math.Float64bits(v.Float()))
	case reflect.Slice, reflect.Array:
		w.number(uint64(v.Len()))
		for i := range v.Len() {
			w.value(v.Index(i))
		}
	case reflect.Map:
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
		w.number(uint64(len(keys)))
		for _, key := range keys {
			w.text(key.String())
			w.value(v.MapIndex(key))
		}
	case reflect.Pointer:
		w.truth(!v.IsNil())
		if !v.IsNil() {
			w.value(v.Elem())
		}
	case reflect.Interface:
		if node, ok := v.Interface().(condition.Node); ok {
			w.text(v.Elem().Type().String())
			w.condition(node)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				w.value(v.Field(i))
			}
		}
	default:
		if v.CanInt() {
			w.number(uint64(v.Int()))
		} else {
			w.number(v.Uint())
		}
	}
}

// condition writes a condition as it was read, bound or not.
func (w fingerprinter) condition(node condition.Node) {
	condition.Walk(node, func(n condition.Node) bool {
		switch n := n.(type) {
		case *condition.Test:
			w.text("test " + n.Key.String())
			w.text(n.Attribute)
			w.texts(n.Values)
		case *condition.All:
			w.text("all")
			w.number(uint64(len(n.Of)))
		case *condition.Any:
			w.text("any")
			w.number(uint64(len(n.Of)))
		case *condition.Not:
			w.text("not")
		}
		return true
	})
}
