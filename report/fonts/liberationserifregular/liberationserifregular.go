// Package liberationserifregular has one small font in the place of this one. Charts need the
// widths of its letters alone, and the program is four megabytes smaller.
package liberationserifregular

import "golang.org/x/image/font/gofont/goregular"

// TTF is the font.
var TTF = goregular.TTF
