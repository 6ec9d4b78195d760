package remote

import (
	"errors"
	"fmt"

	"wetland/core/database"
	"wetland/core/wire"
)

// sayRows says all rows that a source gives, and how that ended.
func (t *talk) sayRows(rows func(each func(database.Row) error) error) error {
	var encoded []byte
	var saying error
	err := rows(func(row database.Row) error {
		encoded = database.AppendRow(encoded[:0], row)
		saying = t.say(sayRow, encoded)
		return saying
	})
	if saying != nil {
		return saying
	}
	if err != nil {
		return errors.Join(t.say(sayBroken, []byte(err.Error())), t.flush(), err)
	}
	return errors.Join(t.say(sayNoMore, nil), t.flush())
}

// errRows says that the other side could not give all rows.
var errRows = errors.New("the rows could not be read")

// hearRows hears rows until there are no more.
func (t *talk) hearRows(each func(database.Row) error) error {
	var decoder database.RowDecoder
	for {
		kind, payload, err := t.hear()
		if err != nil {
			return err
		}
		switch kind {
		case sayRow:
			if err := errors.Join(decoder.Decode(payload, each), decoder.End()); err != nil {
				return err
			}
		case sayNoMore:
			return nil
		case sayBroken:
			return fmt.Errorf("%w: %.1000s", errRows, payload)
		default:
			return fmt.Errorf("%w: the message %d among rows", wire.ErrProtocol, kind)
		}
	}
}
