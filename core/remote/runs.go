package remote

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/zeebo/blake3"

	"wetland/core/database"
	"wetland/core/wire"
)

// Rows travel as they are, or as runs (database.RunCutter) that the helper offers by their hashes: those
// that are known at the desk stay where they are.

// Bounds of what is offered.
const (
	sentAsTheyAre = 64 << 10 // bytes at the beginning of a table: small ones cost no answer
	mostOffered   = 64       // runs at once
	mostWaiting   = 8 << 20  // bytes of runs that were offered and not answered, beside one row
	mostDue       = 1 << 20  // runs that are due at the desk
)

// wanted are the rows that a desk asks for.
type wanted struct {
	Table database.Table `json:"table"`
	Offer bool           `json:"offer,omitempty"` // it knows some
}

// offering says the rows of one table.
type offering struct {
	talk    *talk
	answer  func() ([]byte, error) // hears the next answer
	digest  database.Digest
	cutter  database.RunCutter
	said    int // bytes, as they are
	runs    bool
	run     []byte
	batch   [][]byte   // to be offered
	offered [][][]byte // and not answered yet
	waiting int        // bytes of batch and offered
}

// add takes the next row.
func (o *offering) add(row database.Row) error {
	encoded, mark := o.digest.Add(row)
	ends, _ := o.cutter.Add(len(encoded), mark)
	if !o.runs {
		o.said += len(encoded)
		o.runs = ends && o.said >= sentAsTheyAre
		return o.talk.say(sayRow, encoded)
	}
	o.run = append(o.run, encoded...)
	if !ends {
		return nil
	}
	return o.endRun()
}

// endRun offers the run, when there are enough of them.
func (o *offering) endRun() error {
	o.batch = append(o.batch, o.run)
	o.waiting += len(o.run)
	o.run = nil
	if len(o.batch) < mostOffered && o.waiting < mostWaiting {
		return nil
	}
	if err := o.offer(); err != nil {
		return err
	}
	for o.waiting >= mostWaiting && len(o.offered) > 0 {
		if err := o.settle(); err != nil {
			return err
		}
	}
	return nil
}

func (o *offering) offer() error {
	if len(o.batch) == 0 {
		return nil
	}
	var hashes []byte
	for _, run := range o.batch {
		hash := blake3.Sum256(run)
		hashes = append(hashes, hash[:]...)
	}
	o.offered, o.batch = append(o.offered, o.batch), nil
	if err := o.talk.say(sayOffer, hashes); err != nil {
		return err
	}
	return o.talk.flush()
}

// settle says what the desk wants of the runs that were offered first.
func (o *offering) settle() error {
	answer, err := o.answer()
	if err != nil {
		return err
	}
	runs := o.offered[0]
	if len(answer) != len(runs) {
		return fmt.Errorf("%w: an answer about %d runs, of %d", wire.ErrProtocol, len(answer), len(runs))
	}
	o.offered = o.offered[1:]
	for i, run := range runs {
		o.waiting -= len(run)
		if answer[i] == 1 {
			if err := o.talk.say(sayRun, run); err != nil {
				return err
			}
		}
	}
	return nil
}

// end says what is left.
func (o *offering) end() error {
	if len(o.run) > 0 {
		if err := o.endRun(); err != nil {
			return err
		}
	}
	if err := o.offer(); err != nil {
		return err
	}
	for len(o.offered) > 0 {
		if err := o.settle(); err != nil {
			return err
		}
	}
	return nil
}

// holding is a moment that the helper holds for a desk. Tables may be asked for while answers are due.
type holding struct {
	talk   *talk
	moment database.Moment
	asked  []wanted
}

// all says what the desk asks for, until it asks for nothing more.
func (h *holding) all(ctx context.Context) error {
	for {
		if len(h.asked) > 0 {
			next := h.asked[0]
			h.asked = h.asked[1:]
			if err := h.say(ctx, next); err != nil {
				return err
			}
			continue
		}
		kind, payload, err := h.talk.hear()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case kind == saySurvey:
			if err := h.survey(ctx); err != nil {
				return err
			}
			continue
		}
		if err := h.ask(kind, payload); err != nil {
			return err
		}
	}
}

// survey describes all tables with their rows.
func (h *holding) survey(ctx context.Context) error {
	tables, err := database.Survey(ctx, h.moment, nil)
	if err != nil {
		return errors.Join(h.talk.tell(sayBroken, err.Error()), err)
	}
	return h.talk.tell(sayTables, described{Tables: tables})
}

