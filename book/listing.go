package book

import (
	"fmt"
	"iter"
	"slices"

	"github.com/briskwarden/briskwarden/directory"
)

// Listing returns the book as if it listed the accounts of an outside directory, for
// those who look at all accounts: inspect, reach, readiness, describe and compare. What
// it decides is what the book decides where the same accounts are supplied: what an
// account states wins over what the book says of it, key by key, and groups and methods
// that the book does not have count for nothing.
//
// The accounts are read once, to the end, and kept. The error is the first that the
// sequence yields, or is about an account that comes twice or has no usable name; then
// there is no listing at all, since half of one would reassure without cause.
func (b *Book) Listing(accounts iter.Seq2[directory.Account, error]) (*Book, error) {
	listed := *b
	listed.isListed = true
	listed.Accounts = slices.Clone(b.Accounts)
	own, seen := map[string]int{}, map[string]bool{}
	for i := range b.Accounts {
		own[b.Accounts[i].Name] = i
	}
	groups, methods := map[string]bool{}, map[string]bool{}
	for i := range b.Groups {
		groups[b.Groups[i].Name] = true
	}
	for _, m := range directory.Catalogue(b.Methods) {
		methods[m.Name] = m.Name != directory.DeskPass
	}
	for a, err := range accounts {
		if err != nil {
			return nil, fmt.Errorf("the listing of accounts broke off after %d: %w", len(seen), err)
		}
		if err := directory.CheckName(a.Name); err != nil {
			return nil, fmt.Errorf("the listing of accounts: account %q: %w", a.Name, err)
		}
		if seen[a.Name] {
			return nil, fmt.Errorf("the listing of accounts has %s twice", a.Name)
		}
		seen[a.Name] = true
		a.Groups, a.Methods = only(a.Groups, groups), only(a.Methods, methods)
		if i, ok := own[a.Name]; ok {
			a.CompleteFrom(&b.Accounts[i])
			listed.Accounts[i] = a
			continue
		}
		listed.Accounts = append(listed.Accounts, a)
	}
	return &listed, nil
}

// only returns the names that are known. A list that is stated stays stated.
func only(names []string, known map[string]bool) []string {
	unknown := func(name string) bool { return !known[name] }
	if !slices.ContainsFunc(names, unknown) {
		return names
	}
	return append([]string{}, slices.DeleteFunc(slices.Clone(names), unknown)...)
}

// ListsAll reports whether the book knows of all accounts: its directory is inside it,
// or those of an outside one came by Listing.
func (b *Book) ListsAll() bool { return b.isListed || b.Settings.Directory == Inside }
