package remote

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"

	"github.com/zeebo/blake3"

	"wetland/core/database"
	"wetland/core/host"
	"wetland/core/wire"
)

// Databases are opened by the helper: what is asked goes there once, and comes back once. A server that
// must show one of our own certificates is dialled by the helper, and asked from here.
func (h *Host) Databases() host.Databases {
	return databases{database.Engines{Dial: h.Dial}, h}
}

type databases struct {
	database.Engines
	host *Host
}

func (d databases) Open(ctx context.Context, login database.Login, owner database.Owner) (database.Database, error) {
	if login.Trusted != nil {
		return d.Engines.Open(ctx, login, owner)
	}
	opened := &near{host: d.host, at: request{Login: toLogin(login)}, owner: owner, dialect: login.Engine}
	if login.Engine == "mysql" {
		opened.dialect = "mysql"
	}
	if err := d.host.desk.Do(ctx, methodEngine, opened.at, &opened.engine); err != nil { // whether it is there
		return nil, err
	}
	return opened, nil
}

// login is a database.Login on its way. Whoever reads the line could read it; nobody can.
type login struct {
	Engine   string       `json:"engine"`
	Host     string       `json:"host,omitempty"`
	Port     int          `json:"port,omitempty"`
	Socket   string       `json:"socket,omitempty"`
	Name     string       `json:"name,omitempty"`
	User     string       `json:"user,omitempty"`
	Password []byte       `json:"password,omitempty"`
	File     []byte       `json:"file,omitempty"`
	TLS      database.TLS `json:"tls,omitempty"`
}

func toLogin(l database.Login) *login {
	return &login{l.Engine, l.Host, l.Port, l.Socket, l.Name, l.User, []byte(l.Password), []byte(l.File), l.TLS}
}

func (l *login) login() database.Login {
	return database.Login{Engine: l.Engine, Host: l.Host, Port: l.Port, Socket: l.Socket, Name: l.Name, User: l.User, Password: string(l.Password), File: string(l.File), TLS: l.TLS}
}

func (d databases) Create(ctx context.Context, login database.Login) error {
	if login.Engine != "sqlite" {
		return d.Engines.Create(ctx, login)
	}
	return d.host.desk.Do(ctx, methodCreateDatabase, request{Login: toLogin(login)}, nil)
}

// near is a database that the helper opens.
type near struct {
	host    *Host
	at      request
	owner   database.Owner
	dialect string
	engine  string
	lock    sync.Mutex
	known   database.Known // nil: nothing is
	owned   *owned         // as the tables were when they were read last; nil: they were not
}

// owned are the tables of a site among all of a database. It spares a question while those stay the same.
type owned struct {
	Of     string   `json:"of"` // the hash of the names of all
	Tables []string `json:"tables"`
}

