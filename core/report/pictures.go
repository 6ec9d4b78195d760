package report

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"html/template"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"image/png"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"wetland/core/smoke"
	"wetland/core/smoke/browser"
)

// views shows a page before and after, at each width. Pages without findings are shown
// only where the picture differs.
func views(before, after *smoke.Take, verdict smoke.PageVerdict) ([]View, error) {
	if before == nil || after == nil {
		return nil, nil
	}
	was, _ := before.Page(verdict.Path)
	now, _ := after.Page(verdict.Path)
	var all []View
	for _, width := range []string{"desktop", "phone"} {
		if len(verdict.Findings) == 0 && sameFile(was.Sights[width].Picture, now.Sights[width].Picture) {
			continue // as most pictures are
		}
		old, err := load(was.Sights[width].Picture)
		if err != nil {
			return nil, err
		}
		current, err := load(now.Sights[width].Picture)
		if err != nil {
			return nil, err
		}
		if old == nil && current == nil {
			continue
		}
		view := View{Width: width, Words: changedWords(was.Sights[width], now.Sights[width])}
		if old != nil && current != nil {
			var where image.Image
			again, err := load(was.Sights[width].Again)
			if err != nil {
				return nil, err
			}
			if where, view.Share, view.Moves = compare(old, again, current); view.Share > 0.1 {
				view.Differs = inline(where)
			}
		}
		if len(verdict.Findings) == 0 && view.Share < 0.5 {
			continue
		}
		if old != nil {
			view.Before = inline(old)
		}
		if current != nil {
			view.After = inline(current)
		}
		all = append(all, view)
	}
	return all, nil
}

// mostWords bounds how many changes of one view are put in words.
const mostWords = 4

// changedWords says what became of the page's height and its landmarks. A pixel or two is a
// matter of rounding.
func changedWords(was, now browser.Sight) string {
	const noticed = 3
	var words []string
	if was.Height > 0 && now.Height > 0 && far(was.Height, now.Height, noticed) {
		words = append(words, fmt.Sprintf("the page is %d pixels high, was %d", now.Height, was.Height))
	}
	for _, name := range slices.Sorted(maps.Keys(was.Boxes)) {
		before := was.Boxes[name]
		after, there := now.Boxes[name]
		switch {
		case !there:
			words = append(words, "the "+name+" does not show")
		case far(before.X, after.X, noticed) || far(before.Y, after.Y, noticed):
			words = append(words, fmt.Sprintf("the %s stands at %d, %d, was at %d, %d", name, after.X, after.Y, before.X, before.Y))
		case far(before.Width, after.Width, noticed) || far(before.Height, after.Height, noticed):
			words = append(words, fmt.Sprintf("the %s is %d x %d pixels, was %d x %d", name, after.Width, after.Height, before.Width, before.Height))
		}
	}
	if n := len(words); n > mostWords {
		words = append(words[:mostWords], fmt.Sprintf("and %d more", n-mostWords))
	}
	return strings.Join(words, "; ")
}

func far(a, b, limit int) bool { return a-b > limit || b-a > limit }

// sameFile tells whether two pictures are the same, byte for byte. What cannot be read is told by
// load.
func sameFile(a, b string) bool {
	one, err := os.ReadFile(a)
	if err != nil {
		return false
	}
	other, err := os.ReadFile(b)
	return err == nil && bytes.Equal(one, other)
}

// load reads a picture at half its size; nil if there is none any more.
func load(name string) (*image.RGBA, error) {
	if name == "" {
		return nil, nil
	}
	file, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	decoded, err := png.Decode(file)
	if err != nil {
		return nil, err
	}
	whole := image.NewRGBA(image.Rect(0, 0, decoded.Bounds().Dx(), decoded.Bounds().Dy()))
	draw.Draw(whole, whole.Rect, decoded, decoded.Bounds().Min, draw.Src)
	return half(whole), nil
}

