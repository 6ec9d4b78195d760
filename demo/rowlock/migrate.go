package rowlock

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
)

// Migrate brings the tables of each active plugin up to the version on disk. It
// runs at the first visit after a version changed, and never goes backward: old
// code then meets the new tables, as on a real site.
func (s *Server) Migrate(ctx context.Context) error {
	s.migrating.Lock()
	defer s.migrating.Unlock()
	type plugin struct {
		folder, version string
		migrated        int
	}
	rows, err := s.db.QueryContext(ctx, `SELECT folder, version, migrated FROM plugins WHERE active`)
	if err != nil {
		return fmt.Errorf("read the list of plugins: %w", err)
	}
	defer rows.Close()
	var plugins []plugin
	for rows.Next() {
		var p plugin
		if err := rows.Scan(&p.folder, &p.version, &p.migrated); err != nil {
			return err
		}
		plugins = append(plugins, p)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, p := range plugins {
		header, err := s.header(path.Join("plugins", p.folder, "plugin.toml"))
		if errors.Is(err, fs.ErrNotExist) || (err == nil && header.Version == p.version) {
			continue
		}
		if err != nil {
			return err
		}
		if err := s.migratePlugin(ctx, p.folder, header.Version, p.migrated); err != nil {
			return fmt.Errorf("migrate the plugin %s to %s: %w", p.folder, header.Version, err)
		}
	}
	return nil
}

func (s *Server) migratePlugin(ctx context.Context, folder, version string, done int) error {
	steps, err := filepath.Glob(filepath.Join(s.root, "plugins", folder, "migrations", "*.sql"))
	if err != nil {
		return err
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, step := range steps {
		number, _, _ := strings.Cut(filepath.Base(step), "-")
		n, err := strconv.Atoi(number)
		if err != nil || n <= done {
			continue
		}
		text, err := os.ReadFile(step)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, string(text)); err != nil {
			return fmt.Errorf("%s: %w", filepath.Base(step), err)
		}
		done = n
	}
	if _, err := tx.ExecContext(ctx, `UPDATE plugins SET version = ?, migrated = ? WHERE folder = ?`, version, done, folder); err != nil {
		return err
	}
	return tx.Commit()
}
