package sftphost

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"wetland/core/files"
)

// Nothing on the server's side holds a lock for us: a process of ours could end, or freeze, and what it holds
// would stay. So a lock is a folder in the folder that is locked, with a file named by the holder's number, whose
// time the holder renews; one that nobody renewed for as long as a Lease lasts is nobody's any more. Whoever could
// not renew his in time changes nothing more: the disk sees to that (lease.check).

// lockName is the folder of a lock, and begins the names of what is made to take one. None of them is told of when
// folders are listed.
const lockName = ".wetland-lock"

// Lease says how long a lock is held without being renewed. Times on the server are told by its own clock alone.
type Lease struct {
	Lasts time.Duration // by others it is taken for left after that
	Renew time.Duration // it is renewed so often
	// Margin is how long before its end its holder changes nothing more: what was sent last has reached the
	// server, and has ended there, by then.
	Margin time.Duration
}

// Usual is the lease of a disk that nothing else was said of.
var Usual = Lease{Lasts: 45 * time.Second, Renew: 5 * time.Second, Margin: 15 * time.Second}

// ErrLockLost says that a lock could not be renewed in time, and that nothing was changed since: somebody else may
// hold it now.
var ErrLockLost = errors.New("the lock on the site could not be renewed in time, so that nothing more is changed")

// lease is a lock that is held, or was.
type lease struct {
	lock  sync.Mutex
	place string    // of the lock; "": none is held
	until time.Time // by our own clock, which goes on evenly
	lost  bool
}

// check fails where a lock was lost.
func (l *lease) check() error {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.lost || l.place != "" && !time.Now().Before(l.until) {
		l.lost = true
		return ErrLockLost
	}
	return nil
}

// renewed notes that the lock was ours at a time.
func (l *lease) renewed(at time.Time, as Lease) {
	l.lock.Lock()
	defer l.lock.Unlock()
	l.until = at.Add(as.Lasts - as.Margin)
}

func (l *lease) lose() {
	l.lock.Lock()
	defer l.lock.Unlock()
	l.lost = true
}

// take has a lock be held at a place. One disk holds one at a time.
func (l *lease) take(place string) error {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.place != "" {
		return files.ErrLocked
	}
	l.place, l.lost, l.until = place, false, time.Time{}
	return nil
}

func (l *lease) free() {
	l.lock.Lock()
	defer l.lock.Unlock()
	l.place, l.lost = "", false
}

// Lock takes a folder, and renews that until unlock is called. All holders count: who they are is not told.
func (r *root) Lock(ctx context.Context, name string, _ func(user int) bool) (unlock func() error, err error) {
	whole, err := r.folder(ctx, "lock", name)
	if err != nil {
		return nil, err
	}
	place := path.Join(whole, lockName)
	if err := r.lease.take(place); err != nil {
		return nil, &fs.PathError{Op: "lock", Path: whole, Err: err}
	}
	file := path.Join(place, strings.ToLower(rand.Text()))
	began := time.Now()
	if err := r.takeLock(ctx, place, file); err != nil {
		r.lease.free()
		return nil, err
	}
	r.lease.renewed(began, r.Lease)
	r.sweepLocks(whole)
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		r.keepRenewing(file, stop)
	}()
	return func() error {
		close(stop)
		<-ended
		defer r.lease.free()
		if r.lease.check() != nil {
			return nil // it is not ours to give back
		}
		return errors.Join(r.remove(file), r.remove(place))
	}, nil
}

// takeLock makes the folder of a lock, and our file in it. One that nobody renewed for long is taken away first.
func (r *root) takeLock(ctx context.Context, place, file string) error {
	for range 2 {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := r.client.Mkdir(place)
		if err == nil {
			if _, err := r.learn(place); err != nil {
				return err
			}
			return r.makeFile(file)
		}
		if err = r.making("lock", place, err); !errors.Is(err, fs.ErrExist) {
			return err
		}
		if err := r.takeAway(place, path.Base(file)); err != nil {
			return err
		}
	}
	return &fs.PathError{Op: "lock", Path: place, Err: files.ErrLocked} // somebody else was faster
}

