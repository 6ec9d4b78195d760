// Package house holds the structure of the program against what docs/architecture.md says of it.
package house

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"html"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// A floor is a row of rooms. Imports lead to a lower floor, or to another room of the same one.
type floor struct {
	name  string
	rooms []string
}

// floors are those of the house, the highest first.
var floors = []floor{
	{"what people meet", []string{"cli", "cli/screen"}},
	{"around the motions", []string{"core/adopt", "core/survey", "core/report", "core/rehearsal"}},
	{"the motions", []string{"core/recovery", "core/update", "core/restore"}},
	{"what a motion is made of", []string{"core/archive", "core/preflight", "core/surroundings", "core/deploy",
		"core/tables", "core/pagecheck", "core/shelf", "core/edits", "core/caches", "core/privatecopy"}},
	{"one operation", []string{"core/session", "core/runs"}},
	{"snapshots and packages", []string{"core/snapshot", "core/packs", "core/packages"}},
	{"pages", []string{"core/identity", "core/errorlog", "core/smoke/fetching", "core/smoke/judging", "core/smoke/reading",
		"core/smoke", "core/smoke/browser"}},
	{"the site", []string{"core/site", "core/workspace", "core/site/phppool", "core/site/cms", "core/boundary",
		"core/remote", "core/sshhost", "core/sshhost/helpers", "core/hosts", "core/confine", "core/sftphost"}},
	{"where a site lives", []string{"core/host", "core/accounts", "core/sshclient", "core/wire", "core/webfront"}},
	{"files and rows", []string{"core/database", "core/files"}},
	{"the ground", []string{"core/advice", "core/phrase", "core/journal", "core/durable", "core/scratch", "core/version",
		"core/environment", "core/network", "core/fastcgi", "core/visible", "core/progress", "core/site/traits"}},
}

// way is that of one update through the rooms, in its order.
var way = []string{
	"cli", "core/update", "core/shelf", "core/packages", "core/preflight", "core/pagecheck", "core/smoke/fetching",
	"core/snapshot",
	"core/deploy", "core/files", "core/caches", "core/smoke/judging", "core/tables", "core/runs",
}

// room is one package as it is in the code.
type room struct {
	floor   int
	lines   int      // without tests
	imports []string // of this program
}

const root = "../.."

