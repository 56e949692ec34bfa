package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// Judge implements journal.Journal.
func (j *Journal) Judge(x *exchange.Exchange) error {
	return j.ask(readTime, func(ctx context.Context) error {
		kept, err := j.store.get(ctx, x.ID)
		if err != nil {
			return err
		}
		kept.Findings = x.Redact(j.store.key()).Findings
		r, err := journal.NewRecord(kept, j.store.key(), true, nil)
		if err != nil {
			return err
		}
		cause := ""
		if c := kept.Cause(); c != nil {
			cause = c.ID
		}
		s := j.store
		_, err = s.pool.Exec(ctx, `WITH u AS (UPDATE orenda.exchange SET head = $1, body = $2, cause = $3
			WHERE space = $5 AND day = $6::text::date AND id = $7 RETURNING place)
			SELECT orenda.keep_words($5, $6::text::date, $7, place, $4) FROM u`,
			s.press.Press(r.Head), s.press.Press(r.Body), text(cause), text(r.Words), s.a.Space, dayOf(kept), kept.ID)
		return err
	})
}

// list asks for heads.
func (j *Journal) list(query string, args ...any) (out []*exchange.Exchange, err error) {
	err = j.ask(readTime, func(ctx context.Context) (err error) {
		out, err = j.store.heads(ctx, query, args...)
		return err
	})
	return out, err
}

// List implements journal.Journal.
func (j *Journal) List(q journal.Query) ([]*exchange.Exchange, error) {
	where, args := j.store.wanted(q)
	most := q.Max
	if most == 0 {
		most = 200
	}
	return j.list(fmt.Sprintf("SELECT head FROM orenda.exchange WHERE %s ORDER BY place DESC "+
		"LIMIT %d", where, most), args...)
}

// Count implements journal.Journal.
func (j *Journal) Count(q journal.Query) (n int, err error) {
	where, args := j.store.wanted(q)
	err = j.ask(readTime, func(ctx context.Context) error {
		return j.store.pool.QueryRow(ctx, "SELECT count(*) FROM orenda.exchange WHERE "+where, args...).Scan(&n)
	})
	return n, err
}

// After implements journal.Journal.
func (j *Journal) After(place int64) (out []*exchange.Exchange, last int64, err error) {
	last = place
	err = j.ask(readTime, func(ctx context.Context) error {
		rows, err := j.store.pool.Query(ctx, `SELECT place, head FROM orenda.exchange WHERE space = $1 AND place > $2
			ORDER BY place LIMIT $3`, j.store.a.Space, place, journal.MaxAfter)
		if err != nil {
			return err
		}
		out, last = nil, place
		var head []byte
		_, err = pgx.ForEachRow(rows, []any{&last, &head}, func() error {
			x, err := j.store.head(head)
			out = append(out, x)
			return err
		})
		return err
	})
	return out, last, err
}

// Last implements journal.Journal.
func (j *Journal) Last() (last int64, err error) {
	err = j.ask(readTime, func(ctx context.Context) error {
		return j.store.pool.QueryRow(ctx, `SELECT coalesce(max(place), 0) FROM orenda.exchange WHERE space = $1`,
			j.store.a.Space).Scan(&last)
	})
	return last, err
}

// Get implements journal.Journal.
func (j *Journal) Get(id string) (x *exchange.Exchange, err error) {
	err = j.ask(readTime, func(ctx context.Context) (err error) { x, err = j.store.get(ctx, id); return err })
	return x, err
}

// Tail implements journal.Journal.
func (j *Journal) Tail(id string) int {
	var others []string
	err := j.ask(answerTime, func(ctx context.Context) (err error) {
		others, err = texts(ctx, j.store.pool, `SELECT id FROM orenda.exchange
			WHERE space = $1 AND "right"(id, 4) = $2`,
			j.store.a.Space, id[max(len(id)-exchange.MinIDPart, 0):])
		return err
	})
	if err != nil {
		return len(id)
	}
	return journal.TailOf(id, others)
}

// ReplySizes implements journal.Journal.
func (j *Journal) ReplySizes(operation string, like *exchange.Exchange) (out []int64) {
	where, args := "", []any{j.store.a.Space, operation, journal.MaxSizes}
	if like != nil {
		where, args = " AND workspace = $4 AND contract = $5", append(args, like.Workspace, like.Contract)
		if like.Contract == "" {
			where, args = where+" AND endpoint = $6", append(args, like.Endpoint)
		}
	}
	_ = j.ask(answerTime, func(ctx context.Context) error {
		rows, err := j.store.pool.Query(ctx, `SELECT reply FROM orenda.exchange WHERE space = $1 AND operation = $2
			AND kind = '' AND reply > 0`+where+` ORDER BY place DESC LIMIT $3`, args...)
		if err == nil {
			out, err = pgx.CollectRows(rows, pgx.RowTo[int64])
		}
		return err
	})
	return out
}

