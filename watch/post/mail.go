// Package post sends letters (package watch/letter): by mail, and by a signed web hook. Each call tries
// once; the caller keeps what was not taken and tries again.
package post

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"slices"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"github.com/briskwarden/briskwarden/internal/loopback"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/watch/letter"
)

// Security says how the connection to a mail server is protected. The zero Security is StartTLS.
type Security uint8

// How a connection is protected.
const (
	// StartTLS begins in the clear and goes no further without TLS (RFC 3207).
	StartTLS Security = iota
	// ImplicitTLS begins with TLS (RFC 8314 §3).
	ImplicitTLS
	// Clear has no TLS. It is for a server on this machine.
	Clear
)

var securities = []string{"starttls", "tls", "none"}

// Securities returns the words for how a connection is protected.
func Securities() []string { return slices.Clone(securities) }

// UnmarshalText reads a word.
func (s *Security) UnmarshalText(text []byte) error {
	return words.Parse(s, "starttls, tls or none", string(text), securities, StartTLS)
}

// Server is a mail server that takes mail to be sent on (SMTP, RFC 5321).
type Server struct {
	Address  string   `book:"server,required" doc:"host and port of the server, such as mail.kestrel.example:587"`
	From     string   `book:"from,required" doc:"the address that letters come from"`
	Security Security `book:"security" doc:"starttls, tls from the start, or none, on this machine only" default:"starttls"`
	// Authorities is a file; "" stands for those of the system.
	Authorities string `book:"authorities" doc:"file with the authorities of the server's certificate, PEM" default:"those of the system"`
	User        string `book:"user" doc:"the name to log in by" default:"no log-in"`
	Password    string `book:"password" doc:"file with the password to log in by"`
}

// Check reports what is wrong with it, without a look at files.
func (s *Server) Check() error {
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil || host == "" || port == "" {
		return fmt.Errorf("server: %q is no host with a port, such as mail.kestrel.example:587", s.Address)
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
		return fmt.Errorf("server: %q is no port; 587 is usual with starttls, 465 with tls", port)
	}
	if a, err := mail.ParseAddress(s.From); err != nil || a.Address != s.From {
		return fmt.Errorf("from: %q is no mail address such as warden@kestrel.example", s.From)
	}
	if s.Security == Clear && !loopback.IsHost(host) {
		return fmt.Errorf("security: none is for a server on this machine; %s is reached over a network, where anybody on the way can read", host)
	}
	if (s.User == "") != (s.Password == "") {
		return errors.New("user and password stand together")
	}
	if s.User != "" && s.Security == Clear {
		return errors.New("security: a password is not sent without TLS")
	}
	return nil
}

// Mailer sends letters by one server. It is safe for concurrent use.
type Mailer struct {
	server  Server
	host    string
	options []gomail.Option
}

// mostFile is how many bytes a file that a server names may have.
const mostFile = 1 << 20

// longestMail is how long at most a server may take for a letter.
const longestMail = 30 * time.Second

// NewMailer reads the files that a server names.
func NewMailer(s Server) (*Mailer, error) {
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
	case StartTLS:
		m.options = append(m.options, gomail.WithTLSConfig(secure), gomail.WithTLSPolicy(gomail.TLSMandatory))
	case ImplicitTLS:
		m.options = append(m.options, gomail.WithTLSConfig(secure), gomail.WithSSL())
	case Clear:
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
