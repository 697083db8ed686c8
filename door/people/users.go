package people

import (
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/schema"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/people"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/store"
)

// users are the Users (RFC 7643 §4.1).
type users struct{ d *room }

func (u users) resource(a *store.Account, by store.Source) (scim.Resource, error) {
	made, attributes, err := resource(idOf(a.Name), a.Pushed[by])
	if err != nil {
		return made, err
	}
	list := []any{}
	for i := range a.Stated {
		if s := &a.Stated[i]; s.By == by && s.Fact == store.Membership && !s.Withdrawn && s.Value == attempt.BoolScalar(true) {
			list = append(list, map[string]any{"value": idOf(s.Name), "display": s.Name, "$ref": "/scim/v2/Groups/" + idOf(s.Name)})
		}
	}
	if len(list) > 0 {
		attributes["groups"] = list
	}
	return made, nil
}

// pushedBy returns as whom a feed finds the resource of an account: its own, or one of before there were sources, which it
// takes over with what it says next.
func pushedBy(a *store.Account, feed feed) (by store.Source, ok bool) {
	if a.Pushed[feed.source] != nil {
		return feed.source, true
	}
	return store.Before, a.Pushed[store.Before] != nil
}

// load returns a pushed account to be changed, which is the feed's own from then on.
func (u users) load(b *door.Change, id string, feed feed) (*store.Account, error) {
	name, err := nameOf(id)
	if err != nil {
		return nil, err
	}
	if err := feed.checkAccount(name); err != nil {
		return nil, err
	}
	a, err := b.Look(name)
	if err != nil {
		return nil, err
	}
	by, ok := pushedBy(a, feed)
	if !ok {
		return nil, scimerrors.ScimErrorResourceNotFound(id)
	}
	if a, err = b.Account(name); err != nil {
		return nil, err
	}
	if p := a.Pushed[by]; by != feed.source {
		a.SetPushed(by, nil)
		a.SetPushed(feed.source, p)
	}
	return a, nil
}

// Create implements scim.ResourceHandler. A name that this feed deleted before is another person's from then on.
func (u users) Create(r *http.Request, attributes scim.ResourceAttributes) (made scim.Resource, err error) {
	name, _ := attributes["userName"].(string)
	if err := directory.CheckName(name); err != nil {
		return made, problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "userName: %s.", err)
	}
	feed := feedOf(r)
	if err := feed.checkAccount(name); err != nil {
		return made, err
	}
	err = u.d.push(r, "user", name, "created", func(b *door.Change, c *store.Stating) error {
		a, err := b.Account(name)
		if err != nil {
			return err
		}
		if _, twice := pushedBy(a, feed); twice || u.isTakenOtherwise(b, name) {
			return scimerrors.ScimErrorUniqueness
		}
		isFirst := !a.States() && a.Previous == nil && !u.d.Lists(name) // so what the store has no record of did not happen
		if isFirst || a.Says(store.Gone, feed.source) {
			at := a.After(c.By, c.At)
			if err := b.MakeAnew(a, at, feed.source); err != nil {
				return err
			}
			c.At, a.Made.IsFirst = at, isFirst
			c.Say(a, store.Statement{Fact: store.Gone, Value: attempt.BoolScalar(false)})
		}
		made, err = u.write(a, feed, attributes, c)
		return err
	})
	u.d.LookAgain(name, "", "the account was changed")
	return made, err
}

// isTakenOtherwise reports whether an account is named alike but for its case, as far as the book lists it or its name is in small letters:
// a userName is told apart without regard to case (RFC 7643 §4.1.1).
func (u users) isTakenOtherwise(b *door.Change, name string) bool {
	listed := u.d.Book().Source().Accounts
	for i := range listed {
		if other := listed[i].Name; other != name && strings.EqualFold(other, name) {
			return true
		}
	}
	small := strings.ToLower(name)
	if small == name {
		return false
	}
	a, err := b.Look(small)
	return err != nil || a.States()
}

// Get implements scim.ResourceHandler.
func (u users) Get(r *http.Request, id string) (scim.Resource, error) {
	name, err := nameOf(id)
	if err != nil {
		return scim.Resource{}, err
	}
	feed := feedOf(r)
	if err := feed.checkAccount(name); err != nil {
		return scim.Resource{}, err
	}
	a := &store.Account{Name: name}
	if err := store.Load(r.Context(), u.d.Store(), a); err != nil && !errors.Is(err, store.ErrNotFound) {
		return scim.Resource{}, err
	}
	by, ok := pushedBy(a, feed)
	if !ok {
		return scim.Resource{}, scimerrors.ScimErrorResourceNotFound(id)
	}
	return u.resource(a, by)
}

