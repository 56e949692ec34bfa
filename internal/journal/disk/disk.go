// Package disk is the journal on disk: SQLite with a write-ahead log, private
// to the person, large records in files beside it.
package disk

import (
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/user"
)

// apart is the longest run of bytes that stands in the record itself.
const apart = journal.Apart

// inline is the largest compressed record that is kept in the database.
const inline = 1 << 20

// Journal is a journal in a folder.
type Journal struct {
	dir   string
	key   []byte
	press *journal.Press
	lists journal.Lists

	mu   sync.RWMutex // held while the database is used, and wholly while it is replaced
	db   *sql.DB
	file os.FileInfo // of the database
	news string      // what happened to the journal, not yet told
}

const tables = `
CREATE TABLE IF NOT EXISTS exchange (
	id TEXT PRIMARY KEY, started INTEGER NOT NULL, workspace TEXT NOT NULL, kind TEXT NOT NULL,
	operation TEXT NOT NULL, endpoint TEXT NOT NULL, reply INTEGER NOT NULL,
	head BLOB NOT NULL, -- the record without its bytes, JSON
	body BLOB           -- the rest of the record, compressed; NULL where it is in a file
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS bytes (
	hash TEXT PRIMARY KEY, length INTEGER NOT NULL,
	data BLOB           -- zstd; NULL where they are in a file
);
CREATE TABLE IF NOT EXISTS settings (
	hash TEXT PRIMARY KEY, list BLOB NOT NULL, -- JSON
	uses INTEGER NOT NULL                      -- by how many exchanges
);
CREATE TABLE IF NOT EXISTS holds (hash TEXT NOT NULL, id TEXT NOT NULL, PRIMARY KEY (hash, id)) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS holds_by_id ON holds (id);
CREATE INDEX IF NOT EXISTS by_time ON exchange (workspace, started);
DROP INDEX IF EXISTS by_operation;
CREATE INDEX IF NOT EXISTS by_tail ON exchange (substr(id, -4));
DROP INDEX IF EXISTS by_size;
DROP INDEX IF EXISTS by_outcome;
DROP INDEX IF EXISTS by_cause;
DROP INDEX IF EXISTS by_finding;
`

const byPlace = `
DROP INDEX IF EXISTS by_place;
DROP INDEX IF EXISTS of_workspace;
CREATE INDEX IF NOT EXISTS by_order ON exchange (place, started);
CREATE INDEX IF NOT EXISTS in_workspace ON exchange (workspace, place, started);
CREATE INDEX IF NOT EXISTS by_reply ON exchange (operation, kind, place, reply);
DROP INDEX IF EXISTS by_result;
DROP INDEX IF EXISTS by_change;
CREATE INDEX IF NOT EXISTS by_answer ON exchange (operation, endpoint, workspace, kind, ` + outcome + `, place);
CREATE INDEX IF NOT EXISTS by_changes ON exchange (place) WHERE ` + changed + ` AND kind = '';
CREATE TRIGGER IF NOT EXISTS settings_of_dropped AFTER DELETE ON exchange WHEN OLD.settings IS NOT NULL BEGIN
	UPDATE settings SET uses = uses - 1 WHERE hash = OLD.settings;
	DELETE FROM settings WHERE hash = OLD.settings AND uses <= 0;
END;
CREATE TRIGGER IF NOT EXISTS settings_of_changed AFTER UPDATE OF settings ON exchange
	WHEN OLD.settings IS NOT NULL BEGIN
	UPDATE settings SET uses = uses - 1 WHERE hash = OLD.settings;
	DELETE FROM settings WHERE hash = OLD.settings AND uses <= 0;
END;
`

// What indexes hold stands in columns of its own; a row of an older version has it in its head alone.
const (
	outcome = `coalesce(outcome, json_extract(CAST(head AS TEXT), '$.outcome'))`
	changed = `coalesce(changes, json_array_length(CAST(head AS TEXT), '$.changes')) > 0`
	cause   = `json_extract(CAST(head AS TEXT), '$.findings[0].id')`
)