// half makes one pixel of four.
func half(from *image.RGBA) *image.RGBA {
	out := image.NewRGBA(image.Rect(0, 0, from.Rect.Dx()/2, from.Rect.Dy()/2))
	for y := range out.Rect.Dy() {
		upper, lower := from.Pix[2*y*from.Stride:], from.Pix[(2*y+1)*from.Stride:]
		row := out.Pix[y*out.Stride:]
		for x := range out.Rect.Dx() {
			for c := range 4 { // red, green, blue, and how opaque it is
				at := 8*x + c
				row[4*x+c] = uint8((int(upper[at]) + int(upper[at+4]) + int(lower[at]) + int(lower[at+4])) / 4)
			}
		}
	}
	return out
}

const (
	blockEdge = 6  // pixels of the halved picture; smaller differences are letters' edges
	tolerance = 20 // of 255, in the mean of a block; smaller ones are shades
)

// compare marks the blocks that differ, on a pale copy of the last picture. A block
// counts as the same if one right above or below it was: a line's shift is no change. What
// differed already between two pictures of the earlier state moves by itself and is left out;
// again may be nil. The shares are in percent.
func compare(before, again, after *image.RGBA) (marked image.Image, share, moving float64) {
	width, height := max(before.Rect.Dx(), after.Rect.Dx()), max(before.Rect.Dy(), after.Rect.Dy())
	out := image.NewRGBA(image.Rect(0, 0, width, height))
	differ, moves, total := 0, 0, 0
	for y := 0; y < height; y += blockEdge {
		for x := 0; x < width; x += blockEdge {
			total++
			now, there := mean(after, x, y)
			same := false
			for _, dy := range []int{0, -blockEdge, blockEdge} {
				old, was := mean(before, x, y+dy)
				same = same || (was && there && near(old, now))
			}
			if !same && again != nil && !steady(before, again, x, y) {
				same = true
				moves++
			}
			if !same {
				differ++
			}
			paint(out, after, x, y, !same)
		}
	}
	if total == 0 {
		return out, 0, 0
	}
	return out, 100 * float64(differ) / float64(total), 100 * float64(moves) / float64(total)
}

// steady tells whether a block was the same in two pictures of one state. Blocks beside one
// that moved move, too: letters reach over edges.
func steady(a, b *image.RGBA, x, y int) bool {
	for _, d := range []image.Point{{}, {-blockEdge, 0}, {blockEdge, 0}, {0, -blockEdge}, {0, blockEdge}} {
		first, ok1 := mean(a, x+d.X, y+d.Y)
		second, ok2 := mean(b, x+d.X, y+d.Y)
		if ok1 != ok2 || ok1 && !near(first, second) {
			return false
		}
	}
	return true
}

func mean(of *image.RGBA, x, y int) (c [3]int, ok bool) {
	n := 0
	for dy := range blockEdge {
		for dx := range blockEdge {
			if at := (image.Point{x + dx, y + dy}); at.In(of.Rect) {
				p := of.RGBAAt(at.X, at.Y)
				c[0], c[1], c[2] = c[0]+int(p.R), c[1]+int(p.G), c[2]+int(p.B)
				n++
			}
		}
	}
	if n == 0 {
		return c, false
	}
	return [3]int{c[0] / n, c[1] / n, c[2] / n}, true
}

func near(a, b [3]int) bool {
	for i := range a {
		if d := a[i] - b[i]; d > tolerance || d < -tolerance {
			return false
		}
	}
	return true
}

func paint(out, after *image.RGBA, x, y int, differs bool) {
	for dy := range blockEdge {
		for dx := range blockEdge {
			at := image.Point{x + dx, y + dy}
			if !at.In(out.Rect) {
				continue
			}
			grey := uint8(225)
			if at.In(after.Rect) {
				p := after.RGBAAt(at.X, at.Y)
				grey = uint8(170 + (int(p.R)+int(p.G)+int(p.B))/9)
			}
			c := color.RGBA{grey, grey, grey, 255}
			if differs {
				c = color.RGBA{200, uint8(int(grey) * 5 / 12), uint8(int(grey) / 3), 255}
			}
			out.SetRGBA(at.X, at.Y, c)
		}
	}
}

func inline(picture image.Image) template.URL {
	var out bytes.Buffer
	if err := jpeg.Encode(&out, picture, &jpeg.Options{Quality: 72}); err != nil {
		return "" // only of a picture without pixels
	}
	return template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(out.Bytes()))
}
