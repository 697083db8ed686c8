// Package ocsf reads attempts from authentication events of the Open Cybersecurity
// Schema Framework (class 3002, versions 1.0 to 1.2), and writes them as such.
package ocsf

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
)

// The class, its category and the activity that the attempts of a sign-on are.
const (
	classUID    = 3002
	className   = "Authentication"
	categoryUID = 3
	logon       = 1
	version     = "1.2.0"
)

// event is what is read and written of an event.
type event struct {
	ClassUID    int          `json:"class_uid"`
	ClassName   string       `json:"class_name,omitempty"`
	CategoryUID int          `json:"category_uid"`
	TypeUID     int          `json:"type_uid"`
	ActivityID  int          `json:"activity_id"`
	SeverityID  int          `json:"severity_id"`
	StatusID    int          `json:"status_id,omitempty"`
	Time        int64        `json:"time,omitempty"` // milliseconds since 1970
	TimeDT      time.Time    `json:"time_dt,omitzero"`
	Metadata    metadata     `json:"metadata"`
	Cloud       *cloud       `json:"cloud,omitempty"`
	User        user         `json:"user"`
	Service     *named       `json:"service,omitempty"`
	LogonTypeID int          `json:"logon_type_id,omitempty"`
	HTTPRequest *httpRequest `json:"http_request,omitempty"`
	SrcEndpoint *endpoint    `json:"src_endpoint,omitempty"`
	DstEndpoint *endpoint    `json:"dst_endpoint,omitempty"`
	Device      *device      `json:"device,omitempty"`
	AuthFactors []factor     `json:"auth_factors,omitempty"`
	Session     *session     `json:"session,omitempty"`
	// The rest is of a decision that was recorded.
	Status       string    `json:"status,omitempty"`
	StatusDetail string    `json:"status_detail,omitempty"`
	Message      string    `json:"message,omitempty"`
	Unmapped     *unmapped `json:"unmapped,omitempty"`
}

// unmapped is what OCSF has no place for.
type unmapped struct {
	// Facts are those of a decision of this program's door: the attempt as it was judged, and what was
	// known of its account and its device.
	Facts json.RawMessage `json:"briskwarden_facts,omitempty"`
}

type metadata struct {
	Version string  `json:"version"`
	UID     string  `json:"uid,omitempty"`
	Product product `json:"product"`
}

type product struct {
	Name       string `json:"name,omitempty"`
	VendorName string `json:"vendor_name"`
}

// cloud is there because the published schema of the class wants a provider.
type cloud struct {
	Provider string `json:"provider"`
}

type user struct {
	// TypeID is 0, unknown; version 1.0 demands it.
	TypeID    int    `json:"type_id"`
	Name      string `json:"name,omitempty"`
	EmailAddr string `json:"email_addr,omitempty"`
	UID       string `json:"uid,omitempty"`
}

type named struct {
	Name string `json:"name,omitempty"`
	UID  string `json:"uid,omitempty"`
}

type httpRequest struct {
	UserAgent string `json:"user_agent,omitempty"`
	URL       *struct {
		Hostname string `json:"hostname,omitempty"`
		Path     string `json:"path,omitempty"`
	} `json:"url,omitempty"`
}

type endpoint struct {
	IP       string    `json:"ip,omitempty"`
	Hostname string    `json:"hostname,omitempty"`
	SvcName  string    `json:"svc_name,omitempty"`
	Location *location `json:"location,omitempty"`
}

type location struct {
	Country string   `json:"country,omitempty"`
	Lat     *float64 `json:"lat,omitempty"`
	Long    *float64 `json:"long,omitempty"`
	// Coordinates are the longitude and the latitude, in that order.
	Coordinates []float64 `json:"coordinates,omitempty"`
}

type device struct {
	UID       string `json:"uid,omitempty"`
	TypeID    int    `json:"type_id"`
	IsManaged *bool  `json:"is_managed,omitempty"`
	OS        *os    `json:"os,omitempty"`
}

type os struct {
	Name   string `json:"name"`
	TypeID int    `json:"type_id"`
}

type factor struct {
	FactorTypeID int    `json:"factor_type_id"`
	FactorType   string `json:"factor_type,omitempty"`
}