// Open opens or makes the journal in a folder (mode 0700, files 0600). One that
// is damaged is put aside, what can be read of it goes into another, and News tells.
func Open(dir string) (*Journal, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	key, err := secretKey(filepath.Join(dir, "hash.key"))
	if err != nil {
		return nil, err
	}
	j := &Journal{dir: dir, key: key}
	if j.press, err = journal.NewPress(); err != nil {
		return nil, err
	}
	return j, j.open(nil)
}

func connect(path string) (*sql.DB, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600) // so that SQLite does not choose the mode
	if err != nil {
		return nil, err
	}
	f.Close()
	db, err := sql.Open(
		"sqlite",
		"file:"+path+"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(5000)&_pragma=synchronous(NORMAL)",
	)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // data_version tells of other connections only
	if _, err := db.Exec(tables + keepingTables + wordTables); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if err := addColumns(db); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return db, nil
}

// addColumns gives the table of an older version what came later: the order in which exchanges were
// kept, which no clock that was set wrongly can change, what indexes hold, and the hash of the
// settings where they do not stand in the head.
func addColumns(db *sql.DB) error {
	for _, column := range []string{"place INTEGER NOT NULL DEFAULT 0", "outcome TEXT", "changes INTEGER",
		"settings TEXT"} {
		name, _, _ := strings.Cut(column, " ")
		var there int
		err := db.QueryRow(`SELECT count(*) FROM pragma_table_info('exchange') WHERE name = ?`, name).Scan(&there)
		if err == nil && there == 0 {
			_, err = db.Exec(`ALTER TABLE exchange ADD COLUMN ` + column)
		}
		if err != nil {
			return err
		}
	}
	_, err := db.Exec(byPlace)
	return err
}

// secretKey is the key of the hashes that stand for secrets.
func secretKey(path string) ([]byte, error) {
	if b, err := os.ReadFile(path); err == nil && len(b) == 32 {
		return b, nil
	}
	b := make([]byte, 32)
	_, _ = rand.Read(b)
	return b, user.WriteFile(path, b)
}

// row is an exchange as it is kept.
type row struct {
	journal.Record
	body  []byte // Whole, compressed
	added bool   // it was not there before
}

func (j *Journal) rowOf(x *exchange.Exchange) (r row, err error) {
	r.Record, err = journal.NewRecord(x, j.key, false, &j.lists)
	r.body = j.press.Press(r.Body)
	return r, err
}

// Add implements journal.Journal.
func (j *Journal) Add(x *exchange.Exchange) error { return j.AddAll([]*exchange.Exchange{x})[0] }

// AddAll keeps several exchanges at once, which is much faster than one after the other. There
// is an error, or nil, for each.
func (j *Journal) AddAll(all []*exchange.Exchange) []error { return j.Prepare(all)() }

// Prepare implements journal.Preparer.
func (j *Journal) Prepare(all []*exchange.Exchange) (add func() []error) {
	errs := make([]error, len(all))
	rows := make([]row, len(all))
	var wg sync.WaitGroup
	next := make(chan int)
	for range min(len(all), runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			for i := range next {
				rows[i], errs[i] = j.rowOf(all[i])
			}
		})
	}
	for i := range all {
		next <- i
	}
	close(next)
	wg.Wait()
	return func() []error { return j.addAll(rows, errs) }
}

// addAll keeps rows of which errs tells what was wrong so far.
func (j *Journal) addAll(rows []row, errs []error) []error {
	err := j.with(func(db *sql.DB) error {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback() }()
		in, err := tx.Prepare(insert)
		if err != nil {
			return err
		}
		defer in.Close()
		for i := range rows {
			if errs[i] != nil {
				continue
			}
			if err := j.add(tx, in, &rows[i]); err != nil {
				return err
			}
		}
		if err := keepSettings(tx, rows, errs); err != nil {
			return err
		}
		for i := range rows {
			if errs[i] != nil || rows[i].added {
				continue
			}
			if errs[i] = j.there(tx, &rows[i]); errs[i] != nil && !errors.Is(errs[i], journal.ErrTaken) {
				return errs[i]
			}
		}
		return tx.Commit()
	})
	for i := range errs {
		if errs[i] == nil {
			errs[i] = err
		}
	}
	return errs
}

