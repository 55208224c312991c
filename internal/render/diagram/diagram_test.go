package diagram

import (
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/testdb/dialects"
)

func table(name string, refers ...string) *catalog.Table {
	t := &catalog.Table{Name: name, Kind: catalog.BaseTable, PrimaryKey: &catalog.Key{Columns: []string{"id"}}, Columns: []catalog.Column{
		{Name: "id", Declared: "bigint"}, {Name: "note", Declared: "character varying(200)", Nullable: true},
	}}
	for _, to := range refers {
		column := to + "_id"
		t.Columns = append(t.Columns, catalog.Column{Name: column, Declared: "bigint", Nullable: true})
		t.References = append(t.References, catalog.Reference{Columns: []string{column}, Table: to, Target: []string{"id"}})
	}
	return t
}

func bees() []*catalog.Table {
	queen := table("queen", "hive")
	queen.Uniques = []catalog.Key{{Columns: []string{"hive_id"}}}
	queen.Columns[2].Nullable = false
	view := table("yield")
	view.Kind, view.PrimaryKey = catalog.View, nil
	return []*catalog.Table{table("keeper"), table("apiary", "keeper"), table("hive", "apiary", "hive"), queen, table("visit", "hive", "keeper"), view}
}

func TestWhatIsDrawn(t *testing.T) {
	d := Of("bees", bees())
	require.Len(t, d.Boxes, 6)
	require.Len(t, d.Lines, 6)
	assert.Equal(t, Line{From: 3, To: 2, Row: 2, Columns: "hive_id", One: true}, d.Lines[3])
	assert.Equal(t, Line{From: 2, To: 2, Row: 3, Columns: "hive_id", Optional: true}, d.Lines[2])
	assert.Equal(t, Row{Name: "id", Type: "bigint", Key: true}, d.Boxes[0].Rows[0])
	assert.True(t, d.Boxes[5].View)
	only := Of("some", bees()[:2])
	assert.Len(t, only.Lines, 1)
	assert.Len(t, Of("some", bees()[1:2]).Lines, 0, "a reference that leads out of the diagram is not drawn")
}

func TestLargeDiagramsShowFewerColumns(t *testing.T) {
	wide := table("hive")
	for i := range 30 {
		wide.Columns = append(wide.Columns, catalog.Column{Name: fmt.Sprint("c", i), Declared: "text"})
	}
	assert.Equal(t, 31-shownColumns, Of("", []*catalog.Table{wide}).Boxes[0].More)
	tables := []*catalog.Table{wide}
	for i := range manyTables {
		tables = append(tables, table(fmt.Sprint("t", i)))
	}
	assert.Equal(t, 31-shownColumnsMany, Of("", tables).Boxes[0].More)
}

func TestAround(t *testing.T) {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite)}
	for _, b := range bees() {
		c.Tables = append(c.Tables, *b)
	}
	names := func(list []*catalog.Table) string {
		var all []string
		for _, t := range list {
			all = append(all, t.Name)
		}
		return strings.Join(all, " ")
	}
	assert.Equal(t, "hive queen", names(Around(c, "queen", 1)))
	assert.Equal(t, "apiary hive queen visit", names(Around(c, "queen", 2)))
	assert.Equal(t, "yield", names(Around(c, "yield", 3)))
	assert.Empty(t, Around(c, "nothing", 1))
}

// overlaps reports whether two boxes cover each other.
func overlaps(a, b *node) bool {
	return a.x < b.x+b.width && b.x < a.x+a.width && a.y < b.y+b.height && b.y < a.y+a.height
}

// TestLayoutsAreFair holds random diagrams to what can be followed: no box
// covers another, all lie inside the picture, every line has its way, and what
// is referred to stands to the left unless a cycle forbids it.
func TestLayoutsAreFair(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 5))
		var tables []*catalog.Table
		n := 1 + r.IntN(60)
		for i := range n {
			var refers []string
			for range r.IntN(4) {
				refers = append(refers, fmt.Sprint("t", r.IntN(n)))
			}
			tables = append(tables, table(fmt.Sprint("t", i), refers...))
		}
		d := Of("random", tables)
		l := d.layout()
		for i, a := range l.boxes {
			require.GreaterOrEqual(t, a.x, 0.0)
			require.GreaterOrEqual(t, a.y, margin, "seed %d", seed)
			require.LessOrEqual(t, a.x+a.width, l.width+0.001, "seed %d", seed)
			require.LessOrEqual(t, a.y+a.height, l.height+0.001, "seed %d", seed)
			for _, b := range l.boxes[:i] {
				require.False(t, overlaps(a, b), "seed %d: %s and %s", seed, d.Boxes[a.box].Name, d.Boxes[b.box].Name)
			}
		}
		require.Equal(t, len(d.Lines), len(l.routes)+len(l.loops))
		for _, route := range l.routes {
			first, last := route.nodes[0], route.nodes[len(route.nodes)-1]
			require.LessOrEqual(t, first.layer, last.layer)
			for i := 1; i < len(route.nodes)-1; i++ {
				require.Equal(t, first.layer+i, route.nodes[i].layer)
			}
		}
	}
}

