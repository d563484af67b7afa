package servertest

import (
	"database/sql"
	"os"
	"os/exec"
	"path/filepath"
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
	if out, err := exec.Command("chown", "postgres", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	init := exec.Command(d.as[0], append(append([]string{}, d.as[1:6]...), filepath.Join(bin, "initdb"), "-D", dir+"/data", "-A", "trust", "--no-sync", "-U", "keeper")...)
	init.Dir = dir
	if out, err := init.CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	t.Cleanup(d.Stop)
	d.Start()
	return d
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
