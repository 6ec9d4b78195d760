package wire

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"
)

var known = Errors{"not there": fs.ErrNotExist, "exists": fs.ErrExist}

// pair is a desk and a helper that carries out calls by handle. ended gets why the helper ended.
func pair(t *testing.T, handle Handler) (d *Desk, ended chan error) {
	t.Helper()
	here, there := net.Pipe()
	return pairOver(t, here, there, handle, false)
}

func pairOver(t *testing.T, here, there io.ReadWriteCloser, handle Handler, packed bool) (d *Desk, ended chan error) {
	t.Helper()
	ended = make(chan error, 1)
	go func() { ended <- Serve(context.Background(), there, Options{Errors: known, Packed: packed}, handle) }()
	d, err := Dial(t.Context(), here, Options{Errors: known, Packed: packed})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = d.Close()
		<-ended
	})
	return d, ended
}

// echo gives back what it reads.
func echo(_ context.Context, r *Request) (any, error) {
	n, err := io.Copy(r, r)
	return n, errors.Join(err, r.CloseWrite())
}

// exchange writes data to a call and returns what comes back.
func exchange(ctx context.Context, d *Desk, data []byte) ([]byte, error) {
	s, err := d.Call(ctx, "echo", nil)
	if err != nil {
		return nil, err
	}
	var group errgroup.Group
	group.Go(func() error {
		_, err := s.Write(data)
		return errors.Join(err, s.CloseWrite())
	})
	back, err := io.ReadAll(s)
	var n int64
	err = errors.Join(err, group.Wait(), s.Wait(ctx, &n))
	if err == nil && n != int64(len(data)) {
		err = fmt.Errorf("the helper counted %d of %d", n, len(data))
	}
	return back, err
}

func TestBytesComeBack(t *testing.T) {
	for _, packed := range []bool{false, true} {
		t.Run(fmt.Sprint("packed: ", packed), func(t *testing.T) { bytesComeBack(t, packed) })
	}
}

