//go:build !linux

package files

const canExchange = false

func exchange(string, string) error { return ErrUnsupported }
