package engine

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"

	"github.com/briskwarden/briskwarden/directory"
)

// hostPattern is a pattern from an app's `hosts`: a host, *.host for what is
// below it, and behind a host a path whose last part may be *.
type hostPattern struct {
	app int32
	// host is in ASCII and lower case; below says that it stood behind "*.".
	host  string
	below bool
	// path begins with a slash or is empty; prefix says that it ended in "/*".
	path   string
	prefix bool
}

// parseHostPattern reads one item of `hosts`. The error says what is wrong.
func parseHostPattern(text string) (hostPattern, error) {
	host, path, hasPath := strings.Cut(text, "/")
	var p hostPattern
	host, p.below = strings.CutPrefix(host, "*.")
	if strings.Contains(host, ":") {
		return p, fmt.Errorf("%q names a port; a host stands for all its ports", text)
	}
	var err error
	if p.host, err = normalHost(host); err != nil || strings.Contains(p.host, "*") {
		return p, fmt.Errorf(
			"%q is no host such as till.kestrelsound.example, *.kestrelsound.example or till.kestrelsound.example/pay/*",
			text,
		)
	}
	if hasPath {
		p.path = "/" + path
		p.path, p.prefix = strings.CutSuffix(p.path, "/*")
		if clean, ok := normalPath(p.path + "/"); !ok || clean != p.path+"/" && p.path != "" || strings.Contains(p.path, "*") {
			return p, fmt.Errorf("%q: a path has no . or .. parts, no encoded slash, and a * only as its last part", text)
		}
	}
	return p, nil
}

// normalHost puts a host into the form in which hosts are compared: ASCII
// (RFC 5891), lower case, without the dot of the root.
func normalHost(host string) (string, error) {
	if isPlainHost(host) {
		return host, nil
	}
	ascii, err := idna.Lookup.ToASCII(strings.TrimSuffix(host, "."))
	if err != nil {
		return "", err
	}
	if ascii == "" {
		return "", fmt.Errorf("a host cannot be empty")
	}
	return strings.ToLower(ascii), nil
}

// isPlainHost reports whether a host surely stands in the form in which hosts are compared: labels of
// lower case letters, digits and hyphens (RFC 1123 §2.1), none of them encoded. It spares most hosts
// the tables of IDNA.
func isPlainHost(host string) bool {
	const longestHost, longestLabel = 253, 63
	if len(host) > longestHost {
		return false
	}
	start := 0
	for i := 0; i <= len(host); i++ {
		if i < len(host) && host[i] != '.' {
			if c := host[i]; !('a' <= c && c <= 'z' || '0' <= c && c <= '9' || c == '-') {
				return false
			}
			continue
		}
		label := host[start:i]
		start = i + 1
		if label == "" || len(label) > longestLabel || label[0] == '-' || label[len(label)-1] == '-' || len(label) > 3 && label[2:4] == "--" {
			return false
		}
	}
	return true
}

// normalPath decodes what need not be encoded and removes . and .. parts (RFC
// 3986 §5.2.4, §6.2.2). It refuses a path that servers read in different ways: one
// with an encoded slash or percent sign, a backslash, a semicolon, a control
// character, what is not UTF-8, an encoding that is broken, a part of dots with
// spaces around them, three dots or more, or an empty part between two slashes.
func normalPath(path string) (string, bool) {
	path, _, _ = strings.Cut(path, "?")
	path, _, _ = strings.Cut(path, "#")
	var decoded strings.Builder
	for i := 0; i < len(path); i++ {
		c := path[i]
		if c == '%' {
			if i+2 >= len(path) {
				return "", false
			}
			high, low := unhex(path[i+1]), unhex(path[i+2])
			if high < 0 || low < 0 {
				return "", false
			}
			c = byte(high<<4 | low)
			i += 2
			if c == '/' || c == '%' {
				return "", false
			}
		}
		if c == '\\' || c == ';' || c < ' ' || c == 0x7f {
			return "", false
		}
		decoded.WriteByte(c)
	}
	if !isPlainText(decoded.String()) {
		return "", false
	}
	var parts []string
	all := strings.Split(decoded.String(), "/")
	for i, part := range all {
		switch {
		case part == "..":
			if len(parts) > 0 {
				parts = parts[:len(parts)-1]
			}
		case part == ".":
		case part == "" && i > 0 && i < len(all)-1:
			return "", false
		case part == "":
		case isDots(part):
			return "", false
		default:
			parts = append(parts, part)
			continue
		}
		if i == len(all)-1 && len(parts) > 0 {
			parts = append(parts, "") // what ends in a slash, or in a dot, is a folder
		}
	}
	return "/" + strings.Join(parts, "/"), true
}

