package inspect

import (
	"slices"
	"strconv"
)

// PushedGroups returns a check for groups that another system pushed to a door and that the book does
// not declare, so that no policy can name them. It is made beside Checks where the names are known.
func PushedGroups(groups []string) Check {
	return Check{
		Name:     "pushed-group-undeclared",
		Topic:    "groups",
		Severity: Warning,
		Title:    "a group is pushed that the book does not declare",
		Why:      "Who is in it is known, and no policy can ask for it; a policy that should may name another group, or one that is misspelt.",
		WayOut:   "Declare the group, {name: …} is enough, or stop pushing it.",
		Run: func(p *Pass) {
			declared := map[string]bool{}
			for _, g := range p.Book.Groups {
				declared[g.Name] = true
			}
			for _, name := range slices.Sorted(slices.Values(groups)) {
				if declared[name] {
					continue
				}
				p.ReportWith(&Paste{YAML: "briskwarden: 1\ngroups: [{name: " + strconv.Quote(name) + "}]\n"}, name, p.Book.Where("setting", "zone"),
					"The group %s is pushed to the door, and the book does not declare it.", name)
			}
		},
	}
}
