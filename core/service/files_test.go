package service_test

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"meatus/core/policy"
	"meatus/core/service"
	"meatus/lab/await"
)

const somebody = "person mira key SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU\n"

func TestAPolicyIsSeenToChangeHoweverItDoes(t *testing.T) {
	path := filepath.Join(t.TempDir(), "policy")
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	allow, deny := somebody+"allow mira to reef\n", somebody+"deny  mira to reef\n"
	write(path, allow)
	f, err := service.OpenPolicy(policy.Gateway, path, nil)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); f.Follow(ctx, slog.New(slog.DiscardHandler)) }()
	defer func() { cancel(); <-done }()
	allowed := func() bool {
		return f.Get().Decide("mira", policy.Question{Machine: policy.Machine{Name: "reef"}}).Allowed
	}
	is := func(what string, want bool) {
		t.Helper()
		await.Until(t, what, func() bool { return f.Wrong() == nil && allowed() == want })
	}
	// Refused for its mode, and mended as is advised.
	write(path, deny)
	os.Chmod(path, 0o666)
	await.Until(t, "the mode to be refused", func() bool { return f.Wrong() != nil })
	if !allowed() {
		t.Error("a policy that others may write holds")
	}
	os.Chmod(path, 0o600)
	is("the mended policy to hold", false)
	// Another text of the same length with the same time, as images and copies have it.
	info, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	write(path+"2", allow)
	os.Chtimes(path+"2", info.ModTime(), info.ModTime())
	os.Rename(path+"2", path)
	is("a policy of the same time to hold", true)
	// Moved away, and back.
	os.Rename(path, path+"2")
	await.Until(t, "its lack to be told", func() bool { return f.Wrong() != nil })
	os.Rename(path+"2", path)
	is("the policy that is back to be current", true)
	// Written slowly: its first half is not taken. The half that is denied comes last.
	write(path, allow+"deny mi")
	write(path, allow+"deny mira to reef\n")
	is("the whole policy to hold", false)
}

func TestAKeyThatOthersMayUseIsUsedNoMore(t *testing.T) {
	file := filepath.Join(t.TempDir(), "own.pem")
	cert := &service.Certificate{CertFile: file, KeyFile: file}
	if err := cert.Make("gateway"); err != nil {
		t.Fatal(err)
	}
	if _, err := cert.Get(); err != nil {
		t.Fatal(err)
	}
	for _, mode := range []os.FileMode{0o620, 0o604} {
		os.Chmod(file, mode)
		await.Until(t, "the key to be refused", func() bool { _, err := cert.Get(); return err != nil && cert.Wrong() != nil })
		os.Chmod(file, 0o600)
		await.Until(t, "the key to be used again", func() bool { _, err := cert.Get(); return err == nil && cert.Wrong() == nil })
	}
}
