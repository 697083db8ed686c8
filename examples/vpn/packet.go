package main

import (
	"crypto/hmac"
	"crypto/md5"
	"net"
	"strings"
	"sync"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
)

// isSigned reports whether a request bears a Message-Authenticator, and the right one (RFC 3579 section 3.2). Without it
// somebody on the way could change the request, so it is not optional here.
func isSigned(p *radius.Packet) bool {
	stated, err := rfc2869.MessageAuthenticator_Lookup(p)
	if all, more := rfc2869.MessageAuthenticator_Gets(p); err != nil || more != nil || len(all) != 1 || len(stated) != md5.Size {
		return false // there is one (RFC 3579 §3.3)
	}
	blank := *p
	blank.Attributes = append(radius.Attributes{}, p.Attributes...)
	for i, a := range blank.Attributes {
		if a.Type == rfc2869.MessageAuthenticator_Type {
			blank.Attributes[i] = &radius.AVP{Type: a.Type, Attribute: make(radius.Attribute, md5.Size)}
		}
	}
	made, err := authenticator(&blank)
	return err == nil && hmac.Equal(made, stated)
}

// authenticator computes the Message-Authenticator of a packet in which it is blank. That of an answer is over the
// authenticator of the request, which Packet.Response has put there.
func authenticator(p *radius.Packet) ([]byte, error) {
	text, err := p.MarshalBinary()
	if err != nil {
		return nil, err
	}
	mac := hmac.New(md5.New, p.Secret)
	mac.Write(text)
	return mac.Sum(nil), nil
}

// signed puts the Message-Authenticator before all other attributes of an answer, where nothing that a stranger writes can
// come before it.
func signed(p *radius.Packet) (*radius.Packet, error) {
	first := &radius.AVP{Type: rfc2869.MessageAuthenticator_Type, Attribute: make(radius.Attribute, md5.Size)}
	p.Attributes = append(radius.Attributes{first}, p.Attributes...)
	made, err := authenticator(p)
	first.Attribute = made
	return p, err
}

// mostText is how long one attribute may be (RFC 2865 section 5).
const mostText = 253

// say adds sentences for the person as Reply-Messages.
func say(p *radius.Packet, sentences ...string) error {
	text := strings.Join(sentences, " ")
	for len(text) > 0 {
		n := min(len(text), mostText)
		for n < len(text) && n > 1 && text[n]&0xC0 == 0x80 { // not within a character
			n--
		}
		if err := rfc2865.ReplyMessage_AddString(p, text[:n]); err != nil {
			return err
		}
		text = text[n:]
	}
	return nil
}

// answered keeps answers for a while: a client that lost one asks again with the same packet, and what it proves counts once
// (RFC 5080 section 2.2.2).
type answered struct {
	mu   sync.Mutex
	kept map[asked]reply
}

// asked is what a request is known by.
type asked struct {
	from          string
	identifier    byte
	authenticator [16]byte
}

type reply struct {
	packet *radius.Packet
	at     time.Time
}

// keptFor is how long an answer is kept, and mostKept how many.
const keptFor, mostKept = 30 * time.Second, 10_000

func keyOf(from net.Addr, p *radius.Packet) asked {
	return asked{from.String(), p.Identifier, p.Authenticator}
}

func (a *answered) find(key asked) *radius.Packet {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.kept[key].packet
}

func (a *answered) keep(key asked, p *radius.Packet, at time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.kept == nil {
		a.kept = map[asked]reply{}
	}
	for k, r := range a.kept {
		if at.Sub(r.at) > keptFor || len(a.kept) >= mostKept {
			delete(a.kept, k)
		}
	}
	a.kept[key] = reply{p, at}
}