// read reads the packages of the program: what is shipped, without demo and tests' own.
func read(t *testing.T) map[string]*room {
	t.Helper()
	rooms := map[string]*room{}
	for _, top := range []string{"cli", "core"} {
		err := filepath.WalkDir(filepath.Join(root, top), func(file string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || path.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") {
				return err
			}
			folder, err := filepath.Rel(root, filepath.Dir(file))
			folder = filepath.ToSlash(folder)
			if err != nil || strings.HasSuffix(folder, "test") { // suites that tests are made of
				return err
			}
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			parsed, err := parser.ParseFile(token.NewFileSet(), file, text, parser.ImportsOnly)
			if err != nil {
				return err
			}
			if rooms[folder] == nil {
				rooms[folder] = &room{floor: -1}
			}
			is := rooms[folder]
			is.lines += bytes.Count(text, []byte("\n"))
			for _, spec := range parsed.Imports {
				name, _ := strconv.Unquote(spec.Path.Value)
				if name, own := strings.CutPrefix(name, "wetland/"); own && !strings.HasPrefix(name, "demo") &&
					!slices.Contains(is.imports, name) {
					is.imports = append(is.imports, name)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for i, one := range floors {
		for _, name := range one.rooms {
			if rooms[name] == nil {
				t.Fatalf("there is no room %s", name)
			}
			rooms[name].floor = i
		}
	}
	return rooms
}

// Every package stands on a floor, and none leans on one that is higher.
func TestImportsLeadDownward(t *testing.T) {
	rooms := read(t)
	for name, is := range rooms {
		if is.floor < 0 {
			t.Errorf("%s stands on no floor", name)
		}
		for _, other := range is.imports {
			if rooms[other] != nil && rooms[other].floor < is.floor {
				t.Errorf("%s (%s) leans on %s (%s)", name, floors[is.floor].name, other, floors[rooms[other].floor].name)
			}
		}
	}
}

// The core can be taken out and built alone, its suites too: only its tests may use what stands
// around it.
func TestCoreStandsAlone(t *testing.T) {
	command := exec.Command("go", "list", "-deps", "./core/...")
	command.Dir = root
	out, err := command.Output()
	if err != nil {
		t.Fatal(err)
	}
	outside := regexp.MustCompile(`(?m)^(wetland/(cli|demo|e2e|internal/testenv)|.*(spf13/cobra|go-pretty|progressbar)).*$`)
	for _, name := range outside.FindAllString(string(out), -1) {
		t.Errorf("the core leans on %s", name)
	}
}

// What reaches out of the process is used in few rooms alone: all that is done to a site goes
// through its host.
var reachesOut = map[string][]string{
	"files.Local":         {"core/host"},
	"exec.Command":        {"core/host", "core/confine"},
	"exec.CommandContext": {"core/host", "core/confine", "core/session"}, // the owner's own commands, where Wetland runs
	// The core has no interface: it tells a reporter what it does, and returns how it ended.
	"os.Stdin": {}, "os.Stdout": {}, "os.Stderr": {}, "os.Exit": {}, "fmt.Print": {}, "fmt.Printf": {}, "fmt.Println": {},
	"log.Print": {}, "log.Printf": {}, "log.Println": {}, "log.Fatal": {}, "log.Fatalf": {},
	"net.Dial":        {"core/sshclient"}, // the agent of whoever sits here
	"net.DialTimeout": {},
	// pages are fetched from where Wetland runs
	"net.Dialer": {"core/confine", "core/host", "core/webfront", "core/smoke/fetching", "core/sshclient"},
}

func TestSitesAreReachedThroughTheirHost(t *testing.T) {
	inspectCore(t, func(file string, node ast.Node) {
		selector, ok := node.(*ast.SelectorExpr)
		if !ok {
			return
		}
		of, ok := selector.X.(*ast.Ident)
		if !ok {
			return
		}
		name := of.Name + "." + selector.Sel.Name
		if rooms, reaches := reachesOut[name]; reaches && !slices.Contains(rooms, path.Dir(file)) {
			t.Errorf("%s uses %s, and not the site's host", file, name)
		}
	})
}

var commandLine = regexp.MustCompile(`\bwetland [a-z]+\b`)

// What the program is told on a command line is known to cli alone: core advises operations.
func TestCoreHoldsNoCommandLines(t *testing.T) {
	inspectCore(t, func(file string, node ast.Node) {
		literal, ok := node.(*ast.BasicLit)
		if ok && literal.Kind == token.STRING && commandLine.MatchString(literal.Value) && path.Dir(file) != "core/packs" && file != "core/snapshot/manifest.go" { // whose formats begin so
			t.Errorf("%s: %s", file, literal.Value)
		}
	})
	pages, err := filepath.Glob(filepath.Join(root, "core", "*", "*.html"))
	if err != nil || len(pages) == 0 {
		t.Fatalf("no page of core is found: %v", err)
	}
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		if found := commandLine.Find(text); found != nil {
			t.Errorf("%s: %s", page, found)
		}
	}
}

// inspectCore calls look for every node of core's code, without suites and tests.
func inspectCore(t *testing.T, look func(file string, node ast.Node)) {
	t.Helper()
	err := fs.WalkDir(os.DirFS(root), "core", func(file string, _ fs.DirEntry, err error) error {
		if err != nil || path.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") ||
			strings.HasSuffix(path.Dir(file), "test") {
			return err
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), filepath.Join(root, file), nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(parsed, func(node ast.Node) bool {
			look(file, node)
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// The picture in docs is what the code is.
func TestPictureOfTheHouse(t *testing.T) {
	const file = root + "/docs/architecture.svg"
	drawn := draw(read(t))
	if os.Getenv("WETLAND_WRITE_DOCS") != "" {
		if err := os.WriteFile(file, drawn, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	stands, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(stands, drawn) {
		t.Error("docs/architecture.svg is not what the code is. To draw it anew: WETLAND_WRITE_DOCS=1 go test" +
			" ./internal/house")
	}
}

// Measures of the picture.
const (
	pageWidth  = 1280
	leftMargin = 190
	floorHigh  = 78
	boxHigh    = 40
)

type point struct{ x, y, width int }

// draw makes an SVG: a box for each room, a line for each import, a number where an update comes by.
// Sizes are given in hundreds of lines, so that it changes only when the house does.
func draw(rooms map[string]*room) []byte {
	places := place()
	var out bytes.Buffer
	fmt.Fprintf(&out, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" font-family="DejaVu Sans, Helvetica, sans-serif" font-size="12">`+"\n", pageWidth, len(floors)*floorHigh+20)
	fmt.Fprintf(&out, `<rect width="100%%" height="100%%" fill="#ffffff"/>`+"\n")
	for i, one := range floors {
		if i%2 == 0 {
			fmt.Fprintf(&out, `<rect y="%d" width="100%%" height="%d" fill="#f4f6f5"/>`+"\n", 10+i*floorHigh, floorHigh)
		}
		fmt.Fprintf(&out, `<text x="14" y="%d" fill="#40524d">%s</text>`+"\n", 10+i*floorHigh+floorHigh/2+4, one.name)
	}
	for _, one := range floors {
		for _, name := range one.rooms {
			from := places[name]
			imports := slices.Clone(rooms[name].imports)
			slices.Sort(imports)
			for _, other := range imports {
				to, known := places[other]
				if !known || rooms[other].floor == rooms[name].floor || rooms[other].floor == len(floors)-1 {
					continue // neighbours, and the ground that all stand on, would only hide the rest
				}
				fmt.Fprintf(&out, `<line x1="%d" y1="%d" x2="%d" y2="%d" stroke="#7d968f" stroke-opacity="0.35"/>`+"\n",
					from.x+from.width/2, from.y+boxHigh, to.x+to.width/2, to.y)
			}
		}
	}
	for _, one := range floors {
		for _, name := range one.rooms {
			drawBox(&out, name, places[name], rooms[name].lines)
		}
	}
	fmt.Fprintln(&out, "</svg>")
	return out.Bytes()
}

func place() map[string]point {
	places := map[string]point{}
	for i, one := range floors {
		room := (pageWidth - leftMargin - 10) / max(len(one.rooms), 3)
		for j, name := range one.rooms {
			places[name] = point{x: leftMargin + j*room, y: 10 + i*floorHigh + (floorHigh-boxHigh)/2, width: min(room-10, 170)}
		}
	}
	return places
}

func drawBox(out *bytes.Buffer, name string, at point, lines int) {
	short := path.Base(name)
	fmt.Fprintf(out, `<rect x="%d" y="%d" width="%d" height="%d" rx="4" fill="#ffffff" stroke="#40524d"/>`+"\n", at.x,
		at.y, at.width, boxHigh)
	fmt.Fprintf(out, `<text x="%d" y="%d" fill="#17211f">%s</text>`+"\n", at.x+8, at.y+17, html.EscapeString(short))
	fmt.Fprintf(out, `<text x="%d" y="%d" fill="#6b7f79" font-size="10">%s</text>`+"\n", at.x+8, at.y+32, size(lines))
	for step, one := range way {
		if one == name {
			x := at.x + at.width - 11
			fmt.Fprintf(out, `<circle cx="%d" cy="%d" r="10" fill="#0b6b57"/><text x="%d" y="%d" fill="#ffffff" font-size="11" text-anchor="middle">%d</text>`+"\n", x, at.y, x, at.y+4, step+1)
		}
	}
}

// size says how large a room is, roughly.
func size(lines int) string {
	if lines < 250 {
		return "small"
	}
	return fmt.Sprintf("about %d lines", (lines+250)/500*500)
}