func hashOf(names []string) string {
	text, _ := json.Marshal(names) // names do not fail
	sum := blake3.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// picked returns which of the names are the site's, and keeps that.
func (n *near) picked(names []string) []string {
	is := &owned{hashOf(names), n.owner(names)}
	n.lock.Lock()
	defer n.lock.Unlock()
	n.owned = is
	return is.Tables
}

// Recall sets which rows are known here.
func (n *near) Recall(known database.Known) {
	n.lock.Lock()
	defer n.lock.Unlock()
	n.known = known
}

func (n *near) recalled() database.Known {
	n.lock.Lock()
	defer n.lock.Unlock()
	return n.known
}

func (n *near) lastOwned() *owned {
	n.lock.Lock()
	defer n.lock.Unlock()
	return n.owned
}

func (n *near) Dialect() string { return n.dialect }

func (n *near) Engine(ctx context.Context) (engine string, err error) { return n.engine, ctx.Err() }

func (n *near) Size(ctx context.Context) (size int64, err error) {
	err = n.host.desk.Do(ctx, methodSize, n.at, &size)
	return size, err
}

// Close leaves the database open there: the helper closes it at the line's end.
func (n *near) Close() error { return nil }

func (n *near) Leftover(ctx context.Context, tables []string) (left []string, err error) {
	err = n.host.desk.Do(ctx, methodLeftover, n.about(tables), &left)
	return left, err
}

func (n *near) Sweep(ctx context.Context, tables []string) error {
	return n.host.desk.Do(ctx, methodSweep, n.about(tables), nil)
}

func (n *near) about(tables []string) request {
	args := n.at
	for _, table := range tables {
		args.More = append(args.More, []byte(table))
	}
	return args
}

// session begins a call that both sides go on talking in. end waits for its end.
func (n *near) session(ctx context.Context, method string, args request) (t *talk, s *wire.Stream, err error) {
	args.Login = n.at.Login
	s, err = n.host.desk.Call(ctx, method, args)
	if err != nil {
		return nil, nil, err
	}
	return newTalk(s), s, nil
}

// because is why a call ended, rather than that nothing more was heard.
func because(ctx context.Context, s *wire.Stream, err error) error {
	if err == nil {
		return nil
	}
	_ = s.CloseWrite()
	if ended := s.Wait(ctx, nil); ended != nil {
		return ended
	}
	return err
}

func (n *near) Query(ctx context.Context, statement string, args ...any) (rows []database.Row, err error) {
	values, err := toValues(args)
	if err != nil {
		return nil, err
	}
	inner, stop := context.WithCancel(ctx)
	defer stop()
	t, s, err := n.session(inner, methodQuery, request{Other: []byte(statement), More: [][]byte{database.AppendRow(nil, values)}})
	if err != nil {
		return nil, err
	}
	err = t.hearRows(func(row database.Row) error {
		rows = append(rows, cloneRow(row))
		return nil
	})
	if err != nil {
		return nil, because(ctx, s, err)
	}
	return rows, s.Wait(ctx, nil)
}

func cloneRow(row database.Row) database.Row {
	row = slices.Clone(row)
	for i := range row {
		row[i].Data = slices.Clone(row[i].Data)
	}
	return row
}

// toValues are the arguments of a statement.
func toValues(args []any) (row database.Row, err error) {
	for _, arg := range args {
		switch v := arg.(type) {
		case nil:
			row = append(row, database.Value{Type: database.Null})
		case int:
			row = append(row, database.IntegerValue(int64(v)))
		case int64:
			row = append(row, database.IntegerValue(v))
		case float64:
			row = append(row, database.RealValue(v))
		case string:
			row = append(row, database.Value{Type: database.Text, Data: []byte(v)})
		case []byte:
			row = append(row, database.Value{Type: database.Bytes, Data: v})
		default:
			return nil, fmt.Errorf("a statement's argument of the type %T", arg)
		}
	}
	return row, nil
}

// fromValues are the arguments that toValues packed.
func fromValues(row database.Row) (args []any) {
	for _, v := range row {
		switch v.Type {
		case database.Null:
			args = append(args, nil)
		case database.Integer:
			args = append(args, int64(binary.BigEndian.Uint64(v.Data)))
		case database.Text:
			args = append(args, string(v.Data))
		case database.Real:
			args = append(args, realOf(v))
		default:
			args = append(args, append([]byte{}, v.Data...))
		}
	}
	return args
}

// described are the tables of a moment on their way.
type described struct {
	Tables []database.Table `json:"tables"`
	Weaker []string         `json:"weaker,omitempty"`
	// Stand is what the moment promises.
	Stand database.Standing `json:"standing"`
}

// moment is one that the helper holds.
type moment struct {
	described
	ctx    context.Context
	stop   context.CancelFunc
	stream *wire.Stream
	lock   sync.Mutex // one asks for rows at a time
	talk   *talk
	broken error
	known  database.Known // nil: nothing is
	// Whoever reads one table after the other is spared a round trip for each: the next ones are asked
	// for ahead.
	last  int   // the number of the table that was read last
	ahead []int // those that are asked for, and not read yet
}

// mostAhead is how many tables are asked for ahead.
const mostAhead = 16

// ask asks for the rows of a table, unless that was done already, and maybe for those of the next ones.
func (m *moment) ask(table database.Table) error {
	i := slices.IndexFunc(m.described.Tables, func(one database.Table) bool { return one.Name == table.Name })
	if i >= 0 && !reflect.DeepEqual(m.described.Tables[i], table) {
		i = -1
	}
	if len(m.ahead) > 0 && m.ahead[0] == i {
		m.ahead = m.ahead[1:]
	} else {
		if err := m.passAhead(); err != nil {
			return err
		}
		if err := m.talk.put(sayWantRows, wanted{table, m.known != nil}); err != nil {
			return err
		}
	}
	next := i + 1
	if len(m.ahead) > 0 {
		next = m.ahead[len(m.ahead)-1] + 1
	}
	for inOrder := m.inOrder(i); inOrder && next < len(m.described.Tables) && len(m.ahead) < mostAhead; next++ {
		if m.described.Tables[next].Kind != database.BaseTable {
			continue
		}
		if err := m.talk.put(sayWantRows, wanted{m.described.Tables[next], m.known != nil}); err != nil {
			return err
		}
		m.ahead = append(m.ahead, next)
	}
	m.last = i
	return m.talk.flush()
}

// passAhead passes over what was asked for ahead, and nobody wants any more.
func (m *moment) passAhead() error {
	for range m.ahead {
		none := &hearing{talk: m.talk, known: m.known}
		if err := none.all(m.ctx); err != nil && !errors.Is(err, errRows) {
			return err
		}
	}
	m.ahead = nil
	return nil
}

// Survey has the helper survey.
func (m *moment) Survey(ctx context.Context) (tables []database.Table, err error) {
	err = m.talking(ctx, func() error {
		if err := m.passAhead(); err != nil {
			return err
		}
		if err := m.talk.tell(saySurvey, nil); err != nil {
			return err
		}
		var all described
		err := m.talk.expect(sayTables, &all)
		tables = all.Tables
		return err
	})
	return tables, err
}

// inOrder tells whether the tables seem to be read one after the other.
func (m *moment) inOrder(i int) bool {
	if m.last < 0 {
		return i == slices.IndexFunc(m.described.Tables, func(one database.Table) bool { return one.Kind == database.BaseTable })
	}
	next := slices.IndexFunc(m.described.Tables[m.last+1:], func(one database.Table) bool { return one.Kind == database.BaseTable })
	return next >= 0 && i == m.last+1+next
}

func (n *near) Read(ctx context.Context) (database.Moment, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	// It stands until it is closed, whatever the context of its beginning.
	inner, stop := context.WithCancel(context.WithoutCancel(ctx))
	unwatch := context.AfterFunc(ctx, stop)
	t, s, err := n.session(inner, methodMoment, request{Owned: n.lastOwned()})
	if err != nil {
		stop()
		return nil, err
	}
	m := &moment{ctx: inner, stop: stop, stream: s, talk: t, last: -1, known: n.recalled()}
	err = n.described(t, &m.described)
	if !unwatch() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		err = because(inner, s, err)
		if ended := ctx.Err(); ended != nil {
			err = ended
		}
		stop()
		return nil, err
	}
	return m, nil
}