type session struct {
	UID         string `json:"uid,omitempty"`
	CreatedTime int64  `json:"created_time,omitempty"`
}

// The values of status_id that say how it went; any other, such as 0 (unknown) and
// 99 (other), proves nothing.
const (
	success = 1
	failure = 2
	// otherStatus is of what neither succeeded nor failed.
	otherStatus = 99
)

// otherFactor is the factor_type_id of one that OCSF has no number for.
const otherFactor = 99

// factors are the methods by the factor_type_id that stands for them. WebAuthn is
// taken for a passkey and U2F for a security key. Those that are not built in are
// methods of the book or none.
var factors = map[int]string{1: "sms-code", 2: "security-question", 3: "phone-call", 4: "biometric", 5: "push", 6: "hardware-token",
	7: "otp-app", 8: "email", 9: "security-key", 10: "passkey", 11: "password"}

// platforms are the words for platforms by the type_id of the operating system.
var platforms = map[int]string{100: "windows", 101: "windows", 200: "linux", 201: "android", 300: "macos", 301: "ios", 302: "ios"}

// unattended are the logon_type_ids behind which nobody sits: batch and service.
var unattended = []int{4, 5}

// Known reports which of several names for the same a book has.
type Known struct {
	Account, App func(name string) bool
}

// choose returns the first name that is known, else the first there is.
func choose(known func(string) bool, names ...string) string {
	names = slices.DeleteFunc(names, func(n string) bool { return n == "" })
	for _, n := range names {
		if known != nil && known(n) {
			return n
		}
	}
	return append(names, "")[0]
}

// IsEvent reports whether a line of JSON may be an event rather than an attempt.
func IsEvent(text []byte) bool { return bytes.Contains(text, []byte(`"class_uid"`)) }

// ErrNoEvent is the error of Parse on JSON that is no event of any class.
var ErrNoEvent = errors.New("not an OCSF event: it has no class_uid")

// ParseRecorded is Parse for events that Decided may have written. It returns the facts that it wrote
// into one, which say what the event has no place for, and nil for any other event.
func ParseRecorded(text []byte, known Known, a *attempt.Attempt) (is bool, facts json.RawMessage, err error) {
	var e event
	if err := json.Unmarshal(text, &e); err != nil {
		return false, nil, fmt.Errorf("not an OCSF event: %w", err)
	}
	if is, err = e.read(known, a); err != nil || !is || e.Unmapped == nil || e.Unmapped.Facts == nil {
		return is, nil, err
	}
	var recorded struct {
		Attempt json.RawMessage `json:"attempt"`
	}
	if err := json.Unmarshal(e.Unmapped.Facts, &recorded); err != nil {
		return false, nil, err
	}
	whole := attempt.Attempt{}
	if err := attempt.Parse(recorded.Attempt, &whole, attempt.Options{Part: true}); err != nil {
		return false, nil, fmt.Errorf("unmapped.briskwarden_facts: %w", err)
	}
	if whole.ID == "" {
		whole.ID = a.ID
	}
	*a = whole
	return true, e.Unmapped.Facts, a.Check()
}

// Parse reads an event into a, which must be empty. It returns false for an event
// that is in order and no sign-in, such as a log-off, or of another class. The
// factors of an event that succeeded are proofs, those of one that failed are
// proofs that were refused. Times of sign-ins are in milliseconds (time) or in
// RFC 3339 (time_dt).
func Parse(text []byte, known Known, a *attempt.Attempt) (bool, error) {
	var e event
	if err := json.Unmarshal(text, &e); err != nil {
		return false, fmt.Errorf("not an OCSF event: %w", err)
	}
	return e.read(known, a)
}

