package rollout

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/fault"
	"widegate/internal/read"
	"widegate/internal/sqltext"
)

// Options are what is asked of a run.
type Options struct {
	Late     bool              // scripts may run behind those that come after them
	Progress func(what string) // is told what is being run; may be nil

	connect connect // in place of the ordinary way, in tests
}

// Run runs the scripts that wait, in their order, and returns those that it ran
// to their end.
func Run(ctx context.Context, source read.Source, scripts []*Script, o Options) (ran []string, err error) {
	if o.Progress == nil {
		o.Progress = func(string) {}
	}
	if o.connect == nil {
		o.connect = read.Connect
	}
	db, err := openBy(ctx, source, o.connect)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	if db.Lock != "" { // until the session ends
		o.Progress("waiting for other runs")
		if _, err := db.Names(ctx, db.Lock); err != nil {
			return nil, fmt.Errorf("waiting for other runs: %w", err)
		}
	}
	status, err := db.look(ctx, scripts)
	if err != nil {
		return nil, err
	}
	if err := status.Refuse(o.Late); err != nil {
		return nil, err
	}
	if err := db.makeRecord(ctx); err != nil {
		return nil, err
	}
	for _, e := range status.Waiting() {
		o.Progress(e.Name)
		if err := runScript(ctx, source, scripts, e, o.connect); err != nil {
			return ran, err
		}
		ran = append(ran, e.Name)
	}
	return ran, nil
}

// Refuse returns an error for a database on which nothing should be run as it is.
func (s *Status) Refuse(late bool) error {
	if s.Foreign() {
		return fault.New("if the tables are what the scripts make, record that by `widegate apply --adopt`; otherwise name an empty database",
			"the database has %s already, and no record of the scripts that made them", tables(s.Tables))
	}
	for _, e := range s.Entries {
		switch {
		case e.State == Changed && e.Ended.IsZero():
			return fault.New("write those statements again as they were; what follows them may change", "%s was begun, and its first %d statements have changed since", e.Path, e.Done)
		case e.State == Changed:
			return fault.New("restore the file, and put the change into a new script; or record it as it is now by `widegate apply --accept "+e.Name+"`", "%s has changed since it was run on %s", e.Path, e.Ended.Format(time.DateTime))
		case e.State == Gone:
			return fault.New("restore the file, or forget it by `widegate apply --accept "+e.Name+"`", "%s was run on this database, and there is no such script now", e.Name)
		case e.State == Late && !late:
			return fault.New("give it a number behind those that have run, or run it all the same by `widegate apply --late`", "%s has not run, and scripts behind it have", e.Path)
		}
	}
	return nil
}

func tables(n int) string {
	if n == 1 {
		return "1 table"
	}
	return fmt.Sprintf("%d tables", n)
}

// runScript runs one script on a session of its own, whose settings end with it.
func runScript(ctx context.Context, source read.Source, scripts []*Script, e Entry, connect connect) error {
	db, err := openBy(ctx, source, connect)
	if err != nil {
		return err
	}
	defer db.Close()
	r := &running{database: db, script: e.Script, record: e.record}
	if e.State != Begun {
		if e.Script.whole(db.Rollout) {
			return r.whole(ctx)
		}
		if err := db.insert(ctx, e.Script); err != nil {
			return r.elsewhere(err)
		}
		r.record.hash = e.Script.hash(0)
	}
	if r.record.doing > r.record.done {
		if err := r.resolve(ctx, source, scripts); err != nil {
			return err
		}
	}
	return r.steps(ctx)
}

// running is a script that is being run.
type running struct {
	*database
	script *Script
	record record
	within bool // a transaction that the script began
}

// elsewhere explains that the record of a script cannot be made.
func (r *running) elsewhere(err error) error {
	return fault.New("run again when the other run has ended", "recording %s, which another run may have begun: %w", r.script.Name, err)
}

