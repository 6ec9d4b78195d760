package browser

import (
	"bytes"
	"image"
	_ "image/png" // pictures are PNG
)

// plainAtMost is how many bytes of PNG a picture of one colour takes for 1000 pixels, at most: it
// takes about 20. What takes more need not be unpacked.
const plainAtMost = 60

// isBlank tells of a picture that has one colour only.
func isBlank(png []byte) bool {
	config, _, err := image.DecodeConfig(bytes.NewReader(png))
	if err != nil || len(png) > 4096+config.Width*config.Height/1000*plainAtMost {
		return false
	}
	decoded, _, err := image.Decode(bytes.NewReader(png))
	if err != nil {
		return false
	}
	bounds := decoded.Bounds()
	first := decoded.At(bounds.Min.X, bounds.Min.Y)
	for y := bounds.Min.Y; y < bounds.Max.Y; y += 3 {
		for x := bounds.Min.X; x < bounds.Max.X; x += 3 {
			if decoded.At(x, y) != first {
				return false
			}
		}
	}
	return true
}