func (e *event) read(known Known, a *attempt.Attempt) (bool, error) {
	switch {
	case e.ClassUID == 0:
		return false, ErrNoEvent
	case e.ClassUID != classUID || e.ActivityID != logon:
		return false, nil
	}
	*a = attempt.Attempt{
		ID:      e.Metadata.UID,
		At:      e.TimeDT,
		Account: choose(known.Account, e.User.Name, e.User.EmailAddr, e.User.UID),
		App:     e.app(known),
	}
	if a.At.IsZero() && e.Time != 0 {
		a.At = time.UnixMilli(e.Time).UTC()
	}
	if err := e.readPlace(a); err != nil {
		return false, err
	}
	e.readDevice(a)
	if e.Session != nil {
		a.Session.ID = e.Session.UID
		if e.Session.CreatedTime != 0 {
			a.Session.Started = time.UnixMilli(e.Session.CreatedTime).UTC()
		}
	}
	switch {
	case slices.Contains(unattended, e.LogonTypeID):
		a.Through = attempt.Known(attempt.Unattended)
	case e.HTTPRequest != nil && e.HTTPRequest.UserAgent != "":
		a.Through = attempt.Known(attempt.Browser)
	}
	for _, f := range e.AuthFactors {
		method := f.method()
		if method == "" {
			continue
		}
		switch e.StatusID {
		case success:
			a.Proofs = append(a.Proofs, attempt.Proof{Method: method, At: a.At})
		case failure:
			a.Failed = append(a.Failed, attempt.Failure{Method: method, Reason: attempt.Refused})
		}
	}
	return true, e.check(a)
}

// check reports what an event lacks, in the words of OCSF.
func (e *event) check(a *attempt.Attempt) error {
	switch {
	case a.Account == "":
		return fmt.Errorf("the event has no user.name, user.email_addr or user.uid")
	case a.App == "":
		return fmt.Errorf(
			"the event has no service.name, service.uid, dst_endpoint.svc_name, dst_endpoint.hostname or http_request.url.hostname",
		)
	case a.At.IsZero():
		return fmt.Errorf("the event has no time or time_dt")
	}
	return nil
}

func (e *event) app(known Known) string {
	var names []string
	if e.Service != nil {
		names = append(names, e.Service.Name, e.Service.UID)
	}
	if d := e.DstEndpoint; d != nil {
		names = append(names, d.SvcName, d.Hostname)
	}
	if e.HTTPRequest != nil && e.HTTPRequest.URL != nil {
		names = append(names, e.HTTPRequest.URL.Hostname+e.HTTPRequest.URL.Path)
	}
	return choose(known.App, names...)
}

func (e *event) readPlace(a *attempt.Attempt) error {
	if e.SrcEndpoint == nil {
		return nil
	}
	if e.SrcEndpoint.IP != "" {
		ip, err := netip.ParseAddr(e.SrcEndpoint.IP)
		if err != nil {
			return fmt.Errorf("src_endpoint.ip: %q is no IP address", e.SrcEndpoint.IP)
		}
		a.IP = attempt.Known(ip)
	}
	at := e.SrcEndpoint.Location
	if at == nil {
		return nil
	}
	if at.Country != "" {
		var code attempt.CountryCode
		if err := code.UnmarshalText([]byte(at.Country)); err != nil {
			return fmt.Errorf("src_endpoint.location.country: %w", err)
		}
		a.Country = attempt.Known(code)
	}
	switch {
	case at.Lat != nil && at.Long != nil:
		a.Location = attempt.Known(attempt.Location{Lat: *at.Lat, Lon: *at.Long})
	case len(at.Coordinates) == 2:
		a.Location = attempt.Known(attempt.Location{Lat: at.Coordinates[1], Lon: at.Coordinates[0]})
	}
	return nil
}

func (e *event) readDevice(a *attempt.Attempt) {
	if e.Device == nil {
		return
	}
	var d attempt.Device
	if e.Device.UID != "" {
		d.ID = attempt.Known(e.Device.UID)
	}
	if e.Device.IsManaged != nil {
		d.Managed = attempt.Known(*e.Device.IsManaged)
	}
	if e.Device.OS != nil && platforms[e.Device.OS.TypeID] != "" {
		d.Platform = attempt.Known(platforms[e.Device.OS.TypeID])
	}
	a.Device = attempt.Known(d)
}

// method is the method that a factor stands for, "" where that is not said.
func (f factor) method() string {
	if f.FactorTypeID == otherFactor {
		return f.FactorType
	}
	return factors[f.FactorTypeID]
}

