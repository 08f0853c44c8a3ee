// Package draw draws a world: as SVG to be looked at, as DOT or GraphML for other
// programs.
//
//	svg := draw.SVG(model)
package draw
