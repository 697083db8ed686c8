package acts

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/directory/people"
	"github.com/briskwarden/briskwarden/internal/tables"
)

// Import is what a file says of clients and of grants that another system holds.
type Import struct {
	Clients []consent.Client
	Grants  []Grant
	// Skipped is what was left out, with its line in CSV, or its place in a list.
	Skipped []people.Skipped
}

// metadata is a client or a grant: the client metadata of RFC 7591 §2 with what a
// list of grants adds.
type metadata struct {
	ClientID     string   `json:"client_id"`
	ClientName   string   `json:"client_name"`
	ClientURI    string   `json:"client_uri"`
	RedirectURIs []string `json:"redirect_uris"`
	// Scope is a list with spaces (RFC 6749 §3.3).
	Scope     string `json:"scope"`
	Publisher string `json:"publisher"`

	Account  string    `json:"account"`
	Group    string    `json:"group"`
	Since    time.Time `json:"since"`
	LastUsed time.Time `json:"last_used"`
}

// ReadImport reads JSON in the shape of RFC 7591 client metadata, one or a list,
// or CSV with the same names as its header. What names an account is a grant, any
// other a client.
func ReadImport(text []byte) (*Import, error) {
	text = bytes.TrimSpace(bytes.TrimPrefix(text, []byte("\ufeff")))
	found := &Import{}
	switch {
	case len(text) == 0:
		return nil, errors.New("the file is empty; expected client metadata as JSON (RFC 7591), or CSV with a header")
	case text[0] == '{':
		var one metadata
		if err := json.Unmarshal(text, &one); err != nil {
			return nil, fmt.Errorf("not client metadata (RFC 7591): %w", err)
		}
		found.take(one, 1)
	case text[0] == '[':
		var list []json.RawMessage
		if err := json.Unmarshal(text, &list); err != nil {
			return nil, fmt.Errorf("not a list of client metadata (RFC 7591): %w", err)
		}
		for i, one := range list {
			var m metadata
			if err := json.Unmarshal(one, &m); err != nil {
				found.skip(i+1, fmt.Errorf("item %d is no client metadata: %w", i+1, err))
				continue
			}
			found.take(m, i+1)
		}
	default:
		if err := found.readTable(text); err != nil {
			return nil, err
		}
	}
	if len(found.Clients)+len(found.Grants) > 0 {
		return found, nil
	}
	if len(found.Skipped) == 0 {
		return nil, errors.New("the file has no client and no grant in it")
	}
	return nil, fmt.Errorf("nothing could be read; line %d: %s", found.Skipped[0].Line, found.Skipped[0].Text)
}

func (found *Import) skip(line int, why error) {
	found.Skipped = append(found.Skipped, people.Skipped{Line: line, Text: why.Error()})
}

// columns are those of a table, by the names of RFC 7591.
var columns = []string{
	"client_id",
	"client_name",
	"client_uri",
	"redirect_uris",
	"scope",
	"publisher",
	"account",
	"group",
	"since",
	"last_used",
}

func (found *Import) readTable(text []byte) error {
	r, err := tables.Open(bytes.NewReader(text), len(text))
	if err != nil {
		return err
	}
	if !slices.Contains(r.Header, "client_id") {
		return fmt.Errorf("the header %q has no client_id; the columns are %s", strings.Join(r.Header, ", "), strings.Join(columns, ", "))
	}
	for _, name := range r.Header {
		if !slices.Contains(columns, name) {
			return fmt.Errorf("there is no column %q; the columns are %s", name, strings.Join(columns, ", "))
		}
	}
	for {
		record, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		m, err := metadata{}, record.Err
		if err == nil {
			m, err = metadataOf(r.Header, record.Cells)
		}
		if err != nil {
			found.skip(record.Line, err)
		} else {
			found.take(m, record.Line)
		}
	}
}

// metadataOf reads a line of a table.
func metadataOf(header, record []string) (metadata, error) {
	var m metadata
	for i, text := range record {
		if err := m.set(header[i], strings.TrimSpace(text)); err != nil {
			return m, err
		}
	}
	return m, nil
}

// set takes over a cell of a table.
func (m *metadata) set(column, text string) (err error) {
	texts := map[string]*string{"client_id": &m.ClientID, "client_name": &m.ClientName, "client_uri": &m.ClientURI, "scope": &m.Scope,
		"publisher": &m.Publisher, "account": &m.Account, "group": &m.Group}
	times := map[string]*time.Time{"since": &m.Since, "last_used": &m.LastUsed}
	switch {
	case texts[column] != nil:
		*texts[column] = text
	case times[column] != nil && text != "":
		if *times[column], err = time.Parse(time.RFC3339, text); err != nil {
			return fmt.Errorf("%s: a time is written like 2026-11-23T18:00:00Z, not %q", column, text)
		}
	case column == "redirect_uris":
		m.RedirectURIs = strings.Fields(text)
	}
	return nil
}

// take adds a client or a grant, or skips what is neither.
func (found *Import) take(m metadata, line int) {
	if err := found.add(m); err != nil {
		found.skip(line, err)
	}
}

func (found *Import) add(m metadata) error {
	if m.ClientID == "" || strings.ContainsAny(m.ClientID, " \t\n") {
		return fmt.Errorf("%q is no client_id", m.ClientID)
	}
	scopes := strings.Fields(m.Scope)
	for _, s := range scopes {
		if err := consent.CheckScope(s); err != nil {
			return fmt.Errorf("%s: %w", m.ClientID, err)
		}
	}
	if m.Account != "" {
		if len(scopes) == 0 {
			return fmt.Errorf("the grant of %s to %s has no scope", m.Account, m.ClientID)
		}
		found.Grants = append(
			found.Grants,
			Grant{
				Account:  m.Account,
				Client:   m.ClientID,
				Scopes:   scopes,
				Resource: consent.Resource{Group: m.Group},
				Since:    m.Since,
				LastUsed: m.LastUsed,
			},
		)
		return nil
	}
	for _, uri := range m.RedirectURIs {
		if err := consent.CheckRedirect(uri); err != nil {
			return fmt.Errorf("%s: %w", m.ClientID, err)
		}
	}
	c := consent.Client{
		Name:         m.ClientID,
		Title:        m.ClientName,
		RedirectURIs: m.RedirectURIs,
		Publisher:    consent.Publisher{Title: m.Publisher},
	}
	if u, err := url.Parse(m.ClientURI); err == nil {
		c.Publisher.Domain = u.Hostname()
	}
	found.Clients = append(found.Clients, c)
	return nil
}

// Import takes clients and grants over into the record. A client of the book
// stays as the book has it.
func (d *Desk) Import(ctx context.Context, by string, found *Import, at time.Time) ([]Act, error) {
	return d.act(ctx, at, func(s *sitting) error {
		if !d.judge.MayReview(ctx, by, at) {
			return fmt.Errorf("%s %w", by, ErrNotReviewer)
		}
		for i := range found.Clients {
			if err := s.append(Act{At: at, By: by, Kind: ClientImported, Client: found.Clients[i].Name, Imported: &found.Clients[i]}); err != nil {
				return err
			}
		}
		for _, g := range found.Grants {
			err := s.append(Act{At: at, Since: g.Since, By: by, Kind: GrantImported, Client: g.Client, Account: g.Account, Scopes: g.Scopes,
				Resource: g.Resource, LastUsed: g.LastUsed})
			if err != nil {
				return err
			}
		}
		return nil
	})
}
