package advice

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"testing"
)

func TestAdviceInErrors(t *testing.T) {
	look, back := Run("looks again", LookAgain), Lead("Go back:", Restore, "snap-1")
	err := errors.Join(With(fmt.Errorf("one: %w", With(fs.ErrNotExist, look)), back), errors.New("two"))
	if got := Of(fmt.Errorf("all: %w", err)); !reflect.DeepEqual(got, []Step{back, look}) {
		t.Errorf("%+v", got)
	}
	if err.Error() != "one: file does not exist\ntwo" || !errors.Is(err, fs.ErrNotExist) || Of(errors.New("none")) != nil || Of(nil) != nil {
		t.Errorf("%v", err)
	}
}

func TestStepsAreReadBack(t *testing.T) {
	want := []Step{Run("goes back", Restore, "snap-1"), Lead("Or:", Recover), {Shell: "mv a b"}, Do("Fix it.")}
	text, err := json.Marshal(want)
	var got []Step
	if err == nil {
		err = json.Unmarshal(text, &got)
	}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%s\n%+v %v", text, got, err)
	}
	// Records of earlier versions have lines of text.
	if err := json.Unmarshal([]byte(`["wetland recover    goes on"]`), &got); err != nil || !reflect.DeepEqual(got, []Step{Do("wetland recover    goes on")}) {
		t.Errorf("%+v %v", got, err)
	}
}
