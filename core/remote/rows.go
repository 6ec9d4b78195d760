package remote

import (
	"context"
	"errors"

	"wetland/core/database"
)

// sayRows says all rows that a source gives, and how that ended.
func (t *talk) sayRows(rows func(each func(database.Row) error) error) error {
	var encoded []byte
	return t.sayAll(func() (read, said error) {
		read = rows(func(row database.Row) error {
			encoded = database.AppendRow(encoded[:0], row)
			said = t.say(sayRow, encoded)
			return said
		})
		return read, said
	})
}

// sayAll says what do says, and how that ended: said is what is wrong with the line, read what is with the
// rows.
func (t *talk) sayAll(do func() (read, said error)) error {
	read, said := do()
	if said != nil {
		return said
	}
	if read != nil {
		return errors.Join(t.say(sayBroken, []byte(read.Error())), t.flush(), read)
	}
	return errors.Join(t.say(sayNoMore, nil), t.flush())
}

// errRows says that the other side could not give all rows.
var errRows = errors.New("the rows could not be read")

// hearRows hears rows until there are no more.
func (t *talk) hearRows(each func(database.Row) error) error {
	return (&hearing{talk: t, each: each}).all(context.Background())
}
