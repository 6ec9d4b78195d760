package database

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A snapshot's store may have been made, or changed, by somebody else. Its statements are carried
// out with all the rights of the site's database user; so only those are that make what a table's
// description says: one statement each, of the kind and with the name that it is to have.

// ErrForeignStatement says that a statement is none that Wetland writes.
var ErrForeignStatement = errors.New("no statement that Wetland writes: the store was made or changed by somebody else. Nothing of it was carried out")

// CheckStatements tells of the first statement of these tables that does anything else than to
// make them and what belongs to them. The engine is that of a Login. schema is the name of the
// database that they are for; "" accepts any that they name for their own. With apart, tables
// that would reach beyond it are told, too: those that keep their rows in another place or
// database.
func CheckStatements(engine, schema string, apart bool, tables []Table) error {
	for _, table := range tables {
		c := statementCheck{table: table, schema: schema, apart: apart}
		check := c.mysql
		if engine == "sqlite" {
			check = c.sqlite
		}
		if err := check(); err != nil {
			return fmt.Errorf("%s: %w", table.Name, err)
		}
	}
	return nil
}

func foreign(statement string, why any) error {
	const most = 80
	if len(statement) > most {
		statement = statement[:most] + "..."
	}
	return fmt.Errorf("%q (%v): %w", statement, why, ErrForeignStatement)
}

type statementCheck struct {
	table  Table
	schema string
	apart  bool
}

// read returns the lexemes of a statement.
func (c statementCheck) read(statement string, d dialect) (*lexemes, error) {
	all, err := lex(statement, d)
	if err != nil {
		return nil, foreign(statement, err)
	}
	return &lexemes{left: all}, nil
}

// sameName takes a name that must be this one, in no other database.
func (c statementCheck) sameName(l *lexemes, want string) bool {
	schema, name, ok := l.name()
	return ok && strings.EqualFold(name, want) && (schema == "" || c.schema == "" || strings.EqualFold(schema, c.schema))
}

// sessionSettings are what describes the session in which a trigger or a program was made.
var sessionSettings = regexp.MustCompile(`^SET SESSION sql_mode = '([A-Z0-9_,]*)', collation_connection = '[A-Za-z0-9_]+'(?:, time_zone = '[A-Za-z0-9_/+:-]+')?$`)

// dialectOf is how MySQL and MariaDB read statements after such settings.
func dialectOf(settings string) (d dialect, ok bool) {
	found := sessionSettings.FindStringSubmatch(settings)
	if found == nil {
		return d, false
	}
	modes := strings.Split(found[1], ",")
	return dialect{noEscapes: slices.Contains(modes, "NO_BACKSLASH_ESCAPES"), ansiQuotes: slices.Contains(modes, "ANSI_QUOTES")}, true
}

func (c statementCheck) mysql() error {
	makes := map[Kind]func(*lexemes) string{
		BaseTable: c.makesTable, View: c.makesView, Sequence: c.makesSequence,
		Procedure: c.makesProgram, Function: c.makesProgram, Event: c.makesProgram,
	}
	check, known := makes[c.table.Kind]
	if !known {
		return foreign(c.table.Create, fmt.Sprintf("there is no kind %q", c.table.Kind))
	}
	var d dialect
	if settings := c.table.Settings; settings != "" {
		var ok bool
		if d, ok = dialectOf(settings); !ok || !c.table.isProgram() {
			return foreign(settings, "no such settings belong to it")
		}
	}
	l, err := c.read(c.table.Create, d)
	if err != nil {
		return err
	}
	if why := check(l); why != "" {
		return foreign(c.table.Create, why)
	}
	return c.afterMySQL()
}

// afterMySQL checks what is carried out once the rows are there.
func (c statementCheck) afterMySQL() error {
	var d dialect
	for _, statement := range c.table.After {
		if next, ok := dialectOf(statement); ok {
			d = next
			continue
		}
		l, err := c.read(statement, d)
		if err != nil {
			return err
		}
		if c.table.Kind != BaseTable {
			return foreign(statement, "it belongs to no table")
		}
		check := c.makesTrigger
		switch {
		case l.word("ALTER"):
			check = c.addsConstraint
		case l.word("ANALYZE"):
			check = c.makesHistogram
		}
		if why := check(l); why != "" {
			return foreign(statement, why)
		}
	}
	return nil
}

// makesTable accepts what SHOW CREATE TABLE prints: columns in brackets, then options.
func (c statementCheck) makesTable(l *lexemes) string {
	if !l.word("CREATE", "TABLE") || !c.sameName(l, c.table.Name) || !l.sign("(") {
		return "it makes no such table"
	}
	if len(l.left) == 0 || l.left[0].kind != lexName {
		return "it does not begin with a column"
	}
	return l.toEnd(1, func(found lexeme, depth int) string {
		switch {
		case found.kind == lexSign && found.text == ";":
			return "it holds another statement"
		case found.kind == lexWord:
			return c.tableWord(l, strings.ToUpper(found.text), depth)
		}
		return ""
	})
}

