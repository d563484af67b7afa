package keyfile

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/subtle"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"slices"

	"github.com/dchest/bcrypt_pbkdf"
	"golang.org/x/crypto/chacha20"

	//lint:ignore SA1019 it is the container's own construction, which no AEAD has
	"golang.org/x/crypto/poly1305"
	"golang.org/x/crypto/ssh"
)

// sealing is a cipher of the bcrypt container: how much of the derived key it takes, and
// how it opens a block. Those with a tag, which stands behind the block, tell a wrong
// passphrase or damage by it; they leave the block as it is otherwise.
type sealing struct {
	key, iv, block, tag int // in bytes
	open                func(key, iv, block, tag []byte) ([]byte, error)
}

var sealings = map[string]sealing{
	"aes128-ctr":                    {16, 16, 16, 0, byCTR},
	"aes192-ctr":                    {24, 16, 16, 0, byCTR},
	"aes256-ctr":                    {32, 16, 16, 0, byCTR},
	"aes128-cbc":                    {16, 16, 16, 0, byCBC(aes.NewCipher)},
	"aes192-cbc":                    {24, 16, 16, 0, byCBC(aes.NewCipher)},
	"aes256-cbc":                    {32, 16, 16, 0, byCBC(aes.NewCipher)},
	"3des-cbc":                      {24, 8, 8, 0, byCBC(des.NewTripleDESCipher)},
	"aes128-gcm@openssh.com":        {16, 12, 16, 16, byGCM},
	"aes256-gcm@openssh.com":        {32, 12, 16, 16, byGCM},
	"chacha20-poly1305@openssh.com": {64, 0, 8, 16, byChaCha},
}

func byCTR(key, iv, block, _ []byte) ([]byte, error) {
	c, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	plain := make([]byte, len(block))
	cipher.NewCTR(c, iv).XORKeyStream(plain, block)
	return plain, nil
}

func byCBC(newBlock func([]byte) (cipher.Block, error)) func(key, iv, block, tag []byte) ([]byte, error) {
	return func(key, iv, block, _ []byte) ([]byte, error) {
		c, err := newBlock(key)
		if err != nil {
			return nil, err
		}
		plain := make([]byte, len(block))
		cipher.NewCBCDecrypter(c, iv).CryptBlocks(plain, block)
		return plain, nil
	}
}

func byGCM(key, iv, block, tag []byte) ([]byte, error) {
	c, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	gcm, err := cipher.NewGCM(c)
	if err != nil {
		return nil, err
	}
	plain, err := gcm.Open(nil, iv, append(bytes.Clone(block), tag...), nil)
	if err != nil {
		return nil, ErrPassphrase
	}
	return plain, nil
}

// byChaCha is the construction of the transport's cipher of that name with sequence number
// 0 and no length: the first half of the key is that of the stream, whose first block
// gives the key of the tag.
func byChaCha(key, _, block, tag []byte) ([]byte, error) {
	stream, err := chacha20.NewUnauthenticatedCipher(key[:32], make([]byte, chacha20.NonceSize))
	if err != nil {
		return nil, err
	}
	var tagKey, sum [32]byte
	stream.XORKeyStream(tagKey[:], tagKey[:])
	var want [poly1305.TagSize]byte
	poly1305.Sum(&want, block, &tagKey)
	copy(sum[:], want[:])
	if subtle.ConstantTimeCompare(sum[:poly1305.TagSize], tag) != 1 {
		return nil, ErrPassphrase
	}
	stream.SetCounter(1)
	plain := make([]byte, len(block))
	stream.XORKeyStream(plain, block)
	return plain, nil
}

// unlocked is the container's inner block, opened. It fails with [ErrPassphrase], or with a [NotAKey].
func (o bcryptOuter) unlocked(passphrase []byte) ([]byte, error) {
	s, known := sealings[o.CipherName]
	switch {
	case !known:
		return nil, unread(fmt.Sprintf("its cipher %q", o.CipherName))
	case o.KdfName != "bcrypt":
		return nil, unread(fmt.Sprintf("its derivation %q", o.KdfName))
	case len(o.PrivBlock) == 0 || len(o.PrivBlock)%s.block != 0 || len(o.Tag) != s.tag:
		return nil, damaged(fmt.Errorf("%d bytes and a tag of %d", len(o.PrivBlock), len(o.Tag)))
	}
	var opts struct {
		Salt   []byte
		Rounds uint32
	}
	if err := ssh.Unmarshal([]byte(o.KdfOpts), &opts); err != nil {
		return nil, damaged(err)
	}
	derived, err := bcrypt_pbkdf.Key(passphrase, opts.Salt, int(opts.Rounds), s.key+s.iv)
	if err != nil {
		return nil, damaged(err)
	}
	defer clear(derived)
	plain, err := s.open(derived[:s.key], derived[s.key:], o.PrivBlock, o.Tag)
	if err != nil {
		return nil, err
	}
	if len(plain) < 8 || binary.BigEndian.Uint32(plain) != binary.BigEndian.Uint32(plain[4:]) {
		clear(plain)
		return nil, ErrPassphrase
	}
	return plain, nil
}

// around is the container around an open block, as one that has no passphrase.
func (o bcryptOuter) around(plain []byte) *pem.Block {
	open := bcryptOuter{CipherName: "none", KdfName: "none", NumKeys: 1, PubKey: o.PubKey, PrivBlock: plain}
	inside := ssh.Marshal(open)
	defer clear(inside)
	return &pem.Block{Type: "OPENSSH PRIVATE KEY", Bytes: slices.Concat([]byte(bcryptMagic), inside)}
}
