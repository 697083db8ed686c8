package door

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/store"
)

// PeopleBounds bound what a caller may state who may `people`. The zero PeopleBounds let it state nothing.
type PeopleBounds struct {
	Accounts []string         `book:"accounts" doc:"accounts by name, or anyone" default:"none"`
	Domains  []string         `book:"domains" doc:"domains of accounts" default:"none"`
	Groups   []string         `book:"groups" doc:"groups that it may manage" default:"none"`
	Kinds    []directory.Kind `book:"kinds" doc:"kinds of account: person, service" default:"person"`
	Facts    []string         `book:"facts" doc:"what it may state: active, joined, attributes.NAME, methods, password, risk" default:"active"`
}

// EventBounds bound what a caller may hand in who may `events`. The zero EventBounds let it hand in nothing.
type EventBounds struct {
	Accounts []string `book:"accounts" doc:"accounts by name, or anyone" default:"none"`
	Domains  []string `book:"domains" doc:"domains of accounts" default:"none"`
	Facts    []string `book:"facts" doc:"what it may state: active, methods, password, risk, sessions, devices" default:"active"`
}

// anyone stands for all accounts among those of bounds.
const anyone = "anyone"

// statable are the words for what may be stated, by the kind of bounds. An attribute is attributes.NAME, or attributes
// for all.
var statable = map[string][]string{
	"people": {"active", "joined", "attributes", "methods", "password", "risk"},
	"events": {"active", "methods", "password", "risk", "sessions", "devices"},
}

// Includes reports whether the bounds are for an account.
func (b *PeopleBounds) Includes(account string) bool { return isFor(b.Accounts, b.Domains, account) }

// MayState reports whether the bounds let a fact be stated, by the word for it and, of an attribute, its name.
func (b *PeopleBounds) MayState(fact, name string) bool { return mayState(b.Facts, fact, name) }

// MayBe reports whether the bounds let a kind of account be stated.
func (b *PeopleBounds) MayBe(kind string) bool {
	if b.Kinds == nil {
		return kind == directory.Person.String()
	}
	return slices.ContainsFunc(b.Kinds, func(k directory.Kind) bool { return k.String() == kind })
}

// Includes reports whether the bounds are for an account.
func (b *EventBounds) Includes(account string) bool { return isFor(b.Accounts, b.Domains, account) }

// MayState reports whether the bounds let a fact be stated, by the word for it.
func (b *EventBounds) MayState(fact string) bool { return mayState(b.Facts, fact, "") }

// isFor reports whether accounts of bounds include one.
func isFor(accounts, domains []string, account string) bool {
	_, domain, _ := strings.Cut(account, "@")
	return slices.Contains(accounts, account) || slices.Contains(accounts, anyone) ||
		domain != "" && slices.ContainsFunc(domains, func(d string) bool { return strings.EqualFold(d, domain) })
}

// mayState reports whether facts of bounds include one; left out, they are `active`.
func mayState(facts []string, right, name string) bool {
	if facts == nil {
		return right == "active"
	}
	return slices.Contains(facts, right) || right == "attributes" && slices.Contains(facts, right+"."+name)
}

// isUnbounded reports whether bounds let nothing be stated.
func isUnbounded(accounts, domains []string) bool { return len(accounts) == 0 && len(domains) == 0 }

// checkBounds reports bounds that say what there is not.
func (c *Config) checkBounds(caller *Caller, wrong func(string, ...any)) {
	facts := func(where string, list []string) {
		for _, f := range list {
			if name, _, _ := strings.Cut(f, "."); !slices.Contains(statable[where], name) || name != f && name != "attributes" {
				wrong("callers: %s may not state %q by %s; there are %s", caller.Name, f, where, words.List(statable[where], "and"))
			}
		}
	}
	facts("people", caller.People.Facts)
	facts("events", caller.Events.Facts)
	for _, k := range caller.People.Kinds {
		if k == directory.Emergency || k == directory.UnstatedKind {
			wrong("callers: %s may not state the kind %s: the book alone says which accounts are for emergencies", caller.Name, k)
		}
	}
	if !caller.may(MayPeople) && !isUnbounded(caller.People.Accounts, caller.People.Domains) {
		wrong("callers: %s has bounds for people, and may not `people`", caller.Name)
	}
	if !caller.may(MayEvents) && !isUnbounded(caller.Events.Accounts, caller.Events.Domains) {
		wrong("callers: %s has bounds for events, and may not `events`", caller.Name)
	}
}

