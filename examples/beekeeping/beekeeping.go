// Package beekeeping is the example that runs through this project: the
// database of a beekeeping cooperative, as a schema in three dialects and as
// demo data of any size. The same size always gives the same data.
package beekeeping

import (
	"bytes"
	"context"
	"embed"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"strings"
	"time"

	"widegate/gate"
)

//go:embed schema/*.sql
var schemas embed.FS

// Queries are the demo's named queries, in a dialect that all engines speak.
//
//go:embed queries/cooperative.sql
var Queries string

// Tour is a program that walks through the generated store.
//
//go:embed tour.go.txt
var Tour string

// DefaultRows is the size of the demo that is easy to look at.
const DefaultRows = 400

// Schema returns the DDL script for an engine: postgres, mysql or sqlite.
func Schema(engine string) (string, error) {
	text, err := schemas.ReadFile("schema/" + engine + ".sql")
	if err != nil {
		return "", fmt.Errorf("there is no demo schema for %q", engine)
	}
	return string(text), nil
}

// CreateTables makes the tables and views in an empty database.
func CreateTables(ctx context.Context, db gate.DB) error {
	text, err := Schema(db.Engine().Name)
	if err != nil {
		return err
	}
	for _, s := range statements(text) {
		if _, err := db.Exec(ctx, s, nil); err != nil {
			return fmt.Errorf("making the demo tables: %w", err)
		}
	}
	return nil
}

// statements splits a script at the semicolons that end a line. A body between
// $$ is left whole.
func statements(script string) []string {
	var list []string
	var current strings.Builder
	inBody := false
	for line := range strings.Lines(script) {
		if strings.Count(line, "$$")%2 == 1 {
			inBody = !inBody
		}
		current.WriteString(line)
		if trimmed := strings.TrimSpace(line); strings.HasSuffix(trimmed, ";") && !inBody {
			list = append(list, strings.TrimSuffix(strings.TrimSpace(current.String()), ";"))
			current.Reset()
		}
	}
	return list
}

// Fill stores demo data in empty tables: rows inspections, and of the other
// tables in proportion.
func Fill(ctx context.Context, db gate.DB, rows int) error {
	g := newGenerator(rows)
	return gate.InTx(ctx, db, func(tx gate.DB) error {
		for _, t := range g.tables() {
			if err := t.fill(ctx, tx); err != nil {
				return fmt.Errorf("filling %s: %w", t.name, err)
			}
		}
		return nil
	})
}

// table is the data of one table: n rows, each made by its number. Keys that
// the database gives are 1 to n, since the rows arrive in order.
type table struct {
	name    string
	columns string
	n       int
	row     func(i int) []any
}

// chunk is how many rows one statement stores.
const chunk = 250

func (t table) fill(ctx context.Context, db gate.DB) error {
	width := strings.Count(t.columns, ",") + 1
	for from := 0; from < t.n; from += chunk {
		var text strings.Builder
		fmt.Fprintf(&text, "INSERT INTO %s (%s) VALUES ", t.name, t.columns)
		var args []any
		for i := from; i < min(from+chunk, t.n); i++ {
			if i > from {
				text.WriteString(", ")
			}
			text.WriteString(places(db.Engine(), len(args), width))
			args = append(args, t.row(i)...)
		}
		if _, err := db.Exec(ctx, text.String(), args); err != nil {
			return err
		}
	}
	return nil
}

// places are the placeholders of one row, after the given number of arguments.
func places(e *gate.Engine, before, width int) string {
	list := make([]string, width)
	for i := range list {
		list[i] = "?"
		if e.Numbered {
			list[i] = fmt.Sprintf("$%d", before+i+1)
		}
	}
	return "(" + strings.Join(list, ", ") + ")"
}

type generator struct {
	keepers, apiaries, hives, inspections, photos  int
	treatments, harvests, batches, parts, readings int
	photo                                          []byte
}

func newGenerator(rows int) generator {
	rows = max(rows, 20)
	return generator{
		keepers: max(rows/25, 12), apiaries: max(rows/40, 8), hives: max(rows/8, 24), inspections: rows,
		photos: rows / 20, treatments: rows / 4, harvests: rows / 2, batches: max(rows/20, 6), parts: rows / 5, readings: rows * 2,
		photo: picture(),
	}
}

// random is a source of its own for each row, so that a row does not depend on
// how many there are.
func random(table string, i int) *rand.Rand {
	var seed uint64
	for _, c := range table {
		seed = seed*31 + uint64(c)
	}
	return rand.New(rand.NewPCG(seed, uint64(i)))
}