// described hears what tables there are, and says which are the site's where that is asked.
func (n *near) described(t *talk, into *described) error {
	kind, payload, err := t.hear()
	if err == nil && kind == sayNames {
		var names []string
		if err = json.Unmarshal(payload, &names); err == nil {
			err = t.tell(sayOwned, n.picked(names))
		}
		if err == nil {
			kind, payload, err = t.hear()
		}
	}
	switch {
	case err != nil:
		return err
	case kind != sayTables:
		return fmt.Errorf("%w: the message %d where tables are due", wire.ErrProtocol, kind)
	}
	return json.Unmarshal(payload, into)
}

func (m *moment) Tables() []database.Table { return slices.Clone(m.described.Tables) }
func (m *moment) Weaker() []string         { return m.described.Weaker }

// Standing is as there.
func (m *moment) Standing() database.Standing { return m.Stand }

func (m *moment) Rows(ctx context.Context, table database.Table, each func(database.Row) error) error {
	var stopped error
	err := m.talking(ctx, func() error {
		if err := m.ask(table); err != nil {
			return err
		}
		rows := &hearing{talk: m.talk, known: m.known, each: func(row database.Row) error {
			if stopped == nil { // what is under way comes in any case
				stopped = ctx.Err()
			}
			if stopped == nil {
				stopped = each(row)
			}
			return nil
		}}
		return rows.all(ctx)
	})
	if stopped != nil {
		return stopped
	}
	return err
}

// talking has one talk with the helper at a time. What that fails with ends the moment.
func (m *moment) talking(ctx context.Context, talk func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	m.lock.Lock()
	defer m.lock.Unlock()
	if m.broken != nil {
		return m.broken
	}
	defer context.AfterFunc(ctx, m.stop)()
	err := talk()
	if errors.Is(err, errRows) && len(m.ahead) == 0 {
		return err // of one table: the line is in order
	}
	if ended := ctx.Err(); ended != nil && err != nil {
		m.broken = ended
	} else if err != nil {
		m.broken = because(m.ctx, m.stream, err)
	}
	return m.broken
}

// Close waits for nothing: nothing was changed. The helper ends the moment when it hears of that.
func (m *moment) Close() error {
	if m.broken != nil || m.ctx.Err() != nil {
		m.stop()
		return nil // it ended there
	}
	if len(m.ahead) > 0 {
		m.stop() // rather than read what nobody wants
	}
	go func() {
		defer m.stop()
		_ = m.stream.CloseWrite()
		_ = m.stream.Wait(m.ctx, nil)
	}()
	return nil
}

