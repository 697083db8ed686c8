package engine

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// account defines a key about accounts. The facts that it hands on have a Profile.
func account(d condition.Definition, holds func(f *Facts, t *condition.Test) condition.Truth,
	saw func(p *Profile, t *condition.Test, at time.Time) string) condition.Key {
	d.About, d.Meaning, d.Explored = condition.AboutAccount, condition.MeansAccounts, condition.ExploredAsGiven
	return keys.Define(d, func(f *Facts, t *condition.Test) condition.Truth {
		switch {
		case f.Profile != nil:
			return holds(f, t)
		case f.HasProfile:
			return condition.False
		}
		return condition.Unknown
	}, func(f *Facts, t *condition.Test) string {
		switch {
		case f.Profile != nil:
			return saw(f.Profile, t, f.At)
		case f.HasProfile:
			return "an account that nobody knows"
		}
		return ""
	})
}

// The keys about accounts.
var (
	KeyAnyone = account(condition.Definition{Name: "anyone", Shape: condition.Marker,
		Doc: "every account (an emergency account only where it is named)",
		Bind: func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
			return condition.Binding{Words: "an account of the book"}, nil
		},
		Says: func(_ *condition.Test, negated bool) string { return "they " + are(negated) + " anyone" },
		Noun: func(*condition.Test) string { return "everyone" },
	}, func(*Facts, *condition.Test) condition.Truth { return condition.True }, sawName)

	KeyAccounts = account(condition.Definition{Name: "accounts", Doc: "accounts by name", Names: "account",
		Bind: bindName("account", func(d *Directory) map[string]int32 { return d.accountNumber }),
		Says: func(t *condition.Test, negated bool) string { return "they " + are(negated) + " " + t.Wants() },
		Noun: func(t *condition.Test) string { return words.List(t.Values, "and") },
	}, func(f *Facts, t *condition.Test) condition.Truth { return condition.Of(f.Profile.isNamed(t.Numbers())) }, sawName)

	KeyGroups = account(condition.Definition{Name: "groups", Names: "group",
		Doc:  "members of a group, directly or through the groups it includes",
		Bind: bindName("group", func(d *Directory) map[string]int32 { return d.groupNumber }),
		Says: func(t *condition.Test, negated bool) string { return "they " + are(negated) + " in " + t.Wants() },
		Noun: func(t *condition.Test) string { return "members of " + words.List(t.Values, "or") },
	}, func(f *Facts, t *condition.Test) condition.Truth {
		switch {
		case intersects(t.Numbers(), f.Profile.groups):
			return condition.True
		case intersects(t.Numbers(), f.Profile.mayBeIn()):
			return condition.Unknown
		}
		return condition.False
	}, func(p *Profile, t *condition.Test, _ time.Time) string {
		if !intersects(t.Numbers(), p.groups) && intersects(t.Numbers(), p.mayBeIn()) {
			return ""
		}
		return orNone(p.Groups(), "no group")
	})

	KeyDomains = account(condition.Definition{Name: "domains", Doc: "the part of the account's name after the last @",
		Check: func(value string) error { _, err := normalDomain(value); return err },
		Bind: func(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			domain, err := normalDomain(value)
			return condition.Binding{Texts: []string{domain}, Words: value}, err
		},
		Says: func(t *condition.Test, negated bool) string { return "their domain " + is(negated) + " " + t.Wants() },
		Noun: func(t *condition.Test) string { return "accounts of the domain " + words.List(t.Values, "or") },
	}, func(f *Facts, t *condition.Test) condition.Truth {
		return condition.Of(f.Profile.domain != "" && slices.Contains(t.Texts(), f.Profile.domain))
	}, func(p *Profile, _ *condition.Test, _ time.Time) string { return cmp.Or(p.domain, "no domain") })

	KeyKinds = account(condition.Definition{Name: "kinds", Doc: "the account's kind: person, service or emergency", Words: directory.Kinds(),
		Bind: bindWord(func(value string) (directory.Kind, error) {
			var k directory.Kind
			return k, k.UnmarshalText([]byte(value))
		}),
		Says: func(t *condition.Test, negated bool) string { return "they " + are(negated) + " " + kindWords(t) },
		Noun: kindWords,
	}, func(f *Facts, t *condition.Test) condition.Truth { return among(t, int32(f.Profile.kind)) },
		func(p *Profile, _ *condition.Test, _ time.Time) string { return p.kind.String() })

	KeyAttributes = account(condition.Definition{Name: "attributes", Shape: condition.Named,
		Doc:  "attributes of the account, by name, each with its alternatives",
		Bind: bindText,
		Says: func(t *condition.Test, negated bool) string {
			return "their " + t.Attribute + " " + is(negated) + " " + t.Wants()
		},
	}, attributeHolds, func(p *Profile, t *condition.Test, _ time.Time) string {
		if value, ok := p.account.Attributes[t.Attribute]; ok {
			return value.String()
		}
		return ""
	})

	KeyEnrolled = account(condition.Definition{Name: "enrolled", Doc: "the account has enrolled one of these methods", Names: "method",
		Bind: bindName("method", func(d *Directory) map[string]int32 { return d.methodNumber }),
		Says: func(t *condition.Test, negated bool) string {
			return condition.Either(negated, "they have enrolled ", "they have not enrolled ") + t.Wants()
		},
	}, enrolledHolds, func(p *Profile, t *condition.Test, _ time.Time) string {
		if enrolledHolds(&Facts{Profile: p}, t) == condition.Unknown {
			return ""
		}
		return orNone(p.account.Methods, "no method")
	})

	KeyJoinedWithin = account(condition.Definition{Name: "joined_within", Shape: condition.Length,
		Doc: "so many times 24 hours have not passed since the midnight that began the day of joining",
		Bind: func(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			var span directory.Span
			err := span.UnmarshalText([]byte(value))
			return condition.Binding{Limit: int64(span), Words: "at most " + value}, err
		},
		Says: func(t *condition.Test, negated bool) string {
			return "they joined " + condition.Either(
				negated,
				"within the last ",
				"longer ago than ",
			) + directory.Span(t.Limit()).
				Words()
		},
	}, func(f *Facts, t *condition.Test) condition.Truth {
		end, known := f.Profile.JoinedUntil(directory.Span(t.Limit()), f.At)
		if !known || f.Moment.IsZero() {
			return condition.Unknown
		}
		return condition.Of(f.Moment.Before(end))
	}, func(p *Profile, _ *condition.Test, at time.Time) string {
		if _, known := p.JoinedUntil(0, at); !known {
			return ""
		}
		return "joined " + p.account.Joined.String()
	})

	KeyAccountRiskAtLeast = account(condition.Definition{Name: "account_risk_at_least", Shape: condition.Level,
		Doc: "the standing risk of the account: low, medium or high",
		Bind: func(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			return levelBinding(value)
		},
		Says: func(t *condition.Test, negated bool) string {
			return "the standing risk of their account " + is(negated) + " " + t.Wants()
		},
	}, func(f *Facts, t *condition.Test) condition.Truth {
		a := f.Profile.account
		if f.At.IsZero() && a.ChangedSinceRisk(f.At) {
			// At no moment: whether the password had put the risk right by then is not known.
			return condition.FalseUnless(int64(a.AccountRisk.Level) >= t.Limit())
		}
		return condition.Of(int64(a.RiskAt(f.At)) >= t.Limit())
	}, func(p *Profile, _ *condition.Test, at time.Time) string { return sawRisk(p.account, at) })

	KeyShare = account(condition.Definition{Name: "share", Shape: condition.Number,
		Doc: "so many percent of all accounts, the same ones each time; a wider share only adds accounts",
		Bind: bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			percent, err := Percent(value)
			return condition.Binding{Limit: int64(percent), Salt: v.salt, Words: value + " %"}, err
		}),
		Says: func(t *condition.Test, negated bool) string {
			return "they " + are(negated) + " among the " + t.Wants() + " of accounts that are drawn"
		},
		Noun: func(t *condition.Test) string { return t.Wants() + " of all accounts" },
	}, func(f *Facts, t *condition.Test) condition.Truth {
		return condition.Of(int64(f.Profile.share(t)) < t.Limit()*100)
	},
		func(p *Profile, t *condition.Test, _ time.Time) string {
			return fmt.Sprintf("%.2f %%", float64(p.share(t))/100)
		})
)

