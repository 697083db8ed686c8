package engine

import (
	"fmt"

	"github.com/briskwarden/briskwarden/condition"
)

// named is a vocabulary that knows the names of a directory.
type named interface{ vocabulary() Vocabulary }

func (v Vocabulary) vocabulary() Vocabulary { return v }

// bindBy makes the Bind of a definition from a function on the directory's names.
func bindBy(
	bind func(v Vocabulary, t *condition.Test, value string) (condition.Binding, error),
) func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
	return func(names condition.Vocabulary, t *condition.Test, value string) (condition.Binding, error) {
		v, ok := names.(named)
		if !ok {
			return condition.Binding{}, fmt.Errorf("the key %s has no meaning here", t.Key)
		}
		return bind(v.vocabulary(), t, value)
	}
}

// bindName binds names of one kind of definition to their numbers.
func bindName(
	what string,
	numbers func(*Directory) map[string]int32,
) func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
	return bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
		return one(what, value, numbers(v.Directory))
	})
}

// bindText binds a value that is compared as text, since accounts and attempts bring
// values of their own.
func bindText(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
	return condition.Binding{Words: value}, nil
}
