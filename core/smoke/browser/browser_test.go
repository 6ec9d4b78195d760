package browser

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A program that never says a word is given up.
func TestStartGivesUp(t *testing.T) {
	folder, err := os.MkdirTemp("", "wetland-test-*")
	if err == nil {
		err = os.Chmod(folder, 0o755) // root's browsers run as somebody else
	}
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(folder)
	program := filepath.Join(folder, "browser")
	if err := os.WriteFile(program, []byte("#!/bin/sh\nexec sleep 600\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	_, err = Start(t.Context(), Options{Program: program, Patience: time.Minute, Starting: 300 * time.Millisecond})
	if err == nil || !strings.Contains(err.Error(), "did not start within 300ms") {
		t.Errorf("%v", err)
	}
}
