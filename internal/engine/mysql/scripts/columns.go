package scripts

import (
	"cmp"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/pingcap/tidb/pkg/parser/ast"
	"github.com/pingcap/tidb/pkg/parser/format"
	mycodes "github.com/pingcap/tidb/pkg/parser/mysql"
	"github.com/pingcap/tidb/pkg/parser/types"

	"widegate/internal/catalog"
	"widegate/internal/engine/mysql/live"
)

// addColumn adds a column at a place, or at the end.
func (m *my) addColumn(t *myTable, def *ast.ColumnDef, place int) {
	declared, typ := m.fieldType(def.Tp)
	c := catalog.Column{Name: def.Name.Name.O, Declared: declared, Type: typ, Nullable: true}
	if isText(typ) {
		c.Collation = cmp.Or(def.Tp.GetCollate(), t.collation)
	}
	if place < 0 || place > len(t.Columns) {
		place = len(t.Columns)
	}
	t.Columns = slices.Insert(t.Columns, place, c)
	for _, o := range def.Options {
		m.setColumnOption(t, &t.Columns[place], o)
	}
	if hasAutoIncrement(def) || isSerial(def) {
		t.Columns[place].Default = &catalog.Default{Kind: catalog.Identity}
		t.Columns[place].Nullable = false
	}
}

