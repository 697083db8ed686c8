package directory

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// LongestName is how many bytes the name of anything may have.
const LongestName = 200

// CheckName reports what keeps a text from being a name: nothing at all, too many
// bytes, what nobody could type or tell apart (spaces, control and format
// characters, such as zero-width and bidirectional ones), or a form other than NFC
// (Unicode Standard Annex 15), in which alone two equal names are the same bytes.
func CheckName(name string) error {
	switch {
	case name == "":
		return errors.New("a name cannot be empty")
	case len(name) > LongestName:
		return fmt.Errorf("a name has at most %d bytes; this one has %d", LongestName, len(name))
	case !utf8.ValidString(name):
		return fmt.Errorf("a name is UTF-8 text, not %q", name)
	}
	if isPrintable(name) {
		return nil // what most names are; in ASCII every form is the composed one
	}
	if strings.Contains(name, " ") {
		return errors.New("a name has no spaces, control or format characters; this one has a space")
	}
	for _, c := range name {
		if unicode.IsSpace(c) || unicode.In(c, unicode.Cc, unicode.Cf, unicode.Co, unicode.Zs, unicode.Zl, unicode.Zp) {
			return fmt.Errorf("a name has no spaces, control or format characters; this one has %U", c)
		}
	}
	if !norm.NFC.IsNormalString(name) {
		return fmt.Errorf("a name is written in the composed form of Unicode (NFC): write %+q for %+q", norm.NFC.String(name), name)
	}
	return nil
}

// isPrintable reports whether a text is of printable ASCII characters without spaces.
func isPrintable(text string) bool {
	for i := range len(text) {
		if text[i] <= ' ' || text[i] >= 0x7f {
			return false
		}
	}
	return true
}
