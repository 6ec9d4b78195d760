package remote

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"

	"wetland/core/files"
	"wetland/core/wire"
)

// walk tells of a whole tree, and ends with a step that tells of nothing.
func walk(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	t := newTalk(r)
	top := string(args.Name)
	err := files.WalkPast(ctx, fsys, top, args.Scope.scope(), func(at string, found files.Entry) error {
		is := toEntry(found)
		return t.put(sayStep, walked{Path: []byte(at), Entry: &is})
	}, func(name string, err error) error {
		return t.put(sayStep, walked{Path: []byte(below(name, top)), Failed: failure(err)})
	})
	if err != nil {
		return err
	}
	return t.tell(sayStep, walked{})
}

// below is a name relative to the top that it was joined to.
func below(name, top string) string {
	if top = path.Clean(top); top == "." || len(name) <= len(top) {
		return name
	}
	return name[len(top)+1:]
}

// eachName hears names until no more come. The answers go out when more names have to be waited for.
func eachName(t *talk, do func(name string) error) error {
	for {
		if t.in.Buffered() == 0 {
			if err := t.flush(); err != nil {
				return err
			}
		}
		kind, name, err := t.hear()
		if errors.Is(err, io.EOF) {
			return t.flush()
		}
		if err == nil && kind != sayName {
			err = wire.ErrProtocol
		}
		if err == nil {
			err = do(string(name))
		}
		if err != nil {
			return err
		}
	}
}

// joined is a name below a top: joining alone would make good ones of some that lead out.
func joined(args request, name string) (string, error) {
	if err := files.CheckName(name); err != nil {
		return "", &fs.PathError{Op: "read", Path: name, Err: err}
	}
	return path.Join(string(args.Name), name), nil
}

// hashAll hashes the files whose names come.
func hashAll(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	t := newTalk(r)
	return eachName(t, func(name string) error {
		name, err := joined(args, name)
		var hash string
		var size int64
		if err == nil {
			hash, size, err = files.HashFile(ctx, fsys, name)
		}
		return t.put(sayResult, result{Hash: hash, Size: size, Failed: failure(err)})
	})
}

// readAll says the bytes of the files whose names come.
func readAll(ctx context.Context, fsys files.FS, r *wire.Request, args request) error {
	t := newTalk(r)
	buffer := make([]byte, 32<<10)
	return eachName(t, func(name string) error {
		name, err := joined(args, name)
		var before files.Entry
		var file io.ReadCloser
		if err == nil {
			before, file, err = open(ctx, fsys, name)
		}
		is := toEntry(before)
		if err := t.put(sayResult, result{Before: &is, Failed: failure(err)}); err != nil || file == nil {
			return err
		}
		for err == nil {
			var n int
			if n, err = file.Read(buffer); n > 0 {
				if err := t.say(sayBytes, buffer[:n]); err != nil {
					return errors.Join(err, file.Close())
				}
			}
		}
		if errors.Is(err, io.EOF) {
			err = nil
		}
		after, lookErr := fsys.Lstat(ctx, name)
		is = toEntry(after)
		return t.put(sayResult, result{After: &is, Failed: failure(errors.Join(err, lookErr, file.Close()))})
	})
}

// open opens a file, and tells what it is.
func open(ctx context.Context, fsys files.FS, name string) (before files.Entry, file io.ReadCloser, err error) {
	if before, err = fsys.Lstat(ctx, name); err != nil {
		return before, nil, err
	}
	file, err = fsys.Open(ctx, name, 0)
	return before, file, err
}
