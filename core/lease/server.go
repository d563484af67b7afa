package lease

import (
	"fmt"
	"io"
	"strings"
)

// Where a machine's SSH server finds what it needs to trust an issuer.
const (
	ServerConfig = "/etc/ssh/sshd_config" // begins by including the folder of the next one, as distributions have it
	Include      = "/etc/ssh/sshd_config.d/10-meatus-lease.conf"
	Signers      = "/etc/ssh/meatus-lease-signers.pub" // the keys that sign leases, each in a line
	Revoked      = "/etc/ssh/meatus-lease-revoked"     // the revocation list
	HostCert     = "/etc/ssh/meatus-host-cert.pub"
)

// Directives are what a server's configuration says of an issuer, for a machine of that name there. Every login is known
// by "LOGIN@MACHINE", so that a lease holds at one machine alone.
func Directives(machine string, hostCertificate bool) string {
	text := fmt.Sprintf(`# Written by meatus issuer enrol: logins by leases, for the machine %s.
TrustedUserCAKeys %s
RevokedKeys %s
AuthorizedPrincipalsCommand /bin/echo %%u@%s
AuthorizedPrincipalsCommandUser nobody
`, machine, Signers, Revoked, machine)
	if hostCertificate {
		text += "HostCertificate " + HostCert + "\n"
	}
	return text
}

// FirstBoot prints what a new machine runs at its first start to trust an issuer. Signers are public keys in lines.
func FirstBoot(w io.Writer, machine string, signers []string) error {
	_, err := fmt.Fprintf(w, `#!/bin/sh
# Has this machine's SSH server take logins by leases, as %[1]s.
set -eu
umask 022
cat > %[2]s <<'KEYS'
%[3]s
KEYS
[ -e %[4]s ] || : > %[4]s
cat > %[5]s <<'CONF'
%[6]sCONF
sshd -t
systemctl reload ssh 2>/dev/null || systemctl reload sshd
`, machine, Signers, strings.Join(signers, "\n"), Revoked, Include, Directives(machine, false))
	return err
}
