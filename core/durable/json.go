package durable

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// SaveJSON writes a value safely to a file: a crash leaves the old one or the new one.
func SaveJSON(file string, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := WriteFile(file, append(text, '\n')); err != nil {
		return fmt.Errorf("write %s: %w", file, err)
	}
	return nil
}

// ReadJSON reads what SaveJSON wrote.
func ReadJSON[T any](file string) (v T, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return v, err
	}
	if err := json.Unmarshal(text, &v); err != nil {
		return v, fmt.Errorf("%s is damaged: %w", file, err)
	}
	return v, nil
}

// ReadJSONIfAny is ReadJSON for a file that need not be there.
func ReadJSONIfAny[T any](file string) (T, error) {
	v, err := ReadJSON[T](file)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return v, err
}
