package disk

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// The words of messages are looked up in an index of SQLite (FTS5). It follows behind: what
// was kept since is read into it when words are looked for, so that keeping costs nothing.

const wordTables = `
CREATE VIRTUAL TABLE IF NOT EXISTS words USING fts5(text, content='', contentless_delete=1);
CREATE TABLE IF NOT EXISTS indexed (place INTEGER NOT NULL);
INSERT INTO indexed SELECT 0 WHERE NOT EXISTS (SELECT 1 FROM indexed);
`

const (
	indexBatch = 200 // exchanges that are read at once
)

// Index reads into the index what was kept since, and gives how many exchanges that were.
func (j *Journal) Index(ctx context.Context) (total int, err error) {
	for ctx.Err() == nil {
		n := 0
		if err := j.with(func(db *sql.DB) (err error) { n, err = j.indexSome(db); return err }); err != nil {
			return total, err
		}
		if total += n; n < indexBatch {
			return total, nil
		}
	}
	return total, ctx.Err()
}

func (j *Journal) indexSome(db *sql.DB) (n int, err error) {
	var from int64
	if err := db.QueryRow(`SELECT place FROM indexed`).Scan(&from); err != nil {
		return 0, err
	}
	type kept struct {
		id    string
		place int64
	}
	var list []kept
	rows, err := db.Query(`SELECT id, place FROM exchange WHERE place > ? ORDER BY place LIMIT ?`, from, indexBatch)
	if err != nil {
		return 0, err
	}
	for rows.Next() {
		var k kept
		if err := rows.Scan(&k.id, &k.place); err != nil {
			rows.Close()
			return 0, err
		}
		list = append(list, k)
	}
	if err := rows.Close(); err != nil || len(list) == 0 {
		return 0, err
	}
	texts := make([]string, len(list))
	for i, k := range list {
		x, err := j.record(db, k.id)
		if err != nil {
			continue // it is damaged, or was pruned
		}
		find := func(hash string, length int64) ([]byte, error) {
			if length > inline { // of what is longer the words are not looked for
				return nil, nil
			}
			return j.findBytes(db, hash, length)
		}
		if x.PutTogether(find) == nil {
			texts[i] = journal.Words(x)
		}
	}
	tx, err := db.Begin()
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback() }() // after a commit it does nothing
	for i, k := range list {
		_, err := tx.Exec(`INSERT OR REPLACE INTO words (rowid, text) VALUES (?, ?)`, k.place, texts[i])
		if err != nil {
			return 0, err
		}
	}
	if _, err := tx.Exec(`UPDATE indexed SET place = ?`, list[len(list)-1].place); err != nil {
		return 0, err
	}
	return len(list), tx.Commit()
}

// Search gives exchanges that hold all words of a text, or words that begin so, newest first.
func (j *Journal) Search(ctx context.Context, text string, most int) ([]*exchange.Exchange, error) {
	if _, err := j.Index(ctx); err != nil {
		return nil, err
	}
	match := matching(text)
	if match == "" {
		return nil, nil
	}
	return j.heads(`SELECT `+headed+` FROM exchange WHERE place IN
		(SELECT rowid FROM words WHERE words MATCH ? ORDER BY rowid DESC LIMIT ?) ORDER BY place DESC`,
		match, most)
}

// matching is what the index is asked for: all words of a text, or words that begin so. ""
// where the text has none.
func matching(text string) string {
	var match []string
	for _, w := range strings.Fields(text) {
		if len(journal.Tokens(w)) > 0 {
			match = append(match, `"`+strings.ReplaceAll(w, `"`, `""`)+`"*`)
		}
	}
	return strings.Join(match, " ")
}

// Holding implements journal.Journal.
func (j *Journal) Holding(ctx context.Context, text string, among []*exchange.Exchange) (map[string]bool, error) {
	out := map[string]bool{}
	match := matching(text)
	if match == "" || len(among) == 0 {
		return out, nil
	}
	if _, err := j.Index(ctx); err != nil {
		return nil, err
	}
	ids := make([]string, len(among))
	for i, x := range among {
		ids[i] = x.ID
	}
	asked, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	err = j.with(func(db *sql.DB) error {
		clear(out)
		rows, err := db.QueryContext(ctx, `WITH some AS MATERIALIZED (
				SELECT id, place FROM exchange WHERE id IN (SELECT value FROM json_each(?)))
			SELECT id FROM some WHERE place IN (SELECT rowid FROM words WHERE words MATCH ?
				AND rowid BETWEEN (SELECT min(place) FROM some) AND (SELECT max(place) FROM some))`,
			string(asked), match)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var id string
			if err := rows.Scan(&id); err != nil {
				return err
			}
			out[id] = true
		}
		return rows.Err()
	})
	return out, err
}
