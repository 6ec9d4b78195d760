package privatecopy

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"wetland/core/database"
)

// Settings of a database server by which the same statement can answer otherwise. MariaDB's and MySQL's manuals
// tell which can be set while it runs; one that a server does not have is passed over.
var (
	setRunning = []string{
		"sql_mode", "character_set_server", "collation_server", "time_zone", "group_concat_max_len", "div_precision_increment", "default_week_format",
		"innodb_strict_mode", "explicit_defaults_for_timestamp", "default_storage_engine", "transaction_isolation", "tx_isolation", "old_mode", "sql_auto_is_null", "lc_time_names", "max_sort_length",
	}
	setAtStart = []string{"lower_case_table_names", "ft_min_word_len", "innodb_ft_min_token_size"}
)

// TableSettings asks a site's database server for its settings by which a statement can answer otherwise.
func TableSettings(ctx context.Context, db database.Database) (map[string]string, error) {
	if db.Dialect() != "mysql" {
		return nil, nil
	}
	wanted := "'" + strings.Join(slices.Concat(setRunning, setAtStart), "', '") + "'"
	rows, err := db.Query(ctx, "SHOW GLOBAL VARIABLES WHERE Variable_name IN ("+wanted+")")
	if err != nil {
		return nil, fmt.Errorf("ask the database server for its settings: %w", err)
	}
	all := map[string]string{}
	for _, row := range rows {
		if len(row) == 2 {
			all[strings.ToLower(string(row[0].Data))] = string(row[1].Data)
		}
	}
	return all, nil
}

// startSettings are options that start a server with the settings that it can only be started with.
func startSettings(settings map[string]string) (options []string) {
	for _, name := range setAtStart {
		if value := settings[name]; plainNumber.MatchString(value) {
			options = append(options, "--"+strings.ReplaceAll(name, "_", "-")+"="+value)
		}
	}
	return options
}

var plainNumber = regexp.MustCompile(`^\d{1,9}$`)

// settleTables gives the copy's server the settings of the site's. One that it does not take is told.
func (b *bringing) settleTables(ctx context.Context, db database.Database) error {
	own, err := TableSettings(ctx, db)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(b.TableSettings)) {
		value := b.TableSettings[name]
		if has, known := own[name]; !known || has == value {
			continue
		}
		if slices.Contains(setRunning, name) {
			_, err = db.Query(ctx, "SET GLOBAL "+name+" = "+settingValue(value))
		}
		if err != nil || !slices.Contains(setRunning, name) {
			b.differs(fmt.Sprintf("its database server has %s = %s, the site's has %s", name, own[name], value))
		}
	}
	return ctx.Err()
}

// settingValue is a setting in a statement: a number is none in quotes.
func settingValue(value string) string {
	if plainNumber.MatchString(value) {
		return value
	}
	return quoteText(value)
}