// briefly asks for heads that a call waits for: none where the server does not answer soon.
func (j *Journal) briefly(query string, args ...any) (out []*exchange.Exchange) {
	_ = j.ask(answerTime, func(ctx context.Context) (err error) {
		out, err = j.store.heads(ctx, query, args...)
		return err
	})
	return out
}

// Passed implements journal.Journal.
func (j *Journal) Passed(workspace, operation, endpoint string) *exchange.Exchange {
	found := j.briefly(`SELECT head FROM orenda.exchange WHERE space = $1 AND operation = $2 AND endpoint = $3
		AND workspace = $4 AND kind = '' AND outcome = 'passed' ORDER BY place DESC LIMIT 1`,
		j.store.a.Space, operation, endpoint, workspace)
	if len(found) == 0 {
		return nil
	}
	return found[0]
}

// Repaired implements journal.Journal.
func (j *Journal) Repaired(finding string) []*exchange.Exchange {
	const failed = 50 // that are looked behind
	return j.briefly(`SELECT n.head FROM (
			SELECT * FROM orenda.exchange WHERE space = $1 AND cause = $2 ORDER BY place DESC LIMIT $3) f
		CROSS JOIN LATERAL (
			SELECT head, outcome, changed FROM orenda.exchange e WHERE e.space = $1 AND e.operation = f.operation
				AND e.endpoint = f.endpoint AND e.workspace = f.workspace AND e.kind = '' AND e.place > f.place
			ORDER BY e.place LIMIT 1) n
		WHERE n.outcome = 'passed' AND n.changed ORDER BY f.place DESC LIMIT $4`,
		j.store.a.Space, finding, failed, journal.MaxRepaired)
}

// Search implements journal.Keeper.
func (j *Journal) Search(ctx context.Context, typed string, most int) ([]*exchange.Exchange, error) {
	query := words(typed)
	if query == "" {
		return nil, nil
	}
	return j.list(`SELECT e.head FROM orenda.find($1, $2, $3) f JOIN orenda.exchange e
		ON e.space = $1 AND e.day = f.day AND e.id = f.id ORDER BY f.place DESC`, j.store.a.Space, query, most)
}

// Holding implements journal.Journal.
func (j *Journal) Holding(_ context.Context, typed string, among []*exchange.Exchange) (map[string]bool, error) {
	out := map[string]bool{}
	query := words(typed)
	if query == "" || len(among) == 0 {
		return out, nil
	}
	ids := make([]string, len(among))
	for i, x := range among {
		ids[i] = x.ID
	}
	err := j.ask(readTime, func(ctx context.Context) error {
		rows, err := j.store.pool.Query(ctx, `SELECT id FROM orenda.holding($1, $2, $3)`, j.store.a.Space, query, ids)
		if err != nil {
			return err
		}
		var id string
		_, err = pgx.ForEachRow(rows, []any{&id}, func() error { out[id] = true; return nil })
		return err
	})
	return out, err
}

// Mark implements journal.Keeper.
func (j *Journal) Mark(id string, m journal.Mark) error {
	return j.ask(readTime, func(ctx context.Context) error {
		if m == (journal.Mark{}) {
			_, err := j.store.pool.Exec(ctx, `DELETE FROM orenda.marked WHERE space = $1 AND id = $2`,
				j.store.a.Space, id)
			return err
		}
		_, err := j.store.pool.Exec(ctx, `INSERT INTO orenda.marked (space, id, pinned, note, person)
			VALUES ($1, $2, $3, $4, $5) ON CONFLICT (space, id) DO UPDATE SET pinned = $3, note = $4, person = $5`,
			j.store.a.Space, id, m.Pinned, text(m.Note), j.from.Person)
		return err
	})
}

// Marks implements journal.Keeper.
func (j *Journal) Marks() (out map[string]journal.Mark, err error) {
	err = j.ask(readTime, func(ctx context.Context) error {
		rows, err := j.store.pool.Query(ctx, `SELECT id, pinned, note FROM orenda.marked WHERE space = $1`,
			j.store.a.Space)
		if err != nil {
			return err
		}
		out = map[string]journal.Mark{}
		var id string
		var m journal.Mark
		_, err = pgx.ForEachRow(rows, []any{&id, &m.Pinned, &m.Note}, func() error { out[id] = m; return nil })
		return err
	})
	return out, err
}