// enrolledHolds answers a bound test on methods that are enrolled.
func enrolledHolds(f *Facts, t *condition.Test) condition.Truth {
	holds := condition.False
	for _, m := range t.Numbers() {
		switch {
		case f.Profile.methods.Has(int(m)):
			return condition.True
		case f.Profile.PerhapsEnrolled().Has(int(m)):
			holds = condition.Unknown
		}
	}
	return holds
}

// attributeHolds answers a bound test on an attribute.
func attributeHolds(f *Facts, t *condition.Test) condition.Truth {
	value, given := f.Profile.account.Attributes[t.Attribute]
	if !given {
		return condition.Unknown
	}
	return condition.Of(value.Kind() != attempt.Nothing && slices.ContainsFunc(t.Values, value.Reads))
}

// sawName describes an account by its name.
func sawName(p *Profile, _ *condition.Test, _ time.Time) string { return p.account.Name }

func is(negated bool) string  { return condition.Either(negated, "is", "is not") }
func are(negated bool) string { return condition.Either(negated, "are", "are not") }

// kindWords names kinds of accounts in the plural.
func kindWords(t *condition.Test) string {
	var names []string
	for _, k := range t.Values {
		if k == "person" {
			names = append(names, "persons")
		} else {
			names = append(names, k+" accounts")
		}
	}
	return words.List(names, "or")
}

// bindWord binds the words of a closed list to their numbers.
func bindWord[T ~uint8](parse func(string) (T, error)) func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
	return func(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
		n, err := parse(value)
		return condition.Binding{Numbers: []int32{int32(n)}, Words: value}, err
	}
}
