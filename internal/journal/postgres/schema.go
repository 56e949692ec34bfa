package postgres

import (
	"context"
	"crypto/rand"
	"embed"
	"fmt"
	"io/fs"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
	"github.com/pressly/goose/v3/lock"
)

//go:embed migrations/*.sql
var migrations embed.FS

// versions is the table of what was migrated.
const versions = "orenda.version"

// newest is the schema that this program knows.
const newest = 4

// errNewer is a schema that a newer program made.
type errNewer int64

func (e errNewer) Error() string {
	return fmt.Sprintf("the journal's schema is version %d, and this Orenda knows %d: a newer Orenda made it; "+
		"install that one here too", int64(e), newest)
}

// errOlder is a schema that this user of the database may not bring to what this program knows.
type errOlder int64

func (e errOlder) Error() string {
	return fmt.Sprintf("the journal's schema is version %d, and this Orenda wants %d: whoever made it brings it there "+
		"by orenda journal init --journal …", int64(e), newest)
}

// version is that of the schema; 0: there is none.
func version(ctx context.Context, pool *pgxpool.Pool) (v int64, err error) {
	var there bool
	err = pool.QueryRow(ctx, `SELECT to_regclass($1) IS NOT NULL`, versions).Scan(&there)
	if err != nil || !there {
		return 0, err
	}
	err = pool.QueryRow(ctx, `SELECT coalesce(max(version_id), 0) FROM `+versions+` WHERE is_applied`).Scan(&v)
	return v, err
}

// migrate brings the schema to what this program knows, forward only. It is safe where two start
// at once.
func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	v, err := version(ctx, pool)
	if err != nil || v == newest {
		return err
	}
	if v > newest {
		return errNewer(v)
	}
	if v > 0 {
		var may bool
		if err := pool.QueryRow(ctx, `SELECT has_schema_privilege('orenda', 'CREATE')`).Scan(&may); err != nil {
			return err
		}
		if !may {
			return errOlder(v)
		}
	}
	err = pgx.BeginFunc(ctx, pool, func(tx pgx.Tx) error { // CREATE … IF NOT EXISTS races with itself
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(7305940)`); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `CREATE SCHEMA IF NOT EXISTS orenda`)
		return err
	})
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	store, err := database.NewStore(database.DialectPostgres, versions)
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker(lock.WithLockTimeout(1, 60))
	if err != nil {
		return err
	}
	p, err := goose.NewProvider("", db, files, goose.WithStore(store), goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// errNoSpace is a space that the user of the database may not use, or that is not there.
type errNoSpace struct{ space, user string }

func (e errNoSpace) Error() string {
	return fmt.Sprintf("there is no space %s that %s may read; orenda journal init --journal … makes one, and "+
		"prints who may be let in", e.space, e.user)
}

// spaceKey is the key of the hashes of a space. Whoever made the tables has its space made.
func spaceKey(ctx context.Context, pool *pgxpool.Pool, a *Address) (key []byte, err error) {
	find := func() error {
		return pool.QueryRow(ctx, `SELECT orenda.space_key($1)`, a.Space).Scan(&key)
	}
	if err := find(); err != nil || key != nil {
		return key, err
	}
	var may bool
	if err := pool.QueryRow(ctx, `SELECT has_table_privilege('orenda.space', 'INSERT')`).Scan(&may); err != nil {
		return nil, err
	}
	if may {
		fresh := make([]byte, 32)
		_, _ = rand.Read(fresh)
		_, err := pool.Exec(
			ctx,
			`INSERT INTO orenda.space (name, key) VALUES ($1, $2) ON CONFLICT DO NOTHING`,
			a.Space,
			fresh,
		)
		if err == nil {
			err = find()
		}
		if err != nil || key != nil {
			return key, err
		}
	}
	return nil, errNoSpace{a.Space, a.config.ConnConfig.User}
}

// Roles are those who may read a space, and those who may write in it too.
func (a *Address) Roles() (reader, writer string) {
	return "orenda_" + a.Space + "_read", "orenda_" + a.Space + "_write"
}

func quoted(name string) string { return pgx.Identifier{name}.Sanitize() }

// LetIn are the statements that let somebody in, to read and to write too.
func (a *Address) LetIn() (reads, writes string) {
	reader, writer := a.Roles()
	return "GRANT " + quoted(reader) + " TO …", "GRANT " + quoted(writer) + " TO …"
}

// Init makes the tables, the space and its two roles, and grants them what they need. It gives the
// statements; where one could not be carried out, err says so, and they are for who may.
func Init(ctx context.Context, a *Address) (statements []string, err error) {
	pool, err := pgxpool.NewWithConfig(ctx, a.config)
	if err != nil {
		return nil, err
	}
	defer pool.Close()
	if err := migrate(ctx, pool); err != nil {
		return nil, err
	}
	if _, err := spaceKey(ctx, pool, a); err != nil {
		return nil, err
	}
	reader, writer := a.Roles()
	for _, role := range []string{reader, writer} {
		var there bool
		err := pool.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)`, role).Scan(&there)
		if err != nil {
			return nil, err
		}
		if !there {
			statements = append(statements, "CREATE ROLE "+quoted(role)+" NOLOGIN")
		}
	}
	r, w := quoted(reader), quoted(writer)
	statements = append(statements,
		"GRANT USAGE ON SCHEMA orenda TO "+r+", "+w,
		"GRANT SELECT ON orenda.exchange, orenda.bytes, orenda.holds, orenda.marked, "+versions+" TO "+r+", "+w,
		"GRANT INSERT, UPDATE, DELETE ON orenda.exchange, orenda.bytes, orenda.holds, orenda.marked TO "+w,
		"GRANT USAGE ON SEQUENCE orenda.place TO "+w,
		fmt.Sprintf("UPDATE orenda.space SET reader = '%s', writer = '%s' WHERE name = '%s'", reader, writer, a.Space),
	)
	for _, s := range statements {
		if _, err := pool.Exec(ctx, s); err != nil {
			return statements, fmt.Errorf("%s: %w", strings.SplitN(s, " TO ", 2)[0], err)
		}
	}
	return statements, nil
}