var (
	firstNames = []string{"Clover", "Sorrel", "Basil", "Tansy", "Yarrow", "Juniper", "Bramble", "Comfrey", "Teasel", "Mallow", "Borage", "Heather"}
	lastNames  = []string{"Hedgerow", "Thicket", "Meadowgate", "Alderbank", "Millstream", "Longfurrow", "Stonewall", "Orchardside"}
	places1    = []string{"North", "South", "East", "West", "Upper", "Lower", "Old", "Far"}
	places2    = []string{"Field", "Orchard", "Heath", "Meadow", "Quarry", "Wood", "Mill", "Terrace"}
	breeds     = []string{"carnica", "buckfast", "mellifera", "ligustica"}
	markings   = []string{"white", "yellow", "red", "green", "blue"}
	tempers    = []string{"calm", "calm", "calm", "nervous", "nervous", "fierce"}
	remarks    = []string{"Calm on the comb.", "Plenty of pollen.", "Added a super.", "Drones everywhere – swarm cells removed.", "Light; fed two litres.", "Chalk brood on one frame."}
)

var epoch = time.Date(2025, time.April, 1, 0, 0, 0, 0, time.UTC)

func day(n int) string { return epoch.AddDate(0, 0, n).Format(time.DateOnly) }

func instant(minutes int) string {
	return epoch.Add(time.Duration(minutes) * time.Minute).Format(time.DateTime)
}

// cents writes a number of hundredths.
func cents(n int) string { return fmt.Sprintf("%d.%02d", n/100, n%100) }

func pick(r *rand.Rand, list []string) string { return list[r.IntN(len(list))] }

// maybe returns v, or null for one row in n.
func maybe(r *rand.Rand, n int, v any) any {
	if r.IntN(n) == 0 {
		return nil
	}
	return v
}

func numbered(name string, i, n int) string {
	if i < n {
		return name
	}
	return fmt.Sprintf("%s %d", name, i/n+1)
}

// tables are in an order in which each refers only to those before it.
func (g generator) tables() []table {
	return []table{
		{"keeper", "member_no, name, email, phone, joined_on, is_active", g.keepers, g.keeper},
		{"apiary", "keeper_id, deputy_id, name, latitude, longitude, registered_on, details, created_at", g.apiaries, g.apiary},
		{"hive", "apiary_id, split_from_id, name, temperament, frames, weight_kg, acquired_on, is_active, created_at", g.hives, g.hive},
		{"queen", "hive_id, marking, breed, hatched_on, is_clipped", g.hives * 9 / 10, g.queen},
		{"inspection", "hive_id, keeper_id, done_on, started_at, brood_frames, queen_seen, notes, measurements", g.inspections, g.inspection},
		{"inspection_photo", "inspection_id, taken_at, caption, media_type, photo", g.photos, g.inspectionPhoto},
		{"substance", "name, unit, withdrawal_days", len(substances), g.substance},
		{"treatment", "hive_id, substance_id, inspection_id, started_on, ended_on, dose", g.treatments, g.treatment},
		{"forage", "name, latin_name, blooms_from, blooms_to", len(forages), g.forage},
		{"apiary_forage", "apiary_id, forage_id", g.apiaries * 4, g.apiaryForage},
		{"harvest", "hive_id, harvested_on, weight_kg, moisture_pct", g.harvests, g.harvest},
		{"batch", "code, bottled_on, best_before, jars, jar_price", g.batches, g.batch},
		{"batch_harvest", "batch_id, harvest_id, weight_kg", g.parts, g.batchHarvest},
		{"sensor_reading", "hive_id, read_at, temperature_c, humidity_pct, weight_kg", g.readings, g.sensorReading},
	}
}

func (g generator) keeper(i int) []any {
	r := random("keeper", i)
	first, last := firstNames[i%len(firstNames)], lastNames[(i/len(firstNames)+i)%len(lastNames)]
	return []any{
		fmt.Sprintf("M-%05d", i+1), first + " " + last,
		maybe(r, 6, fmt.Sprintf("%s.%s.%d@bees.example", strings.ToLower(first), strings.ToLower(last), i+1)),
		maybe(r, 3, fmt.Sprintf("+00 555 %04d", i)), day(i*11 - 900), r.IntN(10) > 0,
	}
}

func (g generator) apiary(i int) []any {
	r := random("apiary", i)
	name := places1[i%len(places1)] + " " + places2[(i/len(places1)+i)%len(places2)]
	keeper := 1 + r.IntN(g.keepers)
	deputy := 1 + keeper%g.keepers
	return []any{
		keeper, maybe(r, 3, deputy), numbered(name, i, len(places1)*len(places2)),
		fmt.Sprintf("%.5f", 46+r.Float64()*4), fmt.Sprintf("%.5f", 8+r.Float64()*6), day(i*5 - 400),
		maybe(r, 3, fmt.Sprintf(`{"gate":"code %04d","water":%t}`, r.IntN(10000), r.IntN(2) == 0)), instant(i * 700),
	}
}

func (g generator) hive(i int) []any {
	r := random("hive", i)
	var from any
	if i >= g.hives/2 {
		from = maybe(r, 2, 1+r.IntN(i))
	}
	return []any{
		1 + i%g.apiaries, from, fmt.Sprintf("Hive %d", i+1), pick(r, tempers), 8 + r.IntN(8),
		maybe(r, 8, cents(1800+r.IntN(4000))), maybe(r, 5, day(i%300-100)), r.IntN(12) > 0, instant(i * 97),
	}
}

