// Package postgres is the journal in PostgreSQL, which several people and relays share. Rows
// belong to a space, a team's name, and no space reads another's. While the server is away, what
// is kept waits on disk here, and is handed on in its order once it is back.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"orenda/internal/endpoint"
	"orenda/internal/pattern"
)

// Is tells whether the place of a journal is one in PostgreSQL.
func Is(place string) bool {
	return strings.HasPrefix(place, "postgres://") || strings.HasPrefix(place, "postgresql://")
}

// Address is where a journal is: postgres://USER@HOST:PORT/DATABASE?space=NAME.
type Address struct {
	Host  string // host and port, as they are told
	Space string // "default" unless it is named

	config *pgxpool.Config
}

// DefaultSpace is the space where none is named.
const DefaultSpace = "default"

var spaceName = pattern.New(`^[a-z][a-z0-9_-]{0,39}$`)

// ParseAddress reads the address of a journal. password, "" none, is that of its user; one that
// stands in the address is refused. TLS is demanded, and verified, but on loopback.
func ParseAddress(place, password string) (*Address, error) {
	u, err := url.Parse(place)
	if err != nil || u.Host == "" {
		return nil, errors.New("the address of the journal is not postgres://USER@HOST:PORT/DATABASE?space=NAME")
	}
	if _, has := u.User.Password(); has || u.Query().Has("password") {
		return nil, errors.New("a password stands in the address of the journal; say where it is with password-from")
	}
	q := u.Query()
	a := &Address{Host: u.Host, Space: q.Get("space")}
	if a.Space == "" {
		a.Space = DefaultSpace
	}
	if !spaceName.MatchString(a.Space) {
		return nil, fmt.Errorf("%q is not the name of a space: small letters, digits, - and _, 40 at most", a.Space)
	}
	q.Del("space")
	onLoopback := endpoint.IsLoopback(u.Hostname())
	switch mode := q.Get("sslmode"); {
	case mode == "" && onLoopback:
		q.Set("sslmode", "prefer")
	case mode == "":
		q.Set("sslmode", "verify-full")
	case mode != "verify-full" && !onLoopback:
		return nil, fmt.Errorf("sslmode=%s does not verify the server; that is for loopback only", mode)
	}
	u.RawQuery = q.Encode()
	if a.config, err = pgxpool.ParseConfig(u.String()); err != nil {
		return nil, fmt.Errorf("the address of the journal: %w", err)
	}
	if password != "" {
		a.config.ConnConfig.Password = password
	}
	c := a.config
	c.MaxConns = 6
	c.ConnConfig.ConnectTimeout = connectTime
	c.ConnConfig.RuntimeParams["application_name"] = "orenda"
	c.AfterConnect = func(ctx context.Context, conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, `SELECT set_config('orenda.space', $1, false)`, a.Space)
		return err
	}
	c.ConnConfig.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement
	return a, nil
}

// String is the address as it is shown: it holds no secret.
func (a *Address) String() string {
	c := a.config.ConnConfig
	return fmt.Sprintf("postgres://%s@%s/%s?space=%s", c.User, a.Host, c.Database, a.Space)
}
