package diagram

// Layouts are held to what they promise, and their crossings against those of Graphviz; what is written is
// read by the programs that it is for.

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/declare"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// herbarium is the graph of the example.
func herbarium(t *testing.T) *Graph {
	t.Helper()
	var files []*lang.File
	groups := map[string]string{}
	for _, name := range []string{"people", "rooms", "collection"} {
		path := "../../examples/herbarium/project/models/" + name + ".erbario"
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		f, diags := lang.Parse(path, string(text))
		require.Empty(t, diags)
		for _, b := range f.Blocks {
			groups[b.Name.Name] = name
		}
		files = append(files, f)
	}
	d, diags := declare.Resolve(files, declare.Rules{}, "sqlite")
	require.False(t, lang.Errors(diags))
	return Of(d.Schema, groups)
}

// random is a schema of n tables that refer to each other as tables do: most to a few, some to themselves,
// some in circles, some to nothing.
func random(seed uint64, n int) *schema.Schema {
	r := rand.New(rand.NewPCG(seed, 7))
	s := &schema.Schema{}
	words := []string{"sheet", "cabinet", "drawer", "label", "loan", "garden", "plot", "seed", "press", "visit", "note", "room"}
	for i := range n {
		name := words[r.IntN(len(words))] + "_" + words[r.IntN(len(words))] + strconv.Itoa(i)
		t := &schema.Table{Name: name, Model: strings.ToUpper(name[:1]) + name[1:], Key: []string{"id"}}
		t.Columns = append(t.Columns, &schema.Column{Name: "id", NotNull: true, Type: schema.Type{Kind: schema.Bigint}})
		for j := range 2 + r.IntN(9) {
			t.Columns = append(t.Columns, &schema.Column{Name: words[r.IntN(len(words))] + strconv.Itoa(j), NotNull: r.IntN(3) > 0,
				Type: schema.Type{Kind: schema.Text, Length: 40}})
		}
		s.Tables = append(s.Tables, t)
	}
	for i, t := range s.Tables {
		for j := range []int{0, 1, 1, 1, 2, 2, 3, 4}[r.IntN(8)] {
			to := s.Tables[int(float64(i+1)*r.Float64()*r.Float64())]
			if r.IntN(20) == 0 {
				to = s.Tables[r.IntN(n)]
			}
			c := &schema.Column{Name: to.Name + strconv.Itoa(j) + "_id", NotNull: r.IntN(2) > 0, Type: schema.Type{Kind: schema.Bigint}}
			t.Columns = append(t.Columns, c)
			t.ForeignKeys = append(t.ForeignKeys, &schema.ForeignKey{Columns: []string{c.Name}, Table: to.Name, References: []string{"id"}})
		}
	}
	return s
}

// straight counts the crossings of straight lines from port to port, with the boxes where at says.
func straight(g *Graph, at func(b *Box) (x, y float64)) int {
	type segment struct{ ax, ay, bx, by float64 }
	var list []segment
	for _, l := range g.Lines {
		if l.From == l.To {
			continue
		}
		fx, fy := at(l.From)
		tx, ty := at(l.To)
		s := segment{fx, fy + float64(l.From.port(l.Field)), tx, ty + float64(l.To.port(l.ToField))}
		if fx < tx {
			s.ax += float64(l.From.Width)
		} else {
			s.bx += float64(l.To.Width)
		}
		list = append(list, s)
	}
	side := func(s segment, x, y float64) float64 { return (s.bx-s.ax)*(y-s.ay) - (s.by-s.ay)*(x-s.ax) }
	n := 0
	for i, a := range list {
		for _, b := range list[:i] {
			if side(a, b.ax, b.ay)*side(a, b.bx, b.by) < -1e-6 && side(b, a.ax, a.ay)*side(b, a.bx, a.by) < -1e-6 {
				n++
			}
		}
	}
	return n
}