func (g generator) queen(i int) []any {
	r := random("queen", i)
	return []any{i + 1, maybe(r, 5, markings[i%len(markings)]), maybe(r, 6, pick(r, breeds)), day(i%400 - 420), r.IntN(4) == 0}
}

func (g generator) inspection(i int) []any {
	r := random("inspection", i)
	round := i / g.hives
	n := round*9 + r.IntN(5)
	return []any{
		1 + i%g.hives, 1 + r.IntN(g.keepers), day(n), maybe(r, 4, instant(n*24*60+8*60+r.IntN(600))), r.IntN(11),
		r.IntN(3) > 0, maybe(r, 3, pick(r, remarks)), maybe(r, 2, fmt.Sprintf(`{"varroa":%d,"mood":"%s"}`, r.IntN(12), pick(r, tempers))),
	}
}

func (g generator) inspectionPhoto(i int) []any {
	r := random("photo", i)
	return []any{1 + i*7%g.inspections, instant(i*1440 + 600), maybe(r, 2, fmt.Sprintf("Frame %d", 1+r.IntN(10))), "image/png", g.photo}
}

var substances = []struct {
	name, unit string
	days       int
}{
	{"Oxalic acid", "ml", 0}, {"Formic acid", "ml", 14}, {"Lactic acid", "ml", 7}, {"Thymol", "g", 30}, {"Sugar syrup", "l", 0}, {"Candy", "kg", 0},
}

func (g generator) substance(i int) []any {
	s := substances[i]
	return []any{s.name, s.unit, s.days}
}

func (g generator) treatment(i int) []any {
	r := random("treatment", i)
	start := r.IntN(400)
	return []any{
		1 + r.IntN(g.hives), 1 + r.IntN(len(substances)), maybe(r, 2, 1+r.IntN(g.inspections)),
		day(start), maybe(r, 4, day(start+1+r.IntN(40))), fmt.Sprintf("%d.%03d", 1+r.IntN(60), r.IntN(1000)),
	}
}

var forages = []struct {
	name, latin string
	from, to    int
}{
	{"Willow", "Salix", 3, 4}, {"Dandelion", "Taraxacum", 4, 5}, {"Fruit blossom", "", 4, 5}, {"Rapeseed", "Brassica napus", 4, 6},
	{"Black locust", "Robinia", 5, 6}, {"Bramble", "Rubus", 5, 8}, {"White clover", "Trifolium repens", 6, 9}, {"Linden", "Tilia", 6, 7},
	{"Chestnut", "Castanea", 6, 7}, {"Phacelia", "Phacelia", 6, 9}, {"Sunflower", "Helianthus", 7, 8}, {"Heather", "Calluna", 8, 9}, {"Ivy", "Hedera", 9, 10},
}

func (g generator) forage(i int) []any {
	f := forages[i]
	var latin any
	if f.latin != "" {
		latin = f.latin
	}
	return []any{f.name, latin, f.from, f.to}
}

func (g generator) apiaryForage(i int) []any {
	apiary := i / 4
	return []any{apiary + 1, 1 + (apiary*3+i%4*3)%len(forages)}
}

func (g generator) harvest(i int) []any {
	r := random("harvest", i)
	return []any{1 + i*5%g.hives, day(60 + i%90), cents(300 + r.IntN(2500)), maybe(r, 7, fmt.Sprintf("%d.%d", 15+r.IntN(4), r.IntN(10)))}
}

func (g generator) batch(i int) []any {
	r := random("batch", i)
	return []any{fmt.Sprintf("B25-%04d", i+1), day(150 + i%60), day(150 + i%60 + 730), 20 + r.IntN(200), maybe(r, 5, cents(550+r.IntN(900)))}
}

func (g generator) batchHarvest(i int) []any {
	r := random("part", i)
	return []any{1 + i%g.batches, 1 + i%g.harvests, cents(100 + r.IntN(1500))}
}

func (g generator) sensorReading(i int) []any {
	r := random("reading", i)
	hive, n := i%g.hives, i/g.hives
	return []any{
		hive + 1, instant(n*15 + hive%15), maybe(r, 20, fmt.Sprintf("%d.%d", 5+r.IntN(30), r.IntN(10))),
		maybe(r, 20, float64(r.IntN(1000))/10), maybe(r, 3, cents(1800+r.IntN(5000))),
	}
}

// picture is a small PNG of a comb.
func picture() []byte {
	img := image.NewRGBA(image.Rect(0, 0, 12, 12))
	for y := range 12 {
		for x := range 12 {
			img.Set(x, y, color.RGBA{R: 230, G: uint8(150 + 8*((x+y)%8)), B: uint8(40 * (x % 3)), A: 255})
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return nil
	}
	return b.Bytes()
}
