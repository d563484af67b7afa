// Package e2e drives the built program the way a person does: on the command
// line and, through tmux, on its screen; against the lab, and against the
// distribution's own SSH server as bastion and as private machine.
//
// What it needs (tmux, the SSH server, network namespaces) scripts/test
// installs. Where something is missing a test is skipped, but fails under CI.
package e2e