// dotPlaces are the places that Graphviz gives the boxes, of our sizes.
func dotPlaces(t *testing.T, g *Graph) map[*Box][2]float64 {
	var w strings.Builder
	w.WriteString("digraph g { rankdir=LR; node [shape=none margin=0 fixedsize=true];\n")
	for i, b := range g.Boxes {
		var rows strings.Builder
		fmt.Fprintf(&rows, `<tr><td height="%d"></td></tr>`, headHeight)
		for j := range b.Fields {
			fmt.Fprintf(&rows, `<tr><td port="f%d" height="%d" width="%d"></td></tr>`, j, rowHeight, b.Width)
		}
		fmt.Fprintf(&w, `n%d [width=%f height=%f label=<<table border="0" cellborder="0" cellspacing="0" cellpadding="0">%s</table>>];`+"\n",
			i, float64(b.Width)/72, float64(b.Height)/72, rows.String())
	}
	for _, l := range g.Lines {
		fmt.Fprintf(&w, "n%d:f%d -> n%d:f%d;\n", slices.Index(g.Boxes, l.To), l.ToField, slices.Index(g.Boxes, l.From), l.Field)
	}
	w.WriteString("}\n")
	cmd := exec.Command("dot", "-Tjson")
	cmd.Stdin = strings.NewReader(w.String())
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	require.NoError(t, err, errs.String())
	var doc struct {
		Objects []struct{ Name, Pos string }
	}
	require.NoError(t, json.Unmarshal(out, &doc))
	places := map[*Box][2]float64{}
	for _, o := range doc.Objects {
		i, err := strconv.Atoi(strings.TrimPrefix(o.Name, "n"))
		require.NoError(t, err)
		xs, ys, _ := strings.Cut(o.Pos, ",")
		x, _ := strconv.ParseFloat(xs, 64)
		y, _ := strconv.ParseFloat(ys, 64)
		b := g.Boxes[i] // its y grows upwards, and is that of the middle
		places[b] = [2]float64{x - float64(b.Width)/2, -y - float64(b.Height)/2}
	}
	return places
}

func ours(b *Box) (x, y float64) { return float64(b.X), float64(b.Y) }

// sound holds a layout to what it promises.
func sound(t *testing.T, g *Graph) {
	t.Helper()
	for i, a := range g.Boxes {
		assert.True(t, a.X >= 0 && a.Y >= 0 && a.X+a.Width <= g.Width && a.Y+a.Height <= g.Height, "%s is outside", a.Name)
		for _, b := range g.Boxes[:i] {
			assert.False(t, a.X < b.X+b.Width && b.X < a.X+a.Width && a.Y < b.Y+b.Height && b.Y < a.Y+a.Height,
				"%s and %s overlap", a.Name, b.Name)
		}
	}
	for _, l := range g.Lines {
		require.NotEmpty(t, l.Points)
		for i := range len(l.Points) - 1 {
			p, q := l.Points[i], l.Points[i+1]
			assert.True(t, p.X == q.X || p.Y == q.Y, "%s: %v is slanting", l.Sentence(), l.Points)
			for _, b := range g.Boxes {
				assert.False(t, min(p.X, q.X) < b.X+b.Width && max(p.X, q.X) > b.X && min(p.Y, q.Y) < b.Y+b.Height && max(p.Y, q.Y) > b.Y,
					"%s: %v runs through %s", l.Sentence(), l.Points, b.Name)
			}
		}
		first, last := l.Points[0], l.Points[len(l.Points)-1]
		assert.Equal(t, l.From.Y+l.From.port(l.Field), first.Y)
		assert.InDelta(t, l.To.Y+l.To.port(l.ToField), last.Y, rowHeight/4+1)
		assert.Contains(t, []int{l.From.X, l.From.X + l.From.Width}, first.X)
		assert.Contains(t, []int{l.To.X, l.To.X + l.To.Width}, last.X)
	}
}

func TestLayout(t *testing.T) {
	graphs := []*Graph{herbarium(t)}
	for i := range 50 {
		graphs = append(graphs, Of(random(uint64(i), 4+i), nil))
	}
	var ratios []float64
	for i, g := range graphs {
		began := time.Now()
		g.Layout()
		spent := time.Since(began)
		sound(t, g)
		places := dotPlaces(t, g)
		mine, theirs := straight(g, ours), straight(g, func(b *Box) (float64, float64) { p := places[b]; return p[0], p[1] })
		t.Logf("%d: %d boxes, %d lines: %d crossings, %d of dot; %d×%d, %v", i, len(g.Boxes), len(g.Lines), mine, theirs, g.Width, g.Height,
			spent)
		assert.LessOrEqual(t, float64(mine), 1.5*float64(theirs)+3, "%d", i)
		ratios = append(ratios, float64(mine+1)/float64(theirs+1))
	}
	slices.Sort(ratios)
	assert.LessOrEqual(t, ratios[len(ratios)/2], 1.2)
	t.Log("median ratio", ratios[len(ratios)/2])
}

