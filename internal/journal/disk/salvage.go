package disk

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"orenda/internal/user"
)

func (j *Journal) path() string { return filepath.Join(j.dir, "journal.db") }

// unreadable is a record that comes back otherwise than it was written. The database does not
// always say that a page is damaged in which a long value goes on.
type unreadable struct{ error }

func (e *unreadable) Unwrap() error { return e.error }

// damaged tells whether a file is no journal, or not a whole one.
func damaged(err error) bool {
	if _, is := errors.AsType[*unreadable](err); is {
		return true
	}
	e, ok := errors.AsType[*sqlite.Error](err)
	return ok && (e.Code()&0xff == codes.SQLITE_NOTADB || e.Code()&0xff == codes.SQLITE_CORRUPT)
}

// with runs do on the database. Where that proves to be damaged, or another program has
// put it aside, do runs once more, on the one that is in its place.
func (j *Journal) with(do func(db *sql.DB) error) error {
	j.mu.RLock()
	db, file := j.db, j.file
	var err error
	if now, serr := os.Stat(j.path()); serr == nil && os.SameFile(now, file) {
		if err = do(db); !damaged(err) {
			j.mu.RUnlock()
			return err
		}
	}
	j.mu.RUnlock()
	if rerr := j.renew(db); rerr != nil {
		return errors.Join(err, rerr)
	}
	j.mu.RLock()
	defer j.mu.RUnlock()
	return do(j.db)
}

// renew opens the journal again in the place of a database that was damaged or put aside.
func (j *Journal) renew(broken *sql.DB) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.db != broken {
		return nil // somebody else did
	}
	file := j.file
	_ = broken.Close()
	return j.open(file)
}

// open connects to the journal. A file that cannot be connected to, or that is the broken
// one, is put aside, and what can be read of it goes into a new one.
func (j *Journal) open(broken os.FileInfo) error {
	unlock, err := (&user.Home{State: j.dir}).Lock(j.path()) // nobody opens what is being put aside
	if err != nil {
		return err
	}
	defer unlock()
	now, serr := os.Stat(j.path())
	isBroken := broken != nil && serr == nil && os.SameFile(now, broken)
	var db *sql.DB
	if !isBroken {
		db, err = connect(j.path())
	}
	if isBroken || damaged(err) {
		var aside string
		if aside, err = putAside(j.dir, j.path()); err != nil {
			return err
		}
		if db, err = connect(j.path()); err == nil {
			n := salvage(aside, db)
			j.news = fmt.Sprintf("a new journal was begun: the one before was damaged, and is now %s", aside)
			if n > 0 {
				j.news += fmt.Sprintf("; %d exchanges of it could be read, and are in the new one", n)
			}
		}
	}
	if err != nil {
		return err
	}
	if j.file, err = os.Stat(j.path()); err != nil {
		db.Close()
		return err
	}
	j.db = db
	return nil
}

// News tells, once, what happened to the journal itself; "" is nothing.
func (j *Journal) News() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	words := j.news
	j.news = ""
	return words
}

// putAside gives a damaged journal another name.
func putAside(dir, path string) (aside string, err error) {
	aside = filepath.Join(dir, "journal-damaged-"+time.Now().UTC().Format("20060102-150405.000")+".db")
	for _, part := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(path+part, aside+part); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
	return aside, nil
}

