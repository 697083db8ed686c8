// Package mailtest has a mail server that stands in for a real one: it takes what is sent to it and keeps
// it, for tests.
package mailtest

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mail is a mail that came.
type Mail struct {
	From string
	To   []string
	// Header, Text and HTML are what it says; Raw is all of it.
	Header     mail.Header
	Subject    string
	Text, HTML string
	Raw        string
	// Secure says that it came over TLS, and User by which log-in.
	Secure bool
	User   string
}

// Server is a mail server on loopback.
type Server struct {
	// Address is where it listens.
	Address string
	// Authority is the certificate that signed its own, in PEM; nil without TLS.
	Authority []byte
	// Refuse answers a mail with an error; nil takes all. It is called by one goroutine at a time.
	Refuse func(*Mail) error

	mu    sync.Mutex
	mails []*Mail
	smtp  *smtp.Server
}

// Start starts a server. With a password it wants a log-in, and offers STARTTLS (RFC 3207) with a
// certificate for localhost; with "" it has neither.
func Start(password string, refuse func(*Mail) error) (*Server, error) {
	s := &Server{Refuse: refuse}
	s.smtp = smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &session{server: s, conn: c, password: password}, nil
	}))
	s.smtp.Domain, s.smtp.ReadTimeout, s.smtp.WriteTimeout = "localhost", 10*time.Second, 10*time.Second
	s.smtp.ErrorLog = quiet{}
	if password != "" {
		certificate, authority, err := certify()
		if err != nil {
			return nil, err
		}
		s.Authority = authority
		s.smtp.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}}
	}
	listener, err := net.Listen("tcp", "localhost:0")
	if err != nil {
		return nil, err
	}
	_, port, err := net.SplitHostPort(listener.Addr().String())
	s.Address = net.JoinHostPort("localhost", port)
	go s.smtp.Serve(listener) // until Close
	return s, err
}

// Close stops the server.
func (s *Server) Close() error { return s.smtp.Close() }

// Mails returns what came, in order.
func (s *Server) Mails() []*Mail {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]*Mail{}, s.mails...)
}

type quiet struct{}

// Printf implements smtp.Logger: it drops the line.
func (quiet) Printf(string, ...any) {}

// Println implements smtp.Logger: it drops the line.
func (quiet) Println(...any) {}

// certify makes a certificate for localhost, which signs itself.
func certify() (tls.Certificate, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"localhost"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Unix(0, 0), NotAfter: time.Now().Add(time.Hour), KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), err
}

// session takes mail of one connection.
type session struct {
	server         *Server
	conn           *smtp.Conn
	password, user string
	from           string
	to             []string
}

// AuthMechanisms implements smtp.AuthSession: PLAIN, on a connection under TLS, when the server has a password.
func (s *session) AuthMechanisms() []string {
	if _, secure := s.conn.TLSConnectionState(); !secure || s.password == "" {
		return nil
	}
	return []string{sasl.Plain}
}

// Auth implements smtp.AuthSession.
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if password != s.password {
			return smtp.ErrAuthFailed
		}
		s.user = user
		return nil
	}), nil
}

// Mail implements smtp.Session. It refuses a sender who has not authenticated when the server has a password.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if s.password != "" && s.user == "" {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

// Rcpt implements smtp.Session.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

// Data implements smtp.Session: it keeps the mail unless Refuse refuses it.
func (s *session) Data(from io.Reader) error {
	raw, err := io.ReadAll(from)
	if err != nil {
		return err
	}
	m := &Mail{From: s.from, To: s.to, Raw: string(raw), User: s.user}
	_, m.Secure = s.conn.TLSConnectionState()
	if err := m.read(raw); err != nil {
		return err
	}
	s.server.mu.Lock()
	defer s.server.mu.Unlock()
	if s.server.Refuse != nil {
		if err := s.server.Refuse(m); err != nil {
			return err
		}
	}
	s.server.mails = append(s.server.mails, m)
	return nil
}

// Reset implements smtp.Session.
func (s *session) Reset() { s.from, s.to = "", nil }

// Logout implements smtp.Session.
func (s *session) Logout() error { return nil }

// read reads the parts of a mail.
func (m *Mail) read(raw []byte) error {
	parsed, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return err
	}
	m.Header = parsed.Header
	if m.Subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		return err
	}
	kind, parameters, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || kind != "multipart/alternative" {
		return errors.Join(err, errors.New("the mail has no alternatives but is "+kind))
	}
	parts := multipart.NewReader(parsed.Body, parameters["boundary"])
	for {
		part, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		text, err := io.ReadAll(quotedprintable.NewReader(part))
		if err != nil {
			return err
		}
		if kind, _, _ := mime.ParseMediaType(part.Header.Get("Content-Type")); kind == "text/html" {
			m.HTML = string(text)
		} else {
			m.Text = string(text)
		}
	}
}