func TestLarge(t *testing.T) {
	g := Of(random(99, 200), nil)
	began := time.Now()
	g.Layout()
	t.Log(time.Since(began))
	sound(t, g)
	scale := min(float64(screenX)/float64(g.Width), float64(screenY)/float64(g.Height))
	t.Log(g.Width, g.Height, scale)
	for _, b := range g.Boxes {
		assert.GreaterOrEqual(t, float64(b.far)*scale, 6.0, b.Name)
	}
}

// The same gives the same bytes.
func TestSame(t *testing.T) {
	one, two := herbarium(t), herbarium(t)
	one.Layout()
	two.Layout()
	two.Layout() // again changes nothing
	for _, g := range []func(*Graph) string{
		(*Graph).SVG, (*Graph).DOT, (*Graph).Mermaid, (*Graph).JSON,
		func(g *Graph) string { return g.HTML("a <title>") }, func(g *Graph) string { return g.Markdown("a title") },
	} {
		assert.Equal(t, g(one), g(two))
		assert.True(t, Ours(g(one)))
	}
	assert.NotContains(t, one.HTML("a <title>"), "<title>a <title>")
}

func TestDOT(t *testing.T) {
	odd := &schema.Schema{Tables: []*schema.Table{{Name: `odd "name" <b> \ ü 表`, Model: "Odd", Key: []string{"a"}, Columns: []*schema.Column{
		{Name: "a", Type: schema.Type{Kind: schema.Choice, Choices: []string{"<x>", "&", `"`}}}}}}}
	for _, g := range []*Graph{herbarium(t), Of(odd, map[string]string{"Odd": "a & b"}), Of(&schema.Schema{}, nil)} {
		g.Layout()
		cmd := exec.Command("dot", "-Tsvg")
		cmd.Stdin = strings.NewReader(g.DOT())
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.NotContains(t, string(out), "Warning", "%s", g.DOT())
		assert.NoError(t, xml.Unmarshal([]byte(g.SVG()), new(struct{ XMLName xml.Name })))
	}
}

func TestOnly(t *testing.T) {
	names := func(g *Graph) (out []string) {
		for _, b := range g.Boxes {
			out = append(out, b.Name)
		}
		return out
	}
	g := herbarium(t)
	assert.Equal(t, []string{"Nobody"}, g.Only([]string{"Nobody", "loans"}, 1))
	assert.Equal(t, []string{"Borrower", "Loan", "Specimen"}, names(g))
	assert.Len(t, g.Lines, 2)
	g = herbarium(t)
	assert.Empty(t, g.Only([]string{"specimen"}, 0))
	assert.Equal(t, []string{"Specimen"}, names(g))
	assert.Empty(t, g.Lines)
}

func TestEnds(t *testing.T) {
	g := herbarium(t)
	var said []string
	for _, l := range g.Lines {
		said = append(said, l.Sentence())
	}
	assert.Contains(t, said, "each Specimen refers to no or one Collector, on delete set null")
	assert.Contains(t, said, "each Loan refers to one Borrower")
}

// The page is used by mouse and keys in a browser, and the Markdown form read by its own parser.
func TestBrowser(t *testing.T) {
	if os.Getenv("ERBARIO_BROWSER") == "" {
		t.Skip("in make matrix")
	}
	dir := t.TempDir()
	for name, g := range map[string]*Graph{"herbarium": herbarium(t), "large": Of(random(99, 200), nil)} {
		g.Layout()
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".html"), []byte(g.HTML(name)), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".mmd"), []byte(g.Mermaid()), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".svg"), []byte(g.SVG()), 0o644))
	}
	cmd := exec.Command("node", "testdata/drive.mjs", dir)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}