// labelled declares an enum or a set as the server prints it.
func labelled(name string, labels []string) string {
	quoted := make([]string, len(labels))
	for i, l := range labels {
		quoted[i] = "'" + strings.NewReplacer(`\`, `\\`, "'", "''", "\n", `\n`, "\x00", `\0`).Replace(l) + "'"
	}
	return name + "(" + strings.Join(quoted, ",") + ")"
}

func isText(t catalog.Type) bool {
	return t.Kind == catalog.Text || t.Kind == catalog.EnumKind || t.Kind == catalog.Set
}

func hasAutoIncrement(def *ast.ColumnDef) bool {
	return slices.ContainsFunc(def.Options, func(o *ast.ColumnOption) bool { return o.Tp == ast.ColumnOptionAutoIncrement })
}

// isSerial knows SERIAL by what the parser makes of it.
func isSerial(def *ast.ColumnDef) bool {
	return mycodes.HasAutoIncrementFlag(def.Tp.GetFlag())
}

func (m *my) setColumnOption(t *myTable, c *catalog.Column, o *ast.ColumnOption) {
	switch o.Tp {
	case ast.ColumnOptionPrimaryKey:
		t.setPrimary([]string{c.Name})
	case ast.ColumnOptionUniqKey:
		t.Uniques = append(t.Uniques, catalog.Key{Name: t.freeIndex(c.Name), Columns: []string{c.Name}})
	case ast.ColumnOptionNotNull:
		c.Nullable = false
	case ast.ColumnOptionDefaultValue:
		c.Default = m.defaultOf(o.Expr, c.Type)
	case ast.ColumnOptionComment:
		c.Comment = strings.Trim(restoreText(o.Expr), "'")
	case ast.ColumnOptionGenerated:
		c.Generated, c.Stored = restore(o.Expr), o.Stored
	case ast.ColumnOptionOnUpdate:
		c.OnUpdate = strings.ToLower(restore(o.Expr))
	case ast.ColumnOptionReference:
		m.addReference(t, "", []string{c.Name}, o.Refer, true)
	case ast.ColumnOptionCollate:
		c.Collation = o.StrValue
	case ast.ColumnOptionCheck:
		m.addCheck(t, o.ConstraintName, c.Name, restore(o.Expr))
	}
}

// restore prints an expression.
func restore(n ast.Node) string {
	if n == nil {
		return ""
	}
	var b strings.Builder
	if err := n.Restore(format.NewRestoreCtx(format.DefaultRestoreFlags|format.RestoreStringWithoutCharset, &b)); err != nil {
		return errNoExpression.Error()
	}
	return strings.TrimPrefix(b.String(), "_utf8mb4")
}

// restoreText is the value of a string literal.
func restoreText(n ast.ExprNode) string {
	if v, ok := n.(ast.ValueExpr); ok {
		return v.GetString()
	}
	return restore(n)
}

// defaultOf tells constants from expressions.
func (m *my) defaultOf(n ast.ExprNode, t catalog.Type) *catalog.Default {
	if n == nil {
		return nil
	}
	text := restore(n)
	if v, ok := n.(ast.ValueExpr); ok && m.expressions[v.GetString()] != "" {
		return m.expressionDefault(m.expressions[v.GetString()])
	}
	constant := func(s string) *catalog.Default { return &catalog.Default{Kind: catalog.Constant, Text: s} }
	switch v := n.(type) {
	case ast.ValueExpr:
		if v.GetValue() == nil {
			return nil
		}
		switch value := v.GetValue().(type) {
		case string:
			text = value
		case []byte:
			text = string(value)
		}
		if bits := strings.ToLower(restore(n)); strings.HasPrefix(bits, "b'") {
			text = bits
		}
		return constant(storedNumber(text, t))
	case *ast.UnaryOperationExpr:
		if number.MatchString(text) {
			return constant(storedNumber(text, t))
		}
	}
	if strings.EqualFold(text, "TRUE") || strings.EqualFold(text, "FALSE") {
		return constant(strings.ToLower(text))
	}
	return &catalog.Default{Kind: catalog.Expression, Text: strings.ToLower(text)}
}

// expressionDefault is a default in parentheses, or one that takes from a sequence.
// It is printed as an expression of a query is, where the grammar knows it.
func (m *my) expressionDefault(text string) *catalog.Default {
	nodes, _, err := m.parser.ParseSQL("SELECT " + text)
	if err == nil && len(nodes) == 1 {
		if query, ok := nodes[0].(*ast.SelectStmt); ok && len(query.Fields.Fields) == 1 && query.Fields.Fields[0].Expr != nil {
			text = strings.ToLower(restore(query.Fields.Fields[0].Expr))
		}
	}
	return &catalog.Default{Kind: catalog.Expression, Text: text}
}

// storedNumber writes a constant as the server does when it has been converted to the
// column's type.
func storedNumber(text string, t catalog.Type) string {
	switch t.Kind {
	case catalog.Bool:
		return map[string]string{"0": "false", "1": "true", "b'0'": "false", "b'1'": "true", "false": "false", "true": "true"}[strings.ToLower(text)]
	case catalog.Float:
		if f, err := strconv.ParseFloat(text, 64); err == nil {
			return strconv.FormatFloat(f, 'f', -1, 64)
		}
	case catalog.Decimal:
		if f, ok := new(big.Rat).SetString(text); ok {
			return f.FloatString(t.Scale)
		}
	}
	return text
}

var number = regexp.MustCompile(`^-?\d+(\.\d+)?$`)

// rareTypes are the types that the grammar does not know, by the size they
// were given.
var rareTypes = func() map[int]string {
	names := map[int]string{}
	for name, size := range foreignTypes {
		names[size] = name
	}
	return names
}()

var shapes = []string{"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection"}

// displayWidths are those that MariaDB prints behind integers, with a sign and
// without.
var displayWidths = map[string][2]int64{"tinyint": {4, 3}, "smallint": {6, 5}, "mediumint": {9, 8}, "int": {11, 10}, "bigint": {20, 20}}

// fieldType normalizes a type of the parser's. MySQL prints integers without a
// display width but where it says that they are meant as booleans.
func (m *my) fieldType(ft *types.FieldType) (string, catalog.Type) {
	name := types.TypeToStr(ft.GetType(), ft.GetCharset())
	size, precision, scale := int64(ft.GetFlen()), int64(0), int64(max(ft.GetDecimal(), 0))
	if rare, ok := rareTypes[int(size)]; ok {
		return rare, live.TypeOf(rare, rare, 0, 0, 0)
	}
	unsigned := ""
	if mycodes.HasUnsignedFlag(ft.GetFlag()) {
		unsigned = " unsigned"
	}
	if mycodes.HasZerofillFlag(ft.GetFlag()) {
		unsigned += " zerofill"
	}
	declared := ft.InfoSchemaStr()
	switch name {
	case "tinyint", "smallint", "mediumint", "int", "bigint":
		declared = name + unsigned
		if name == "tinyint" && size == 1 {
			declared = "tinyint(1)" + unsigned
		} else if m.mariaDB {
			width := displayWidths[name][0]
			if unsigned != "" {
				width = displayWidths[name][1]
			}
			if size > 0 {
				width = size
			}
			declared = fmt.Sprintf("%s(%d)%s", name, width, unsigned)
		}
	case "float", "double":
		declared = name + unsigned
		if size > 0 && ft.GetDecimal() >= 0 {
			declared = fmt.Sprintf("%s(%d,%d)%s", name, size, scale, unsigned)
		}
	case "decimal":
		precision = size
		if precision <= 0 {
			precision = 10
		}
		declared = fmt.Sprintf("decimal(%d,%d)%s", precision, scale, unsigned)
	case "bit":
		precision = max(size, 1)
		declared = fmt.Sprintf("bit(%d)", precision)
	case "char", "binary":
		size = max(size, 1)
		declared = fmt.Sprintf("%s(%d)", name, size)
	case "varchar", "varbinary":
		declared = fmt.Sprintf("%s(%d)", name, size)
	case "enum", "set":
		declared = labelled(name, ft.GetElems())
	case "year":
		declared = name
		if m.mariaDB {
			declared = "year(4)"
		}
	case "date", "json", "tinytext", "text", "mediumtext", "longtext", "tinyblob", "blob", "mediumblob", "longblob":
		declared = name
	case "time", "datetime", "timestamp":
		declared = name
		if scale > 0 {
			declared = fmt.Sprintf("%s(%d)", name, scale)
		}
	}
	if name == "json" && m.mariaDB {
		declared = "longtext"
	}
	return declared, live.TypeOf(name, declared, max(size, 0), precision, scale)
}
