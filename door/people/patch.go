package people

import (
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/schema"
	filter "github.com/scim2/filter-parser/v2"
)

// mostValues is how many values an attribute may have. Members of groups are no attributes here.
const mostValues = 1000

// checkSizes reports an attribute with more values than one may have.
func checkSizes(attributes map[string]any) error {
	for name, value := range attributes {
		switch value := value.(type) {
		case []any:
			if len(value) > mostValues {
				return problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "%s has more than %d values.", name, mostValues)
			}
		case map[string]any:
			if err := checkSizes(value); err != nil {
				return err
			}
		}
	}
	return nil
}

// patched applies one operation of a patch to attributes.
func patched(attributes map[string]any, o scim.PatchOperation) error {
	if err := patch(attributes, o); err != nil {
		return err
	}
	return checkSizes(attributes) // after each, since the next looks at all values
}

// patch applies one operation of a patch to attributes (RFC 7644 §3.5.2). The library has held it
// against the schema.
func patch(attributes map[string]any, o scim.PatchOperation) error {
	readOnly := problem(http.StatusBadRequest, scimerrors.ScimTypeMutability,
		"groups of a User is read-only: change the members of the Group.")
	if o.Path != nil && strings.EqualFold(o.Path.AttributePath.AttributeName, "groups") {
		return readOnly
	}
	if o.Path == nil {
		values, ok := o.Value.(map[string]any)
		if !ok {
			return problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "Without a path the value is an object of attributes.")
		}
		for name, value := range values {
			if strings.EqualFold(name, "groups") {
				return readOnly
			}
			if inner, isMap := value.(map[string]any); isMap && strings.Contains(name, ":") {
				into := extensionOf(attributes, name)
				for key, v := range inner {
					set(into, key, v, o.Op)
				}
				continue
			}
			set(attributes, name, value, o.Op)
		}
		return nil
	}
	into := attributes
	if uri := o.Path.AttributePath.URI(); uri != "" && !isCore(uri) {
		into = extensionOf(attributes, uri)
	}
	name := keyOf(into, o.Path.AttributePath.AttributeName)
	inner := o.Path.AttributePath.SubAttributeName()
	if inner == "" {
		inner = o.Path.SubAttributeName()
	}
	switch {
	case o.Path.ValueExpression != nil:
		return patchedValues(into, name, inner, o)
	case inner != "":
		part, ok := into[name].(map[string]any)
		if !ok {
			if o.Op == scim.PatchOperationRemove {
				return nil
			}
			part = map[string]any{}
			into[name] = part
		}
		set(part, inner, o.Value, o.Op)
	default:
		if o.Op == scim.PatchOperationRemove && o.Value != nil {
			into[name] = without(into[name], o.Value) // as some clients take members out
			return nil
		}
		set(into, name, o.Value, o.Op)
	}
	return nil
}

func isCore(uri string) bool { return uri == schema.UserSchema || uri == schema.GroupSchema }

// extensionOf returns the attributes of an extension, new ones where there are none.
func extensionOf(attributes map[string]any, uri string) map[string]any {
	name := keyOf(attributes, uri)
	inner, ok := attributes[name].(map[string]any)
	if !ok {
		inner = map[string]any{}
		attributes[name] = inner
	}
	return inner
}

// keyOf returns a name as it stands among attributes: names are the same in any case (RFC 7643
// §2.1).
func keyOf(attributes map[string]any, name string) string {
	for key := range attributes {
		if strings.EqualFold(key, name) {
			return key
		}
	}
	return name
}

// set adds, replaces or removes one attribute. What is added to a list is added to those that are
// there.
func set(into map[string]any, name string, value any, op string) {
	name = keyOf(into, name)
	switch op {
	case scim.PatchOperationRemove:
		delete(into, name)
		return
	case scim.PatchOperationAdd:
		if list, isList := into[name].([]any); isList {
			into[name] = joinedList(list, value)
			return
		}
		if part, isPart := into[name].(map[string]any); isPart {
			if more, ok := value.(map[string]any); ok {
				for key, v := range more {
					set(part, key, v, op)
				}
				return
			}
		}
	}
	into[name] = value
}