func bytesComeBack(t *testing.T, packed bool) {
	here, there := net.Pipe()
	d, _ := pairOver(t, here, there, echo, packed)
	large := bytes.Repeat([]byte("over the weir \x00\xff"), 200_000) // many windows
	for _, data := range [][]byte{{}, {0}, large[:pieceSize], large[:window], large[:window+1], large} {
		if back, err := exchange(t.Context(), d, data); err != nil || !bytes.Equal(back, data) {
			t.Errorf("%d bytes: %d come back, %v", len(data), len(back), err)
		}
	}
	var group errgroup.Group
	for i := range 60 {
		group.Go(func() error {
			data := bytes.Repeat([]byte{byte(i)}, 300_000+i)
			back, err := exchange(t.Context(), d, data)
			if err == nil && !bytes.Equal(back, data) {
				err = fmt.Errorf("call %d got another's bytes", i)
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		t.Error(err)
	}
}

func TestArgumentsResultsAndErrors(t *testing.T) {
	type question struct{ Name string }
	d, _ := pair(t, func(_ context.Context, r *Request) (any, error) {
		var q question
		if err := r.Args(&q); err != nil {
			return nil, err
		}
		switch r.Method {
		case "answer":
			return "hello " + q.Name, nil
		case "missing":
			return nil, fmt.Errorf("look for %s: %w", q.Name, fs.ErrNotExist)
		case "long":
			return strings.Repeat("x", mostPayload), nil
		}
		return nil, errors.New(strings.Repeat("no ", mostPayload))
	})
	var answer string
	if err := d.Do(t.Context(), "answer", question{"ferry \u26f4"}, &answer); err != nil || answer != "hello ferry \u26f4" {
		t.Errorf("%q %v", answer, err)
	}
	err := d.Do(t.Context(), "missing", question{"ferry"}, nil)
	if !errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist) || err.Error() != "look for ferry: file does not exist" {
		t.Errorf("%v", err)
	}
	if err := d.Do(t.Context(), "answer", 7, nil); err == nil || !strings.Contains(err.Error(), "read what answer is called with") {
		t.Errorf("arguments of another type: %v", err)
	}
	if err := d.Do(t.Context(), "long", question{}, nil); err == nil || !strings.Contains(err.Error(), "stream") {
		t.Errorf("a long result: %v", err)
	}
	if err := d.Do(t.Context(), "other", question{}, nil); err == nil || len(err.Error()) > mostPayload/8 {
		t.Errorf("an endless error: %d bytes", len(err.Error()))
	}
	if _, err := d.Call(t.Context(), "answer", strings.Repeat("x", mostPayload)); err == nil {
		t.Error("a call that is too large was sent")
	}
	if err := d.Do(t.Context(), "answer", question{"again"}, &answer); err != nil { // the line stands
		t.Error(err)
	}
}

// A call that nobody reads holds up no other; and its end comes all the same.
func TestUnreadCallHoldsUpNobody(t *testing.T) {
	d, _ := pair(t, func(ctx context.Context, r *Request) (any, error) {
		if r.Method == "flood" {
			_, err := io.CopyN(r, zeros{}, 4*window)
			return "all written", err
		}
		return echo(ctx, r)
	})
	flood, err := d.Call(t.Context(), "flood", nil)
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		if _, err := exchange(t.Context(), d, make([]byte, 2*window)); err != nil {
			t.Fatal(err)
		}
	}
	if held := len(flood.in.bytes); held > window {
		t.Errorf("%d bytes are held that nobody reads", held)
	}
	var said string
	if err := flood.Wait(t.Context(), &said); err != nil || said != "all written" {
		t.Errorf("%q %v", said, err)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

func TestGivenUpCallsStop(t *testing.T) {
	var stopped atomic.Int32
	d, _ := pair(t, func(ctx context.Context, r *Request) (any, error) {
		if r.Method == "echo" {
			return echo(ctx, r)
		}
		var err error
		if r.Method == "read" {
			_, err = r.Read(make([]byte, 1))
		} else {
			_, err = io.Copy(r, zeros{})
		}
		<-ctx.Done()
		stopped.Add(1)
		return nil, err
	})
	for _, method := range []string{"read", "write"} {
		ctx, giveUp := context.WithCancel(t.Context())
		s, err := d.Call(ctx, method, nil)
		if err != nil {
			t.Fatal(err)
		}
		giveUp()
		if err := s.Wait(t.Context(), nil); !errors.Is(err, context.Canceled) {
			t.Errorf("%s: %v", method, err)
		}
	}
	if n := stopped.Load(); n != 2 {
		t.Errorf("%d of the calls stopped", n)
	}
	if back, err := exchange(t.Context(), d, []byte("still there")); err != nil || string(back) != "still there" {
		t.Errorf("%q %v", back, err)
	}
}

// When the line breaks, every call ends on both sides.
func TestBrokenLineEndsAll(t *testing.T) {
	here, there := net.Pipe()
	begun := make(chan bool, 20)
	d, ended := pairOver(t, here, there, func(ctx context.Context, r *Request) (any, error) {
		begun <- true
		_, err := io.Copy(r, r)
		return nil, err
	}, true)
	var group sync.WaitGroup
	for i := range 10 {
		s, err := d.Call(t.Context(), "echo", nil)
		if err != nil {
			t.Fatal(err)
		}
		<-begun
		group.Add(1)
		go func() {
			defer group.Done()
			var err error
			switch i % 3 {
			case 0:
				err = s.Wait(t.Context(), nil)
			case 1:
				_, err = s.Read(make([]byte, 1))
			default:
				for err == nil {
					_, err = s.Write(make([]byte, window))
				}
			}
			if !errors.Is(err, ErrBroken) {
				t.Errorf("call %d: %v", i, err)
			}
		}()
	}
	_ = there.Close()
	group.Wait()
	if err := <-ended; !errors.Is(err, ErrBroken) {
		t.Errorf("the helper ended with %v", err)
	}
	ended <- nil // for who cleans up
	if _, err := d.Call(t.Context(), "echo", nil); !errors.Is(err, ErrBroken) {
		t.Errorf("a call on a broken line: %v", err)
	}
}

// frozen takes what is written and never gives anything back once it is frozen.
type frozen struct {
	net.Conn
	still *atomic.Bool
	never chan bool
}

func (f frozen) Read(p []byte) (int, error) {
	n, err := f.Conn.Read(p)
	if f.still.Load() {
		<-f.never
	}
	return n, err
}

func (f frozen) Write(p []byte) (int, error) {
	if f.still.Load() {
		return len(p), nil
	}
	return f.Conn.Write(p)
}

func TestSilentLineIsGivenUp(t *testing.T) {
	here, there := net.Pipe()
	var still atomic.Bool
	never := make(chan bool)
	t.Cleanup(func() { close(never) })
	ended := make(chan error, 1)
	go func() { ended <- Serve(context.Background(), there, Options{Silence: 2 * time.Second}, echo) }()
	d, err := Dial(t.Context(), frozen{here, &still, never}, Options{Silence: 2 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	s, err := d.Call(t.Context(), "echo", nil)
	if err != nil {
		t.Fatal(err)
	}
	still.Store(true)
	if err := s.Wait(t.Context(), nil); !errors.Is(err, ErrSilent) {
		t.Errorf("the desk: %v", err)
	}
	if err := <-ended; !errors.Is(err, ErrSilent) && !errors.Is(err, ErrBroken) {
		t.Errorf("the helper: %v", err)
	}
}

// fake is somebody who answers a desk with a text, and says no more.
func fake(t *testing.T, says string) io.ReadWriteCloser {
	here, there := net.Pipe()
	go func() { _, _ = io.Copy(io.Discard, there) }()
	go func() {
		_, _ = io.WriteString(there, says)
		_ = there.Close()
	}()
	t.Cleanup(func() { _ = here.Close() })
	return here
}

func TestWhoElseAnswers(t *testing.T) {
	for says, want := range map[string]error{
		"": ErrNoHelper, "bash: no such program\n": ErrNoHelper, strings.Repeat("welcome to the ferry\n", 5000): ErrNoHelper, strings.Repeat("x", 2*mostGreeting): ErrNoHelper,
		"WETLAND LINE 99\n": ErrVersion, "hello\nWETLAND LINE x\n": ErrVersion,
	} {
		_, err := Dial(t.Context(), fake(t, says), Options{})
		if !errors.Is(err, want) || len(err.Error()) > 1200 {
			t.Errorf("%.30q: %v, want %v", says, err, want)
		}
	}
	if _, err := Dial(t.Context(), fake(t, "bash: wetland-helper: Permission denied\n"), Options{}); !strings.Contains(err.Error(), "Permission denied") {
		t.Errorf("what it said is not told: %v", err)
	}
	// A shell that prints a greeting first is passed over.
	here, there := net.Pipe()
	go func() {
		_, _ = io.WriteString(there, "Welcome to the ferry.\nLast sign-in: yesterday\n")
		_ = Serve(context.Background(), there, Options{}, echo)
	}()
	d, err := Dial(t.Context(), here, Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if back, err := exchange(t.Context(), d, []byte("hello")); err != nil || string(back) != "hello" {
		t.Errorf("%q %v", back, err)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	silent, _ := net.Pipe()
	if _, err := Dial(ended, silent, Options{}); !errors.Is(err, context.Canceled) {
		t.Errorf("a context that has ended: %v", err)
	}
}

func frameOf(kind byte, number uint32, payload string) string {
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32([]byte{kind}, number), uint32(len(payload)))
	return string(head) + payload
}

// served is how a helper ends whom somebody says this to.
func served(t testing.TB, says string) error {
	here, there := net.Pipe()
	introduced := make(chan bool)
	go func() {
		_, _ = io.ReadFull(here, make([]byte, len(preface)+2))
		close(introduced)
		_, _ = io.Copy(io.Discard, here)
	}()
	go func() {
		_, _ = io.WriteString(here, preface+"1\n"+says)
		<-introduced
		_ = here.Close()
	}()
	return Serve(context.Background(), there, Options{}, func(_ context.Context, r *Request) (any, error) {
		if r.Method == "echo" {
			_, err := io.Copy(r, r)
			return nil, err
		}
		return nil, nil
	})
}

func TestNobodySaysThis(t *testing.T) {
	echoing := frameOf(frameCall, 1, `{"method":"echo"}`)
	for name, says := range map[string]string{
		"a frame that is too long":        string([]byte{frameData, 0, 0, 0, 1, 0xff, 0xff, 0xff, 0xff}),
		"a kind that is none":             echoing + frameOf(99, 1, ""),
		"bytes for a call nobody made":    frameOf(frameData, 7, "x"),
		"a call that is no JSON":          frameOf(frameCall, 1, "{"),
		"a number that was":               echoing + echoing,
		"a number of before":              frameOf(frameCall, 5, `{"method":"x"}`) + frameOf(frameCall, 4, `{"method":"x"}`),
		"credit for bytes that were not":  echoing + frameOf(frameCredit, 1, "\x00\x10\x00\x00"),
		"a credit that is no number":      echoing + frameOf(frameCredit, 1, "x"),
		"an outcome from the wrong side":  echoing + frameOf(frameDone, 1, "{}"),
		"a ping that is a call of no one": frameOf(framePing, 0, "") + frameOf(frameEnd, 3, ""),
	} {
		if err := served(t, says); !errors.Is(err, ErrProtocol) {
			t.Errorf("%s: %v", name, err)
		}
	}
	var many strings.Builder
	for i := range mostCalls + 1 {
		many.WriteString(frameOf(frameCall, uint32(i+1), `{"method":"echo"}`))
	}
	if err := served(t, many.String()); !errors.Is(err, ErrProtocol) {
		t.Errorf("more calls than allowed: %v", err)
	}
	over := frameOf(frameCall, 1, `{"method":"wait"}`)
	if err := served(t, over+strings.Repeat(frameOf(frameData, 1, strings.Repeat("x", mostPayload)), 3)); !errors.Is(err, ErrBroken) && !errors.Is(err, ErrProtocol) {
		t.Errorf("bytes for a call that is over: %v", err)
	}
}

// Whatever somebody says to a helper or to a desk, it ends, and says why.
func FuzzServe(f *testing.F) {
	f.Add(frameOf(frameCall, 1, `{"method":"echo"}`) + frameOf(frameData, 1, "x") + frameOf(frameEnd, 1, ""))
	f.Add(frameOf(framePing, 0, "") + frameOf(frameCancel, 1, "") + "\x01")
	f.Fuzz(func(t *testing.T, says string) {
		if err := served(t, says); err == nil {
			t.Error("it ended for no reason")
		}
	})
}

func FuzzDesk(f *testing.F) {
	f.Add(frameOf(frameDone, 1, `{"result":1}`))
	f.Add(frameOf(frameData, 1, "x") + frameOf(frameDone, 1, `{"error":"no","is":["exists","canceled"]}`))
	f.Fuzz(func(t *testing.T, says string) {
		here, there := net.Pipe()
		go func() {
			_, _ = io.WriteString(there, preface+"1\n")
			_, _ = io.ReadFull(there, make([]byte, 1)) // the desk says something
			go func() { _, _ = io.Copy(io.Discard, there) }()
			_, _ = io.WriteString(there, says)
			_ = there.Close()
		}()
		d, err := Dial(t.Context(), here, Options{Errors: known})
		if err != nil {
			t.Fatal(err)
		}
		if s, err := d.Call(t.Context(), "x", nil); err == nil {
			_ = s.Wait(t.Context(), nil)
		}
		<-d.Ended()
	})
}
