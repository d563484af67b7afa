// Package draw makes drawings to hand on, as SVG and PDF: the map of routes.
//
// It promises that no two stations or labels overlap, however many there are; that
// what a colour says is said by a shape and a word as well; and that text is text,
// which can be searched, with its fonts embedded in PDF. A map of hundreds of
// sessions costs some milliseconds.
package draw