// whole runs the script and its record in one transaction.
func (r *running) whole(ctx context.Context) error {
	if err := r.Exec(ctx, r.Begin); err != nil {
		return fmt.Errorf("beginning %s: %w", r.script.Name, err)
	}
	err := r.insert(ctx, r.script)
	if err != nil {
		err = r.elsewhere(err)
	}
	for i := 0; err == nil && i < len(r.script.statements); i++ {
		err = r.exec(ctx, i)
	}
	if err == nil {
		err = r.save(ctx, r.script, r.all())
	}
	if err == nil {
		if err = r.Exec(ctx, "COMMIT"); err != nil {
			err = fmt.Errorf("%s: %w", r.script.Path, err)
		}
	}
	if err != nil {
		r.undo(ctx)
		return r.told(err, "nothing of the script was kept")
	}
	return nil
}

// all is the record of a script that is done.
func (r *running) all() record {
	n := len(r.script.statements)
	return record{hash: r.script.hash(n), done: n, ended: time.Now()}
}

func (r *running) undo(ctx context.Context) {
	_ = r.Exec(context.WithoutCancel(ctx), "ROLLBACK") // what it was for is told already
}

// told adds to an error what became of the script.
func (r *running) told(err error, kept string) error {
	next := fault.Next(err)
	if next == "" {
		next = "change the statement, then run again"
	}
	return fault.New(next, "%w (%s)", err, kept)
}

// exec runs a statement; its error tells the place.
func (r *running) exec(ctx context.Context, i int) error {
	st := r.script.statements[i]
	err := r.Exec(ctx, st.text)
	if err == nil || ctx.Err() != nil {
		return errors.Join(ctx.Err(), err)
	}
	line, column := st.Position(read.ErrorPlace(st.text, err))
	return fmt.Errorf("%s:%d:%d: %s: %s", st.File.Path, line, column, st.Head(), read.ErrorText(err))
}

// steps runs the statements that are not done yet, each with its record.
func (r *running) steps(ctx context.Context) error {
	for i := range r.script.statements {
		if i < r.record.done && r.script.statements[i].rank != engine.Settles {
			continue
		}
		before := r.record
		if err := r.step(ctx, i); err != nil {
			r.undo(ctx)
			r.record = before
			kept := fmt.Sprintf("%d of its %d statements are done, and a next run goes on behind them", r.record.done, len(r.script.statements))
			if r.record.done == 0 {
				kept = "nothing of the script was kept"
			}
			return r.told(err, kept)
		}
	}
	return r.save(ctx, r.script, r.all())
}

func (r *running) step(ctx context.Context, i int) error {
	rank := r.script.statements[i].rank
	switch {
	case rank == engine.Settles, i < r.record.done:
		return r.exec(ctx, i)
	case rank == engine.Begins:
		r.within = true
		if err := r.exec(ctx, i); err != nil {
			return err
		}
		return r.own(ctx)
	case rank == engine.Ends:
		if err := r.kept(ctx, i+1); err != nil {
			return err
		}
		r.within = false
		return r.exec(ctx, i)
	case rank == engine.Drops:
		if err := r.exec(ctx, i); err != nil {
			return err
		}
		r.within = r.within && !wholeRollback.MatchString(r.script.statements[i].text)
		return nil
	case rank == engine.Final:
		return r.finally(ctx, i)
	case r.within:
		return r.exec(ctx, i)
	}
	return r.alone(ctx, i)
}

// wholeRollback ends a transaction, and not only a part of it.
var wholeRollback = regexp.MustCompile(`(?i)^(abort|rollback)(\s+(work|transaction))?\s*;?\s*$`)

// alone runs a statement in a transaction with its record.
func (r *running) alone(ctx context.Context, i int) error {
	if err := r.Exec(ctx, r.Begin); err != nil {
		return err
	}
	if err := r.own(ctx); err != nil {
		return err
	}
	if err := r.exec(ctx, i); err != nil {
		return err
	}
	if err := r.kept(ctx, i+1); err != nil {
		return err
	}
	return r.Exec(ctx, "COMMIT")
}

