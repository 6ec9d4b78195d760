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
	program := filepath.Join(t.TempDir(), "browser")
	if err := os.WriteFile(program, []byte("#!/bin/sh\nexec sleep 600\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	_, err := Start(t.Context(), Options{Program: program, Patience: time.Minute, Starting: 300 * time.Millisecond})
	if err == nil || !strings.Contains(err.Error(), "did not start within 300ms") {
		t.Errorf("%v", err)
	}
}
