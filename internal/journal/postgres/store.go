package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/oklog/ulid/v2"

	"orenda/internal/exchange"
	"orenda/internal/journal"
)

// store is the server's side of the journal: what it does, it does there, or it fails.
type store struct {
	pool  *pgxpool.Pool
	a     *Address
	known atomic.Pointer[[]byte] // the key of the space; nil: the server was never there
	press *journal.Press
	days  sync.Map // that have their partition, as YYYY-MM-DD
}

func (s *store) key() []byte {
	if k := s.known.Load(); k != nil {
		return *k
	}
	return nil
}

// channel is where it is told that something was kept.
func (a *Address) channel() string { return "orenda_" + strings.ReplaceAll(a.Space, "-", "_") }

// dayOf is the day of an id, by the time that stands in it (ULID); of another kind of id, of when
// it began.
func dayOf(x *exchange.Exchange) string {
	if id, err := ulid.ParseStrict(x.ID); err == nil {
		return ulid.Time(id.Time()).UTC().Format(time.DateOnly)
	}
	return x.Started.UTC().Format(time.DateOnly)
}

// text is what PostgreSQL takes as text: valid UTF-8 without zero bytes.
func text(s string) string { return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", " ") }

// add keeps several exchanges at once; there is an error, or nil, for each. err is one of all.
func (s *store) add(ctx context.Context, all []journal.Record) (errs []error, err error) {
	errs = make([]error, len(all))
	day := make([]string, len(all))
	for i, r := range all {
		day[i] = dayOf(r.Of)
		if _, there := s.days.Load(day[i]); !there {
			if _, err := s.pool.Exec(ctx, `SELECT orenda.make_day($1, $2::date)`, s.a.Space, day[i]); err != nil {
				return errs, err
			}
			s.days.Store(day[i], true)
		}
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		// One after the other within a space: so places grow as they become visible, and nobody who
		// reads on from a place misses one.
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(7305942, hashtext($1))`, s.a.Space); err != nil {
			return err
		}
		var b pgx.Batch
		for i, r := range all {
			s.queue(&b, r, day[i])
		}
		done := tx.SendBatch(ctx, &b)
		defer done.Close()
		for i, r := range all {
			var place int64
			switch err := done.QueryRow().Scan(&place, nil); {
			case errors.Is(err, pgx.ErrNoRows):
				errs[i] = errThere
			case err != nil:
				return err
			}
			for range 2 * len(r.Long) {
				if _, err := done.Exec(); err != nil {
					return err
				}
			}
		}
		if err := done.Close(); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `SELECT pg_notify($1, '')`, s.a.channel())
		return err
	})
	if err != nil {
		return errs, err
	}
	for i, r := range all {
		if errors.Is(errs[i], errThere) {
			was, err := s.record(ctx, r.Of.ID)
			if err != nil {
				return errs, err
			}
			now, err := r.Exchange()
			if err != nil {
				return errs, err
			}
			if errs[i] = nil; !journal.SameRecord(was, now) {
				errs[i] = journal.ErrTaken
			}
		}
	}
	return errs, nil
}

// errThere is an id that is kept already.
var errThere = errors.New("it is kept already")

func (s *store) queue(b *pgx.Batch, r journal.Record, day string) {
	x := r.Of
	cause := ""
	if c := x.Cause(); c != nil {
		cause = c.ID
	}
	from := x.From
	if from == nil {
		from = &exchange.Origin{}
	}
	b.Queue(`INSERT INTO orenda.exchange (space, day, id, place, started, workspace, kind, contract, operation,
			endpoint,
			outcome, cause, reply, changed, person, machine, relay, head, body)
		VALUES ($1, $2::text::date, $3, nextval('orenda.place'), $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15,
			$16,
			$17, $18)
		ON CONFLICT DO NOTHING RETURNING place, orenda.keep_words($1, $2::text::date, $3, place, $19)::text`,
		s.a.Space, day, text(x.ID), x.Started.UnixNano(), text(x.Workspace), text(x.Kind), text(x.Contract),
		text(x.Operation), text(x.Endpoint), string(x.Outcome), text(cause), journal.ReplySize(x), len(x.Changes) > 0,
		text(from.Person), text(from.Machine), text(from.Relay),
		s.press.Press(r.Head), s.press.Press(r.Body), text(r.Words))
	for _, l := range r.Long {
		b.Queue(`INSERT INTO orenda.bytes (space, hash, length, data) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`,
			s.a.Space, l.Hash, l.Bytes.Len(), s.press.Press(l.Bytes.Bytes()))
		b.Queue(`INSERT INTO orenda.holds (space, hash, day, id) VALUES ($1, $2, $3::text::date, $4)
				ON CONFLICT DO NOTHING`,
			s.a.Space, l.Hash, day, text(x.ID))
	}
}

// record is an exchange as it is kept, without the bytes that are apart.
func (s *store) record(ctx context.Context, id string) (*exchange.Exchange, error) {
	var head, body []byte
	err := s.pool.QueryRow(ctx, `SELECT head, body FROM orenda.exchange
			WHERE space = $1 AND day = $2::text::date AND id = $3`,
		s.a.Space, dayOf(&exchange.Exchange{ID: id}), id).Scan(&head, &body)
	if errors.Is(err, pgx.ErrNoRows) { // an id of another kind
		err = s.pool.QueryRow(ctx, `SELECT head, body FROM orenda.exchange WHERE space = $1 AND id = $2`,
			s.a.Space, id).Scan(&head, &body)
	}
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, journal.ErrNotFound
	}
	if err == nil {
		body, err = s.press.Unpress(body)
	}
	if err == nil {
		head, err = s.press.Unpress(head)
	}
	if err != nil {
		return nil, err
	}
	x := &exchange.Exchange{}
	return x, x.Unpack(exchange.Whole(head, body))
}

func (s *store) get(ctx context.Context, id string) (*exchange.Exchange, error) {
	var holding []string
	var err error
	if id == "last" {
		holding, err = texts(ctx, s.pool, `SELECT id FROM orenda.exchange WHERE space = $1 ORDER BY place DESC LIMIT 1`,
			s.a.Space)
		if len(holding) == 1 {
			id = holding[0]
		}
	} else if len(id) >= exchange.MinIDPart {
		holding, err = texts(ctx, s.pool, `SELECT id FROM orenda.exchange WHERE space = $1 AND "right"(id, 4) = $2
			AND right(id, $3) = $4 LIMIT 100`, s.a.Space, id[len(id)-4:], len(id), id)
		if err == nil && len(holding) == 0 { // not its end
			holding, err = texts(ctx, s.pool, `SELECT id FROM orenda.exchange WHERE space = $1 AND strpos(id, $2) > 0
				ORDER BY place DESC LIMIT 100`, s.a.Space, id)
		}
	}
	if err != nil {
		return nil, err
	}
	if id, err = journal.Pick(id, holding); err != nil {
		return nil, err
	}
	x, err := s.record(ctx, id)
	if err != nil {
		return nil, err
	}
	return x, x.PutTogether(func(hash string, _ int64) ([]byte, error) {
		var data []byte
		err := s.pool.QueryRow(ctx, `SELECT data FROM orenda.bytes WHERE space = $1 AND hash = $2`, s.a.Space, hash).
			Scan(&data)
		if err != nil {
			return nil, fmt.Errorf("the bytes %.8s are not kept any more: %w", hash, err)
		}
		return s.press.Unpress(data)
	})
}

// heads reads records without their bytes: the query gives one column.
func (s *store) heads(ctx context.Context, query string, args ...any) (out []*exchange.Exchange, err error) {
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (*exchange.Exchange, error) {
		var head []byte
		if err := row.Scan(&head); err != nil {
			return nil, err
		}
		return s.head(head)
	})
}

func (s *store) head(pressed []byte) (*exchange.Exchange, error) {
	b, err := s.press.Unpress(pressed)
	if err != nil {
		return nil, err
	}
	x := &exchange.Exchange{}
	return x, json.Unmarshal(b, x)
}

func texts(ctx context.Context, pool *pgxpool.Pool, query string, args ...any) ([]string, error) {
	rows, err := pool.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// wanted is the condition of a query, with its values.
func (s *store) wanted(q journal.Query) (where string, args []any) {
	where, args = "space = $1", []any{s.a.Space}
	add := func(text string, v any) {
		args = append(args, v)
		where += fmt.Sprintf(" AND "+text, len(args))
	}
	for _, f := range []struct{ column, is string }{
		{"workspace", q.Workspace}, {"operation", q.Operation}, {"endpoint", q.Endpoint},
	} {
		if f.is != "" {
			add(f.column+" = $%d", f.is)
		}
	}
	if q.Kind != "" {
		add("kind = $%d", strings.TrimPrefix(q.Kind, "call"))
	}
	if q.Before != "" {
		add("place < coalesce((SELECT min(place) FROM orenda.exchange WHERE space = $1 AND id = $%d), 1::bigint << 62)",
			q.Before)
	}
	return where, args
}

// words makes a query of words, each of which may be the beginning of one.
func words(typed string) string {
	var out []string
	for _, w := range strings.FieldsFunc(strings.ToLower(text(typed)), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) {
		out = append(out, "'"+w+"':*")
	}
	return strings.Join(out, " & ")
}

// isAway tells whether an error is one of the connection: the server is not there, or ends, or
// begins.
func isAway(err error) bool {
	var said *pgconn.PgError
	if errors.As(err, &said) {
		switch said.Code[:2] {
		case "08", "57", "53": // connection, operator (shutdown, cannot connect now), resources
			return true
		}
		return false
	}
	var connect *pgconn.ConnectError
	return err != nil && (errors.As(err, &connect) || pgconn.Timeout(err) || pgconn.SafeToRetry(err) ||
		errors.Is(err, context.DeadlineExceeded) || strings.Contains(err.Error(), "EOF") ||
		strings.Contains(err.Error(), "conn closed") || strings.Contains(err.Error(), "connection reset") ||
		strings.Contains(err.Error(), "broken pipe") || strings.Contains(err.Error(), "use of closed"))
}
