package replay

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/attempt/ocsf"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Recorded is what the journal of a door says of one decision: the attempt as it was judged, and what
// the store knew then.
type Recorded struct {
	Attempt json.RawMessage `json:"attempt"`
	Account *store.Shown    `json:"account,omitempty"`
	Device  *store.Device   `json:"device,omitempty"`
}

type recordedKey struct{}

// With returns a context in which rules that Supply changed know what was recorded.
func (r *Recorded) With(ctx context.Context) context.Context {
	return context.WithValue(ctx, recordedKey{}, r)
}

// Judges returns judges that also know what a journal says that the store knew, where a history may
// hold entries of one; else the judges themselves. It costs compiling them again.
func (o *Options) Judges(judges []*engine.Judge) ([]*engine.Judge, error) {
	if !o.Recorded {
		return judges, nil
	}
	supplied := make([]*engine.Judge, len(judges))
	for i, judge := range judges {
		rules := judge.Rulebook()
		Supply(&rules)
		var err error
		if supplied[i], err = engine.Compile(rules); err != nil {
			return nil, err
		}
	}
	return supplied, nil
}

// Supply makes rules judge by what the journal says that the store knew, where an attempt is of a
// journal. Others are judged as before. It is called before the rules are compiled.
func Supply(rules *decide.Rulebook) {
	s := &supplier{accounts: rules.Accounts, others: rules.Devices, devices: map[string]*directory.Device{}}
	for i := range rules.Directory.Devices {
		s.devices[rules.Directory.Devices[i].Name] = &rules.Directory.Devices[i]
	}
	rules.Accounts, rules.Devices = s, s
}

// supplier supplies what was recorded.
type supplier struct {
	accounts directory.Accounts
	others   directory.Devices
	devices  map[string]*directory.Device
}

// Account implements directory.Accounts.
func (s *supplier) Account(ctx context.Context, name string) (directory.Account, error) {
	r, _ := ctx.Value(recordedKey{}).(*Recorded)
	switch {
	case r != nil && r.Account != nil && r.Account.Name == name && r.Account.States():
		return r.Account.Entry(), nil
	case r == nil && s.accounts != nil:
		return s.accounts.Account(ctx, name)
	}
	return directory.Account{}, directory.ErrNotFound
}

// Device implements directory.Devices.
func (s *supplier) Device(ctx context.Context, id string) (directory.Device, error) {
	r, _ := ctx.Value(recordedKey{}).(*Recorded)
	switch {
	case r != nil && r.Device != nil && r.Device.ID == id:
		if found := r.Device.Supplied(s.devices[id]); found != nil {
			return *found, nil
		}
	case r == nil && s.others != nil:
		return s.others.Device(ctx, id)
	}
	return directory.Device{}, directory.ErrNotFound
}

// errRecorded is the error for what a journal says where nobody expects it: judged by the book alone it
// would come to something else.
var errRecorded = errors.New("this is of a door's journal, and the history did not begin like one; replay journals by themselves")

// MayBeRecorded reports whether a history that begins like this may hold what a door's journal says.
func MayBeRecorded(beginning []byte) bool {
	beginning = bytes.TrimLeft(beginning, " \t\r\n\ufeff")
	return isEntry(beginning) || ocsf.IsEvent(beginning) && bytes.Contains(beginning, []byte(`"briskwarden_facts"`))
}

// isEntry reports whether a line of JSON is an entry of a journal, as journal.Make writes it.
func isEntry(text []byte) bool { return bytes.HasPrefix(text, []byte(`{"kind":"`)) }

// parseEntry reads the attempt of a decision. It returns nil for an entry of another kind.
func parseEntry(text []byte, a *attempt.Attempt) (*Recorded, error) {
	e := journal.Entry{Leaf: text}
	c, err := e.Content()
	if err != nil || c.Kind != journal.Decision {
		return nil, err
	}
	var answer struct {
		Facts Recorded `json:"facts"`
	}
	if err := json.Unmarshal(c.Answer, &answer); err != nil {
		return nil, err
	}
	if err := attempt.Parse(answer.Facts.Attempt, a, attempt.Options{Part: true}); err != nil {
		return nil, err
	}
	if a.ID == "" {
		a.ID = c.ID
	}
	return &answer.Facts, a.Check()
}
