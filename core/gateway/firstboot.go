package gateway

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"meatus/core/posix"
)

// FirstBoot prints a script that joins a new machine at its first start, by the token of the options or a place to write
// one.
func FirstBoot(w io.Writer, o JoinOptions) error {
	var args []string
	for _, u := range o.URLs {
		args = append(args, posix.Word(u))
	}
	for _, key := range o.HostKeys {
		args = append(args, "--host-key "+posix.Word(key))
	}
	for _, name := range slices.Sorted(maps.Keys(o.Also)) {
		args = append(args, "--also "+posix.Word(name+"="+o.Also[name]))
	}
	token := o.Token
	if token == "" {
		token = "TOKEN"
	}
	_, err := fmt.Fprintf(w, firstBootText, posix.Word(token), strings.Join(args, " "), posix.Word(o.SSH))
	return err
}

// firstBootText is a script for the first start of a machine on which this program stands in /usr/local/bin.
const firstBootText = `#!/bin/sh
# Joins this machine at a gateway. The token can be used once; it is removed when that is done.
set -eu
id meatus-join >/dev/null 2>&1 || useradd --system --no-create-home --shell /usr/sbin/nologin meatus-join
install -d -m 0700 -o meatus-join -g meatus-join /var/lib/meatus-join
umask 077
printf '%%s\n' %s > /var/lib/meatus-join/token
chown meatus-join: /var/lib/meatus-join/token
cat > /etc/systemd/system/meatus-join.service <<'UNIT'
[Unit]
Description=Joined at a gateway
After=network-online.target
Wants=network-online.target

[Service]
User=meatus-join
ExecStart=/usr/local/bin/meatus gateway join %s --ssh %s --key /var/lib/meatus-join/machine.pem --token-file /var/lib/meatus-join/token
Restart=on-failure
RestartSec=5
RestartPreventExitStatus=2 3
NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths=/var/lib/meatus-join
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
CapabilityBoundingSet=
RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK
MemoryDenyWriteExecute=yes

[Install]
WantedBy=multi-user.target
UNIT
systemctl daemon-reload
systemctl enable --now meatus-join.service
`
