package disk

import (
	"database/sql"
	"encoding/json"
	"errors"

	"orenda/internal/exchange"
)

// keepSettings keeps the settings of the rows that were added, each list once, and counts them.
func keepSettings(db base, rows []row, errs []error) error {
	uses := map[string]int{}
	for i := range rows {
		if errs[i] == nil && rows[i].added {
			uses[rows[i].Settings.Hash]++
		}
	}
	for i := range rows {
		s := rows[i].Settings
		if errs[i] != nil || uses[s.Hash] == 0 {
			continue
		}
		_, err := db.Exec(`INSERT INTO settings VALUES (?,?,?)
			ON CONFLICT (hash) DO UPDATE SET uses = uses + excluded.uses`, s.Hash, s.JSON, uses[s.Hash])
		if err != nil {
			return err
		}
		delete(uses, s.Hash)
	}
	return nil
}

// putSettings gives an exchange the settings of a hash. Where those are lost, as a page of the
// journal was damaged, it has none.
func (j *Journal) putSettings(db base, x *exchange.Exchange, hash sql.NullString) error {
	if !hash.Valid {
		return nil // they stand in its head
	}
	list, err := j.lists.Find(hash.String, func() (text []byte, err error) {
		err = db.QueryRow(`SELECT list FROM settings WHERE hash = ?`, hash.String).Scan(&text)
		return text, err
	})
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if _, bad := errors.AsType[*json.SyntaxError](err); bad {
		return &unreadable{err}
	}
	x.Settings = list
	return err
}