// farEngines keep rows somewhere else than in the server's own files.
var farEngines = []string{"FEDERATED", "CONNECT", "SPIDER", "SPHINX", "S3", "NDB", "NDBCLUSTER", "MRG_MYISAM", "MERGE", "OQGRAPH", "MROONGA", "CASSANDRA", "EXAMPLE"}

// tableWord tells of a word that has no place in a table's statement.
func (c statementCheck) tableWord(l *lexemes, word string, depth int) string {
	switch {
	case word == "SELECT", depth == 0 && slices.Contains([]string{"AS", "TABLE", "VALUES", "LIKE", "REPLACE", "IGNORE"}, word):
		return "it would fill the table from another"
	case word == "WITH" && depth == 0 && !l.word("SYSTEM", "VERSIONING"):
		return "it would fill the table from another"
	case word == "REFERENCES":
		return c.refersTo(l)
	case !c.apart:
	case word == "DIRECTORY", word == "CONNECTION" && depth == 0, word == "UNION":
		return "it keeps its rows in another place"
	case word == "ENGINE":
		l.sign("=")
		if engine := l.take(); slices.Contains(farEngines, strings.ToUpper(engine.text)) {
			return "it keeps its rows in another place"
		}
	}
	return ""
}

// refersTo tells of a reference to another database, where nothing may reach there.
func (c statementCheck) refersTo(l *lexemes) string {
	if schema, _, ok := l.name(); c.apart && (!ok || schema != "" && !strings.EqualFold(schema, c.schema)) {
		return "it refers to a table of another database"
	}
	return ""
}

// addsConstraint accepts one foreign key or one check, after ALTER.
func (c statementCheck) addsConstraint(l *lexemes) string {
	if !l.word("TABLE") || !c.sameName(l, c.table.Name) || !l.word("ADD", "CONSTRAINT") {
		return "it adds no constraint to the table"
	}
	if _, _, ok := l.name(); !ok || !l.word("FOREIGN", "KEY") && !l.word("CHECK") {
		return "it adds no constraint to the table"
	}
	return l.toEnd(0, func(found lexeme, depth int) string {
		switch {
		case found.kind == lexSign && (found.text == ";" || found.text == "," && depth == 0):
			return "it does more than to add a constraint"
		case found.kind == lexWord && strings.EqualFold(found.text, "REFERENCES"):
			return c.refersTo(l)
		}
		return ""
	})
}

// makesHistogram accepts one histogram, after ANALYZE.
func (c statementCheck) makesHistogram(l *lexemes) string {
	if !l.word("TABLE") || !c.sameName(l, c.table.Name) || !l.word("UPDATE", "HISTOGRAM", "ON") {
		return "it makes no histogram"
	}
	if column := l.take(); column.kind != lexName || !l.word("WITH") || l.take().kind != lexWord || !l.word("BUCKETS") || len(l.left) > 0 {
		return "it makes no histogram"
	}
	return ""
}

// definer takes in whose name something acts.
func definer(l *lexemes) bool {
	if !l.word("DEFINER") {
		return true
	}
	if !l.sign("=") {
		return false
	}
	if l.word("CURRENT_USER") {
		return !l.sign("(") || l.sign(")")
	}
	account := func() bool {
		kind := l.take().kind
		return kind == lexName || kind == lexText || kind == lexWord
	}
	return account() && (!l.sign("@") || account())
}

func (c statementCheck) makesTrigger(l *lexemes) string {
	const why = "it makes no trigger of the table"
	if !l.word("CREATE") {
		return why
	}
	l.word("OR", "REPLACE")
	if !definer(l) || !l.word("TRIGGER") {
		return why
	}
	l.word("IF", "NOT", "EXISTS")
	schema, _, ok := l.name()
	if !ok || schema != "" && c.schema != "" && !strings.EqualFold(schema, c.schema) || !l.word("BEFORE") && !l.word("AFTER") {
		return why
	}
	// MariaDB 12 knows triggers of several events: INSERT OR UPDATE.
	for {
		if !l.word("INSERT") && !l.word("UPDATE") && !l.word("DELETE") {
			return why
		}
		if !l.word("OR") {
			break
		}
	}
	if !l.word("ON") || !c.sameName(l, c.table.Name) {
		return why
	}
	return ""
}

