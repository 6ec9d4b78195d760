package workspace

import (
	"fmt"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Every mistake in wetland.toml is told with its line, in words that need no TOML.

// lines tells where settings stand: by table and key, such as "smoke.concurrency", or
// "pages.2.path" of the second of several. A table by itself has the line of its head.
type lines map[string]int

var (
	tableHead  = regexp.MustCompile(`^\s*\[(\[?)\s*([\w.-]+)\s*\]\]?`)
	keyOfLine  = regexp.MustCompile(`^\s*([\w-]+)\s*=`)
	namedPlace = regexp.MustCompile(`^\[\[?([\w.]+)\]\]?(?: number (\d+))?:? ?(\w+)?|^(\w+) = `)
)

func linesOf(text []byte) lines {
	found := lines{}
	table := ""
	number := 0
	for line := range strings.SplitSeq(string(text), "\n") {
		number++
		if head := tableHead.FindStringSubmatch(line); head != nil {
			table = head[2]
			if head[1] != "" {
				n := 1
				for found[table+"."+strconv.Itoa(n)] > 0 {
					n++
				}
				table += "." + strconv.Itoa(n)
			}
			found[table] = number
			continue
		}
		if key := keyOfLine.FindStringSubmatch(line); key != nil {
			found[strings.TrimPrefix(table+"."+key[1], ".")] = number
		}
	}
	return found
}

// has tells whether a setting is there at all.
func (l lines) has(place string) bool { return l[place] > 0 }

// tell puts the line before a message that begins with the setting's name, as check writes
// it. Of a setting that is missing it is that of its table.
func (l lines) tell(message string) string {
	found := namedPlace.FindStringSubmatch(message)
	if found == nil {
		return message
	}
	table := found[1]
	if found[2] != "" {
		table += "." + found[2]
	}
	for _, place := range []string{strings.TrimPrefix(table+"."+found[3], "."), table, found[4]} {
		if place != "" && l[place] > 0 {
			return fmt.Sprintf("line %d: %s", l[place], message)
		}
	}
	return message
}

// decodeProblem says in words what is wrong with a value.
func decodeProblem(bad *toml.DecodeError) error {
	line, column := bad.Position()
	key := bad.Key()
	if wanted := wantedAt(reflect.TypeFor[Config](), key); wanted != "" && strings.Contains(bad.Error(), "cannot decode") {
		return fmt.Errorf("line %d: %s must be %s", line, settingName(key), wanted)
	}
	return fmt.Errorf("line %d, column %d: %s", line, column, strings.TrimPrefix(bad.Error(), "toml: "))
}

// newNames are those of settings and tables that were called otherwise.
var newNames = map[string]string{
	"files.leave_out": "[files] exclude", "smoke.at_once": "[smoke] concurrency", "smoke.patience": "[smoke] timeout", "smoke.settle": "[smoke] wait_after_swap",
	"smoke.shorter_settle": "[smoke] shorter_wait", "update.within": "[update] time_limit", "pages.within": "[[pages]] time_limit",
	"stay": "[[hold]]", "weigh": "[[severity]]", "keep_snapshots": "[retention]",
}

// unknownSetting says what to do about a setting that there is not.
func unknownSetting(key []string) string {
	name := strings.Join(key, ".")
	for _, known := range []string{name, key[0]} {
		if now := newNames[known]; now != "" {
			return fmt.Sprintf("%q is called %s now. Change the line", known, now)
		}
	}
	return fmt.Sprintf("there is no setting called %q. Fix the spelling or delete the line", name)
}

// settingName names a setting as documents do.
func settingName(key []string) string {
	if len(key) < 2 {
		return strings.Join(key, ".")
	}
	return fmt.Sprintf("[%s] %s", strings.Join(key[:len(key)-1], "."), key[len(key)-1])
}

// wantedAt says what a setting takes; "" if there is no such setting.
func wantedAt(t reflect.Type, key []string) string {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Struct {
		t = t.Elem()
	}
	if len(key) > 0 {
		if t.Kind() != reflect.Struct {
			return wantedAt(t, nil)
		}
		for i := range t.NumField() {
			if t.Field(i).Tag.Get("toml") == key[0] {
				return wantedAt(t.Field(i).Type, key[1:])
			}
		}
		return ""
	}
	switch {
	case t == reflect.TypeFor[Duration]():
		return durationForm
	case t.Kind() == reflect.Int:
		return "a whole number such as 4"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() == reflect.String:
		return "a text in quotes"
	case t.Kind() == reflect.Slice:
		return `a list of texts, such as ["a", "b"]`
	case t.Kind() == reflect.Map:
		return `names with texts, such as { log = "keeper" }`
	}
	return "a table of its own"
}

const durationForm = `a length of time with its unit, such as "20s" or "1m30s"`
