package door

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4/jwt"
)

// The event types of CAEP 1.0 and RISC 1.0 (OpenID) that are known.
const (
	caep = "https://schemas.openid.net/secevent/caep/event-type/"
	risc = "https://schemas.openid.net/secevent/risc/event-type/"

	SessionRevoked           = caep + "session-revoked"
	DeviceComplianceChange   = caep + "device-compliance-change"
	CredentialChange         = caep + "credential-change"
	AssuranceLevelChange     = caep + "assurance-level-change"
	RiskLevelChange          = caep + "risk-level-change"
	CredentialCompromise     = risc + "credential-compromise"
	AccountDisabled          = risc + "account-disabled"
	AccountEnabled           = risc + "account-enabled"
	CredentialChangeRequired = risc + "account-credential-change-required"
)

// EventTypes returns the types of security events that change what a door knows, in order.
func EventTypes() []string {
	types := []string{SessionRevoked, DeviceComplianceChange, CredentialChange, AssuranceLevelChange, RiskLevelChange, CredentialCompromise,
		AccountDisabled, AccountEnabled, CredentialChangeRequired}
	slices.Sort(types)
	return types
}

// EventRefusal says why a security event token is refused (RFC 8935 §2.4).
type EventRefusal struct {
	Code string `json:"err"`
	Text string `json:"description"`
}

// Error returns the code and the text.
func (p *EventRefusal) Error() string {
	return fmt.Sprintf("it refuses the token (%s): %s", p.Code, p.Text)
}

// RefuseEvent makes a refusal with one of the codes of RFC 8935 §2.4.
func RefuseEvent(code, format string, args ...any) *EventRefusal {
	return &EventRefusal{code, fmt.Sprintf(format, args...)}
}

// VerifyEvent reads the claims of a security event token (RFC 8417) that one of the configuration's transmitters signed for this door. The
// error is an EventRefusal. What else its claims say is for the caller to check.
func (d *Door) VerifyEvent(ctx context.Context, token string, claims any) (*Transmitter, error) {
	parsed, err := jwt.ParseSigned(token, algorithms)
	if err != nil {
		return nil, RefuseEvent("invalid_request", "It is no signed token.")
	}
	if !isOfType(parsed, "secevent+jwt") {
		return nil, RefuseEvent("invalid_request", "Its typ is not secevent+jwt, which a security event token has.")
	}
	var said jwt.Claims
	if err := parsed.UnsafeClaimsWithoutVerification(&said); err != nil {
		return nil, RefuseEvent("invalid_request", "Its claims cannot be read.")
	}
	transmitters := d.believed.Load().transmitters
	i := slices.IndexFunc(transmitters, func(t *transmitter) bool { return t.Issuer == said.Issuer })
	if i < 0 {
		return nil, RefuseEvent("invalid_issuer", "Nobody trusts the issuer %q here.", said.Issuer)
	}
	from := transmitters[i]
	switch _, err := from.keys.verify(ctx, parsed, claims, &said); {
	case errors.Is(err, errSignature):
		return nil, RefuseEvent("authentication_failed", "The signature is wrong.")
	case err != nil:
		return nil, RefuseEvent("invalid_key", "No key that is known fits.")
	case !slices.ContainsFunc(from.Audience, said.Audience.Contains):
		return nil, RefuseEvent("invalid_audience", "It is for %v.", said.Audience)
	}
	return from.Transmitter, nil
}

// transmitter is one who may send events, with its keys.
type transmitter struct {
	*Transmitter
	keys *keySet
}

// keysRefresh is how often the keys of those who send events are read again.
const keysRefresh = 10 * time.Minute
