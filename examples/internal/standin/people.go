// Package standin has small stand-ins for what surrounds a sign-on, for the examples and their tests: people with their
// secrets, and phones that are asked and are sent codes. All of it is made up and forgotten when the program ends.
package standin

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"github.com/briskwarden/briskwarden/directory"
)

// People are the persons of a book with secrets that are drawn when they are made. They are safe for concurrent use.
type People struct {
	accounts map[string]*person
	mu       sync.Mutex
}

// person is what only one person has.
type person struct {
	password string
	// seed is the key of the app that shows codes (RFC 6238), in base 32, and spent the steps whose code was used.
	seed     string
	spent    map[int64]bool
	recovery []string
	// wrong are when codes were typed that did not fit.
	wrong []time.Time
}

// mostGuesses is how many codes may be wrong within wrongFor; then none fits until they are older: six digits are soon guessed (RFC 4226
// §7.3, RFC 6238 §5.2).
const (
	mostGuesses = 5
	wrongFor    = 5 * time.Minute
)

// try has a code tried at a moment, unless too many were wrong, and notes where it is wrong.
func (p *person) try(at time.Time, fits func() bool) bool {
	p.wrong = slices.DeleteFunc(p.wrong, func(t time.Time) bool { return at.Sub(t) > wrongFor })
	if len(p.wrong) >= mostGuesses {
		return false
	}
	is := fits()
	if !is {
		p.wrong = append(p.wrong, at)
	}
	return is
}

// words are what passwords are made of.
var words = strings.Fields("tern buoy gale keel lamp pier rope sail tide wake anchor harbour lantern rudder")

// NewPeople draws a password, a seed and recovery codes for each account. The accounts stay the caller's.
func NewPeople(accounts []directory.Account) *People {
	p := &People{accounts: map[string]*person{}}
	for i := range accounts {
		p.Add(accounts[i].Name)
	}
	return p
}

// Add draws secrets for an account, in the place of those that it had.
func (p *People) Add(account string) {
	one := &person{password: newPassword(), seed: base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(draw(20)),
		spent: map[int64]bool{}, recovery: newRecoveryCodes()}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.accounts[account] = one
}

func newRecoveryCodes() (list []string) {
	for range 5 {
		list = append(list, fmt.Sprintf("%x", draw(5)))
	}
	return list
}

// draw returns random bytes. crypto/rand never fails.
func draw(n int) []byte {
	b := make([]byte, n)
	rand.Read(b)
	return b
}

// NewToken returns what nobody can guess.
func NewToken() string { return fmt.Sprintf("%x", draw(16)) }

func newPassword() string {
	b := draw(3)
	return fmt.Sprintf("%s-%s-%d", words[int(b[0])%len(words)], words[int(b[1])%len(words)], b[2])
}

// Password returns the password of an account, "" of one that there is not.
func (p *People) Password(account string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if one := p.accounts[account]; one != nil {
		return one.password
	}
	return ""
}

// HasPassword reports whether an account has a password. It takes as long for an account that there is not.
func (p *People) HasPassword(account, password string) bool {
	is := p.Password(account)
	a, b := sha256.Sum256([]byte(is)), sha256.Sum256([]byte(password))
	return subtle.ConstantTimeCompare(a[:], b[:]) == 1 && is != ""
}

// ChangePassword gives an account another password.
func (p *People) ChangePassword(account, password string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if one := p.accounts[account]; one != nil {
		one.password = password
	}
}

// codes are as RFC 6238 has them: six digits, for half a minute each, one step of clock skew allowed.
var codes = totp.ValidateOpts{Period: 30, Skew: 1, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// Code returns the code that the app of an account shows at a moment, "" where there is no such account.
func (p *People) Code(account string, at time.Time) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.accounts[account]
	if one == nil {
		return ""
	}
	code, err := totp.GenerateCodeCustom(one.seed, at, codes)
	if err != nil {
		return "" // the seed is ours
	}
	return code
}

// FitsCode reports whether a code is right at a moment, and spends it: a code counts once (RFC 6238 section 5.2).
func (p *People) FitsCode(account, code string, at time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.accounts[account]
	if one == nil {
		return false
	}
	return one.try(at, func() bool {
		for skew := -int64(codes.Skew); skew <= int64(codes.Skew); skew++ {
			step := at.Unix()/int64(codes.Period) + skew
			shown, err := totp.GenerateCodeCustom(one.seed, time.Unix(step*int64(codes.Period), 0), codes)
			if err == nil && subtle.ConstantTimeCompare([]byte(shown), []byte(code)) == 1 && !one.spent[step] {
				one.spent[step] = true
				return true
			}
		}
		return false
	})
}

// Seed returns the key of the app for codes of an account (RFC 6238), in base 32, "" of one that there is not.
func (p *People) Seed(account string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if one := p.accounts[account]; one != nil {
		return one.seed
	}
	return ""
}

// DrawRecoveryCodes gives an account other recovery codes, in the place of those that it has left, and returns them.
func (p *People) DrawRecoveryCodes(account string) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.accounts[account]
	if one == nil {
		return nil
	}
	one.recovery = newRecoveryCodes()
	return slices.Clone(one.recovery)
}

// RecoveryCodes returns the codes of an account that are left.
func (p *People) RecoveryCodes(account string) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if one := p.accounts[account]; one != nil {
		return slices.Clone(one.recovery)
	}
	return nil
}

// SpendRecoveryCode reports whether an account has a code, which counts once, at a moment.
func (p *People) SpendRecoveryCode(account, code string, at time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	one := p.accounts[account]
	if one == nil {
		return false
	}
	return one.try(at, func() bool {
		i := slices.Index(one.recovery, code)
		if i >= 0 {
			one.recovery = slices.Delete(one.recovery, i, i+1)
		}
		return i >= 0
	})
}