// base is a database, or a transaction of it.
type base interface {
	Exec(query string, args ...any) (sql.Result, error)
	QueryRow(query string, args ...any) *sql.Row
}

// insert takes what columns has, but for the place, which follows the last one.
const insert = `INSERT INTO exchange (` + columns + `, settings, outcome, changes)
	VALUES (?,?,?,?,?,?,?,?,?, (SELECT coalesce(max(place), 0) + 1 FROM exchange), ?,?,?) ON CONFLICT (id) DO NOTHING`

func (j *Journal) add(db base, in *sql.Stmt, r *row) error {
	x := r.Of
	inside := r.body
	if len(inside) > inline {
		inside = nil
	}
	done, err := in.Exec(
		x.ID,
		x.Started.UnixNano(),
		x.Workspace,
		x.Kind,
		x.Operation,
		x.Endpoint,
		journal.ReplySize(x),
		r.Head,
		inside,
		r.Settings.Hash,
		string(x.Outcome),
		len(x.Changes),
	)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return err
	}
	r.added = true
	if _, err := j.outside(x.ID, r.body); err != nil {
		return err
	}
	return j.keepLong(db, r)
}

// there tells what is wrong with a row whose id is kept already: nothing, where it says the same.
func (j *Journal) there(db base, r *row) error {
	was, err := j.record(db, r.Of.ID)
	if err != nil {
		return err
	}
	now, err := r.Exchange()
	if err != nil {
		return err
	}
	if !journal.SameRecord(was, now) {
		return journal.ErrTaken
	}
	return nil
}

// keepLong keeps the long runs of bytes of a record.
func (j *Journal) keepLong(db base, r *row) error {
	for _, long := range r.Long {
		if err := j.keepBytes(db, long.Hash, long.Bytes); err != nil {
			return err
		}
		if _, err := db.Exec(`INSERT OR IGNORE INTO holds VALUES (?,?)`, long.Hash, r.Of.ID); err != nil {
			return err
		}
	}
	return nil
}

// headed are the columns of which heads are read.
const headed = `head, settings, place`

const columns = `id, started, workspace, kind, operation, endpoint, reply, head, body, place`

// outside puts a record that is too large for the database into a file, and gives
// what stands in the database in its place.
func (j *Journal) outside(id string, body []byte) (inside []byte, err error) {
	if len(body) <= inline {
		return body, nil
	}
	return nil, user.WriteFile(j.large(id), body)
}

// Judge implements journal.Journal.
func (j *Journal) Judge(x *exchange.Exchange) error {
	return j.with(func(db *sql.DB) error {
		kept, err := j.record(db, x.ID)
		if err != nil {
			return err
		}
		kept.Findings = x.Redact(j.key).Findings
		r, err := j.rowOf(kept)
		if err != nil {
			return err
		}
		r.added = true
		if err := keepSettings(db, []row{r}, []error{nil}); err != nil {
			return err
		}
		if err := j.keepLong(db, &r); err != nil {
			return err
		}
		inside, err := j.outside(x.ID, r.body)
		if err != nil {
			return err
		}
		_, err = db.Exec(`UPDATE exchange SET head = ?, body = ?, settings = ? WHERE id = ?`, r.Head, inside,
			r.Settings.Hash, x.ID)
		return err
	})
}

// large is the file of what is too large for the database.
func (j *Journal) large(id string) string {
	return filepath.Join(j.dir, "large", filepath.Base(id)+".z")
}

// wanted is the condition of a query, with its values.
func wanted(q journal.Query) (string, []any) {
	var where []string
	var args []any
	add := func(text string, v any) { where, args = append(where, text), append(args, v) }
	for col, v := range map[string]string{"workspace": q.Workspace, "operation": q.Operation, "endpoint": q.Endpoint} {
		if v != "" {
			add(col+" = ?", v)
		}
	}
	if q.Kind != "" {
		add("kind = ?", strings.TrimPrefix(q.Kind, "call"))
	}
	if q.Before != "" {
		add("place < coalesce((SELECT place FROM exchange WHERE id = ?), 1 << 62)", q.Before)
	}
	if where == nil {
		return "", nil
	}
	return " WHERE " + strings.Join(where, " AND "), args
}

