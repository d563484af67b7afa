// Package cargo moves files between two trees (see [meatus/core/cargo/ends]) by plans.
//
// [Compare] tells how two trees differ. A [Plan] is what is to be done about it: what will be
// made, replaced, settled, removed or left, with reasons; it can be shown, saved and carried
// out later. [Carry] carries one out, and nothing else.
//
// It promises:
//
//   - A file never stands half under its real name: it is written beside it, proven, and put
//     in its place by one rename.
//   - What is replaced or removed is put aside first, in a folder of ours in the tree
//     ([AsideFolder]), and [Undo] brings it back.
//   - What has changed since the plan was made is left alone, and told.
//   - What was begun is written down ([Record]): after a lost line, and after a program that
//     was killed, it goes on from what had arrived.
//
// A carry costs at most 64 MiB for what is on its way, whatever is moved, and some hundred
// bytes for each name that the plan does something about.
package cargo
