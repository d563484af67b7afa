package vouch

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// vouchMany accepts a key for many hosts at once.
func vouchMany(path, prefix string, many int, key ssh.PublicKey) error {
	r := Open(path)
	errs := make([]error, many)
	var wg sync.WaitGroup
	for i := range many {
		wg.Go(func() { errs[i] = r.Accept(At{fmt.Sprint(prefix, i), 22, ""}, key, "", time.Now()) })
	}
	wg.Wait()
	return errors.Join(errs...)
}

func TestFiveHundredFirstVisitsAtOnce(t *testing.T) {
	path := record(t).Path()
	if err := vouchMany(path, "gauge-", 500, hostKey(t)); err != nil {
		t.Fatal(err)
	}
	if hosts, err := Open(path).Hosts(); err != nil || len(hosts) != 500 {
		t.Errorf("%d hosts are vouched for, %v", len(hosts), err)
	}
}

// The other programs of [TestFiveProgramsOnOneRecord].
func TestMain(m *testing.M) {
	if path, prefix := os.Getenv("VOUCH_AT"), os.Getenv("VOUCH_AS"); path != "" {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(os.Getenv("VOUCH_KEY")))
		if err == nil {
			err = vouchMany(path, prefix, 40, key)
		}
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func TestFiveProgramsOnOneRecord(t *testing.T) {
	path := record(t).Path()
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		t.Fatal(err)
	}
	key := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(hostKey(t))))
	var wg sync.WaitGroup
	for i := range 5 {
		wg.Go(func() {
			cmd := exec.Command(os.Args[0])
			cmd.Env = append(os.Environ(), "VOUCH_AT="+path, fmt.Sprintf("VOUCH_AS=program-%d-", i), "VOUCH_KEY="+key)
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Errorf("program %d: %v, %s", i, err, out)
			}
		})
	}
	wg.Wait()
	if hosts, err := Open(path).Hosts(); err != nil || len(hosts) != 200 {
		t.Errorf("%d hosts are vouched for, %v", len(hosts), err)
	}
}
