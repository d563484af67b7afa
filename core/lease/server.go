package lease

import (
	"fmt"
	"io"
	"path"
	"strings"
)

// The files, beside a machine's SSH server's configuration, by which it trusts an issuer.
const (
	ConfigFile   = "meatus-lease.conf"          // the directives, which the configuration includes
	SignersFile  = "meatus-lease-signers.pub"   // the keys that sign leases, each in a line
	RevokedFile  = "meatus-lease-revoked"       // the revocation list
	HostCertFile = "meatus-lease-host-cert.pub" // the certificate of the machine's own key
)

// Directives are what a server's configuration in a folder says of an issuer, for a machine of that name there. Every
// login is known by "LOGIN@MACHINE", so that a lease holds at one machine alone.
func Directives(folder, machine string, hostCertificate bool) string {
	text := fmt.Sprintf(`# Written by meatus lease enrol: logins by leases, for the machine %s.
TrustedUserCAKeys %s
RevokedKeys %s
AuthorizedPrincipalsCommand /bin/echo %%u@%s
AuthorizedPrincipalsCommandUser nobody
`, machine, path.Join(folder, SignersFile), path.Join(folder, RevokedFile), machine)
	if hostCertificate {
		text += "HostCertificate " + path.Join(folder, HostCertFile) + "\n"
	}
	return text
}

// FirstBoot prints what a new machine runs at its first start to trust an issuer. Signers are public keys in lines.
func FirstBoot(w io.Writer, machine string, signers []string) error {
	const folder = "/etc/ssh"
	_, err := fmt.Fprintf(w, `#!/bin/sh
# Has this machine's SSH server take logins by leases, as %[1]s.
set -eu
umask 022
cat > %[2]s <<'KEYS'
%[3]s
KEYS
[ -e %[4]s ] || : > %[4]s
cat > /etc/ssh/sshd_config.d/10-%[5]s <<'CONF'
%[6]sCONF
sshd -t
systemctl reload ssh 2>/dev/null || systemctl reload sshd
`, machine, path.Join(folder, SignersFile), strings.Join(signers, "\n"), path.Join(folder, RevokedFile), ConfigFile, Directives(folder, machine, false))
	return err
}
