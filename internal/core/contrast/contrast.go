// Package contrast tells how well one colour is read on another (WCAG 2.2, 1.4.3), and
// finds the shade of a colour that is.
package contrast

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Text is the least ratio for text.
const Text = 4.5

// A Colour has red, green and blue, from 0 to 255.
type Colour [3]uint8

// The colours of hosted pages that others are read on.
var (
	White = Colour{0xff, 0xff, 0xff}
	Paper = Colour{0xfb, 0xfa, 0xf6}
	Night = Colour{0x1d, 0x21, 0x1d}
)

// Parse reads a colour as #7a4a2a, or #742.
func Parse(text string) (c Colour, err error) {
	hex, ok := strings.CutPrefix(strings.TrimSpace(text), "#")
	if len(hex) == 3 {
		hex = string([]byte{hex[0], hex[0], hex[1], hex[1], hex[2], hex[2]})
	}
	n, wrong := strconv.ParseUint(hex, 16, 32)
	if !ok || len(hex) != 6 || wrong != nil {
		return c, fmt.Errorf("%q is no colour; it is written as #7a4a2a", text)
	}
	return Colour{uint8(n >> 16), uint8(n >> 8), uint8(n)}, nil
}

// String writes it as #7a4a2a.
func (c Colour) String() string { return fmt.Sprintf("#%02x%02x%02x", c[0], c[1], c[2]) }

// luminance is the relative luminance.
func (c Colour) luminance() float64 {
	channel := func(v uint8) float64 {
		x := float64(v) / 255
		if x <= 0.04045 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*channel(c[0]) + 0.7152*channel(c[1]) + 0.0722*channel(c[2])
}

// Ratio is the contrast of two colours, from 1 to 21.
func Ratio(a, b Colour) float64 {
	x, y := a.luminance(), b.luminance()
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

// On gives the colour itself where it is read on the other, else the nearest shade of it
// towards white, or black, that is.
func (c Colour) On(ground Colour) Colour {
	towards := White
	if ground.luminance() > 0.18 {
		towards = Colour{}
	}
	for part := 0; part < 100; part++ {
		if shade := c.mixed(towards, part); Ratio(shade, ground) >= Text {
			return shade
		}
	}
	return towards
}

// mixed is the colour with some hundredths of another.
func (c Colour) mixed(other Colour, part int) (out Colour) {
	for i := range c {
		out[i] = uint8((int(c[i])*(100-part) + int(other[i])*part) / 100)
	}
	return out
}
