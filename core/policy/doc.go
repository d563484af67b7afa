// Package policy says who may reach which machines: a short text of people, groups and rules (docs/gateway.md
// has its form), read with every mistake told by its line.
//
// Nothing is allowed that no rule allows, and a rule that denies wins over every one that allows, wherever the two
// stand. A [Policy] is a value that does not change and is safe to use from many goroutines. A decision costs a
// few microseconds, whatever the length of the text: rules are found by the person and by the machine's name.
package policy