// isPlainText reports whether a text is UTF-8 without control characters, those
// behind ASCII and those of a format included.
func isPlainText(text string) bool {
	return utf8.ValidString(text) &&
		!strings.ContainsFunc(text, func(c rune) bool { return unicode.In(c, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) })
}

// isDots reports whether a part of a path could be taken for . or .. by a server
// that strips spaces or reads other signs for a dot.
func isDots(part string) bool {
	return strings.TrimFunc(
		part,
		func(c rune) bool { return unicode.IsSpace(c) || strings.ContainsRune(".\u2024\u2025\u2026\uff0e", c) },
	) == ""
}

func unhex(c byte) int {
	switch {
	case '0' <= c && c <= '9':
		return int(c - '0')
	case 'a' <= c && c <= 'f':
		return int(c-'a') + 10
	case 'A' <= c && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// folderOf returns the folder in which all readings of a path lie that servers may read in different ways: what stands before the
// first part that they do, or the root where some reading climbs out of that.
func folderOf(path string) string {
	path, _, _ = strings.Cut(path, "?")
	path, _, _ = strings.Cut(path, "#")
	var ends []int // of folders
	for i := range path {
		if path[i] == '/' {
			ends = append(ends, i+1)
		}
	}
	n := sort.Search(len(ends), func(i int) bool { _, ok := normalPath(path[:ends[i]]); return !ok })
	if n == 0 || mayClimb(path[ends[n-1]:]) {
		return "/"
	}
	folder, _ := normalPath(path[:ends[n-1]])
	return folder
}

// mayClimb reports whether some server may read a path as one that leads out of its folder. It may be encoded more than once.
func mayClimb(path string) bool {
	const mostTimes = 4
	for i := 0; strings.Contains(path, "%"); i++ {
		decoded, err := url.PathUnescape(path)
		if err != nil && i > 0 {
			break // what was decoded is a percent sign that stands for itself
		}
		if err != nil || i == mostTimes {
			return true
		}
		path = decoded
	}
	if !isPlainText(path) {
		return true
	}
	for part := range strings.SplitSeq(strings.ReplaceAll(path, "\\", "/"), "/") {
		if part, _, _ = strings.Cut(part, ";"); part != "" && isDots(part) {
			return true
		}
	}
	return false
}

// matchesHost reports whether the pattern stands for paths of a host.
func (p *hostPattern) matchesHost(host string) bool {
	if p.below {
		return strings.HasSuffix(host, p.host) && len(host) > len(p.host) && host[len(host)-len(p.host)-1] == '.'
	}
	return host == p.host
}

// isWholeHost reports whether the pattern stands for all paths of its hosts.
func (p *hostPattern) isWholeHost() bool { return !p.prefix && (p.path == "" || p.path == "/") }

// matches reports whether the pattern stands for a host and path.
func (p *hostPattern) matches(host, path string) bool {
	switch {
	case !p.matchesHost(host):
		return false
	case p.prefix:
		return path == p.path || strings.HasPrefix(path, p.path+"/")
	}
	return p.isWholeHost() || strings.TrimSuffix(path, "/") == strings.TrimSuffix(p.path, "/")
}

// moreSpecific orders patterns so that the first that matches is the one meant:
// a host before what is below it, a longer host before a shorter one, a whole
// path before a prefix, and a longer one before a shorter one.
func moreSpecific(a, b hostPattern) int {
	rank := func(p hostPattern) int {
		switch {
		case p.prefix:
			return 1
		case p.isWholeHost():
			return 2
		}
		return 0
	}
	below := func(p hostPattern) int {
		if p.below {
			return 1
		}
		return 0
	}
	return cmp.Or(
		below(a)-below(b),
		len(b.host)-len(a.host),
		rank(a)-rank(b),
		len(b.path)-len(a.path),
		cmp.Compare(a.host+a.path, b.host+b.path),
	)
}

// HostError is what is wrong with the hosts of an app.
type HostError struct {
	App   string
	Wrong error
}

// checkHosts reports what is wrong with the hosts of apps: a pattern that cannot be
// read, or that two apps claim.
func checkHosts(apps []directory.App) []HostError {
	_, wrong := readHosts(apps)
	return wrong
}

// readHosts reads the hosts of all apps, most specific first.
func readHosts(apps []directory.App) (hosts []hostPattern, wrong []HostError) {
	for i := range apps {
		for _, text := range apps[i].Hosts {
			p, err := parseHostPattern(text)
			if err != nil {
				wrong = append(wrong, HostError{apps[i].Name, err})
				continue
			}
			p.app = int32(i)
			hosts = append(hosts, p)
		}
	}
	slices.SortFunc(hosts, moreSpecific)
	for i := 1; i < len(hosts); i++ {
		a, b := hosts[i-1], hosts[i]
		if a.app != b.app && moreSpecific(a, b) == 0 {
			wrong = append(wrong, HostError{apps[b.app].Name, fmt.Errorf("%s claims the host %s%s too", apps[a.app].Name, a.host, a.path)})
		}
	}
	return hosts, wrong
}

// FindApp returns the number of an app by its name, by an identifier in its
// `known_as`, or by a host and path in its `hosts`; of several patterns the most
// specific wins. A path that servers may read in different ways finds the app that
// all readings find, and else none.
func (e *Directory) FindApp(text string) (int, bool) {
	if n, ok := e.appNumber[text]; ok {
		return int(n), true
	}
	if len(e.hosts) == 0 || !strings.Contains(text, ".") {
		return 0, false
	}
	if scheme, rest, ok := strings.Cut(text, "://"); ok && !strings.ContainsAny(scheme, "./") {
		text = rest
	}
	host, path := text, ""
	if end := strings.IndexAny(text, "/?#\\"); end >= 0 {
		host, path = text[:end], text[end:]
	}
	if colon := strings.LastIndexByte(host, ':'); colon >= 0 && strings.Trim(host[colon+1:], "0123456789") == "" {
		host = host[:colon]
	}
	host, err := normalHost(host)
	if err != nil {
		return 0, false
	}
	if clean, ok := normalPath(path); ok {
		for i := range e.hosts {
			if e.hosts[i].matches(host, clean) {
				return int(e.hosts[i].app), true
			}
		}
		return 0, false
	}
	if n, ok := e.appBelow(host, "/"); ok {
		return n, true
	}
	return e.appBelow(host, folderOf(path))
}

// appBelow returns the number of the app that every path in a folder of a host finds.
func (e *Directory) appBelow(host, folder string) (int, bool) {
	others := false // patterns for some paths in the folder are of another app
	first := int32(-1)
	for i := range e.hosts {
		p := &e.hosts[i]
		if !p.matchesHost(host) {
			continue
		}
		all := p.isWholeHost() || p.prefix && strings.HasPrefix(folder, p.path+"/")
		if !all && !strings.HasPrefix(p.path+"/", folder) {
			continue
		}
		if first >= 0 && p.app != first {
			others = true
		}
		if first = p.app; all {
			return int(first), !others
		}
	}
	return 0, false
}
