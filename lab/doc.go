// Package lab holds the stand-ins that ship with the program: a bastion that
// listens on loopback, and behind it machines in a simulated network that only
// the bastion can reach.
//
// It promises that no packet leaves the machine: onward connections are joined
// to their host inside this process, and an address that is not in the lab has
// no route. Hosts speak the real protocol through the protocol library and
// check real keys; their shells, files and gauges are made up. Faults can be
// set on every host while it runs.
package lab