func (c statementCheck) makesView(l *lexemes) string {
	const why = "it makes no such view"
	if !l.word("CREATE") {
		return why
	}
	if l.word("ALGORITHM") && (!l.sign("=") || l.take().kind != lexWord) || !definer(l) {
		return why
	}
	if l.word("SQL", "SECURITY") && !l.word("DEFINER") && !l.word("INVOKER") {
		return why
	}
	if !l.word("VIEW") || !c.sameName(l, c.table.Name) {
		return why
	}
	if l.sign("(") {
		for !l.sign(")") {
			if found := l.take(); found.kind != lexName && found.text != "," {
				return why
			}
		}
	}
	if !l.word("AS") {
		return why
	}
	return ""
}

func (c statementCheck) makesSequence(l *lexemes) string {
	if !l.word("CREATE", "SEQUENCE") || !c.sameName(l, c.table.Name) {
		return "it makes no such sequence"
	}
	for _, found := range l.left {
		if found.kind != lexWord && found.kind != lexText && found.text != "-" && found.text != "=" {
			return "it does more than to make a sequence"
		}
	}
	return ""
}

func (c statementCheck) makesProgram(l *lexemes) string {
	why := "it makes no such " + string(c.table.Kind)
	if !l.word("CREATE") || !definer(l) {
		return why
	}
	if c.table.Kind == Function {
		l.word("AGGREGATE")
	}
	if !l.word(string(c.table.Kind)) || !c.sameName(l, c.table.bare()) {
		return why
	}
	switch {
	case c.table.Kind != Event:
		// A function without brackets would be one of a library on the server's disk.
		if !l.sign("(") {
			return why
		}
	case !l.word("ON", "SCHEDULE"):
		return why
	case c.apart && !rests(*l):
		return "it would run"
	}
	return ""
}

// rests tells whether an event, read up to its schedule, is disabled.
func rests(l lexemes) bool {
	disabled := false
	for {
		switch found := l.take(); {
		case found.kind == 0, found.kind == lexWord && strings.EqualFold(found.text, "ENABLE"):
			return false
		case found.kind == lexWord && strings.EqualFold(found.text, "DISABLE"):
			disabled = true
		case found.kind == lexWord && strings.EqualFold(found.text, "DO"):
			return disabled
		}
	}
}

// Resting describes tables so that no event among them runs: for a copy beside the site. An
// event's Digest is whether it runs.
func Resting(tables []Table) []Table {
	tables = slices.Clone(tables)
	for i := range tables {
		if table := &tables[i]; table.Kind == Event {
			table.Create = disable(table.Create, table.Settings)
			_, table.Digest = splitStatus(table.Create)
		}
	}
	return tables
}

// disable returns an event's statement with what enables it exchanged.
func disable(create, settings string) string {
	d, _ := dialectOf(settings)
	all, err := lex(create, d)
	if err != nil {
		return create // it is refused where it is checked
	}
	for _, found := range all {
		switch {
		case found.kind != lexWord:
		case strings.EqualFold(found.text, "DO"):
			return create
		case strings.EqualFold(found.text, "ENABLE"):
			return create[:found.at] + "DISABLE" + create[found.end:]
		}
	}
	return create
}

func (c statementCheck) sqlite() error {
	d := dialect{sqlite: true}
	l, err := c.read(c.table.Create, d)
	if err != nil {
		return err
	}
	kind := map[Kind]string{BaseTable: "TABLE", View: "VIEW"}[c.table.Kind]
	if kind == "" || c.table.Settings != "" {
		return foreign(c.table.Create, fmt.Sprintf("there is no kind %q", c.table.Kind))
	}
	if !l.word("CREATE", kind) || !c.sameName(l, c.table.Name) {
		return foreign(c.table.Create, "it makes no such "+string(c.table.Kind))
	}
	if kind == "TABLE" && !l.sign("(") {
		return foreign(c.table.Create, "it would fill the table from another")
	}
	if moreFollows(l) {
		return foreign(c.table.Create, "it holds another statement")
	}
	for _, statement := range c.table.After {
		if l, err = c.read(statement, d); err != nil {
			return err
		}
		if why := c.indexOrTrigger(l); why != "" {
			return foreign(statement, why)
		}
	}
	return nil
}

// moreFollows tells of anything after a semicolon.
func moreFollows(l *lexemes) bool {
	for l.skipComments(); len(l.left) > 0; l.skipComments() {
		if l.sign(";") {
			return l.take().kind != 0
		}
		l.take()
	}
	return false
}

// indexOrTrigger accepts what SQLite keeps beside a table.
func (c statementCheck) indexOrTrigger(l *lexemes) string {
	const why = "it makes no index or trigger of the table"
	if !l.word("CREATE") {
		return why
	}
	if l.word("TRIGGER") {
		return c.triggerSQLite(l)
	}
	l.word("UNIQUE")
	if !l.word("INDEX") {
		return why
	}
	if schema, _, ok := l.name(); !ok || schema != "" || !l.word("ON") || !c.sameName(l, c.table.Name) {
		return why
	}
	if moreFollows(l) {
		return "it holds another statement"
	}
	return ""
}