// Size implements journal.Keeper.
func (j *Journal) Size() (s journal.Size, err error) {
	err = j.ask(readTime, func(ctx context.Context) error {
		var oldest *int64
		err := j.store.pool.QueryRow(ctx, `SELECT count(*), min(started),
			(SELECT coalesce(sum(bytes), 0)::bigint FROM orenda.days($1)) FROM orenda.exchange WHERE space = $1`,
			j.store.a.Space).Scan(&s.Count, &oldest, &s.Bytes)
		if err == nil && oldest != nil {
			s.Oldest = time.Unix(0, *oldest)
		}
		return err
	})
	return s, err
}

// Prune implements journal.Keeper: whole days are dropped where all of one goes, and single
// exchanges are taken away only of the day at the edge, or beside what is marked.
func (j *Journal) Prune(before time.Time, most int64, only bool) (n int, err error) {
	err = j.ask(
		10*time.Minute,
		func(ctx context.Context) (err error) { n, err = j.store.prune(ctx, before, most, only); return err },
	)
	return n, err
}

// day is a day of a space.
type day struct {
	Day   time.Time
	Bytes int64
}

func (s *store) prune(ctx context.Context, before time.Time, most int64, only bool) (n int, err error) {
	rows, err := s.pool.Query(ctx, `SELECT day, bytes FROM orenda.days($1) ORDER BY day`, s.a.Space)
	if err != nil {
		return 0, err
	}
	days, err := pgx.CollectRows(rows, pgx.RowToStructByPos[day])
	if err != nil {
		return 0, err
	}
	total := int64(0)
	for _, d := range days {
		total += d.Bytes
	}
	for i, d := range days {
		old := !d.Day.AddDate(0, 0, 1).After(before.UTC())
		if newest := i == len(days)-1; !old && (most <= 0 || total <= most) || newest {
			break
		}
		var held int
		err := s.pool.QueryRow(ctx, `SELECT count(*) FROM orenda.exchange e WHERE space = $1 AND day = $2
			AND NOT EXISTS (SELECT 1 FROM orenda.marked m WHERE m.space = e.space AND m.id = e.id)`,
			s.a.Space, d.Day).Scan(&held)
		if err != nil {
			return n, err
		}
		n += held
		total -= d.Bytes
		if only {
			continue
		}
		var dropped bool
		if err := s.pool.QueryRow(ctx, `SELECT orenda.drop_day($1, $2)`, s.a.Space, d.Day).Scan(&dropped); err != nil {
			return n, err
		}
		s.days.Delete(d.Day.Format(time.DateOnly))
		if !dropped {
			if err := s.drop(ctx, `day = $2`, d.Day); err != nil {
				return n, err
			}
		}
	}
	edge := `started < $2 AND place < (SELECT max(place) FROM orenda.exchange WHERE space = $1)`
	var more int
	err = s.pool.QueryRow(ctx, `SELECT count(*) FROM orenda.exchange e WHERE space = $1 AND `+edge+`
		AND day >= $3 AND NOT EXISTS (SELECT 1 FROM orenda.marked m WHERE m.space = e.space AND m.id = e.id)`,
		s.a.Space, before.UnixNano(), before.UTC().Truncate(24*time.Hour)).Scan(&more)
	if err != nil || only {
		return n + more, err
	}
	return n + more, s.drop(ctx, edge, before.UnixNano())
}

// drop takes away single exchanges that are not marked, and the bytes that nobody holds then.
func (s *store) drop(ctx context.Context, where string, arg any) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		for _, do := range []string{
			`DELETE FROM orenda.exchange e WHERE space = $1 AND ` + where + ` AND NOT EXISTS (
				SELECT 1 FROM orenda.marked m WHERE m.space = e.space AND m.id = e.id)`,
		} {
			if _, err := tx.Exec(ctx, do, s.a.Space, arg); err != nil {
				return err
			}
		}
		for _, do := range []string{`SELECT orenda.forget_words($1)`,
			`DELETE FROM orenda.holds h WHERE space = $1 AND NOT EXISTS (
				SELECT 1 FROM orenda.exchange e WHERE e.space = h.space AND e.day = h.day AND e.id = h.id)`,
			`DELETE FROM orenda.bytes b WHERE space = $1 AND NOT EXISTS (
				SELECT 1 FROM orenda.holds h WHERE h.space = b.space AND h.hash = b.hash)`,
		} {
			if _, err := tx.Exec(ctx, do, s.a.Space); err != nil {
				return err
			}
		}
		return nil
	})
}
