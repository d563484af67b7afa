package custody

import (
	"io"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile"
	"meatus/core/route"
)

// lockedKey is a key whose passphrase is asked for when a signature is wanted.
type lockedKey struct {
	custody *Custody
	file    *keyfile.File
	hop     route.Hop
	asking  Asking
}

func (k *lockedKey) PublicKey() ssh.PublicKey { return k.file.Public }

func (k *lockedKey) Algorithms() []string {
	if k.file.Public.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{k.file.Public.Type()}
}

func (k *lockedKey) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return k.SignWithAlgorithm(rand, data, k.Algorithms()[0])
}

func (k *lockedKey) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	s, err := k.custody.unlock(k.file, k.hop, k.asking)
	if err != nil {
		return nil, err
	}
	with, ok := s.(ssh.AlgorithmSigner)
	if !ok {
		return s.Sign(rand, data)
	}
	return with.SignWithAlgorithm(rand, data, algorithm)
}
