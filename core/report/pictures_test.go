package report

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/smoke"
	"wetland/core/smoke/browser"
)

// picture is white with a dark square at each of the places.
func picture(squares ...image.Point) *image.RGBA {
	p := image.NewRGBA(image.Rect(0, 0, 240, 240))
	for y := range 240 {
		for x := range 240 {
			p.SetRGBA(x, y, color.RGBA{255, 255, 255, 255})
		}
	}
	for _, at := range squares {
		for y := range 4 * blockEdge {
			for x := range 4 * blockEdge {
				p.SetRGBA(at.X+x, at.Y+y, color.RGBA{20, 40, 60, 255})
			}
		}
	}
	return p
}

func TestComparePictures(t *testing.T) {
	banner, moved, block := image.Pt(24, 24), image.Pt(120, 24), image.Pt(24, 120)
	for _, c := range []struct {
		name           string
		before, again  *image.RGBA
		after          *image.RGBA
		differs, moves bool
	}{
		{"the same", picture(block), picture(block), picture(block), false, false},
		{"a block is gone", picture(banner, block), picture(banner, block), picture(banner), true, false},
		{"a banner that turns", picture(banner, block), picture(moved, block), picture(moved, block), false, true},
		{"a banner that turns, and a block is gone", picture(banner, block), picture(moved, block), picture(moved), true, true},
		{"nobody looked twice", picture(banner), nil, picture(moved), true, false},
		{"one row of letters lower", picture(block), picture(block), picture(block.Add(image.Pt(0, blockEdge))), false, false},
	} {
		_, share, moving := compare(c.before, c.again, c.after)
		if (share > 0.1) != c.differs || (moving > 0.1) != c.moves {
			t.Errorf("%s: %.2f differs, %.2f moves", c.name, share, moving)
		}
	}
}

func TestChangesInWords(t *testing.T) {
	was := browser.Sight{Height: 900, Boxes: map[string]browser.Box{"header": {Width: 1280, Height: 90}, "footer": {Y: 860, Width: 1280, Height: 40}, "main part": {Y: 90, Width: 800, Height: 700}}}
	now := browser.Sight{Height: 1200, Boxes: map[string]browser.Box{"header": {Width: 1280, Height: 92}, "main part": {Y: 90, Width: 400, Height: 700}}}
	for _, want := range []string{"the page is 1200 pixels high, was 900", "the footer does not show", "the main part is 400 x 700 pixels, was 800 x 700"} {
		if got := changedWords(was, now); !strings.Contains(got, want) || strings.Contains(got, "header") {
			t.Errorf("%q lacks %q", got, want)
		}
	}
	if got := changedWords(was, was); got != "" {
		t.Errorf("nothing changed: %q", got)
	}
}

// A view comes of pictures that differ; of the same one only where something was found.
func TestViews(t *testing.T) {
	dir := t.TempDir()
	save := func(name string, p *image.RGBA) string {
		var out bytes.Buffer
		if err := png.Encode(&out, p); err != nil {
			t.Fatal(err)
		}
		at := filepath.Join(dir, name)
		if err := os.WriteFile(at, out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		return at
	}
	take := func(picture string) *smoke.Take {
		return &smoke.Take{Pages: []smoke.Facts{{Path: "/", Sights: map[string]browser.Sight{"desktop": {Picture: picture}}}}}
	}
	before := take(save("before.png", picture(image.Pt(24, 24))))
	found := []smoke.Finding{{What: "a part is gone"}}
	for _, c := range []struct {
		name     string
		after    *smoke.Take
		findings []smoke.Finding
		shown    int
	}{
		{"the same, sound", take(save("same.png", picture(image.Pt(24, 24)))), nil, 0},
		{"the same, with a finding", take(save("same.png", picture(image.Pt(24, 24)))), found, 1},
		{"another, sound", take(save("other.png", picture(image.Pt(120, 120)))), nil, 1},
		{"gone, with a finding", take(filepath.Join(dir, "none.png")), found, 1},
	} {
		shown, err := views(before, c.after, smoke.PageVerdict{Path: "/", Findings: c.findings})
		if err != nil || len(shown) != c.shown {
			t.Errorf("%s: %d views, want %d: %v", c.name, len(shown), c.shown, err)
		}
	}
	halved, err := load(filepath.Join(dir, "before.png"))
	if err != nil || halved.Rect.Dx() != 120 || halved.RGBAAt(12, 12) != (color.RGBA{20, 40, 60, 255}) || halved.RGBAAt(60, 60) != (color.RGBA{255, 255, 255, 255}) {
		t.Errorf("a picture of half the size: %v %v", halved.Rect, err)
	}
}