// salvage copies what can be read of a damaged journal, and gives how many exchanges
// that were. Each row is asked for by itself: a damaged page takes only its own along.
// The damaged file stays as it is: a copy of it is read.
func salvage(aside string, into *sql.DB) (exchanges int) {
	dir, err := os.MkdirTemp(filepath.Dir(aside), ".salvage-")
	if err != nil {
		return 0
	}
	defer os.RemoveAll(dir)
	for _, part := range []string{"", "-wal"} {
		b, err := os.ReadFile(aside + part)
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, "journal.db"+part), b, 0o600)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return 0
		}
	}
	from, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "journal.db"))
	if err != nil {
		return 0
	}
	defer from.Close()
	from.SetMaxOpenConns(1)
	tx, err := into.Begin()
	if err != nil {
		return 0
	}
	const headColumn = 7 // of an exchange
	copied := func(read, write string, columns int, key string) bool {
		values, to := make([]any, columns), make([]any, columns)
		for i := range to {
			to[i] = &values[i]
		}
		if from.QueryRow(read, key).Scan(to...) != nil {
			return false
		}
		if head, ok := values[min(headColumn, columns-1)].([]byte); columns > headColumn && ok && !json.Valid(head) {
			return false // a page that it goes on in is damaged, and the database does not say so
		}
		_, err := tx.Exec(write, values...)
		return err == nil
	}
	orElse := func(column, other string) string { // a journal of an older version has it not
		var one any
		err := from.QueryRow(`SELECT ` + column + ` FROM exchange LIMIT 1`).Scan(&one)
		if err != nil && !damaged(err) && !errors.Is(err, sql.ErrNoRows) {
			return other
		}
		return column
	}
	place, settings := orElse("place", "0"), orElse("settings", "NULL")
	for _, id := range knownIDs(from) {
		if copied(`SELECT id, started, workspace, kind, operation, endpoint, reply, head, body, `+place+`, `+settings+
			` FROM exchange WHERE id = ?`,
			`INSERT OR IGNORE INTO exchange (`+columns+`, settings) VALUES (?,?,?,?,?,?,?,?,?,?,?)`, 11, id) {
			exchanges++
		}
	}
	salvageSettings(from, tx, copied)
	salvageBytes(from, tx, copied)
	var marked []string // pins and notes are the person's own
	_ = scan(from, func(id string) error { marked = append(marked, id); return nil }, `SELECT id FROM marked`)
	for _, id := range marked {
		copied(`SELECT id, pinned, note FROM marked WHERE id = ?`, `INSERT OR IGNORE INTO marked VALUES (?,?,?)`, 3, id)
	}
	if tx.Commit() != nil {
		return 0
	}
	return exchanges
}

// salvageSettings copies what can be read of the lists of settings, and counts who uses them.
func salvageSettings(from *sql.DB, tx *sql.Tx, copied func(read, write string, columns int, key string) bool) {
	var hashes []string
	_ = scan(from, func(h string) error { hashes = append(hashes, h); return nil }, `SELECT hash FROM settings`)
	for _, h := range hashes {
		copied(`SELECT hash, list, 0 FROM settings WHERE hash = ? AND json_valid(CAST(list AS TEXT))`,
			`INSERT OR IGNORE INTO settings VALUES (?,?,?)`, 3, h)
	}
	_, _ = tx.Exec(`UPDATE settings SET uses = of.n FROM
		(SELECT settings AS hash, count(*) AS n FROM exchange GROUP BY settings) AS of WHERE of.hash = settings.hash`)
}

// salvageBytes copies what can be read of long bytes, and who holds them.
func salvageBytes(from *sql.DB, tx *sql.Tx, copied func(read, write string, columns int, key string) bool) {
	var hashes []string
	_ = scan(from, func(h string) error { hashes = append(hashes, h); return nil }, `SELECT hash FROM bytes`)
	for _, h := range hashes {
		copied(
			`SELECT hash, length, data FROM bytes WHERE hash = ?`,
			`INSERT OR IGNORE INTO bytes VALUES (?,?,?)`,
			3,
			h,
		)
		var holders []string // exchanges may share bytes
		_ = scan(from, func(id string) error { holders = append(holders, id); return nil },
			`SELECT id FROM holds WHERE hash = ?`, h)
		for _, id := range holders {
			_, _ = tx.Exec(`INSERT OR IGNORE INTO holds VALUES (?,?)`, h, id)
		}
	}
}

// knownIDs are the ids of the exchanges in a damaged journal. The indexes hold the keys
// as well: what one has lost, another may know.
func knownIDs(from *sql.DB) []string {
	keys := map[string]bool{}
	for _, q := range []string{
		`SELECT id FROM exchange ORDER BY id`, `SELECT id FROM exchange ORDER BY id DESC`,
		`SELECT id FROM exchange INDEXED BY by_time`, `SELECT id FROM exchange INDEXED BY by_tail`,
		`SELECT id FROM exchange INDEXED BY by_time ORDER BY workspace DESC, started DESC`,
		`SELECT id FROM holds`,
	} {
		_ = scan(from, func(id string) error { keys[id] = true; return nil }, q)
	}
	return slices.Sorted(maps.Keys(keys))
}
