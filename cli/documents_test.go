package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// comments returns what the code says of each field, by type and field.
func comments(t *testing.T) map[string]string {
	t.Helper()
	said := map[string]string{}
	for _, folder := range []string{"../core", "."} {
		err := filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments|parser.SkipObjectResolution)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(node ast.Node) bool {
				declared, ok := node.(*ast.TypeSpec)
				if !ok {
					return true
				}
				fields, ok := declared.Type.(*ast.StructType)
				if !ok {
					return true
				}
				for _, field := range fields.Fields.List {
					text := strings.TrimSpace(field.Comment.Text())
					if text == "" {
						text = strings.TrimSpace(field.Doc.Text())
					}
					for _, name := range field.Names {
						said[file.Name.Name+"."+declared.Name.Name+"."+name.Name] = strings.Join(strings.Fields(text), " ")
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return said
}

// describer writes tables of documents and of the types in them.
type describer struct {
	said    map[string]string
	out     bytes.Buffer
	waiting []reflect.Type
	known   map[reflect.Type]bool
}

func typeName(t reflect.Type) string {
	pkg := t.PkgPath()
	return pkg[strings.LastIndex(pkg, "/")+1:] + "." + t.Name()
}

// typeWords says what a field's value is in JSON.
func (d *describer) typeWords(t reflect.Type) string {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return "text, RFC 3339"
	case t == reflect.TypeFor[time.Duration]():
		return "number, nanoseconds"
	case t.Kind() == reflect.Pointer:
		return d.typeWords(t.Elem())
	case t.Kind() == reflect.Slice:
		return "list of " + strings.TrimPrefix(d.typeWords(t.Elem()), "a ")
	case t.Kind() == reflect.Map:
		return "object: " + d.typeWords(t.Elem()) + " by name"
	case t.Kind() == reflect.Struct:
		if !d.known[t] {
			d.known[t] = true
			d.waiting = append(d.waiting, t)
		}
		return "[" + typeName(t) + "](#" + strings.ToLower(strings.ReplaceAll(typeName(t), ".", "")) + ")"
	case t.Kind() == reflect.String:
		return "text"
	case t.Kind() == reflect.Bool:
		return "true or false"
	}
	return "number"
}

func (d *describer) table(t reflect.Type) {
	fmt.Fprint(&d.out, "| field | value | meaning |\n|---|---|---|\n")
	d.rows(t)
	fmt.Fprintln(&d.out)
}

func (d *describer) rows(t reflect.Type) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	for i := range t.NumField() {
		field := t.Field(i)
		tag := field.Tag.Get("json")
		name, options, _ := strings.Cut(tag, ",")
		switch {
		case tag == "-" || field.PkgPath != "" && !field.Anonymous:
		case field.Anonymous && tag == "":
			d.rows(field.Type)
		default:
			if name == "" {
				name = field.Name
			}
			name = "`" + name + "`"
			if strings.Contains(options, "omit") {
				name += " ?"
			}
			fmt.Fprintf(&d.out, "| %s | %s | %s |\n", name, d.typeWords(field.Type), strings.ReplaceAll(d.said[typeName(t)+"."+field.Name], "|", "\\|"))
		}
	}
}

// docs/json.md lists every document, field, type and unit, made from the types themselves.
func TestJSONIsDocumented(t *testing.T) {
	d := &describer{said: comments(t), known: map[reflect.Type]bool{}}
	fmt.Fprint(&d.out, `# The JSON documents

Every command takes `+"`--json`"+`: it prints one JSON document on standard output and nothing else there, also when it fails. Lists that are
always there are `+"`[]`"+` when empty; fields marked with ? are left out when empty. Fields that end in `+"`_ns`"+` are nanoseconds, sizes are
bytes, times are RFC 3339. This page is made from the program's types by its tests.

`)
	for _, one := range documents {
		fmt.Fprintf(&d.out, "## %s\n\n", one.commands)
		d.table(reflect.TypeOf(one.document))
	}
	fmt.Fprint(&d.out, "# The types in them\n\n")
	for len(d.waiting) > 0 {
		next := d.waiting[0]
		d.waiting = d.waiting[1:]
		fmt.Fprintf(&d.out, "## %s\n\n", typeName(next))
		d.table(next)
	}
	const file = "../docs/json.md"
	if os.Getenv("WETLAND_WRITE_DOCS") != "" {
		if err := os.WriteFile(file, d.out.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	written, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(written, d.out.Bytes()) {
		t.Errorf("%s is not what the types say. To write it anew: WETLAND_WRITE_DOCS=1 go test -run TestJSONIsDocumented ./cli", file)
	}
}

// ferrySite is the demo's site, served, with its workspace.
func ferrySite(t *testing.T) (root, packages, care, address string) {
	t.Helper()
	dir := t.TempDir()
	root, packages, care = filepath.Join(dir, "site"), filepath.Join(dir, "packages"), filepath.Join(dir, "care")
	address = testenv.Ferry(t, root, packages)
	return root, packages, care, address
}

// jsonOf runs a command with --json and decodes what it prints, strictly: no field that the
// type does not know, and none that it has and the document lacks. Its exit code must be the
// program's.
func jsonOf(t *testing.T, want int, document any, args ...string) {
	t.Helper()
	var out, errs bytes.Buffer
	code := newApp(strings.NewReader(""), &out, &errs).run(t.Context(), append(args, "--json"))
	said := fmt.Sprintf("wetland %s\n%s%s", strings.Join(args, " "), out.String(), errs.String())
	if code != want {
		t.Fatalf("exit code %d, want %d: %s", code, want, said)
	}
	into := reflect.New(reflect.TypeOf(document))
	decoder := json.NewDecoder(bytes.NewReader(out.Bytes()))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into.Interface()); err != nil || decoder.More() {
		t.Errorf("%v: %s", err, said)
		return
	}
	var again bytes.Buffer
	(&app{out: &again, errs: &again}).writeJSON(into.Elem().Interface())
	if again.String() != out.String() {
		t.Errorf("the document has not the fields of its type: %s\nagain\n%s", said, again.String())
	}
	var ended struct {
		ExitCode *int `json:"exit_code"`
	}
	if err := json.Unmarshal(out.Bytes(), &ended); err != nil || ended.ExitCode == nil || *ended.ExitCode != code {
		t.Errorf("exit_code is not %d: %s", code, said)
	}
	for line := range strings.SplitSeq(out.String(), "\n") {
		if strings.HasSuffix(strings.TrimSuffix(line, ","), ": null") {
			t.Errorf("null in it: %q: %s", line, said)
		}
	}
}

func TestJSONOfEveryCommand(t *testing.T) {
	root, packages, care, address := ferrySite(t)
	pkg := func(name string) string { return filepath.Join(packages, name+".zip") }
	in := func(args ...string) []string { return append(args, "--workspace", care) }
	shown, table := map[string]bool{}, exitCodeTable(t)
	want := func(code int, document any, args ...string) {
		t.Helper()
		shown[args[0]] = true
		if !table[args[0]][code] {
			t.Errorf("docs/exit-codes.md does not know that %s ends with %d", args[0], code)
		}
		jsonOf(t, code, document, in(args...)...)
	}
	failure := errorDocument{}
	for _, command := range []string{"survey", "shelf", "history", "recover", "smoke", "tidy", "seal", "snapshot"} {
		want(1, failure, command) // there is no workspace
	}
	want(1, failure, "adopt", filepath.Join(root, "uploads"), "--address", address)
	jsonOf(t, 2, failure, "adopt", root, "--address", address, "--workspace", filepath.Join(root, "care"))
	want(0, adoptDocument{}, "adopt", root, "--address", address, "--no-browser")
	want(2, failure, "adopt", root, "--address", address, "--no-browser")
	want(0, shelfDocument{}, "shelf")
	want(0, historyDocument{}, "history")
	want(0, nothingDocument{}, "update", "--all")
	want(0, nothingDocument{}, "recover")
	want(1, failure, "recover", "--to", "sideways")
	want(0, surveyDocument{}, "survey")
	want(1, failure, "survey", "--edits", "harbourlight")
	want(0, shelveDocument{}, "shelve", pkg("harbourlight-2.5.2"), pkg("harbourlight-2.4.1"))
	want(2, shelveDocument{}, "shelve", filepath.Join(root, "rowlock.toml"))
	want(4, shelveDocument{}, "shelve", filepath.Join(root, "rowlock.toml"), pkg("harbourlight-2.5.2"))
	want(1, failure, "shelve", filepath.Join(root, "no-such.zip"))
	want(0, editsDocument{}, "survey", "--edits", "harbourlight")
	want(0, surveyDocument{}, "survey")
	want(0, examineDocument{}, "examine", pkg("harbourlight-2.5.2"))
	want(3, examineDocument{}, "examine", pkg("harbourlight-3.0.0"))
	want(1, failure, "examine", filepath.Join(root, "rowlock.toml"))
	want(0, snapshotDocument{}, "snapshot")
	want(0, snapshotDocument{}, "snapshot", "--if-older", "2h")
	want(0, snapshotDocument{}, "verify", "snap-1")
	want(1, failure, "verify", "snap-99")
	want(0, snapshotDocument{}, "verify", "snap-1", "--bring-up")
	want(0, pinDocument{}, "pin", "snap-1")
	want(1, failure, "pin", "snap-99")
	want(0, exportDocument{}, "export", "snap-1", filepath.Join(t.TempDir(), "out"))
	want(1, failure, "export", "snap-99", filepath.Join(t.TempDir(), "out"))
	want(2, failure, "export", "snap-1", filepath.Join(root, "out"))
	want(0, planDocument{}, "update", pkg("harbourlight-2.5.2"), "--plan")
	want(2, failure, "update", pkg("harbourlight-3.0.0"), "--plan")
	want(0, runDocument{}, "update", pkg("harbourlight-2.5.2"))
	want(2, failure, "update", pkg("harbourlight-2.4.1"))
	want(4, runDocument{}, "rehearse", pkg("harbourlight-3.0.0"))
	want(3, runDocument{}, "update", pkg("harbourlight-3.0.0"), "--allow-major", "--in-doubt", "back")
	want(4, runDocument{}, "update", pkg("harbourlight-3.0.0"), "--allow-major", "--in-doubt", "keep")
	want(1, failure, "update", "nonsense")
	want(1, failure, "update", "--in-doubt", "perhaps", pkg("harbourlight-3.0.0"))
	want(1, failure, "rehearse", "nonsense")
	want(2, failure, "rehearse", pkg("harbourlight-2.4.1"))
	want(0, runDocument{}, "rehearse", pkg("enquiries-1.2.0"))
	want(0, runDocument{}, "rehearse", pkg("harbourlight-2.4.1"), "--allow-older")
	want(3, runDocument{}, "rehearse", pkg("tidetable-2.1.0"))
	want(0, runDocument{}, "report", "rehearsal-1")
	want(0, acceptDocument{}, "accept", "run-3", "--because", "it is wanted")
	want(1, failure, "accept", "run-3", "--because", "it is wanted")
	want(0, runDocument{}, "restore", "harbourlight@2.4.1")
	want(0, runDocument{}, "restore", "snap-1", "--yes")
	want(1, failure, "restore", "snap-1")
	want(1, failure, "restore", "snap-99", "--yes")
	want(0, snapshotDocument{}, "restore", "snap-1", "--into", filepath.Join(t.TempDir(), "copy"))
	want(0, runDocument{}, "report", "run-1")
	want(1, failure, "report", "run-99")
	want(1, failure, "report", "run-1", "--as", "junit")
	want(0, learnDocument{}, "smoke", "--learn")
	want(0, smokeDocument{}, "smoke")
	want(0, pagesDocument{}, "pages")
	want(0, pagesDocument{}, "pages", "leave-out", "/fares")
	want(1, failure, "pages", "leave-out", "/fares")
	want(0, pagesDocument{}, "pages", "choose")
	want(0, pagesDocument{}, "pages", "choose", "--yes")
	want(1, failure, "pages", "add", "/fares")
	want(1, failure, "pages", "add", "/nowhere-at-all")
	want(0, tidyDocument{}, "tidy")
	want(0, tidyDocument{}, "tidy", "--yes")
	want(0, historyDocument{}, "history")
	want(0, shelfDocument{}, "shelf")
	want(0, movedDocument{}, "moved", root)
	want(1, failure, "moved", filepath.Join(root, "uploads"))
	if err := os.WriteFile(filepath.Join(root, "themes/harbourlight/notices.html"), []byte("{{nonsense"), 0o644); err != nil {
		t.Fatal(err)
	}
	want(3, smokeDocument{}, "smoke")
	want(2, learnDocument{}, "smoke", "--learn")
	passphrase := filepath.Join(t.TempDir(), "passphrase")
	if err := os.WriteFile(passphrase, []byte("the boat leaves at first light\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	want(1, failure, "seal", "--with", "nonsense")
	sealed := t.TempDir() // without snapshots yet
	if err := os.CopyFS(sealed, os.DirFS(care)); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(sealed, "store")); err != nil {
		t.Fatal(err)
	}
	jsonOf(t, 0, sealDocument{}, "seal", "--with", "file "+passphrase, "--workspace", sealed)

	// Words and flags that it does not know, wherever --json stands.
	for _, args := range [][]string{{"nonsense"}, {"--json", "nonsense"}, {"update", "--nope"}, {"--json", "update"}, {"history", "too", "many"}} {
		var out, errs bytes.Buffer
		if !slices.Contains(args, "--json") {
			args = append(args, "--json")
		}
		code := newApp(strings.NewReader(""), &out, &errs).run(t.Context(), args)
		var document errorDocument
		if err := json.Unmarshal(out.Bytes(), &document); code != 1 || err != nil || document.Error == "" || document.ExitCode != 1 || errs.Len() > 0 {
			t.Errorf("%q: %d %v\n%s%s", args, code, err, out.String(), errs.String())
		}
	}
	root2 := newApp(strings.NewReader(""), &bytes.Buffer{}, &bytes.Buffer{}).command()
	for _, command := range root2.Commands() {
		if !shown[command.Name()] && !slices.Contains([]string{"demo", "completion", "help"}, command.Name()) {
			t.Errorf("the JSON of wetland %s is not looked at", command.Name())
		}
		if table[command.Name()] == nil && !slices.Contains([]string{"completion", "help"}, command.Name()) {
			t.Errorf("docs/exit-codes.md has no row for %s", command.Name())
		}
	}
}

// exitCodeTable reads the table of docs/exit-codes.md: for each command the codes with a
// meaning.
func exitCodeTable(t *testing.T) map[string]map[int]bool {
	t.Helper()
	text, err := os.ReadFile("../docs/exit-codes.md")
	if err != nil {
		t.Fatal(err)
	}
	table := map[string]map[int]bool{}
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(strings.TrimSpace(line), "|")
		if len(cells) != 9 || !strings.Contains(cells[1], "`") {
			continue
		}
		for i, name := range strings.Split(cells[1], "`") {
			if i%2 == 0 {
				continue
			}
			command := strings.Fields(name)[0]
			if table[command] == nil {
				table[command] = map[int]bool{}
			}
			for code, cell := range cells[2:8] {
				table[command][code] = table[command][code] || strings.TrimSpace(cell) != ""
			}
		}
	}
	return table
}
