package drill

import (
	"encoding/json"
	"fmt"
	"regexp"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
)

// fileName are the names that a file can bear anywhere.
var fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)

// Keep writes an attempt with the verdict expected of it as a file of a book, with
// one drill, which means the names that the book does not have where unlisted is set. It
// refuses what CheckName does.
func Keep(name string, a *attempt.Attempt, expect decide.Verdict, unlisted bool, others []book.Drill) ([]byte, error) {
	if err := CheckName(name, others); err != nil {
		return nil, err
	}
	text, err := json.Marshal(a)
	if err != nil {
		return nil, err
	}
	meant := ""
	if unlisted {
		meant = "    unlisted: true\n"
	}
	// JSON is YAML, so the attempt stands in the file as it was judged; and quoted,
	// no name is taken for a number or for nothing.
	return fmt.Appendf(nil, "briskwarden: 1\ndrills:\n  - name: %q\n    expect: %s\n%s    attempt: %s\n", name, expect, meant, text), nil
}

// CheckName refuses a name for a new drill that is no name of a file, and one that
// another drill of the book bears.
func CheckName(name string, others []book.Drill) error {
	if !fileName.MatchString(name) {
		return fmt.Errorf("%q is no name of letters, digits, dots and hyphens", name)
	}
	for i := range others {
		if others[i].Name == name {
			return fmt.Errorf("%s has a drill %s already; give this one another name", others[i].At.File, name)
		}
	}
	return nil
}