// finally runs a statement that cannot be taken back. That it is being done is
// recorded first.
func (r *running) finally(ctx context.Context, i int) error {
	if r.within { // the server keeps what the transaction did so far
		r.record.done, r.record.hash, r.within = i, r.script.hash(i), false
	}
	r.record.doing = i + 1
	if err := r.save(ctx, r.script, r.record); err != nil {
		return err
	}
	if err := r.exec(ctx, i); err != nil {
		if ctx.Err() != nil {
			return err // it may have been done
		}
		r.record.doing = 0
		return errors.Join(err, r.save(ctx, r.script, r.record))
	}
	return r.kept(ctx, i+1)
}

func (r *running) kept(ctx context.Context, done int) error {
	r.record.done, r.record.doing, r.record.hash = done, 0, r.script.hash(done)
	return r.save(ctx, r.script, r.record)
}

// own makes sure that no other run has gone on with the script, where only the
// transaction itself keeps others out.
func (r *running) own(ctx context.Context) error {
	if r.Lock != "" {
		return nil
	}
	now, err := r.Names(ctx, "SELECT done || '' FROM "+r.database.record+" WHERE name = "+literal(r.script.Name))
	if err != nil {
		return err
	}
	if !slices.Equal(now, []string{fmt.Sprint(r.record.done)}) {
		return fault.New("run again", "another run has gone on with %s", r.script.Name)
	}
	return nil
}

// resolve finds out whether a statement at which a run was interrupted has been
// done: by comparing the schema with what the scripts make with it and without.
func (r *running) resolve(ctx context.Context, source read.Source, scripts []*Script) error {
	r.progressed(ctx, source, scripts)
	if r.record.doing == 0 {
		return r.save(ctx, r.script, r.record)
	}
	st := r.script.statements[r.record.doing-1]
	line, column := st.Position(0)
	at := fmt.Sprintf("%s:%d:%d: %s", st.File.Path, line, column, st.Head())
	return fault.New("look whether it was done; then go on by `widegate apply --begun after`, or do it again by --begun again",
		"%s: a run was interrupted here, and whether this was done cannot be told", at)
}

func (r *running) progressed(ctx context.Context, source read.Source, scripts []*Script) {
	now, err := read.Read(ctx, read.Source{Engine: source.Engine, URL: source.URL, Schemas: source.Schemas})
	if err != nil {
		return
	}
	before, err := r.made(ctx, scripts, r.record.doing-1)
	if err != nil {
		return
	}
	after, err := r.made(ctx, scripts, r.record.doing)
	if err != nil {
		return
	}
	notDone, done := len(unlike(before, now)), len(unlike(after, now))
	switch {
	case done < notDone:
		r.record.done, r.record.doing, r.record.hash = r.record.doing, 0, r.script.hash(r.record.doing)
	case notDone < done:
		r.record.doing = 0
	}
}

// unlike are the differences between what scripts say and a database. What scripts
// leave to the server is as the server says: collations, and the width in which
// integers are shown.
func unlike(scripts, live *catalog.Catalog) []catalog.Change {
	for i := range scripts.Tables {
		t := &scripts.Tables[i]
		other, ok := live.Table(t.Schema, t.Name)
		for k := range t.Columns {
			if !ok {
				break
			}
			column := &t.Columns[k]
			now, ok := other.Column(column.Name)
			if !ok {
				continue
			}
			if column.Collation == "" {
				column.Collation = now.Collation
			}
			if column.Type.Kind == catalog.Int && shownWidth.ReplaceAllString(now.Declared, "") == column.Declared {
				column.Declared = now.Declared
			}
		}
	}
	return catalog.Compare(scripts, live)
}

var shownWidth = regexp.MustCompile(`\(\d+\)`)

// made is the schema that the scripts make up to a statement of this one.
func (r *running) made(ctx context.Context, scripts []*Script, statements int) (*catalog.Catalog, error) {
	var files []*sqltext.File
	for _, s := range scripts {
		n := len(s.statements)
		if s == r.script {
			n = statements
		}
		file := &sqltext.File{Path: s.Path}
		if n > 0 {
			last := s.statements[n-1]
			file.Text = last.File.Text[:last.From+len(last.text)] + ";"
		}
		files = append(files, file)
		if s == r.script {
			break
		}
	}
	return r.kind.ReadScripts(ctx, files, nil)
}

