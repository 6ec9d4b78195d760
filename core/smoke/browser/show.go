package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"

	"github.com/chromedp/chromedp"
)

// ErrNoScreen says that there is nowhere to open a window.
var ErrNoScreen = errors.New("there is no screen here to open a browser's window on")

// screens name where windows are opened, in the environment of Unix.
var screens = []string{"DISPLAY", "WAYLAND_DISPLAY"}

// HasScreen tells whether a window can be opened.
func HasScreen() bool {
	if runtime.GOOS == "windows" || runtime.GOOS == "darwin" {
		return true
	}
	for _, name := range screens {
		if os.Getenv(name) != "" {
			return true
		}
	}
	return false
}

// screenVariables are what a program needs to open a window.
func screenVariables() (all []string) {
	for _, name := range append([]string{"XAUTHORITY"}, screens...) {
		if value := os.Getenv(name); value != "" {
			all = append(all, name+"="+value)
		}
	}
	return all
}

// Show opens a window at an address, and returns when a person has closed it, or the context has ended. As
// always, the browser reaches nothing by itself, and its profile goes with it.
func Show(ctx context.Context, o Options, address string) error {
	if !HasScreen() {
		return ErrNoScreen
	}
	o.Window = true
	b, err := Start(ctx, o)
	if err != nil {
		return err
	}
	defer b.Close()
	if err := chromedp.Do(b.ctx, chromedp.Navigate(address)); err != nil && ctx.Err() == nil {
		return fmt.Errorf("show %s: %w", address, err)
	}
	select {
	case <-ctx.Done():
	case <-b.ctx.Done():
	}
	return nil
}
