package rowlock

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
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

// Upgrade takes the steps of Rowlock's own tables that were not taken yet, one statement after the other: one that
// fails leaves half a step behind, as on a real site.
func (s *Server) Upgrade(ctx context.Context) error {
	s.migrating.Lock()
	defer s.migrating.Unlock()
	steps, err := filepath.Glob(filepath.Join(s.root, "system", "tables", "*.sql"))
	if err != nil {
		return err
	}
	taken := 0
	err = s.db.QueryRowContext(ctx, `SELECT value FROM settings WHERE name = 'tables'`).Scan(&taken)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("read which tables there are: %w", err)
	}
	for ; taken < len(steps); taken++ {
		text, err := os.ReadFile(steps[taken])
		if err != nil {
			return err
		}
		for statement := range strings.SplitSeq(string(text), ";\n") {
			if _, err := s.db.ExecContext(ctx, statement); err != nil {
				return fmt.Errorf("%s: %w", filepath.Base(steps[taken]), err)
			}
		}
		if _, err := s.db.ExecContext(ctx, `INSERT INTO settings (name, value) VALUES ('tables', ?1) ON CONFLICT (name) DO UPDATE SET value = ?1`, taken+1); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) serveUpgrade(w http.ResponseWriter, r *http.Request) {
	if err := s.Upgrade(r.Context()); err != nil {
		s.sorry(w, "/system/upgrade", err)
		return
	}
	writeHTML(w, http.StatusOK, []byte("<!DOCTYPE html><html lang=\"en\"><head><title>Rowlock</title></head><body><h1>Rowlock is up to date</h1></body></html>\n"))
}