// Decided writes a sign-in with what was decided on it: its name, the verdict and why, in a sentence, and
// the facts that the decision rests on. A grant is an event that succeeded, a block one that failed, and
// a step-up neither. ParseRecorded reads it back whole.
func Decided(a *attempt.Attempt, id string, verdict decide.Verdict, because string, facts json.RawMessage) ([]byte, error) {
	e, err := eventOf(a)
	if err != nil {
		return nil, err
	}
	e.Metadata.UID, e.StatusID, e.Status, e.StatusDetail = id, otherStatus, verdict.String(), because
	switch verdict {
	case decide.Grant:
		e.StatusID = success
	case decide.Block:
		e.StatusID = failure
	}
	e.Message = fmt.Sprintf("%s at %s: %s", a.Account, a.App, strings.ReplaceAll(verdict.String(), "_", " "))
	e.Unmapped = &unmapped{facts}
	return json.Marshal(e)
}

// Event writes a sign-in as an event; what OCSF has no place for is left out. One
// in which a proof failed is an event that failed.
func Event(a *attempt.Attempt) ([]byte, error) {
	e, err := eventOf(a)
	if err != nil {
		return nil, err
	}
	return json.Marshal(e)
}

func eventOf(a *attempt.Attempt) (*event, error) {
	e := &event{ClassUID: classUID, ClassName: className, CategoryUID: categoryUID, TypeUID: classUID*100 + logon, ActivityID: logon,
		SeverityID: 1, StatusID: success, Time: a.At.UnixMilli(), TimeDT: a.At,
		Metadata: metadata{Version: version, UID: a.ID, Product: product{"Brisk Warden", "Brisk Warden"}}, Cloud: &cloud{"none"},
		User: user{Name: a.Account}, Service: &named{Name: a.App}}
	if strings.Contains(a.Account, "@") {
		e.User.EmailAddr = a.Account
	}
	if a.Action != attempt.SignIn {
		return nil, fmt.Errorf("the action %s is no authentication event", a.Action)
	}
	e.writePlace(a)
	e.writeDevice(a)
	switch through, _ := a.Through.Get(); {
	case a.Through.IsUnknown():
	case through == attempt.Unattended:
		e.LogonTypeID = 5
	case through == attempt.Browser:
		e.HTTPRequest = &httpRequest{UserAgent: "browser"}
	}
	for _, p := range a.Proofs {
		e.AuthFactors = append(e.AuthFactors, factorOf(p.Method))
	}
	if len(a.Failed) > 0 {
		e.StatusID, e.AuthFactors = failure, nil
		for _, f := range a.Failed {
			e.AuthFactors = append(e.AuthFactors, factorOf(f.Method))
		}
	}
	if a.Session.ID != "" || !a.Session.Started.IsZero() {
		e.Session = &session{UID: a.Session.ID}
		if !a.Session.Started.IsZero() {
			e.Session.CreatedTime = a.Session.Started.UnixMilli()
		}
	}
	return e, nil
}

func factorOf(method string) factor {
	for id, name := range factors {
		if name == method {
			return factor{FactorTypeID: id}
		}
	}
	return factor{otherFactor, method}
}

func (e *event) writePlace(a *attempt.Attempt) {
	var from endpoint
	if ip, ok := a.IP.Get(); ok {
		from.IP = ip.String()
	}
	var at location
	if country, ok := a.Country.Get(); ok {
		at.Country, from.Location = string(country), &at
	}
	if l, ok := a.Location.Get(); ok {
		at.Lat, at.Long, from.Location = &l.Lat, &l.Lon, &at
	}
	if from != (endpoint{}) {
		e.SrcEndpoint = &from
	}
}

func (e *event) writeDevice(a *attempt.Attempt) {
	d, ok := a.Device.Get()
	if !ok {
		return
	}
	e.Device = new(device)
	e.Device.UID, _ = d.ID.Get()
	if managed, ok := d.Managed.Get(); ok {
		e.Device.IsManaged = &managed
	}
	if platform, ok := d.Platform.Get(); ok {
		for _, id := range []int{100, 200, 201, 300, 301} {
			if platforms[id] == platform {
				e.Device.OS = &os{platform, id}
			}
		}
	}
}
