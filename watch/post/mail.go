// Package post sends letters (package watch/letter): by mail, and by a signed web hook. Each call tries
// once; the caller keeps what was not taken and tries again.
package post

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/watch"
	"github.com/briskwarden/briskwarden/watch/letter"
)

// Mailer sends letters by one server. It is safe for concurrent use.
type Mailer struct {
	server  watch.MailServer
	host    string
	options []gomail.Option
}

// mostFile is how many bytes a file that a server names may have.
const mostFile = 1 << 20

// longestMail is how long at most a server may take for a letter.
const longestMail = 30 * time.Second

// NewMailer reads the files that a server names.
func NewMailer(s watch.MailServer) (*Mailer, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	host, port, _ := net.SplitHostPort(s.Address)
	number, _ := strconv.Atoi(port)
	m := &Mailer{
		server:  s,
		host:    host,
		options: []gomail.Option{gomail.WithPort(number), gomail.WithTimeout(longestMail), gomail.WithoutNoop()},
	}
	secure := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if s.Authorities != "" {
		text, err := wholefile.ReadPath(s.Authorities, mostFile)
		if err != nil {
			return nil, fmt.Errorf("authorities: %w", err)
		}
		secure.RootCAs = x509.NewCertPool()
		if !secure.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("authorities: %s holds no certificate in PEM", s.Authorities)
		}
	}
	switch s.Security {
	case watch.StartTLS:
		m.options = append(m.options, gomail.WithTLSConfig(secure), gomail.WithTLSPolicy(gomail.TLSMandatory))
	case watch.ImplicitTLS:
		m.options = append(m.options, gomail.WithTLSConfig(secure), gomail.WithSSL())
	case watch.Clear:
		m.options = append(m.options, gomail.WithTLSPolicy(gomail.NoTLS))
	}
	if s.User != "" {
		password, err := wholefile.ReadPath(s.Password, mostFile)
		if err != nil {
			return nil, fmt.Errorf("password: %w", err)
		}
		m.options = append(m.options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(s.User),
			gomail.WithPassword(strings.TrimSpace(string(password))))
	}
	return m, nil
}

// Send sends a letter to mail addresses. Its Message-ID is made of the letter's ID, so that a mailbox that
// gets it twice can tell.
func (m *Mailer) Send(ctx context.Context, to []string, l *letter.Letter) error {
	message, err := messageOf(m.server.From, to, l)
	if err != nil {
		return err
	}
	client, err := gomail.NewClient(m.host, m.options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, message)
}

// Message returns a letter as the mail that would be sent (RFC 5322, with a text and an HTML part, RFC 2046
// §5.1.4).
func Message(from string, to []string, l *letter.Letter) ([]byte, error) {
	message, err := messageOf(from, to, l)
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	_, err = message.WriteTo(&text)
	return bytes.ReplaceAll(text.Bytes(), []byte("\r\n"), []byte("\n")), err
}

func messageOf(from string, to []string, l *letter.Letter) (*gomail.Msg, error) {
	m := gomail.NewMsg(gomail.WithBoundary("part-of-" + l.ID))
	if err := m.From(from); err != nil {
		return nil, err
	}
	if err := m.To(to...); err != nil {
		return nil, err
	}
	_, domain, _ := strings.Cut(from, "@")
	m.SetMessageIDWithValue(l.ID + "@" + domain)
	m.SetDateWithValue(l.At)
	m.Subject(l.Subject)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834 §5: nobody's absence answers it
	m.SetUserAgent("Brisk Warden")
	m.SetBodyString(gomail.TypeTextPlain, l.Text)
	m.AddAlternativeString(gomail.TypeTextHTML, l.HTML)
	return m, nil
}