// triggerSQLite accepts a trigger, whose statements each end with a semicolon. Its END is the
// first one right after a semicolon: that of a CASE comes after an expression.
func (c statementCheck) triggerSQLite(l *lexemes) string {
	const why = "it makes no index or trigger of the table"
	l.word("IF", "NOT", "EXISTS")
	if schema, _, ok := l.name(); !ok || schema != "" {
		return why
	}
	for !l.word("ON") {
		if found := l.take(); found.kind == 0 || found.text == ";" {
			return why
		}
	}
	if !c.sameName(l, c.table.Name) {
		return why
	}
	for {
		for !l.sign(";") {
			if l.take().kind == 0 {
				return "it has no end"
			}
		}
		if l.word("END") {
			l.sign(";")
			if l.take().kind != 0 {
				return "it holds another statement"
			}
			return ""
		}
	}
}

// checkForClients tells of what the engine's own client, when it loads an export, could take for
// a command to itself. Clients cut statements into the same lexemes as servers, but for a
// backslash in a quoted name.
func checkForClients(engine string, tables []Table) error {
	for _, table := range tables {
		d := dialect{sqlite: engine == "sqlite"}
		check := func(statement string, d dialect) error {
			all, err := lex(statement, d)
			if err != nil {
				return fmt.Errorf("%s: %w", table.Name, foreign(statement, err))
			}
			for i, found := range all {
				if why := clientCommand(statement, all[:i], found, all[i+1:], d); why != "" {
					return fmt.Errorf("%s: %w", table.Name, foreign(statement, why))
				}
			}
			return nil
		}
		names := quoteAll(append(columnNames(table), table.bare()), quoteMySQL)
		if !d.sqlite && strings.Contains(names, `\`) {
			return fmt.Errorf("%s: no client can be told of a name with a backslash in it: restore --into makes a copy", table.Name)
		}
		settled := d
		if made, ok := dialectOf(table.Settings); ok && !d.sqlite {
			settled = made
		}
		if err := check(table.Create, settled); err != nil {
			return err
		}
		for _, statement := range table.After {
			if next, ok := dialectOf(statement); ok && !d.sqlite {
				d = next
				continue
			}
			if err := check(statement, d); err != nil {
				return err
			}
		}
	}
	return nil
}

// clientCommand says why a lexeme could be a command to the client.
func clientCommand(statement string, before []lexeme, found lexeme, after []lexeme, d dialect) string {
	startsLine := strings.TrimLeft(statement[strings.LastIndexByte(statement[:found.at], '\n')+1:found.at], " \t\r\v\f") == ""
	if d.sqlite {
		// sqlite3 takes a line of "/" or "go" for the end of a statement.
		ends := startsLine && (found.text == "/" || strings.EqualFold(found.text, "go"))
		for _, next := range after {
			if next.kind != lexComment && next.text != ";" {
				ends = ends && strings.Contains(statement[found.end:next.at], "\n")
				break
			}
		}
		if ends && found.kind != lexName {
			return "a client would take a line of it for the end of the statement"
		}
		return ""
	}
	switch {
	case found.kind == lexName && strings.Contains(found.text, `\`):
		return "a name with a backslash"
	case found.kind == lexSign && found.text == `\` && (len(after) == 0 || after[0].at != found.end || after[0].text != "N"):
		return "a backslash, which begins a command to the client"
	case found.kind == lexWord && startsLine && len(before) > 0 && strings.EqualFold(found.text, "delimiter"):
		return "a line that begins as a command to the client"
	}
	return ""
}

// known leaves out what could not be put back, since CheckStatements does not know its form, and
// says so. A table itself is never left out.
func known(engine string, tables []Table) (kept []Table, weaker []string, err error) {
	for _, table := range tables {
		after := table.After
		table.After = nil
		if err := CheckStatements(engine, "", false, []Table{table}); err != nil && table.Kind == BaseTable {
			return nil, nil, fmt.Errorf("its form is not known: %w", err)
		} else if err != nil {
			weaker = append(weaker, fmt.Sprintf("the %s %s is not in the snapshot: its form is not known", table.Kind, table.bare()))
			continue
		}
		for i, statement := range after {
			whole := table
			whole.After = append(slices.Clone(table.After), statement)
			if i > 0 && sessionSettings.MatchString(after[i-1]) {
				whole.After = append(slices.Clone(table.After), after[i-1], statement)
			}
			switch {
			case sessionSettings.MatchString(statement): // comes with what follows it
			case CheckStatements(engine, "", false, []Table{whole}) != nil:
				weaker = append(weaker, fmt.Sprintf("something that belongs to the table %s is not in the snapshot: its form is not known", table.Name))
			default:
				table.After = whole.After
			}
		}
		kept = append(kept, table)
	}
	return kept, weaker, nil
}
