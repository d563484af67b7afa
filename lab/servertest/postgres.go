package servertest

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib" // the client

	"meatus/lab/await"
)

// Database is a real PostgreSQL that listens at a socket alone.
type Database struct {
	URL  string
	t    testing.TB
	dir  string
	as   []string
	proc *exec.Cmd
}

// Postgres starts one for a test.
func Postgres(t testing.TB) *Database {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 || os.Geteuid() != 0 {
		t.Skip("PostgreSQL is not installed, or this is not the superuser; scripts/test installs it")
	}
	dir, err := os.MkdirTemp("/var/tmp", "tide")
	if err != nil {
		t.Fatal(err)
	}
	bin := filepath.Dir(found[len(found)-1])
	d := &Database{t: t, dir: dir, URL: "postgres:///postgres?user=keeper&host=" + dir, as: []string{"setpriv", "--reuid", "postgres", "--regid", "postgres", "--clear-groups", filepath.Join(bin, "postgres"), "-D", dir + "/data", "-h", "", "-k", dir, "-c", "fsync=off"}}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := own(dir); err != nil {
		t.Fatal(err)
	}
	if err := d.fill(filepath.Join(bin, "initdb")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Stop)
	d.Start()
	return d
}

// empty is the folder that holds an empty database for the tests of this process, "" where each makes its own.
var empty struct {
	dir  string
	made sync.Once
	err  error
}

// Main runs the tests of a package that have many databases: an empty one is made once, which takes a second, and copied.
func Main(m *testing.M) {
	dir, err := os.MkdirTemp("/var/tmp", "tide-empty")
	if err != nil {
		panic(err)
	}
	empty.dir = dir
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// fill puts an empty database into the folder.
func (d *Database) fill(initdb string) error {
	if empty.dir == "" {
		return d.make(initdb, d.dir)
	}
	empty.made.Do(func() {
		if empty.err = own(empty.dir); empty.err == nil {
			empty.err = d.make(initdb, empty.dir)
		}
	})
	if empty.err != nil {
		return empty.err
	}
	return run(exec.Command("cp", "-a", empty.dir+"/data", d.dir+"/data"))
}

// make makes an empty database in a folder.
func (d *Database) make(initdb, dir string) error {
	init := exec.Command(d.as[0], append(append([]string{}, d.as[1:6]...), initdb, "-D", dir+"/data", "-A", "trust", "--no-sync", "-U", "keeper")...)
	init.Dir = dir
	return run(init)
}

// own gives a folder to the account that databases run as.
func own(dir string) error { return run(exec.Command("chown", "postgres", dir)) }

func run(command *exec.Cmd) error {
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", filepath.Base(command.Path), err, out)
	}
	return nil
}

// Start starts it, and waits until it answers.
func (d *Database) Start() {
	d.t.Helper()
	d.proc = exec.Command(d.as[0], d.as[1:]...)
	d.proc.Dir = d.dir
	if err := d.proc.Start(); err != nil {
		d.t.Fatal(err)
	}
	db, err := sql.Open("pgx", d.URL)
	if err != nil {
		d.t.Fatal(err)
	}
	defer db.Close()
	await.Until(d.t, "PostgreSQL to answer", func() bool { return db.Ping() == nil })
}

// Stop ends it at once, with every connection.
func (d *Database) Stop() {
	if d.proc != nil {
		d.proc.Process.Signal(os.Interrupt) // which ends clients and then itself
		d.proc.Wait()
		d.proc = nil
	}
}
