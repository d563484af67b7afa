package lease

import (
	"encoding/binary"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"
)

// The key revocation list, in OpenSSH's format (PROTOCOL.krl), which its server reads by RevokedKeys.
const (
	krlMagic        = 0x5353484b524c0a00 // "SSHKRL\n\0"
	krlFormat       = 1
	krlCertificates = 1    // section: certificates of one signing key
	krlSerials      = 0x20 // within it: a list of serials
)

// Revocations makes a list of leases that hold no more, by the keys that sign leases and by serial. Version is to grow
// with every list.
func Revocations(signers []ssh.PublicKey, serials []uint64, version uint64, made time.Time) []byte {
	text := func(b, s []byte) []byte { return append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...) }
	b := binary.BigEndian.AppendUint64(nil, krlMagic)
	b = binary.BigEndian.AppendUint32(b, krlFormat)
	b = binary.BigEndian.AppendUint64(b, version)
	b = binary.BigEndian.AppendUint64(b, uint64(made.Unix()))
	b = binary.BigEndian.AppendUint64(b, 0)         // flags
	b = text(b, nil)                                // reserved
	b = text(b, []byte("leases that were stopped")) // comment
	serials = slices.Clone(serials)
	slices.Sort(serials)
	serials = slices.Compact(serials)
	if len(serials) == 0 {
		return b
	}
	for _, signer := range signers {
		var list []byte
		for _, serial := range serials {
			list = binary.BigEndian.AppendUint64(list, serial)
		}
		section := text(text(nil, signer.Marshal()), nil) // the key, and what is reserved
		section = text(append(section, krlSerials), list)
		b = text(append(b, krlCertificates), section)
	}
	return b
}
