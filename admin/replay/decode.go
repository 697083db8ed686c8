package replay

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/attempt/ocsf"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// decoder makes attempts of lines and records. It is used by many goroutines.
type decoder struct {
	judges []*engine.Judge
	known  ocsf.Known
	// recorded says that what a journal says may come.
	recorded bool
}

func newDecoder(judges []*engine.Judge, o *Options) *decoder {
	d := &decoder{judges: judges, recorded: o.Recorded}
	some := func(has func(j *engine.Judge, name string) bool) func(string) bool {
		return func(name string) bool {
			return slices.ContainsFunc(judges, func(j *engine.Judge) bool { return has(j, name) })
		}
	}
	d.known.Account = some(func(j *engine.Judge, name string) bool {
		_, ok := j.Directory().FindAccount(name)
		return ok
	})
	d.known.App = some(func(j *engine.Judge, name string) bool { _, ok := j.Directory().FindApp(name); return ok })
	return d
}

// decode makes the attempts of a batch. What cannot be read is kept aside.
func (d *decoder) decode(b *batch) {
	for i := range b.rows {
		one := &b.rows[i]
		err := one.err
		if err == nil {
			err = b.header.read(one.fields, d.judges[0].Directory().Zone, b.next())
		} else {
			b.next()
		}
		b.took(i, one.line, one.text, true, err)
	}
	// To look for events in each line of attempts would cost as much as to judge them.
	events := len(b.ends) > 0 && ocsf.IsEvent(b.line(0))
	for i := range b.ends {
		text := bytes.TrimSpace(b.line(i))
		line := b.first + int64(i)
		switch {
		case slices.Contains(b.overlong, i):
			b.next()
			b.took(i, line, nil, true, fmt.Errorf("the line is longer than %d bytes", longestLine))
		case len(text) == 0:
		default:
			a := b.next()
			is, recorded, err := d.parse(text, events, a)
			b.recorded[len(b.recorded)-1] = recorded
			b.took(i, line, text, is, err)
		}
	}
}

// parse reads an attempt, an event, or an entry of a journal. It returns false for what is in order
// and no attempt.
func (d *decoder) parse(text []byte, events bool, a *attempt.Attempt) (bool, *Recorded, error) {
	if isEntry(text) {
		if !d.recorded {
			return true, nil, errRecorded
		}
		recorded, err := parseEntry(text, a)
		return recorded != nil || err != nil, recorded, err
	}
	if !events {
		err := attempt.Parse(text, a, attempt.Options{})
		if err == nil || !ocsf.IsEvent(text) {
			return true, nil, err
		}
		*a = attempt.Attempt{}
	}
	if ocsf.IsEvent(text) {
		if is, facts, err := ocsf.ParseRecorded(text, d.known, a); !errors.Is(err, ocsf.ErrNoEvent) {
			if err != nil || facts == nil {
				return is, nil, err
			}
			if !d.recorded {
				return true, nil, errRecorded
			}
			recorded := new(Recorded)
			return is, recorded, json.Unmarshal(facts, recorded)
		}
	}
	return true, nil, attempt.Parse(text, a, attempt.Options{})
}

// took notes what became of the attempt that room was made for last.
func (b *batch) took(i int, line int64, text []byte, is bool, err error) {
	switch {
	case err != nil:
		b.takeBack()
		b.bad = append(b.bad, badLine{BadLine{b.source, line, strings.TrimPrefix(err.Error(), "line 1, ")}, bytes.Clone(text)})
	case !is:
		b.takeBack()
		b.skipped++
	default:
		b.numbers = append(b.numbers, b.start+int64(i))
	}
}
