package compare

import (
	"cmp"
	"reflect"

	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// compareDevices reports devices together, as compareAccounts does accounts.
func (d *differ) compareDevices() {
	d.about("devices", "", func() {
		l := &groupedChanges{}
		for _, p := range pairs(d.old.book.Devices, d.new.book.Devices, func(v *directory.Device) string { return v.Name }) {
			switch {
			case p.old == nil:
				l.add(Either, "{who} {is} known besides", p.name)
			case p.new == nil:
				l.add(Either, "{who} {is} not known any more", p.name)
			default:
				compareDevice(l, p.old, p.new)
			}
		}
		d.noteAll(l, "device")
	})
}

func compareDevice(l *groupedChanges, was, is *directory.Device) {
	move := func(what, before, after string) {
		if before != after {
			l.add(Either, "the "+what+" of {who} was "+cmp.Or(before, "not stated")+" and is "+cmp.Or(after, "not stated"), is.Name)
		}
	}
	truth := func(what string, before, after bool) {
		if before != after {
			l.add(Either, "{who} {is} "+map[bool]string{true: what + " now", false: "not " + what + " any more"}[after], is.Name)
		}
	}
	move("platform", was.Platform, is.Platform)
	truth("managed", was.Managed, is.Managed)
	truth("shared", was.Shared, is.Shared)
	move("owner", was.Owner, is.Owner)
	if !sameSet(was.Tags, is.Tags) {
		move("tags", words.List(was.Tags, "and"), words.List(is.Tags, "and"))
	}
	eachFact(was.Facts, is.Facts, move)
	move("last report", timeWords(was.ReportedAt), timeWords(is.ReportedAt))
}

// sameDevices reports whether two books know the same of the same devices, in any order.
func sameDevices(a, b []directory.Device) bool {
	for _, p := range pairs(a, b, func(v *directory.Device) string { return v.Name }) {
		if p.old == nil || p.new == nil || !reflect.DeepEqual(p.old, p.new) {
			return false
		}
	}
	return true
}