func TestChainsRunToTheRight(t *testing.T) {
	d := Of("chain", []*catalog.Table{table("visit", "hive"), table("hive", "apiary"), table("apiary", "keeper"), table("keeper")})
	l := d.layout()
	for i := range 3 {
		assert.Greater(t, l.boxes[i].x, l.boxes[i+1].x, "%s stands to the right of %s", d.Boxes[i].Name, d.Boxes[i+1].Name)
	}
	for _, r := range l.routes {
		assert.False(t, r.back)
	}
}

func TestInversions(t *testing.T) {
	for range 200 {
		list := make([]int, rand.IntN(12))
		for i := range list {
			list[i] = rand.IntN(6)
		}
		want := 0
		for i := range list {
			for k := range list[:i] {
				if list[k] > list[i] {
					want++
				}
			}
		}
		require.Equal(t, want, inversions(list), "%v", list)
	}
}

// hostile names stand in every kind of text.
var hostile = []string{`a"b`, "<b>&amp;", "größe 蜂", "x\ny", "%s {{.}}", "]]>", "-->", "", "\x01", "a|b{c}"}

func hostileDiagram() *Diagram {
	var tables []*catalog.Table
	for i, h := range hostile {
		next := hostile[(i+1)%len(hostile)]
		t := table(h, next)
		t.Columns = append(t.Columns, catalog.Column{Name: h + "!", Declared: h})
		tables = append(tables, t)
	}
	return Of(hostile[0], tables)
}

func TestPicturesAreWellFormed(t *testing.T) {
	for _, d := range []*Diagram{hostileDiagram(), Of("bees", bees()), {Title: "nothing"}} {
		decoder := xml.NewDecoder(strings.NewReader(d.SVG()))
		boxes := 0
		for {
			token, err := decoder.Token()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			if start, ok := token.(xml.StartElement); ok && start.Name.Local == "rect" {
				boxes++
			}
		}
		assert.Equal(t, len(d.Boxes)+1, boxes, "one for each table, and the paper")
	}
}

func TestTextsForOtherPrograms(t *testing.T) {
	d := Of("bees", bees())
	assert.Equal(t, d.SVG(), Of("bees", bees()).SVG(), "the same every time")
	dot := d.DOT()
	assert.Contains(t, dot, "t3:c2 -> t2 [dir=both, arrowtail=tee, arrowhead=tee")
	assert.Contains(t, dot, "t2:c3 -> t2 [dir=both, arrowtail=crowodot")
	assert.Equal(t, strings.Count(dot, "{"), strings.Count(dot, "}"))
	mermaid := d.Mermaid()
	assert.Contains(t, mermaid, `  t3 |o--|| t2 : "hive_id"`)
	assert.Contains(t, mermaid, `  t2 }o--o| t2 : "hive_id"`)
	assert.Contains(t, mermaid, "    character_varying(200) note")
	for line := range strings.Lines(hostileDiagram().Mermaid()) {
		fields := strings.Fields(line)
		if strings.HasPrefix(line, "    ") {
			require.GreaterOrEqual(t, len(fields), 2, line)
			assert.Regexp(t, `^[A-Za-z][A-Za-z0-9_\-()\[\]]*$`, fields[0])
			assert.Regexp(t, `^[A-Za-z][A-Za-z0-9_\-()\[\]]*$`, fields[1])
		}
	}
}

func FuzzSVG(f *testing.F) {
	for _, h := range hostile {
		f.Add(h, h)
	}
	f.Fuzz(func(t *testing.T, name, column string) {
		one := table(name, name)
		one.Columns = append(one.Columns, catalog.Column{Name: column, Declared: column})
		decoder := xml.NewDecoder(strings.NewReader(Of(column, []*catalog.Table{one}).SVG()))
		for {
			_, err := decoder.Token()
			if err == io.EOF {
				return
			}
			require.NoError(t, err)
		}
	})
}