// GetAll implements scim.ResourceHandler.
func (u users) GetAll(r *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	return list(u.d, r, params, store.Accounts, "userName", userSchemas, func(row store.Row) (scim.Resource, bool, error) {
		a := new(store.Account)
		if err := store.Read(row, a); err != nil {
			return scim.Resource{}, false, err
		}
		feed := feedOf(r)
		by, ok := pushedBy(a, feed)
		if !ok || !feed.People.Includes(a.Name) {
			return scim.Resource{}, false, nil
		}
		made, err := u.resource(a, by)
		return made, true, err
	})
}

// Replace implements scim.ResourceHandler.
func (u users) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (scim.Resource, error) {
	return u.change(r, id, "replaced", func(*store.Pushed) (map[string]any, error) { return attributes, nil })
}

// Patch implements scim.ResourceHandler.
func (u users) Patch(r *http.Request, id string, operations []scim.PatchOperation) (scim.Resource, error) {
	return u.change(r, id, "patched", func(p *store.Pushed) (map[string]any, error) {
		_, attributes, err := resource(id, p)
		if err != nil {
			return nil, err
		}
		attributes["externalId"] = p.ExternalID
		for _, o := range operations {
			if err := patched(attributes, o); err != nil {
				return nil, err
			}
		}
		return attributes, nil
	})
}

// change changes a User.
func (u users) change(r *http.Request, id, done string, to func(*store.Pushed) (map[string]any, error)) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	feed := feedOf(r)
	err = u.d.push(r, "user", name, done, func(b *door.Change, c *store.Stating) error {
		a, err := u.load(b, id, feed)
		if err != nil {
			return err
		}
		if err := checkVersion(r, a.Pushed[feed.source]); err != nil {
			return err
		}
		attributes, err := to(a.Pushed[feed.source])
		if err != nil {
			return err
		}
		if now, _ := attributes["userName"].(string); now != name {
			return problem(http.StatusBadRequest, scimerrors.ScimTypeMutability, "A userName does not change: policies name accounts by it. "+
				"Delete the user and create the other one.")
		}
		made, err = u.write(a, feed, attributes, c)
		return err
	})
	u.d.LookAgain(name, "", "the account was changed")
	return made, err
}

// Delete implements scim.ResourceHandler. A person who left may not sign on, also where the book lists
// the account still, until this feed or an administrator makes it another person's.
func (u users) Delete(r *http.Request, id string) error {
	name, err := nameOf(id)
	if err != nil {
		return err
	}
	feed := feedOf(r)
	err = u.d.push(r, "user", name, "deleted", func(b *door.Change, c *store.Stating) error {
		a, err := u.load(b, id, feed)
		if err != nil {
			return err
		}
		if err := checkVersion(r, a.Pushed[feed.source]); err != nil {
			return err
		}
		c.At = a.After(c.By, c.At)
		c.WithdrawAll(a)
		c.Say(a, store.Statement{Fact: store.Gone, Value: attempt.BoolScalar(true)})
		a.SetPushed(feed.source, nil)
		if err := leaveAll(b, name, feed.source); err != nil {
			return err
		}
		return b.EndSessionsOf(name, c.At, "the account was deleted")
	})
	u.d.LookAgain(name, "", "the account was deleted")
	return err
}

// leaveAll takes an account out of the groups that a feed manages.
func leaveAll(b *door.Change, account string, by store.Source) error {
	managed, err := store.Managed(b.Context(), b.Tx())
	if err != nil {
		return err
	}
	for row, err := range store.All(b.Context(), b.Tx(), store.Query{Kind: store.Members, Account: account}) {
		if err != nil {
			return err
		}
		m := new(store.Member)
		if err := store.Read(row, m); err != nil {
			return err
		}
		if managed[m.Group] == by {
			if err := store.Drop(b.Tx(), m); err != nil {
				return err
			}
		}
	}
	return nil
}

