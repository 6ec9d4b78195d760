package workspace

import (
	"reflect"
	"strings"
	"testing"
)

// Each new name of a setting is one that there is, and each old one is none any more.
func TestOldNamesLeadToNewOnes(t *testing.T) {
	for old, now := range newNames {
		key := strings.Split(strings.NewReplacer("[[", "", "]]", "", "[", "", "] ", ".", "]", "").Replace(strings.ReplaceAll(now, "]] ", ".")), ".")
		if !isSetting(reflect.TypeFor[Config](), key) {
			t.Errorf("%s is told to be %s, which there is not (%q)", old, now, key)
		}
		if isSetting(reflect.TypeFor[Config](), strings.Split(old, ".")) {
			t.Errorf("%s is there still", old)
		}
		if said := unknownSetting(strings.Split(old, ".")); !strings.Contains(said, now) {
			t.Errorf("%s: %s", old, said)
		}
	}
	if said := unknownSetting([]string{"hold", "foldr"}); !strings.Contains(said, `no setting called "hold.foldr"`) {
		t.Error(said)
	}
	if said := unknownSetting([]string{"stay", "folder"}); !strings.Contains(said, "[[hold]]") {
		t.Error(said)
	}
}

func isSetting(t reflect.Type, key []string) bool {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if len(key) == 0 {
		return true
	}
	if t.Kind() != reflect.Struct {
		return false
	}
	for i := range t.NumField() {
		if name, _, _ := strings.Cut(t.Field(i).Tag.Get("toml"), ","); name == key[0] {
			return isSetting(t.Field(i).Type, key[1:])
		}
	}
	return false
}
