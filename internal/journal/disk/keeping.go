package disk

import (
	"database/sql"
	"os"
	"path/filepath"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

const keepingTables = `
CREATE TABLE IF NOT EXISTS marked (id TEXT PRIMARY KEY, pinned INTEGER NOT NULL, note TEXT NOT NULL);
`

// Mark pins an exchange, or writes a note on it; neither takes the mark away.
func (j *Journal) Mark(id string, m journal.Mark) error {
	return j.with(func(db *sql.DB) error {
		if m == (journal.Mark{}) {
			_, err := db.Exec(`DELETE FROM marked WHERE id = ?`, id)
			return err
		}
		_, err := db.Exec(`INSERT OR REPLACE INTO marked VALUES (?, ?, ?)`, id, m.Pinned, m.Note)
		return err
	})
}

// Marks are those that were set, by the ids of exchanges.
func (j *Journal) Marks() (out map[string]journal.Mark, err error) {
	err = j.with(func(db *sql.DB) error {
		out = map[string]journal.Mark{}
		rows, err := db.Query(`SELECT id, pinned, note FROM marked`)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var id string
			var m journal.Mark
			if err := rows.Scan(&id, &m.Pinned, &m.Note); err != nil {
				return err
			}
			out[id] = m
		}
		return rows.Err()
	})
	return out, err
}

// Size is how much is kept.
func (j *Journal) Size() (s journal.Size, err error) {
	err = j.with(func(db *sql.DB) error {
		var oldest int64
		err := db.QueryRow(`SELECT count(*), coalesce(min(started), 0) FROM exchange`).Scan(&s.Count, &oldest)
		if err != nil {
			return err
		}
		if s.Count > 0 {
			s.Oldest = time.Unix(0, oldest)
		}
		return nil
	})
	for _, part := range []string{"", "-wal"} {
		if info, serr := os.Stat(j.path() + part); serr == nil {
			s.Bytes += info.Size()
		}
	}
	files, _ := os.ReadDir(filepath.Dir(j.large(""))) // there is none before the first
	for _, f := range files {
		if info, ierr := f.Info(); ierr == nil {
			s.Bytes += info.Size()
		}
	}
	return s, err
}

// Prune takes away what is older than a time, and of the rest the oldest until no more than
// so many bytes are kept; 0 sets no limit. What is pinned or noted stays, and so does the
// newest. only tells, and takes nothing away.
func (j *Journal) Prune(before time.Time, most int64, only bool) (n int, err error) {
	s, err := j.Size()
	if err != nil {
		return 0, err
	}
	var ids []string
	err = j.with(func(db *sql.DB) error {
		ids = nil
		const free = `id NOT IN (SELECT id FROM marked) AND place < (SELECT max(place) FROM exchange)`
		if err := scan(db, func(id string) error { ids = append(ids, id); return nil },
			`SELECT id FROM exchange WHERE started < ? AND `+free, before.UnixNano()); err != nil {
			return err
		}
		if most > 0 && s.Bytes > most && s.Count > 0 {
			// As many of the oldest as take what is too much, at the size that one has on average.
			each := max(s.Bytes/int64(s.Count), 1)
			more := int((s.Bytes-most)/each) + 1
			seen := map[string]bool{}
			for _, id := range ids {
				seen[id] = true
			}
			if err := scan(db, func(id string) error {
				if !seen[id] {
					ids = append(ids, id)
				}
				return nil
			}, `SELECT id FROM exchange WHERE `+free+` ORDER BY place LIMIT ?`, more); err != nil {
				return err
			}
		}
		if only {
			return nil
		}
		return j.drop(db, ids)
	})
	if err == nil && !only && len(ids) > 0 {
		err = j.with(func(db *sql.DB) error { _, err := db.Exec(`VACUUM`); return err })
	}
	return len(ids), err
}

// drop takes exchanges away, with the bytes that nobody else holds.
func (j *Journal) drop(db *sql.DB, ids []string) error {
	var files []string
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // after a commit it does nothing
	for _, id := range ids {
		for _, do := range []string{
			`DELETE FROM words WHERE rowid = (SELECT place FROM exchange WHERE id = ?)`,
			`DELETE FROM exchange WHERE id = ?`, `DELETE FROM holds WHERE id = ?`,
		} {
			if _, err := tx.Exec(do, id); err != nil {
				return err
			}
		}
		files = append(files, j.large(id))
	}
	rows, err := tx.Query(`SELECT hash FROM bytes WHERE hash NOT IN (SELECT hash FROM holds)`)
	if err != nil {
		return err
	}
	var hashes []string
	for rows.Next() {
		var hash string
		if err := rows.Scan(&hash); err != nil {
			rows.Close()
			return err
		}
		hashes = append(hashes, hash)
	}
	if err := rows.Close(); err != nil {
		return err
	}
	for _, hash := range hashes {
		if _, err := tx.Exec(`DELETE FROM bytes WHERE hash = ?`, hash); err != nil {
			return err
		}
		files = append(files, j.large(hash))
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	for _, f := range files {
		_ = os.Remove(f) // most have none
	}
	return nil
}

// Oldest are the exchanges that were kept first, whole.
func (j *Journal) Oldest(most int) (out []*exchange.Exchange, err error) {
	ids, err := j.ids(`SELECT id FROM exchange ORDER BY place, started LIMIT ?`, most)
	for _, id := range ids {
		x, err := j.Get(id)
		if err != nil {
			return out, err
		}
		out = append(out, x)
	}
	return out, err
}

// Forget takes exchanges away, marked or not.
func (j *Journal) Forget(ids ...string) error {
	return j.with(func(db *sql.DB) error { return j.drop(db, ids) })
}
