package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// site is one change: the bytes of a file from begin to end are replaced.
type site struct {
	pkg        string // import path
	tested     bool   // the package has tests of its own
	file       string // absolute
	where      string // file and line, for people
	what       string
	begin, end int
	with       string
}

// sitesOf finds what can be changed in a package's hand-written files.
func sitesOf(p pack) ([]site, error) {
	var all []site
	for _, name := range p.GoFiles {
		if strings.HasSuffix(name, ".gen.go") {
			continue
		}
		path := filepath.Join(p.Dir, name)
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, path, text, parser.SkipObjectResolution)
		if err != nil {
			return nil, err
		}
		c := collector{pack: p, path: path, text: text, fset: fset}
		ast.Inspect(file, c.visit)
		all = append(all, c.found...)
	}
	return all, nil
}

type collector struct {
	pack
	path  string
	text  []byte
	fset  *token.FileSet
	found []site
}

func (c *collector) offset(p token.Pos) int { return c.fset.Position(p).Offset }

func (c *collector) add(begin, end token.Pos, with, what string) {
	at := c.fset.Position(begin)
	c.found = append(c.found, site{
		pkg:    c.ImportPath,
		tested: c.tested(),
		file:   c.path,
		where:  fmt.Sprintf("%s:%d", strings.TrimPrefix(c.path, c.Root+"/"), at.Line),
		what:   what,
		begin:  at.Offset,
		end:    c.offset(end),
		with:   with,
	})
}

func (c *collector) source(n ast.Node) string {
	return string(c.text[c.offset(n.Pos()):c.offset(n.End())])
}

func brief(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 70 {
		return string(r[:70]) + " ..."
	}
	return s
}

func (c *collector) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.GenDecl:
		return n.Tok != token.IMPORT
	case *ast.Field: // tags of fields
		return false
	case *ast.IfStmt:
		c.condition(n.Cond)
	case *ast.ForStmt:
		if n.Cond != nil {
			c.condition(n.Cond)
		}
	case *ast.BinaryExpr:
		c.operator(n)
	case *ast.BasicLit:
		if v, err := strconv.ParseInt(n.Value, 0, 64); n.Kind == token.INT && err == nil {
			c.add(n.Pos(), n.End(), strconv.FormatInt(v+1, 10), fmt.Sprintf("%s is %d", n.Value, v+1))
		}
	case *ast.ReturnStmt:
		c.result(n)
	case *ast.BlockStmt:
		c.statements(n.List)
	case *ast.CaseClause:
		c.statements(n.Body)
	case *ast.CommClause:
		c.statements(n.Body)
	}
	return true
}

func (c *collector) condition(cond ast.Expr) {
	c.add(cond.Pos(), cond.End(), "!("+c.source(cond)+")", "turned: "+brief(c.source(cond)))
}

// moved are the operators that stand a little beside another.
var moved = map[token.Token]string{
	token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.EQL: "!=", token.NEQ: "==",
	token.LAND: "||", token.LOR: "&&", token.ADD: "-", token.SUB: "+",
}

func (c *collector) operator(n *ast.BinaryExpr) {
	if with, ok := moved[n.Op]; ok {
		c.add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), with, fmt.Sprintf("%s for %s: %s", with, n.Op, brief(c.source(n))))
	}
}

// result drops an error that is handed on, and turns what is told by yes and no.
func (c *collector) result(n *ast.ReturnStmt) {
	for i, r := range n.Results {
		id, ok := r.(*ast.Ident)
		switch {
		case !ok:
		case id.Name == "err" && i == len(n.Results)-1:
			c.add(r.Pos(), r.End(), "nil", "error dropped: "+brief(c.source(n)))
		case id.Name == "true" || id.Name == "false":
			with := strconv.FormatBool(id.Name == "false")
			c.add(r.Pos(), r.End(), with, fmt.Sprintf("%s for %s: %s", with, id.Name, brief(c.source(n))))
		}
	}
}

func (c *collector) statements(list []ast.Stmt) {
	for _, s := range list {
		switch s := s.(type) {
		case *ast.AssignStmt:
			if s.Tok == token.DEFINE {
				continue
			}
		case *ast.ExprStmt, *ast.IncDecStmt, *ast.SendStmt, *ast.DeferStmt, *ast.GoStmt, *ast.BranchStmt:
		default:
			continue
		}
		c.add(s.Pos(), s.End(), "", "dropped: "+brief(c.source(s)))
	}
}