func (r *root) makeFile(file string) error {
	made, err := r.client.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return explain("lock", file, err)
	}
	return errors.Join(made.Close(), r.renew(file))
}

// renew gives our file the time that it is on the server. It is not made if it is not there: then the lock is
// somebody else's.
func (r *root) renew(file string) error {
	opened, err := r.client.OpenFile(file, os.O_WRONLY)
	if err != nil {
		return explain("renew the lock", file, err)
	}
	_, err = opened.Write([]byte("This is renewed as long as Wetland works on the site.\n"))
	return errors.Join(err, opened.Close())
}

func (r *root) keepRenewing(file string, stop <-chan struct{}) {
	next := time.NewTicker(r.Lease.Renew)
	defer next.Stop()
	for {
		select {
		case <-stop:
			return
		case <-next.C:
		}
		began := time.Now()
		switch err := r.renew(file); {
		case err == nil && r.lease.check() == nil: // one that is lost stays so
			r.lease.renewed(began, r.Lease)
		case errors.Is(err, fs.ErrNotExist):
			r.lease.lose()
			return
		}
	}
}

// left is what is known of a lock that is there.
type left struct {
	names []string
	last  time.Time // that it was renewed, by the server's clock
}

func (r *root) lookAtLock(place string) (is left, err error) {
	folder, err := r.client.Lstat(place)
	if err != nil {
		return is, explain("lock", place, err)
	}
	is.last = folder.ModTime()
	infos, err := r.client.ReadDir(place)
	if err != nil {
		return is, explain("lock", place, err)
	}
	for _, info := range infos {
		is.names = append(is.names, info.Name())
		if info.ModTime().After(is.last) {
			is.last = info.ModTime()
		}
	}
	slices.Sort(is.names)
	return is, nil
}

// takeAway takes a lock away that nobody renewed for as long as one lasts. It is moved aside first, which one alone
// can do, and looked at once more there: whoever renewed it meanwhile gets it back.
func (r *root) takeAway(place, own string) error {
	is, err := r.lookAtLock(place)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // it was given back just now
	}
	if err != nil {
		return err
	}
	now, err := r.try("ask for the time in", path.Dir(place))
	if err != nil {
		return err
	}
	if age := now.Sub(is.last); age <= r.Lease.Lasts {
		return &fs.PathError{Op: "lock", Path: path.Dir(place), Err: &files.LeaseError{Age: max(age, 0), Lasts: r.Lease.Lasts}}
	}
	aside := place + "-" + own
	if err := r.client.Rename(place, aside); err != nil {
		return gone(explain("lock", place, err))
	}
	again, err := r.lookAtLock(aside)
	if err != nil {
		return gone(err) // whoever took the lock meanwhile clears up
	}
	if !slices.Equal(again.names, is.names) || !again.last.Equal(is.last) {
		if err := r.client.Rename(aside, place); err != nil {
			return explain("give back the lock", place, err)
		}
		return &fs.PathError{Op: "lock", Path: path.Dir(place), Err: files.ErrLocked}
	}
	return gone(r.removeLock(aside))
}

// removeLock takes the folder of a lock away.
func (r *root) removeLock(folder string) error {
	is, err := r.lookAtLock(folder)
	if err != nil {
		return err
	}
	for _, name := range is.names {
		err = errors.Join(err, r.remove(path.Join(folder, name)))
	}
	return errors.Join(err, r.remove(folder))
}

// sweepLocks takes away what was made to take a lock, and left by a crash. What cannot be taken away is no harm.
func (r *root) sweepLocks(folder string) {
	infos, err := r.client.ReadDir(folder)
	if err != nil {
		return
	}
	for _, info := range infos {
		if strings.HasPrefix(info.Name(), lockName+"-") {
			_ = r.removeLock(path.Join(folder, info.Name()))
		}
	}
}
