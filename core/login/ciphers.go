package login

import (
	"runtime"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/cpu"
)

// Ciphers lists the ciphers offered, the fastest safe one on this processor
// first: AES-GCM where it has instructions for it, else ChaCha20-Poly1305.
// BenchmarkCiphers compares them; docs/decisions.md has the result.
func Ciphers() []string {
	aes := []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM}
	chacha := []string{ssh.CipherChaCha20Poly1305}
	ctr := []string{ssh.CipherAES128CTR, ssh.CipherAES192CTR, ssh.CipherAES256CTR}
	if fastAES() {
		return append(append(aes, chacha...), ctr...)
	}
	return append(append(chacha, aes...), ctr...)
}

func fastAES() bool {
	switch runtime.GOARCH {
	case "amd64":
		return cpu.X86.HasAES && cpu.X86.HasPCLMULQDQ
	case "arm64":
		return cpu.ARM64.HasAES && cpu.ARM64.HasPMULL || runtime.GOOS == "darwin"
	case "s390x":
		return cpu.S390X.HasAES && cpu.S390X.HasAESGCM
	}
	return false
}