// List implements journal.Journal.
func (j *Journal) List(q journal.Query) ([]*exchange.Exchange, error) {
	where, args := wanted(q)
	most := q.Max
	if most == 0 {
		most = 200
	}
	return j.heads("SELECT "+headed+" FROM exchange"+where+" ORDER BY place DESC, started DESC, id DESC LIMIT ?",
		append(args, most)...)
}

// Count implements journal.Journal.
func (j *Journal) Count(q journal.Query) (n int, err error) {
	where, args := wanted(q)
	err = j.with(func(db *sql.DB) error {
		return db.QueryRow("SELECT count(*) FROM exchange"+where, args...).Scan(&n)
	})
	return n, err
}

// heads reads records without their bytes: the query gives heads, and the hashes of their settings.
func (j *Journal) heads(query string, args ...any) (out []*exchange.Exchange, err error) {
	err = j.with(func(db *sql.DB) error {
		out, _, err = j.headsOf(db, query, args...)
		return err
	})
	return out, err
}

// headsOf reads as heads does, and gives what further columns of the last row hold.
func (j *Journal) headsOf(db *sql.DB, query string, args ...any) (out []*exchange.Exchange, last int64, err error) {
	rows, err := db.Query(query, args...)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	var hashes []sql.NullString
	for rows.Next() {
		var head []byte
		var hash sql.NullString
		if err := rows.Scan(&head, &hash, &last); err != nil {
			return nil, 0, err
		}
		x := &exchange.Exchange{}
		if err := json.Unmarshal(head, x); err != nil {
			return nil, 0, &unreadable{err}
		}
		out, hashes = append(out, x), append(hashes, hash)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil { // there is one connection
		return nil, 0, err
	}
	for i, x := range out {
		if err := j.putSettings(db, x, hashes[i]); err != nil {
			return nil, 0, err
		}
	}
	return out, last, nil
}

// scan gives the one column of each row to do.
func scan[T any](db *sql.DB, do func(T) error, query string, args ...any) error {
	rows, err := db.Query(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var v T
		if err := rows.Scan(&v); err != nil {
			return err
		}
		if err := do(v); err != nil {
			return err
		}
	}
	return rows.Err()
}

// After implements journal.Journal.
func (j *Journal) After(place int64) (out []*exchange.Exchange, last int64, err error) {
	err = j.with(func(db *sql.DB) error {
		out, last, err = j.headsOf(db, `SELECT `+headed+` FROM exchange WHERE place > ? ORDER BY place LIMIT ?`,
			place, journal.MaxAfter)
		return err
	})
	return out, max(last, place), err
}

// Last implements journal.Journal.
func (j *Journal) Last() (last int64, err error) {
	err = j.with(func(db *sql.DB) error {
		return db.QueryRow(`SELECT coalesce(max(place), 0) FROM exchange`).Scan(&last)
	})
	return last, err
}

// Get implements journal.Journal.
func (j *Journal) Get(id string) (*exchange.Exchange, error) {
	holding, err := j.ids(`SELECT id FROM exchange INDEXED BY by_time WHERE instr(id, ?) > 0 LIMIT 100`, id)
	if id == "last" {
		holding, err = j.ids(`SELECT id FROM exchange ORDER BY place DESC, started DESC LIMIT 1`)
		if len(holding) == 1 {
			id = holding[0]
		}
	}
	if err != nil {
		return nil, err
	}
	if id, err = journal.Pick(id, holding); err != nil {
		return nil, err
	}
	var x *exchange.Exchange
	err = j.with(func(db *sql.DB) error {
		if x, err = j.record(db, id); err != nil {
			return err
		}
		return x.PutTogether(func(hash string, length int64) ([]byte, error) { return j.findBytes(db, hash, length) })
	})
	return x, err
}

// Tail implements journal.Journal.
func (j *Journal) Tail(id string) int {
	others, err := j.ids(`SELECT id FROM exchange WHERE substr(id, -4) = ?`, id[max(len(id)-exchange.MinIDPart, 0):])
	if err != nil {
		return len(id)
	}
	return journal.TailOf(id, others)
}

func (j *Journal) ids(query string, args ...any) (out []string, err error) {
	err = j.with(func(db *sql.DB) error {
		out = nil
		return scan(db, func(id string) error { out = append(out, id); return nil }, query, args...)
	})
	return out, err
}

// record is an exchange as it is kept, without the bytes that are apart.
func (j *Journal) record(db base, id string) (*exchange.Exchange, error) {
	var head, body []byte
	var settings sql.NullString
	err := db.QueryRow(`SELECT head, body, settings FROM exchange WHERE id = ?`, id).Scan(&head, &body, &settings)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, journal.ErrNotFound
	}
	if err == nil && body == nil {
		body, err = os.ReadFile(j.large(id))
	}
	if err != nil {
		return nil, err
	}
	whole, err := j.press.Unpress(body)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the record of %s is damaged", id), err)
	}
	x := &exchange.Exchange{}
	if err := x.Unpack(exchange.Whole(head, whole)); err != nil {
		return nil, err
	}
	return x, j.putSettings(db, x, settings)
}

