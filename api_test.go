package briskwarden_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestThePublicAPIShowsNothingInternal reads the source of each public package: no
// exported function, method, field or type is of a type that only this module can name,
// such as the numbers of accounts and policies are.
func TestThePublicAPIShowsNothingInternal(t *testing.T) {
	exported := 0
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if entry.IsDir() &&
			(path == "internal" || path == "cmd" || path == "examples" || path == "testdata" || strings.HasPrefix(path, ".") && path != ".") {
			return fs.SkipDir
		}
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		internal := map[string]bool{}
		for _, spec := range file.Imports {
			if name := strings.Trim(spec.Path.Value, `"`); strings.Contains(name, "/briskwarden/internal/") {
				internal[name[strings.LastIndexByte(name, '/')+1:]] = true
			}
		}
		shows := func(name string, node ast.Node) {
			exported++
			ast.Inspect(node, func(n ast.Node) bool {
				if field, ok := n.(*ast.Field); ok && len(field.Names) > 0 && !field.Names[0].IsExported() {
					if _, isStruct := node.(*ast.TypeSpec); isStruct {
						return false
					}
				}
				if selector, ok := n.(*ast.SelectorExpr); ok {
					if of, ok := selector.X.(*ast.Ident); ok && internal[of.Name] {
						t.Errorf("%s: %s shows %s.%s, which only this module can name", path, name, of.Name, selector.Sel.Name)
					}
				}
				return true
			})
		}
		for _, decl := range file.Decls {
			switch d := decl.(type) {
			case *ast.FuncDecl:
				if d.Name.IsExported() && (d.Recv == nil || isExported(d.Recv.List[0].Type)) {
					shows(d.Name.Name, d.Type)
				}
			case *ast.GenDecl:
				for _, spec := range d.Specs {
					if s, ok := spec.(*ast.TypeSpec); ok && s.Name.IsExported() {
						shows(s.Name.Name, s)
					}
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, exported, 500, "the walk found the packages")
}

// isExported reports whether the type of a receiver is.
func isExported(receiver ast.Expr) bool {
	if star, ok := receiver.(*ast.StarExpr); ok {
		receiver = star.X
	}
	name, ok := receiver.(*ast.Ident)
	return ok && name.IsExported()
}
