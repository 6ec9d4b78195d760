package cms

import (
	"context"
	"errors"
	"time"

	"wetland/core/database"
)

// Remembered stands in for a site whose files do not tell any more what it is: it
// knows what a snapshot noted. It serves to put the files back; then the site can be
// opened as what it is.
type Remembered struct {
	Name   string // the CMS and its version
	Kept   Layout
	Tables []string
}

var errRemembered = errors.New("the site's own files cannot tell")

// System is what the snapshot named.
func (r Remembered) System() string { return r.Name }

// Layout is as it was.
func (r Remembered) Layout() Layout { return r.Kept }

// Database is not known: the login is in the site's own settings.
func (r Remembered) Database(Given) (database.Login, []Missing) {
	return database.Login{}, []Missing{{Key: "database", Why: "the CMS's settings cannot be read"}}
}

// Owns takes the tables that the snapshot has.
func (r Remembered) Owns([]string) []string { return r.Tables }

// Components are not known.
func (r Remembered) Components(context.Context, database.Database) ([]Component, error) {
	return nil, nil
}

// ReadHeader cannot read any.
func (r Remembered) ReadHeader(Folder) (Header, error) { return Header{}, errRemembered }

// Address is not known.
func (r Remembered) Address(context.Context, database.Database) string { return "" }

// PublicFiles are not known.
func (r Remembered) PublicFiles(context.Context, []Component) ([]PublicFile, error) { return nil, nil }

// Purpose is not known.
func (r Remembered) Purpose(string) Purpose { return Unknown }

// RewrittenByItself tells of no row.
func (r Remembered) RewrittenByItself(database.Table, database.Row) bool { return false }

// Counted is not known.
func (r Remembered) Counted(string) []string { return nil }

// IsDesign tells of no row.
func (r Remembered) IsDesign(database.Table, database.Row) bool { return false }

// Title is not known.
func (r Remembered) Title(context.Context, database.Database) string { return "" }

// FirstPages are not known.
func (r Remembered) FirstPages() []string { return nil }

// Samples are not known.
func (r Remembered) Samples(context.Context, database.Database) ([]Sample, error) { return nil, nil }

// UsedOn is not known.
func (r Remembered) UsedOn(context.Context, database.Database, Component) ([]Sample, error) {
	return nil, nil
}

// UpgradeVisits are not known.
func (r Remembered) UpgradeVisits() []string { return nil }

// Busy sees no signs.
func (r Remembered) Busy(context.Context, database.Database) []string { return nil }

// AutomaticUpdates are not known.
func (r Remembered) AutomaticUpdates(context.Context, database.Database) ([]Automatic, error) {
	return nil, errRemembered
}

// Warnings has none.
func (r Remembered) Warnings(context.Context, database.Database, Component) []string { return nil }

// Obstacles has none.
func (r Remembered) Obstacles(context.Context, database.Database) []string { return nil }

// ErrorLogs are not known.
func (r Remembered) ErrorLogs() []string { return nil }

// ForgetCaches is not known.
func (r Remembered) ForgetCaches(context.Context, database.Database) (int, error) {
	return 0, errRemembered
}

// RebuildLinks is not known.
func (r Remembered) RebuildLinks(context.Context, database.Database) error { return errRemembered }

// Notice is not known.
func (r Remembered) Notice(time.Time) (file, text string) { return "", "" }

// SettleTime is none: the site answers nothing sound meanwhile.
func (r Remembered) SettleTime() time.Duration { return 0 }