// joinedList adds values that are not there yet. Complex ones are the same where their value is.
func joinedList(list []any, value any) []any {
	more, isList := value.([]any)
	if !isList {
		more = []any{value}
	}
	for _, v := range more {
		if !slices.ContainsFunc(list, func(have any) bool { return sameValue(have, v) }) {
			list = append(slices.Clip(list), v)
		}
	}
	return list
}

func sameValue(a, b any) bool {
	one, isOne := a.(map[string]any)
	other, isOther := b.(map[string]any)
	if isOne && isOther && one["value"] != nil {
		return reflect.DeepEqual(one["value"], other["value"])
	}
	return reflect.DeepEqual(a, b)
}

func without(list, value any) any {
	have, _ := list.([]any)
	gone, isList := value.([]any)
	if !isList {
		gone = []any{value}
	}
	return slices.DeleteFunc(slices.Clone(have), func(v any) bool {
		return slices.ContainsFunc(gone, func(g any) bool { return sameValue(v, g) })
	})
}

// patchedValues changes those values of a list that a filter chooses.
func patchedValues(into map[string]any, name, inner string, o scim.PatchOperation) error {
	list, _ := into[name].([]any)
	left := []any{}
	matched := false
	for _, v := range list {
		part, ok := v.(map[string]any)
		if !ok || !chosen(o.Path.ValueExpression, part) {
			left = append(left, v)
			continue
		}
		matched = true
		switch {
		case o.Op == scim.PatchOperationRemove && inner == "":
			continue
		case inner != "":
			set(part, inner, o.Value, o.Op)
		default:
			if more, ok := o.Value.(map[string]any); ok {
				for key, v := range more {
					set(part, key, v, scim.PatchOperationReplace)
				}
			}
		}
		left = append(left, part)
	}
	if !matched && o.Op != scim.PatchOperationRemove {
		made := madeBy(o.Path.ValueExpression)
		if o.Op == scim.PatchOperationReplace || made == nil || inner == "" {
			return scimerrors.ScimErrorNoTarget
		}
		made[inner] = o.Value
		left = append(left, made)
	}
	into[name] = left
	return nil
}

// madeBy returns a value that a filter chooses, as far as it says what one is like: type eq "home". It returns nil of any other filter.
func madeBy(e filter.Expression) map[string]any {
	if is, ok := e.(*filter.AttributeExpression); ok && is.Operator == filter.EQ {
		return map[string]any{is.AttributePath.AttributeName: is.CompareValue}
	}
	return nil
}

// chosen reports whether a value of a list is one that a filter chooses.
func chosen(e filter.Expression, part map[string]any) bool {
	switch e := e.(type) {
	case *filter.AttributeExpression:
		return compares(part[keyOf(part, e.AttributePath.AttributeName)], e.Operator, e.CompareValue)
	case *filter.LogicalExpression:
		if e.Operator == filter.AND {
			return chosen(e.Left, part) && chosen(e.Right, part)
		}
		return chosen(e.Left, part) || chosen(e.Right, part)
	case *filter.NotExpression:
		return !chosen(e.Expression, part)
	}
	return false
}

// compares compares a value with one that a filter names.
func compares(have any, op filter.CompareOperator, want any) bool {
	if op == filter.PR {
		return have != nil && have != ""
	}
	text, isText := have.(string)
	wanted, wantsText := want.(string)
	if !isText || !wantsText {
		equal := reflect.DeepEqual(have, want)
		return op == filter.EQ && equal || op == filter.NE && !equal
	}
	switch op {
	case filter.EQ:
		return text == wanted
	case filter.NE:
		return text != wanted
	case filter.CO:
		return strings.Contains(text, wanted)
	case filter.SW:
		return strings.HasPrefix(text, wanted)
	case filter.EW:
		return strings.HasSuffix(text, wanted)
	}
	return false
}
