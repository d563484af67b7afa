// Package contain keeps a panic in the part of the program it happened in: that part
// fails with an error, and everything else goes on.
//
// It promises that a report is written for each, that a report has the kind of the panic
// and the functions it went through and none of their values, so that it holds no secret,
// and that at most [MaxReports] are kept. Calling through it costs a deferred call.
package contain

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"meatus/core/atomicfile"
)

// Panic is the error that a part fails with where it panicked.
type Panic struct {
	Part   string // "the link to quay", "the shell of tide-db"
	Kind   string // what the runtime says went wrong, or the type of what was thrown
	Report string // the file with the report, "" where it could not be written
}

func (p *Panic) Error() string {
	say := fmt.Sprintf("%s ended by a fault of this program (%s)", p.Part, p.Kind)
	if p.Report == "" {
		return say
	}
	return say + "; please send its makers " + p.Report + ", which holds no secrets"
}

// MaxReports is how many reports are kept; the oldest go first.
const MaxReports = 20

// reporter is where reports go.
type reporter struct {
	dir  string
	tell func(*Panic)
}

var (
	mu        sync.Mutex
	reporters []*reporter
	known     = map[string]string{} // the report of each fault that was reported, by part and functions
)

// Report has reports written into a folder, and tell called with each panic. The
// function it returns ends that. Of several, the latest counts.
func Report(dir string, tell func(*Panic)) (end func()) {
	r := &reporter{dir, tell}
	mu.Lock()
	defer mu.Unlock()
	reporters = append(reporters, r)
	return func() {
		mu.Lock()
		defer mu.Unlock()
		reporters = slices.DeleteFunc(reporters, func(o *reporter) bool { return o == r })
	}
}

// Do calls f, and returns its error, or a [Panic] where it panicked. part says in words
// what ends by that.
func Do(part string, f func() error) (err error) {
	defer func() {
		if thrown := recover(); thrown != nil {
			err = caught(part, thrown)
		}
	}()
	return f()
}

// Go runs f in a goroutine of a group. Where it panics, ended is called with the [Panic],
// to end what f was for; it may be nil where f was for nothing else.
func Go(group *sync.WaitGroup, part string, f func(), ended func(error)) {
	group.Go(func() { Run(part, f, ended) })
}

// Run is [Go] in the goroutine that calls it.
func Run(part string, f func(), ended func(error)) {
	err := Do(part, func() error { f(); return nil })
	if err != nil && ended != nil {
		ended(err)
	}
}

// Caught is for a deferred call where f cannot be given to [Do]: it takes what recover
// returned, and returns the [Panic], nil where there was none.
func Caught(part string, thrown any) error {
	if thrown == nil {
		return nil
	}
	return caught(part, thrown)
}

func caught(part string, thrown any) *Panic {
	p := &Panic{Part: part, Kind: kind(thrown)}
	frames := stack()
	mu.Lock()
	var to *reporter
	if n := len(reporters); n > 0 {
		to = reporters[n-1]
	}
	mu.Unlock()
	if to == nil {
		return p
	}
	fault := part + "\n" + strings.Join(frames, "\n")
	mu.Lock()
	report, again := known[fault]
	mu.Unlock()
	if p.Report = report; again { // a view is drawn many times a second
		return p
	}
	p.Report = write(to.dir, p, frames)
	mu.Lock()
	if len(known) < maxKnown {
		known[fault] = p.Report
	}
	mu.Unlock()
	if to.tell != nil {
		to.tell(p)
	}
	return p
}

// kind says what was thrown. The text of a runtime error has indices and types; that of
// other values may be anything, and only its type is told.
func kind(thrown any) string {
	var fault runtime.Error
	if err, ok := thrown.(error); ok && errors.As(err, &fault) {
		return fault.Error()
	}
	if say, ok := thrown.(string); ok && strings.HasPrefix(say, "crypto/") && len(say) < 80 {
		return say // of the standard library's ciphers: "input not full blocks"
	}
	return fmt.Sprintf("%T", thrown)
}

// stack is the functions that the panic went through, without their arguments.
func stack() []string {
	var list []string
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(4, pcs)])
	for {
		f, more := frames.Next()
		list = append(list, fmt.Sprintf("%s (%s:%d)", f.Function, filepath.Base(f.File), f.Line))
		if !more {
			return list
		}
	}
}

// maxKnown bounds the faults that are reported once only.
const maxKnown = 1000

const prefix, suffix = "fault-", ".txt"

func write(dir string, p *Panic, frames []string) string {
	if os.MkdirAll(dir, 0o700) != nil {
		return ""
	}
	old, _ := filepath.Glob(filepath.Join(dir, prefix+"*"+suffix))
	slices.Sort(old)
	for len(old) >= MaxReports {
		os.Remove(old[0])
		old = old[1:]
	}
	version := ""
	if info, ok := debug.ReadBuildInfo(); ok {
		version = info.GoVersion
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				version += " " + s.Value
			}
		}
	}
	now := time.Now().UTC()
	path := filepath.Join(dir, prefix+now.Format("20060102-150405.000000")+suffix)
	text := fmt.Sprintf("meatus, %s\n%s\n%s\n\n%s\n", version, now.Format(time.RFC3339), p.Kind, strings.Join(frames, "\n"))
	if atomicfile.Write(path, []byte(text)) != nil {
		return ""
	}
	return path
}
