package watch

import (
	"errors"
	"fmt"
	"net"
	"net/mail"
	"slices"
	"strconv"

	"github.com/briskwarden/briskwarden/internal/loopback"
	"github.com/briskwarden/briskwarden/internal/words"
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

// MailServer is a mail server that takes mail to be sent on (SMTP, RFC 5321).
type MailServer struct {
	Address  string   `book:"server,required" doc:"host and port of the server, such as mail.kestrel.example:587"`
	From     string   `book:"from,required" doc:"the address that letters come from"`
	Security Security `book:"security" doc:"starttls, tls from the start, or none, on this machine only" default:"starttls"`
	// Authorities is a file; "" stands for those of the system.
	Authorities string `book:"authorities" doc:"file with the authorities of the server's certificate, PEM" default:"those of the system"`
	User        string `book:"user" doc:"the name to log in by" default:"no log-in"`
	Password    string `book:"password" doc:"file with the password to log in by"`
}

// Check reports what is wrong with it, without a look at files.
func (s *MailServer) Check() error {
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
