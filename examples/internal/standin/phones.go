package standin

import (
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"math/big"
	"slices"
	"sync"
	"time"
)

// PushLasts is how long a phone shows a prompt, and TextLasts how long the code of a text message counts.
const PushLasts, TextLasts = time.Minute, 5 * time.Minute

// Phones are asked to approve sign-ins and are sent text messages. They are safe for concurrent use.
type Phones struct {
	now     func() time.Time
	mu      sync.Mutex
	prompts []*Prompt
	texts   []Text
	// Silent phones show nothing: they are out of reach.
	silent map[string]bool
}

// Prompt is a question whether somebody signs on. The person picks the number that the place shows where she signs on.
type Prompt struct {
	ID, Account, App string
	// From says from where, and on what, as the person at the phone is told.
	From   string
	Number int
	Asked  time.Time
	answer Answer
}

// Answer is what came of a prompt.
type Answer uint8

// What may come of a prompt. One that was not answered in time has timed out.
const (
	Waiting Answer = iota
	Approved
	Refused
	TimedOut
)

// Text is a text message with a code.
type Text struct {
	Account, Code string
	Sent          time.Time
	// wrong counts codes that were tried and were others.
	wrong int
}

// mostWrong is how many wrong codes end one that was sent.
const mostWrong = 5

// NewPhones makes phones that go by a clock.
func NewPhones(now func() time.Time) *Phones { return &Phones{now: now, silent: map[string]bool{}} }

// number draws a number below a bound.
func number(below int64) int {
	n, err := rand.Int(rand.Reader, big.NewInt(below))
	if err != nil {
		panic(err) // crypto/rand never fails
	}
	return int(n.Int64())
}

// Push asks the phone of an account, and returns the prompt. The number is to be shown where the person signs on, and from says where
// that is.
func (p *Phones) Push(account, app, from string) Prompt {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := &Prompt{ID: fmt.Sprintf("%x", draw(8)), Account: account, App: app, From: from, Number: 10 + number(90), Asked: p.now()}
	p.prompts = append(p.prompts, one)
	return *one
}

// AskedOf returns how often the phone of an account was asked in a stretch until now.
func (p *Phones) AskedOf(account string, within time.Duration) (n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.prompts {
		if one.Account == account && p.now().Sub(one.Asked) <= within {
			n++
		}
	}
	return n
}

// Waiting returns the prompts that the phone of an account shows.
func (p *Phones) Waiting(account string) (list []Prompt) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.prompts {
		if one.Account == account && p.stateOf(one) == Waiting && !p.silent[account] {
			list = append(list, *one)
		}
	}
	return list
}

// Answer answers a prompt on the phone of an account: the sign-in is approved where the number is the one shown, and refused
// where it is not, or where the person says no. It reports whether the phone shows the prompt.
func (p *Phones) Answer(account, id string, approve bool, number int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.prompts {
		if one.ID == id && one.Account == account && p.stateOf(one) == Waiting {
			one.answer = Refused
			if approve && number == one.Number {
				one.answer = Approved
			}
			return true
		}
	}
	return false
}

// State returns what came of a prompt; one that there is not has timed out.
func (p *Phones) State(id string) Answer {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.prompts {
		if one.ID == id {
			return p.stateOf(one)
		}
	}
	return TimedOut
}

func (p *Phones) stateOf(one *Prompt) Answer {
	if one.answer == Waiting && p.now().Sub(one.Asked) > PushLasts {
		return TimedOut
	}
	return one.answer
}

// GiveUp ends a prompt that nobody answered, and returns what came of it.
func (p *Phones) GiveUp(id string) Answer {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.prompts {
		if one.ID == id {
			if one.answer == Waiting {
				one.answer = TimedOut
			}
			return one.answer
		}
	}
	return TimedOut
}

// SendText sends a code to the phone of an account. An earlier one counts no more.
func (p *Phones) SendText(account string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.texts = slices.DeleteFunc(p.texts, func(t Text) bool { return t.Account == account })
	p.texts = append(p.texts, Text{Account: account, Code: fmt.Sprintf("%06d", number(1_000_000)), Sent: p.now()})
}

// Texts returns the messages on the phone of an account.
func (p *Phones) Texts(account string) (list []Text) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, t := range p.texts {
		if t.Account == account && !p.silent[account] {
			list = append(list, t)
		}
	}
	return list
}

// FitsText reports whether a code was sent to an account and still counts, and spends it. After some wrong ones it counts no
// more.
func (p *Phones) FitsText(account, code string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	i := slices.IndexFunc(p.texts, func(t Text) bool { return t.Account == account && p.now().Sub(t.Sent) <= TextLasts })
	if i < 0 {
		return false
	}
	fits := subtle.ConstantTimeCompare([]byte(p.texts[i].Code), []byte(code)) == 1
	if p.texts[i].wrong++; fits || p.texts[i].wrong >= mostWrong {
		p.texts = slices.Delete(p.texts, i, i+1)
	}
	return fits
}

// Silence takes the phone of an account out of reach, or back.
func (p *Phones) Silence(account string, out bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.silent[account] = out
}

// IsSilent reports whether the phone of an account is out of reach.
func (p *Phones) IsSilent(account string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.silent[account]
}