// signOn is the schema extension of a User.
type signOn struct {
	Kind              string     `json:"kind"`
	Joined            string     `json:"joined"`
	Methods           []string   `json:"methods"`
	PasswordChangedAt *time.Time `json:"passwordChangedAt"`
	Risk              *struct {
		Level   string     `json:"level"`
		Because string     `json:"because"`
		Since   *time.Time `json:"since"`
	} `json:"accountRisk"`
}

// write makes what a feed states of an account that which a User says, as far as the feed may state it. What the User
// leaves out the feed states no longer; but that somebody is disabled stands until the feed says `active: true`. It returns the
// User as it is from then on.
func (u users) write(a *store.Account, feed feed, attributes map[string]any, c *store.Stating) (made scim.Resource, err error) {
	if err := checkSizes(attributes); err != nil {
		return made, err
	}
	outside := external(attributes)
	whole := maps.Clone(attributes)
	whole["schemas"], whole["id"] = []string{schema.UserSchema}, idOf(a.Name)
	delete(whole, "groups")
	text, err := json.Marshal(whole)
	if err != nil {
		return made, err
	}
	read, err := people.Read(text)
	if err != nil || len(read.Accounts) != 1 {
		return made, problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "The user cannot be read: %v.", err)
	}
	var extension signOn
	if more, ok := attributes[UserSchema]; ok {
		if text, err = json.Marshal(more); err == nil {
			err = json.Unmarshal(text, &extension)
		}
		if err != nil {
			return made, problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "%s: %s.", UserSchema, err)
		}
	}
	stated, err := extension.statements()
	if err != nil {
		return made, err
	}
	if _, said := attributes["active"]; said {
		stated = append(stated, store.Statement{Fact: store.Disabled, Value: attempt.BoolScalar(read.Accounts[0].Disabled)})
	}
	for _, name := range slices.Sorted(maps.Keys(read.Accounts[0].Attributes)) {
		if name != "externalId" {
			stated = append(stated, store.Statement{Fact: store.Attribute, Name: name, Value: read.Accounts[0].Attributes[name]})
		}
	}
	c.At = a.After(c.By, c.At)
	kept := stated[:0]
	for _, s := range stated {
		switch {
		case s.Fact == store.AccountKind && !feed.People.MayBe(s.Value.String()):
			c.LeaveOut("kind " + s.Value.String())
		case s.Fact != store.AccountKind && !feed.People.MayState(s.Fact.Right(), s.Name):
			c.LeaveOut(s.Fact.Right())
		default:
			kept = append(kept, s)
		}
	}
	c.State(a, kept)
	p, err := u.d.written(a.Pushed[feed.source], attributes, outside)
	if err != nil {
		return made, err
	}
	a.SetPushed(feed.source, p)
	return u.resource(a, feed.source)
}

// statements are what the extension states.
func (x *signOn) statements() (list []store.Statement, err error) {
	wrong := func(what string, err error) ([]store.Statement, error) {
		return nil, problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "%s: %s.", what, err)
	}
	say := func(fact store.Fact, name string, value attempt.Scalar) {
		list = append(list, store.Statement{Fact: fact, Name: name, Value: value})
	}
	if x.Kind != "" {
		if err := new(directory.Kind).UnmarshalText([]byte(x.Kind)); err != nil {
			return wrong("kind", err)
		}
		say(store.AccountKind, "", attempt.TextScalar(x.Kind))
	}
	if x.Joined != "" {
		if err := new(directory.Date).UnmarshalText([]byte(x.Joined)); err != nil {
			return wrong("joined", err)
		}
		say(store.Joined, "", attempt.TextScalar(x.Joined))
	}
	if x.Methods != nil {
		say(store.Methods, "", attempt.BoolScalar(true))
		for _, m := range x.Methods {
			say(store.Method, m, attempt.BoolScalar(true))
		}
	}
	if t := x.PasswordChangedAt; t != nil {
		say(store.Password, "", attempt.TextScalar(t.UTC().Format(time.RFC3339Nano)))
	}
	if x.Risk != nil {
		if err := new(directory.Level).UnmarshalText([]byte(x.Risk.Level)); err != nil {
			return wrong("accountRisk.level", err)
		}
		say(store.StandingRisk, "", attempt.TextScalar(x.Risk.Level))
		list[len(list)-1].Because = x.Risk.Because
		if x.Risk.Since != nil {
			list[len(list)-1].Since = *x.Risk.Since
		}
	}
	return list, nil
}
