package book

import (
	"maps"
	"reflect"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
)

// Renaming says that a definition is to be called otherwise.
type Renaming struct {
	// What is its kind in the singular, such as "group".
	What     string
	From, To string
}

// Renamed returns the book with definitions called otherwise, both where they stand and
// wherever they are named, so that it decides what it did. It is for those who compare two
// books that call things by different names. What it returns shares nothing that was changed
// with the book, and keeps its digest. A new name that is already taken makes a book that
// does not compile.
func (b *Book) Renamed(names ...Renaming) *Book {
	r := renamer{}
	copied := *b
	copied.places = maps.Clone(b.places)
	for _, n := range names {
		r[definition{n.What, n.From}] = n.To
		if at, ok := copied.places[definition{n.What, n.From}]; ok {
			copied.places[definition{n.What, n.To}] = at
		}
	}
	sections := reflect.ValueOf(&copied.Sections).Elem()
	for i := range sections.NumField() {
		sections.Field(i).Set(r.copy(sections.Field(i), "", sections.Type().Field(i).Tag.Get("of")))
	}
	return &copied
}

// renamer has the new names of definitions.
type renamer map[definition]string

func (r renamer) name(what, name string) string {
	if fresh, ok := r[definition{what, name}]; ok {
		return fresh
	}
	return name
}

var (
	nodeType        = reflect.TypeFor[condition.Node]()
	requirementType = reflect.TypeFor[decide.Requirement]()
)

// copy returns a value with names replaced. Its texts name definitions of the kind `names`,
// and its items are definitions of the kind `defines`; each is "" for none.
func (r renamer) copy(v reflect.Value, names, defines string) reflect.Value {
	if v.Type() == nodeType {
		node := reflect.New(nodeType).Elem()
		if !v.IsNil() {
			node.Set(reflect.ValueOf(r.condition(v.Interface().(condition.Node))))
		}
		return node
	}
	switch v.Kind() {
	case reflect.String:
		if fresh := r.name(names, v.String()); names != "" && fresh != v.String() {
			return reflect.ValueOf(fresh).Convert(v.Type())
		}
	case reflect.Slice:
		if v.IsNil() {
			return v
		}
		items := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		for i := range v.Len() {
			items.Index(i).Set(r.copy(v.Index(i), names, ""))
			if defines != "" {
				at := items.Index(i).FieldByName("Name")
				at.SetString(r.name(defines, at.String()))
			}
		}
		return items
	case reflect.Struct:
		fresh := reflect.New(v.Type()).Elem()
		fresh.Set(v)
		for i := range v.NumField() {
			field := v.Type().Field(i)
			switch {
			case !field.IsExported():
			case v.Type() == requirementType:
				fresh.Field(i).Set(r.copy(v.Field(i), "assurance", ""))
			default:
				fresh.Field(i).Set(r.copy(v.Field(i), field.Tag.Get("ref"), ""))
			}
		}
		return fresh
	}
	return v
}

func (r renamer) condition(n condition.Node) condition.Node {
	n = condition.Copy(n)
	condition.Walk(n, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok {
			what := t.Key.Definition().Names
			for i, value := range t.Values {
				t.Values[i] = r.name(what, value)
			}
		}
		return true
	})
	return n
}