// held is what a store holds, as bounds that would let it be stated.
type held struct{ domains, accounts, groups, kinds, facts map[string]bool }

// Unbounded returns an error that names the callers who may state facts without a bound on whom, with lines for the
// configuration that bound each to what the store holds. A door does not start with such a caller, since a feed that
// may state anything of anybody is an administrator.
func (c *Config) Unbounded(ctx context.Context, s store.Reader) error {
	var open []*Caller
	for i := range c.Callers {
		caller := &c.Callers[i]
		if caller.may(MayPeople) && isUnbounded(caller.People.Accounts, caller.People.Domains) ||
			caller.may(MayEvents) && isUnbounded(caller.Events.Accounts, caller.Events.Domains) {
			open = append(open, caller)
		}
	}
	if len(open) == 0 {
		return nil
	}
	has, err := holdings(ctx, s)
	if err != nil {
		return err
	}
	var lines []string
	for _, caller := range open {
		if caller.may(MayPeople) && isUnbounded(caller.People.Accounts, caller.People.Domains) {
			lines = append(lines,
				fmt.Sprintf("callers: %s may `people` without bounds. Add to it, and leave out what it is not to state:\n    people: {%s}",
					caller.Name, has.flow(statable["people"], true)))
		}
		if caller.may(MayEvents) && isUnbounded(caller.Events.Accounts, caller.Events.Domains) {
			lines = append(lines,
				fmt.Sprintf("callers: %s may `events` without bounds. Add to it, and leave out what it is not to state:\n    events: {%s}",
					caller.Name, has.flow(statable["events"], false)))
		}
	}
	return fmt.Errorf("%s", strings.Join(lines, "\n"))
}

// holdings reads what a store holds of people.
func holdings(ctx context.Context, s store.Reader) (*held, error) {
	h := &held{map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}}
	for row, err := range store.All(ctx, s, store.Query{Kind: store.Accounts}) {
		if err != nil {
			return nil, err
		}
		a := new(store.Account)
		if err := store.Read(row, a); err != nil {
			return nil, err
		}
		if len(a.Stated) == 0 {
			continue
		}
		if _, domain, ok := strings.Cut(a.Name, "@"); ok {
			h.domains[strings.ToLower(domain)] = true
		} else {
			h.accounts[a.Name] = true
		}
		for i := range a.Stated {
			switch st := &a.Stated[i]; st.Fact {
			case store.AccountKind:
				h.kinds[st.Value.String()] = st.Value.String() != directory.Emergency.String()
			case store.Attribute:
				h.facts["attributes."+st.Name] = true
			default:
				h.facts[st.Fact.Right()] = true
			}
		}
	}
	for row, err := range store.All(ctx, s, store.Query{Kind: store.Groups}) {
		if err != nil {
			return nil, err
		}
		h.groups[row.Key.Key] = true
	}
	return h, nil
}

// flow writes bounds as YAML in flow style. Of a store that holds nobody the domain is for the administrator to fill in.
func (h *held) flow(may []string, people bool) string {
	var parts []string
	add := func(key string, set map[string]bool) {
		var list []string
		for _, name := range slices.Sorted(maps.Keys(set)) {
			if set[name] {
				list = append(list, fmt.Sprintf("%q", name))
			}
		}
		if len(list) > 0 {
			parts = append(parts, key+": ["+strings.Join(list, ", ")+"]")
		}
	}
	add("accounts", h.accounts)
	if len(h.domains) == 0 && len(h.accounts) == 0 {
		parts = append(parts, `domains: ["example.org"]`)
	}
	add("domains", h.domains)
	if people {
		add("groups", h.groups)
		add("kinds", h.kinds)
	}
	facts := map[string]bool{"active": true}
	for f := range h.facts {
		name, _, _ := strings.Cut(f, ".")
		facts[f] = slices.Contains(may, name)
	}
	add("facts", facts)
	return strings.Join(parts, ", ")
}
