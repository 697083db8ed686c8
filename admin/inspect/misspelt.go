package inspect

import (
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Words that a book cannot check, since they name what it does not define: a misspelt one is
// no error, and says something that nobody meant.

const topicWords = "words"

var wordChecks = []Check{
	{"attribute-nobody-has", topicWords, Warning, "an attribute, or a value of it, that no account has",
		"Of an account without the attribute nobody knows whether the condition holds: it may be a member, may be excepted, may be excused. " +
			"Mostly the name or the value is misspelt.",
		"Write the attribute as the accounts have it.", attributeNobodyHas},
	{"device-word-nobody-bears", topicWords, Warning, "a tag or a platform that no registered device bears",
		"A condition that asks for it holds for no registered device, and one that excludes it excludes none.",
		"Write the tag or platform as the devices bear it.", deviceWordNobodyBears},
	{"odd-zone", topicWords, Warning, "a time zone that is not that of a place",
		"Names such as EST and Etc/GMT+1 have no summer time, and the sign of the second kind is reversed: Etc/GMT+1 is an hour west of " +
			"Greenwich.",
		"Name the zone by its city, such as Europe/Oslo.", oddZone},
	{"account-twice", topicWords, Warning, "two accounts whose names differ in capitals alone",
		"Names of accounts are compared letter by letter. What is said of the one, such as a group or a block, does not hold for the other.",
		"Keep one of them, written as the identity provider states it.", accountTwice},
	{"risk-reason-misspelt", topicWords, Warning, "a reason of a risk that is nearly the one a new password puts right",
		"Only " + directory.LeakedPassword + " is put right by a changed password. With any other reason the risk stays for ever.",
		"Write `because: " + directory.LeakedPassword + "`.", riskReasonMisspelt},
}

func attributeNobodyHas(in *Pass) {
	if !in.Book.ListsAll() {
		return
	}
	values := map[string]map[string]bool{}
	for i := range in.Directory.Accounts {
		for name, value := range in.Directory.Accounts[i].Attributes {
			if values[name] == nil {
				values[name] = map[string]bool{}
			}
			values[name][value.String()] = true
		}
	}
	keys := func(m map[string]bool) (list []string) {
		for key := range m {
			list = append(list, key)
		}
		slices.Sort(list)
		return list
	}
	var names []string
	for name := range values {
		names = append(names, name)
	}
	slices.Sort(names)
	in.eachCondition(func(n condition.Node) {
		condition.Walk(n, func(n condition.Node) bool {
			t, ok := n.(*condition.Test)
			if !ok || t.Key != engine.KeyAttributes {
				return true
			}
			if values[t.Attribute] == nil {
				in.Report(t.Attribute, t.Pos(), "No account has the attribute %s%s", t.Attribute, near(t.Attribute, names))
				return true
			}
			for _, value := range t.Values {
				known := keys(values[t.Attribute])
				if other := nearest.Names(value, known, 1); !values[t.Attribute][value] && len(other) > 0 {
					in.Report(
						t.Attribute+"="+value,
						t.Pos(),
						"No account has the value %s of %s; some have %s.",
						value,
						t.Attribute,
						other[0],
					)
				}
			}
			return true
		})
	})
}

// near ends a sentence about a word that there is not, with the word that may be meant.
func near(word string, known []string) string {
	hint := nearest.DidYouMean(word, known)
	if strings.HasSuffix(hint, "?") {
		return hint
	}
	return hint + "."
}

// commonPlatforms are what devices that nobody registered state.
var commonPlatforms = []string{"windows", "macos", "linux", "ios", "ipados", "android", "chromeos"}

func deviceWordNobodyBears(in *Pass) {
	if len(in.Directory.Devices) == 0 {
		return
	}
	var tags, platforms []string
	for _, d := range in.Directory.Devices {
		tags, platforms = append(tags, d.Tags...), append(platforms, d.Platform)
	}
	platforms = append(platforms, commonPlatforms...)
	in.eachCondition(func(n condition.Node) {
		condition.Walk(n, func(n condition.Node) bool {
			t, ok := n.(*condition.Test)
			if !ok {
				return true
			}
			for _, value := range t.Values {
				switch {
				case t.Key == engine.KeyDeviceTags && !slices.Contains(tags, value):
					in.Report("tag/"+value, t.Pos(), "No registered device bears the tag %s%s", value, near(value, tags))
				case t.Key == engine.KeyPlatforms && !slices.Contains(platforms, value):
					in.Report(
						"platform/"+value,
						t.Pos(),
						"No registered device has the platform %s%s",
						value,
						near(value, platforms),
					)
				}
			}
			return true
		})
	})
}

func oddZone(in *Pass) {
	check := func(about string, at condition.Position, zone *time.Location) {
		name := zone.String()
		if strings.HasPrefix(name, "Etc/") && name != "Etc/UTC" || name != "UTC" && !strings.Contains(name, "/") {
			in.Report(about, at, "The zone %s is not that of a place: it is %s of UTC all the year.", name, in.offset(zone))
		}
	}
	if zone := in.Book.Settings.Zone; zone != nil {
		check("settings", in.where("setting", "zone"), zone)
	}
	for _, w := range in.Directory.Windows {
		if w.Zone != nil {
			check(w.Name, in.where("window", w.Name), w.Zone)
		}
	}
}

// offset words how far a zone is from UTC now.
func (in *Pass) offset(zone *time.Location) string {
	_, seconds := in.At.In(zone).Zone()
	if seconds < 0 {
		return directory.Span(time.Duration(-seconds)*time.Second).Words() + " west"
	}
	return directory.Span(time.Duration(seconds)*time.Second).Words() + " east"
}

func accountTwice(in *Pass) {
	seen := map[string]string{}
	for i := range in.Directory.Accounts {
		name := in.Directory.Accounts[i].Name
		folded := strings.ToLower(name)
		if other, twice := seen[folded]; twice {
			in.Report(name, in.where("account", name), "%s and %s differ in capitals alone.", name, other)
		} else {
			seen[folded] = name
		}
	}
}

func riskReasonMisspelt(in *Pass) {
	for i := range in.Directory.Accounts {
		a := &in.Directory.Accounts[i]
		if a.AccountRisk == nil || a.AccountRisk.Because == directory.LeakedPassword || a.AccountRisk.Because == "" {
			continue
		}
		if len(nearest.Names(a.AccountRisk.Because, []string{directory.LeakedPassword}, 1)) > 0 {
			in.Report(a.Name, in.where("account", a.Name), "The risk of %s is because of %s, which no new password puts right.", a.Name,
				a.AccountRisk.Because)
		}
	}
}