// change is a database.Change on its way, without its rows.
type change struct {
	Replace      []database.Table `json:"replace,omitempty"`
	Aside        []string         `json:"aside,omitempty"`
	Tag          string           `json:"tag,omitempty"`
	Patches      []patch          `json:"patches,omitempty"`
	KeepCounters bool             `json:"keep_counters,omitempty"`
	Apart        bool             `json:"apart,omitempty"`
}

type patch struct {
	Table  database.Table `json:"table"`
	Put    bool           `json:"put,omitempty"`
	Remove bool           `json:"remove,omitempty"`
	Strict bool           `json:"strict,omitempty"`
	Add    bool           `json:"add,omitempty"`
}

// sources are the rows of a change, in the order in which both sides count them.
func sources(c database.Change) (all []database.Rows) {
	for _, one := range c.Replace {
		all = append(all, one.Rows)
	}
	for _, one := range c.Patches {
		all = append(all, one.Put, one.Remove, one.Add)
	}
	return all
}

func toChange(c database.Change) change {
	to := change{Aside: c.Aside, Tag: c.Tag, KeepCounters: c.KeepCounters, Apart: c.Apart}
	for _, one := range c.Replace {
		to.Replace = append(to.Replace, one.Table)
	}
	for _, one := range c.Patches {
		to.Patches = append(to.Patches, patch{one.Table, one.Put != nil, one.Remove != nil, one.Strict, one.Add != nil})
	}
	return to
}

// done is a change that was made.
type done struct {
	Set      []string              `json:"aside,omitempty"`
	Definers []database.NewDefiner `json:"new_definers,omitempty"`
}

// applied is a change that was made, and is to be finished.
type applied struct {
	done
	ctx    context.Context
	stop   context.CancelFunc
	stream *wire.Stream
	talk   *talk
}

func (n *near) Apply(ctx context.Context, c database.Change) (database.Applied, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	inner, stop := context.WithCancel(context.WithoutCancel(ctx))
	unwatch := context.AfterFunc(ctx, stop)
	a := &applied{ctx: inner, stop: stop}
	var err error
	var own error // why rows cannot be given
	if a.talk, a.stream, err = n.session(inner, methodApply, request{}); err == nil {
		if err = a.talk.tell(sayTables, toChange(c)); err == nil {
			err = a.give(ctx, sources(c), &own)
		}
		if err != nil {
			err = because(inner, a.stream, err)
		}
	}
	if !unwatch() && err == nil { // it was done before
		err = nil
	}
	if err != nil {
		stop()
		if ended := ctx.Err(); ended != nil {
			return nil, ended
		}
		if own != nil {
			return nil, own
		}
		return nil, err
	}
	return a, nil
}

// give gives the rows that the helper asks for, until the change is made.
func (a *applied) give(ctx context.Context, all []database.Rows, own *error) error {
	for {
		kind, payload, err := a.talk.hear()
		if err != nil {
			return err
		}
		switch kind {
		case sayApplied:
			return json.Unmarshal(payload, &a.done)
		case sayWantRows:
			var number int
			if err := json.Unmarshal(payload, &number); err != nil || number < 0 || number >= len(all) || all[number] == nil {
				return fmt.Errorf("%w: rows that are in no change", wire.ErrProtocol)
			}
			err := a.talk.sayRows(func(each func(database.Row) error) error {
				*own = all[number](ctx, each)
				return *own
			})
			if err != nil && *own == nil {
				return err
			}
		default:
			return fmt.Errorf("%w: the message %d within a change", wire.ErrProtocol, kind)
		}
	}
}

func (a *applied) Aside() []string                    { return a.Set }
func (a *applied) NewDefiners() []database.NewDefiner { return a.Definers }

// Replaced asks for them.
func (a *applied) Replaced(ctx context.Context, table database.Table, each func(database.Row) error) error {
	defer context.AfterFunc(ctx, a.stop)()
	err := a.talk.tell(sayWantRows, wanted{Table: table})
	if err == nil {
		err = a.talk.hearRows(each)
	}
	if errors.Is(err, errRows) {
		return fmt.Errorf("the rows of %s from before: %w: %w", table.Name, errors.ErrUnsupported, err)
	}
	return err
}

func (a *applied) Finish(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	defer a.stop()
	defer context.AfterFunc(ctx, a.stop)()
	err := a.talk.tell(sayFinish, nil)
	if err == nil {
		err = a.talk.expect(sayFinished, &a.done)
	}
	if err != nil {
		return because(a.ctx, a.stream, err)
	}
	_ = a.stream.CloseWrite()
	return a.stream.Wait(a.ctx, nil)
}