// ReplySizes implements journal.Journal.
func (j *Journal) ReplySizes(operation string, like *exchange.Exchange) (out []int64) {
	where, args := "", []any{operation}
	if like != nil {
		where = " AND workspace = ? AND coalesce(json_extract(CAST(head AS TEXT), '$.contract'), '') = ?"
		args = append(args, like.Workspace, like.Contract)
		if like.Contract == "" {
			where += " AND endpoint = ?"
			args = append(args, like.Endpoint)
		}
	}
	args = append(args, journal.MaxSizes)
	_ = j.with(func(db *sql.DB) error {
		out = nil
		return scan(db, func(n int64) error { out = append(out, n); return nil },
			`SELECT reply FROM exchange WHERE operation = ? AND kind = '' AND reply > 0`+where+`
				ORDER BY place DESC, started DESC LIMIT ?`,
			args...)
	})
	return out
}

// Passed implements journal.Journal.
func (j *Journal) Passed(workspace, operation, endpoint string) *exchange.Exchange {
	found, err := j.heads(
		`SELECT `+headed+` FROM exchange WHERE operation = ? AND endpoint = ? AND workspace = ? AND kind = ''
			AND `+outcome+` = 'passed' ORDER BY place DESC, started DESC LIMIT 1`,
		operation,
		endpoint,
		workspace,
	)
	if err != nil || len(found) == 0 {
		return nil
	}
	return found[0]
}

// maxChanged is how many calls after a change Repaired looks at. They are few, failed calls are not.
const maxChanged = 50

// Repaired implements journal.Journal.
func (j *Journal) Repaired(finding string) (out []*exchange.Exchange) {
	out, _ = j.heads(`SELECT `+headed+` FROM (
			SELECT head, settings, workspace, operation, endpoint, started, place FROM exchange
				WHERE `+changed+` AND kind = '' ORDER BY place DESC LIMIT ?) n
		WHERE json_extract(CAST(n.head AS TEXT), '$.outcome') = 'passed' AND ? = (
			SELECT CASE WHEN `+outcome+` <> 'passed' THEN `+cause+` END FROM exchange INDEXED BY by_time
				WHERE workspace = n.workspace AND operation = n.operation AND endpoint = n.endpoint
					AND kind = '' AND started < n.started ORDER BY started DESC LIMIT 1)
		ORDER BY n.place DESC LIMIT ?`, maxChanged, finding, journal.MaxRepaired)
	return out
}

// Version implements journal.Journal: other processes' changes are seen too.
func (j *Journal) Version() int64 {
	var other, mine int64
	_ = j.with(func(db *sql.DB) error {
		_ = db.QueryRow(`PRAGMA data_version`).Scan(&other)
		return db.QueryRow(`SELECT total_changes()`).Scan(&mine)
	})
	return other<<32 + mine
}

// Close implements journal.Journal.
func (j *Journal) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	_, _ = j.db.Exec(`PRAGMA wal_checkpoint(TRUNCATE)`)
	return j.db.Close()
}
