package migration_test

import (
	"context"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"widegate/internal/migration"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

const chainStart = `CREATE TABLE keeper (id {id}, name {text40} NOT NULL, phone {text40});
CREATE TABLE apiary (id {id}, keeper_id {int} NOT NULL, name {text40} NOT NULL, altitude {small}, CONSTRAINT apiary_keeper FOREIGN KEY (keeper_id) REFERENCES keeper (id));
CREATE TABLE hive (id {id}, apiary_id {int} NOT NULL, name {text40} NOT NULL, frames {small} NOT NULL DEFAULT 10, kg {dec1}, seen {date}, CONSTRAINT hive_apiary FOREIGN KEY (apiary_id) REFERENCES apiary (id));
CREATE TABLE inspection (id {id}, hive_id {int} NOT NULL, done {date}, note {text}, CONSTRAINT inspection_hive FOREIGN KEY (hive_id) REFERENCES hive (id));
CREATE VIEW hive_names AS SELECT id, name FROM hive;
`

// chainSteps are small changes, each a text that another one takes the place of.
// An empty text stands for the end.
var chainSteps = [][2]string{
	{"phone {text40}", "telephone {text40}"},
	{"telephone {text40}", "telephone {text40}, email {text40}"},
	{"CREATE VIEW", "CREATE INDEX keeper_name ON keeper (name);\nCREATE VIEW"},
	{"altitude {small}", "altitude {int}"},
	{"altitude {int}", "altitude_m {int}"},
	{"kg {dec1}", "kg {dec}"},
	{"kg {dec}", "weight_kg {dec}"},
	{"seen {date}", "seen {date}, paint {text40} DEFAULT 'none'"},
	{"CREATE VIEW", "CREATE TABLE queen (id {id}, hive_id {int} NOT NULL, marked {date}, CONSTRAINT queen_hive FOREIGN KEY (hive_id) REFERENCES hive (id));\nCREATE VIEW"},
	{"CONSTRAINT queen_hive", "CONSTRAINT queen_once UNIQUE (hive_id), CONSTRAINT queen_hive"},
	{"frames {small} NOT NULL DEFAULT 10", "frames {int} NOT NULL DEFAULT 10"},
	{"frames {int} NOT NULL DEFAULT 10", "frames {int} NOT NULL DEFAULT 12"},
	{"CONSTRAINT hive_apiary", "CONSTRAINT hive_frames CHECK (frames > 0), CONSTRAINT hive_apiary"},
	{"SELECT id, name FROM hive", "SELECT id, name, frames FROM hive"},
	{"note {text}", "note {text}, weather {text40}"},
	{"done {date}", "done_on {date}"},
	{"CREATE VIEW", "CREATE INDEX inspection_done ON inspection (done_on);\nCREATE VIEW"},
	{"note {text}", "remarks {text}"},
	{"email {text40}", "email {text}"},
	{"name {text40} NOT NULL, telephone", "name {text} NOT NULL, telephone"},
	{"CREATE INDEX keeper_name ON keeper (name);\n", ""},
	{"", "CREATE VIEW busy AS SELECT hive_id FROM inspection;\n"},
	{"CREATE TABLE queen", "CREATE TABLE forage (id {id}, name {text40} NOT NULL);\nCREATE TABLE queen"},
	{"CREATE TABLE queen", "CREATE TABLE apiary_forage (apiary_id {int} NOT NULL, forage_id {int} NOT NULL, PRIMARY KEY (apiary_id, forage_id), CONSTRAINT af_apiary FOREIGN KEY (apiary_id) REFERENCES apiary (id), CONSTRAINT af_forage FOREIGN KEY (forage_id) REFERENCES forage (id));\nCREATE TABLE queen"},
	{"name {text40} NOT NULL);\nCREATE TABLE apiary_forage", "name {text40} NOT NULL, latin {text40});\nCREATE TABLE apiary_forage"},
	{"latin {text40}", "latin_name {text40}"},
	{"altitude_m {int}", "altitude_m {int}, active {int} NOT NULL DEFAULT 1"},
	{"active {int} NOT NULL DEFAULT 1", "is_active {int} NOT NULL DEFAULT 1"},
	{"CONSTRAINT apiary_keeper", "CONSTRAINT apiary_altitude CHECK (altitude_m > -500), CONSTRAINT apiary_keeper"},
	{"weather {text40}", "weather {text40}, mites {int}"},
	{"mites {int}", "mite_count {int}"},
	{"CREATE TABLE inspection", "CREATE TABLE visit"}, {"FROM inspection", "FROM visit"},
	{"CREATE INDEX inspection_done ON inspection", "CREATE INDEX inspection_done ON visit"},
	{"paint {text40} DEFAULT 'none'", "paint {text40}"},
	{"marked {date}", "marked {date}, origin {text40}"},
	{"SELECT hive_id FROM visit", "SELECT hive_id, done_on FROM visit"},
	{"weight_kg {dec}", "weight_kg {dec}, twice {int} GENERATED ALWAYS AS (frames * 2) STORED"},
	{"CREATE VIEW hive_names", "CREATE UNIQUE INDEX hive_name ON hive (apiary_id, name);\nCREATE VIEW hive_names"},
	{"CONSTRAINT inspection_hive", "done_by {int}, CONSTRAINT visit_keeper FOREIGN KEY (done_by) REFERENCES keeper (id), CONSTRAINT inspection_hive"},
	{"telephone {text40}", "telephone {text}"},
	{"origin {text40}", "origin {text40} DEFAULT 'own'"},
	{"hive_id {int} NOT NULL, marked", "hive_id {int}, marked"},
}

const chainRows = `INSERT INTO keeper VALUES (1, 'Ada', '123'), (2, 'Bo', NULL);
INSERT INTO apiary VALUES (1, 1, 'North', 400), (2, 2, 'South', NULL);
INSERT INTO hive (id, apiary_id, name, frames, kg, seen) VALUES (1, 1, 'one', 10, 12.5, '2026-05-01'), (2, 1, 'two', 11, NULL, NULL), (3, 2, 'größte', 1, 0.1, '2026-06-30');
INSERT INTO inspection (id, hive_id, done, note) VALUES (1, 1, '2026-05-02', 'calm'), (2, 3, NULL, 'it''s wild')`

// chain are the schemas of the chain, from the first to the last.
func chain(t *testing.T) []string {
	t.Helper()
	list := []string{chainStart}
	text := chainStart
	for _, s := range chainSteps {
		if s[0] == "" {
			text += s[1]
		} else {
			require.Contains(t, text, s[0])
			text = strings.Replace(text, s[0], s[1], 1)
		}
		if s[1] == "CREATE TABLE visit" || s[1] == "FROM visit" { // one change with what follows
			continue
		}
		list = append(list, text)
	}
	return list
}

// TestAChainOfSmallSteps goes all the way up and down again, with rows.
func TestAChainOfSmallSteps(t *testing.T) {
	schemas := chain(t)
	require.GreaterOrEqual(t, len(schemas), 41)
	for _, engine := range []string{dialects.Postgres, dialects.MySQL, dialects.SQLite} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			db := open(t, engine)
			build := func(db database, text string) {
				for _, s := range sqltext.Split(&sqltext.File{Path: "x.sql", Text: spelled(engine, text)}, dialects.Of(engine)) {
					_, err := db.ExecContext(t.Context(), s.Text)
					require.NoError(t, err, s.Text)
				}
			}
			build(db, chainStart+chainRows)
			start := db.world(t)
			goals := []*catalog.Catalog{db.read(t)}
			for _, text := range schemas[1:] {
				other := open(t, engine)
				build(other, text)
				goals = append(goals, other.read(t))
			}
			step := func(i int, goal *catalog.Catalog) {
				was := db.read(t)
				s, err := draft(was, goal, migration.Options{Renames: certain(was, goal), Decide: dropsNothingElse})
				require.NoError(t, err, "step %d", i)
				require.NoError(t, s.Run(t.Context(), func(ctx context.Context, statement string) error {
					_, err := db.ExecContext(ctx, statement)
					return err
				}), "step %d\n%s", i, s.Text("step"))
				require.Equal(t, plain(t, goal), plain(t, db.read(t)), "step %d\n%s", i, s.Text("step"))
			}
			for i := 1; i < len(goals); i++ {
				step(i, goals[i])
			}
			for i := len(goals) - 2; i >= 0; i-- {
				step(-i, goals[i])
			}
			end := db.world(t)
			assert.Equal(t, start.rows, end.rows)
			assert.Equal(t, start.schema, end.schema)
			t.Logf("%s: %d steps up and down", engine, len(goals)-1)
		})
	}
}

// certain are the renames that nobody is asked about.
func certain(before, after *catalog.Catalog) []catalog.Rename {
	var list []catalog.Rename
	for _, r := range catalog.FindRenames(before, after, nil, nil) {
		if r.Confidence >= catalog.Likely {
			list = append(list, r)
		}
	}
	return list
}

// dropsNothingElse drops what came on the way up, and takes no value that is there.
func dropsNothingElse(d *migration.Decision) int {
	for i, p := range d.Proposals {
		if strings.HasPrefix(p.Title, "drop it") || strings.HasPrefix(p.Title, "the script stops") {
			return i
		}
	}
	return wants(d)
}