// Settle records what a person has found out about a statement at which a run was
// interrupted: that it was done, or was not.
func Settle(ctx context.Context, source read.Source, scripts []*Script, done bool) error {
	db, err := open(ctx, source)
	if err != nil {
		return err
	}
	defer db.Close()
	status, err := db.look(ctx, scripts)
	if err != nil {
		return err
	}
	for _, e := range status.Entries {
		if e.State != Begun || e.record.doing == 0 {
			continue
		}
		r := &running{database: db, script: e.Script, record: e.record}
		if done {
			return r.kept(ctx, e.record.doing)
		}
		r.record.doing = 0
		return db.save(ctx, e.Script, r.record)
	}
	return fault.New("run `widegate apply --list` to see how the scripts stand", "no run was interrupted")
}

// Adopt records all scripts as run on a database that has what they make.
func Adopt(ctx context.Context, source read.Source, scripts []*Script) error {
	db, err := open(ctx, source)
	if err != nil {
		return err
	}
	defer db.Close()
	if err := db.differs(ctx, source, scripts); err != nil {
		return err
	}
	if err := db.makeRecord(ctx); err != nil {
		return err
	}
	return db.inOne(ctx, func() error {
		for _, s := range scripts {
			if err := db.insert(ctx, s); err != nil {
				return fmt.Errorf("recording %s: %w", s.Name, err)
			}
			if err := db.save(ctx, s, (&running{script: s}).all()); err != nil {
				return err
			}
		}
		return nil
	})
}

// inOne runs do in a transaction.
func (db *database) inOne(ctx context.Context, do func() error) error {
	if err := db.Exec(ctx, db.Begin); err != nil {
		return err
	}
	if err := do(); err != nil {
		return errors.Join(err, db.Exec(context.WithoutCancel(ctx), "ROLLBACK"))
	}
	return db.Exec(ctx, "COMMIT")
}

// mostShown is how many differences an error lists.
const mostShown = 8

func (db *database) differs(ctx context.Context, source read.Source, scripts []*Script) error {
	status, err := db.look(ctx, scripts)
	if err != nil {
		return err
	}
	if len(status.Entries) > 0 && status.Recorded {
		return fault.New("run `widegate apply --list` to see how the scripts stand", "the database has a record of its scripts already")
	}
	now, err := read.Read(ctx, read.Source{Engine: source.Engine, URL: source.URL, Schemas: source.Schemas})
	if err != nil {
		return err
	}
	want, err := read.Read(ctx, read.Source{Engine: source.Engine, DDL: source.DDL, Schemas: source.Schemas})
	if err != nil {
		return err
	}
	changes := unlike(want, now)
	if len(changes) == 0 {
		return nil
	}
	text := fmt.Sprintf("the database is not what the scripts make; %d differences:", len(changes))
	for _, c := range changes[:min(len(changes), mostShown)] {
		text += "\n" + c.String()
	}
	return fault.New("draft a script that goes from one to the other by `widegate migration`, or name another database", "%s", text)
}

// Accept takes a script as it is now: one that has changed since it was run, or
// that is not there any more.
func Accept(ctx context.Context, source read.Source, scripts []*Script, name string) error {
	db, err := open(ctx, source)
	if err != nil {
		return err
	}
	defer db.Close()
	status, err := db.look(ctx, scripts)
	if err != nil {
		return err
	}
	for _, e := range status.Entries {
		switch {
		case e.Name != name:
		case e.State == Gone:
			return db.Exec(ctx, "DELETE FROM "+db.record+" WHERE name = "+literal(name))
		case e.State == Changed && !e.Ended.IsZero():
			now := (&running{script: e.Script}).all()
			now.ended = e.Ended
			return db.save(ctx, e.Script, now)
		default:
			return fault.New("leave --accept out", "%s is %s: there is nothing to accept", name, e.State)
		}
	}
	return fault.New("run `widegate apply --list` to see the names", "there is no script %s", name)
}
