package directory

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
)

// Device is a device that the organisation knows, by the identity that it
// states in attempts.
type Device struct {
	Name       string                    `book:"name,required" doc:"the identity that the device states (device.id in attempts)"`
	Platform   string                    `book:"platform" doc:"its platform, such as windows or ios"`
	Managed    bool                      `book:"managed" doc:"true where the organisation looks after the device"`
	Shared     bool                      `book:"shared" doc:"true where several people use it"`
	Owner      string                    `book:"owner" ref:"account" doc:"the account that it belongs to"`
	Tags       []string                  `book:"tags" doc:"tags that conditions can ask for"`
	Facts      map[string]attempt.Scalar `book:"facts" doc:"what it reported of itself, by name"`
	ReportedAt *time.Time                `book:"reported_at" doc:"when it reported that, such as 2026-11-23T18:00:00Z"`
}

// Devices supplies devices while decisions are made, as [Accounts] supplies
// accounts. It must be safe for concurrent use.
type Devices interface {
	// Device returns the device of that identity. It is called at most once in a
	// decision, where the attempt states a device.id and something asks for the
	// device. A device that is supplied takes the place of the book's device of that
	// name. Nothing of it is kept.
	//
	// The error is ErrNotFound, or wraps it, where there surely is no such device:
	// the book's own is taken then, if it lists one. With any other error what the
	// attempt itself does not state of the device is unknown.
	Device(ctx context.Context, id string) (Device, error)
}

// Posture is a named list of checks that a device must pass.
type Posture struct {
	Name string `book:"-"`
	// Fresh is how old a report may be; an older one is no report. Zero sets no
	// limit.
	Fresh  Span    `book:"fresh" doc:"how old the device's report may be, such as 24h" default:"a report of any age will do"`
	Checks []Check `book:"checks,required" doc:"what the device's report must show, all of it"`
}

// Check is a demand on one fact that a device reports. One of Is, AtLeast,
// AtMost and In is given.
type Check struct {
	Fact    string           `book:"fact,required" doc:"name of the fact"`
	Is      *attempt.Scalar  `book:"is" doc:"the value that it must have"`
	AtLeast *Minimum         `book:"at_least" doc:"the least version or number, or one for each platform; a platform not listed fails"`
	AtMost  *float64         `book:"at_most" doc:"the greatest number"`
	In      []attempt.Scalar `book:"in" doc:"values; it must have one of them"`
	Fix     string           `book:"fix" doc:"what the person can do where the check fails"`
}

// Minimum is the least dotted version (or number), for all platforms or for each.
type Minimum struct {
	All        string
	ByPlatform map[string]string
}

// Check reports what is wrong with a check.
func (c *Check) Check() error {
	given := 0
	for _, is := range []bool{c.Is != nil, c.AtLeast != nil, c.AtMost != nil, c.In != nil} {
		if is {
			given++
		}
	}
	if given != 1 {
		return fmt.Errorf("give is, at_least, at_most or in, and one of them only")
	}
	return nil
}

// Wants says what a check asks for, for a reader.
func (c *Check) Wants() string {
	switch {
	case c.Is != nil:
		return c.Is.String()
	case c.In != nil:
		var words []string
		for _, s := range c.In {
			words = append(words, s.String())
		}
		return "one of " + strings.Join(words, ", ")
	case c.AtMost != nil:
		return "at most " + strconv.FormatFloat(*c.AtMost, 'f', -1, 64)
	case c.AtLeast.ByPlatform == nil:
		return "at least " + c.AtLeast.All
	}
	var words []string
	for platform, least := range c.AtLeast.ByPlatform {
		words = append(words, platform+" "+least)
	}
	slices.Sort(words)
	return "at least " + strings.Join(words, ", ")
}