// ask takes what a desk asks for.
func (h *holding) ask(kind byte, payload []byte) error {
	var w wanted
	if err := take(kind, payload, sayWantRows, &w); err != nil {
		return err
	}
	if h.asked = append(h.asked, w); len(h.asked) > mostAhead {
		return fmt.Errorf("%w: more than %d tables are asked for", wire.ErrProtocol, mostAhead)
	}
	return nil
}

// answer hears an answer.
func (h *holding) answer() ([]byte, error) {
	for {
		kind, payload, err := h.talk.hear()
		if err != nil {
			return nil, err
		}
		if kind == sayAnswer {
			return payload, nil
		}
		if err := h.ask(kind, payload); err != nil {
			return nil, err
		}
	}
}

// say says the rows of a table.
func (h *holding) say(ctx context.Context, w wanted) error {
	if !w.Offer {
		return h.talk.sayRows(func(each func(database.Row) error) error { return h.moment.Rows(ctx, w.Table, each) })
	}
	o := &offering{talk: h.talk, answer: h.answer}
	return h.talk.sayAll(func() (read, said error) {
		read = h.moment.Rows(ctx, w.Table, func(row database.Row) error {
			said = o.add(row)
			return said
		})
		if read == nil && said == nil {
			said = o.end()
		}
		return read, said
	})
}

// hearing hears the rows of a table, from the line and from what is known here.
type hearing struct {
	talk  *talk
	known database.Known           // nil: nothing is
	each  func(database.Row) error // nil: nobody wants them
	due   []due                    // runs in their order
}

// due is a run whose rows are not given yet.
type due struct {
	hash   [32]byte
	wanted bool // it comes
}

// all hears rows until there are no more.
func (h *hearing) all(ctx context.Context) error {
	for {
		kind, payload, err := h.talk.hear()
		if err != nil {
			return err
		}
		switch kind {
		case sayRow:
			err = h.rows(payload)
		case sayOffer:
			err = h.choose(ctx, payload)
		case sayRun:
			if len(h.due) == 0 || !h.due[0].wanted {
				return fmt.Errorf("%w: a run that nobody wants", wire.ErrProtocol)
			}
			h.due = h.due[1:]
			if err = h.rows(payload); err == nil {
				err = h.giveKnown(ctx)
			}
		case sayNoMore:
			if len(h.due) > 0 {
				return fmt.Errorf("%w: %d runs are missing", wire.ErrProtocol, len(h.due))
			}
			return nil
		case sayBroken:
			return fmt.Errorf("%w: %.1000s", errRows, payload)
		default:
			return fmt.Errorf("%w: the message %d among rows", wire.ErrProtocol, kind)
		}
		if err != nil {
			return err
		}
	}
}

// rows gives the rows, if anybody wants them.
func (h *hearing) rows(encoded []byte) error {
	if h.each == nil {
		return nil
	}
	var decoder database.RowDecoder
	if err := decoder.Decode(encoded, h.each); err != nil {
		return err
	}
	return decoder.End()
}

// choose says which runs are wanted: those that are not known. Who has no use for any wants none.
func (h *hearing) choose(ctx context.Context, hashes []byte) error {
	if h.known == nil || len(hashes)%32 != 0 || len(hashes) > mostOffered*32 || len(h.due) > mostDue {
		return fmt.Errorf("%w: an offer of %d bytes", wire.ErrProtocol, len(hashes))
	}
	answer := make([]byte, 0, mostOffered)
	for ; len(hashes) > 0; hashes = hashes[32:] {
		one := due{hash: [32]byte(hashes[:32])}
		switch {
		case h.each == nil:
			answer = append(answer, 0)
			continue
		case h.known.Has(one.hash):
			answer = append(answer, 0)
		default:
			one.wanted = true
			answer = append(answer, 1)
		}
		h.due = append(h.due, one)
	}
	if err := h.talk.say(sayAnswer, answer); err != nil {
		return err
	}
	if err := h.talk.flush(); err != nil {
		return err
	}
	return h.giveKnown(ctx)
}

// giveKnown gives the rows of the runs that are known, up to one that comes.
func (h *hearing) giveKnown(ctx context.Context) error {
	for len(h.due) > 0 && !h.due[0].wanted {
		encoded, err := h.known.Rows(ctx, h.due[0].hash)
		if err != nil {
			return fmt.Errorf("read rows that are known here: %w", err)
		}
		if err := h.rows(encoded); err != nil {
			return err
		}
		h.due = h.due[1:]
	}
	return nil
}
