-- +goose Up

-- A space is what a team shares. Its key is that of the hashes which stand for secrets.
CREATE TABLE orenda.space (
	name text PRIMARY KEY CHECK (name ~ '^[a-z][a-z0-9_-]{0,39}$'),
	number int GENERATED ALWAYS AS IDENTITY UNIQUE,
	key bytea NOT NULL,
	owner text NOT NULL DEFAULT session_user,
	reader text, -- the role that may read, and
	writer text  -- the role that may write too; NULL the owner alone
);

CREATE SEQUENCE orenda.place;

-- Partitions: one for each space, in it one for each day, so that dropping a day is cheap. The day
-- is that of the id (UTC), so an id has one place only.
CREATE TABLE orenda.exchange (
	space text NOT NULL,
	day date NOT NULL,
	id text NOT NULL,
	place bigint NOT NULL,   -- the order in which they were kept
	started bigint NOT NULL, -- nanoseconds since 1970
	workspace text NOT NULL,
	kind text NOT NULL,
	contract text NOT NULL,
	operation text NOT NULL,
	endpoint text NOT NULL,
	outcome text NOT NULL,
	cause text NOT NULL,     -- id of the finding that leads, '' none
	reply bigint NOT NULL,   -- bytes of the reply
	changed boolean NOT NULL, -- something was changed since the attempt before
	person text NOT NULL,
	machine text NOT NULL,
	relay text NOT NULL,
	head bytea NOT NULL,     -- the record without its bytes, JSON, zstd
	body bytea NOT NULL,     -- the whole record, packed, zstd
	PRIMARY KEY (space, day, id)
) PARTITION BY LIST (space);
CREATE INDEX ON orenda.exchange (space, place);
CREATE INDEX ON orenda.exchange (space, operation, endpoint, workspace, kind, outcome, place);
CREATE INDEX ON orenda.exchange (space, cause, place);
CREATE INDEX ON orenda.exchange (space, "right"(id, 4));

-- Words stand apart: a condition on them may not come before the one of row level security, so in the
-- table above no index of them would be used. Nobody but the functions below reaches this table.
CREATE TABLE orenda.words (
	space text NOT NULL, day date NOT NULL, id text NOT NULL, place bigint NOT NULL, words tsvector NOT NULL,
	PRIMARY KEY (space, day, id)
) PARTITION BY LIST (space);
CREATE INDEX ON orenda.words (space, place);
CREATE INDEX ON orenda.words USING gin (words);

-- Long runs of bytes, each once in a space, and who holds them.
CREATE TABLE orenda.bytes (
	space text NOT NULL, hash text NOT NULL, length bigint NOT NULL, data bytea NOT NULL, PRIMARY KEY (space, hash)
);
ALTER TABLE orenda.bytes ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE orenda.holds (
	space text NOT NULL, hash text NOT NULL, day date NOT NULL, id text NOT NULL, PRIMARY KEY (space, hash, day, id)
);
CREATE INDEX ON orenda.holds (space, day, id);
CREATE TABLE orenda.marked (
	space text NOT NULL, id text NOT NULL, pinned boolean NOT NULL, note text NOT NULL, person text NOT NULL,
	PRIMARY KEY (space, id)
);

-- +goose StatementBegin
CREATE FUNCTION orenda.may(want text, writes boolean) RETURNS boolean
LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog AS $$
	SELECT EXISTS (
		SELECT 1 FROM orenda.space s WHERE s.name = want AND (s.owner = session_user OR EXISTS (
			SELECT 1 FROM pg_roles r WHERE (r.rolname = s.writer OR NOT writes AND r.rolname = s.reader)
				AND pg_has_role(session_user, r.oid, 'member'))))
$$;
-- +goose StatementEnd

-- The space that the connection named (orenda.space), where it may be used; else NULL.
-- +goose StatementBegin
CREATE FUNCTION orenda.open_space(writes boolean) RETURNS text
LANGUAGE sql STABLE SET search_path = pg_catalog AS $$
	SELECT CASE WHEN orenda.may(current_setting('orenda.space', true), writes)
		THEN current_setting('orenda.space', true) END
$$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE FUNCTION orenda.space_key(want text) RETURNS bytea
LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog AS $$
	SELECT s.key FROM orenda.space s WHERE s.name = want AND orenda.may(want, false)
$$;
-- +goose StatementEnd

-- A partition for a day of a space, made where it is not there.
-- +goose StatementBegin
CREATE FUNCTION orenda.make_day(want text, d date) RETURNS void
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $$
DECLARE
	n int;
	part text;
	of_table text;
BEGIN
	IF NOT orenda.may(want, true) THEN
		RAISE EXCEPTION 'the space % may not be written', want USING ERRCODE = 'insufficient_privilege';
	END IF;
	SELECT number INTO n FROM orenda.space WHERE name = want;
	PERFORM pg_advisory_xact_lock(7305941, 0);
	FOREACH of_table IN ARRAY ARRAY['exchange', 'words'] LOOP
		IF to_regclass(format('orenda.%s_%s', of_table, n)) IS NULL THEN
			EXECUTE format('CREATE TABLE orenda.%1$s_%2$s PARTITION OF orenda.%1$s FOR VALUES IN (%3$L) PARTITION BY RANGE (day)',
				of_table, n, want);
			EXECUTE format('ALTER TABLE orenda.%s_%s ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY', of_table, n);
		END IF;
		part := format('%s_%s_%s', of_table, n, to_char(d, 'YYYYMMDD'));
		IF to_regclass('orenda.' || part) IS NULL THEN
			EXECUTE format('CREATE TABLE orenda.%I PARTITION OF orenda.%s_%s FOR VALUES FROM (%L) TO (%L)',
				part, of_table, n, d, d + 1);
			EXECUTE format('ALTER TABLE orenda.%I ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY', part);
		END IF;
	END LOOP;
END
$$;
-- +goose StatementEnd

-- Drops a day of a space, unless something of it is marked.
-- +goose StatementBegin
CREATE FUNCTION orenda.drop_day(want text, d date) RETURNS boolean
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $$
DECLARE
	n int;
BEGIN
	IF NOT orenda.may(want, true) THEN
		RAISE EXCEPTION 'the space % may not be written', want USING ERRCODE = 'insufficient_privilege';
	END IF;
	PERFORM set_config('orenda.space', want, true);
	IF EXISTS (SELECT 1 FROM orenda.exchange e JOIN orenda.marked m ON m.space = e.space AND m.id = e.id
			WHERE e.space = want AND e.day = d) THEN
		RETURN false;
	END IF;
	SELECT number INTO n FROM orenda.space WHERE name = want;
	PERFORM pg_advisory_xact_lock(7305941, 0);
	EXECUTE format('DROP TABLE IF EXISTS orenda.%I, orenda.%I', format('exchange_%s_%s', n, to_char(d, 'YYYYMMDD')),
		format('words_%s_%s', n, to_char(d, 'YYYYMMDD')));
	DELETE FROM orenda.holds WHERE space = want AND day = d;
	DELETE FROM orenda.bytes b WHERE b.space = want AND NOT EXISTS (
		SELECT 1 FROM orenda.holds h WHERE h.space = b.space AND h.hash = b.hash);
	RETURN true;
END
$$;
-- +goose StatementEnd

-- Keeps the words of an exchange of a space.
-- +goose StatementBegin
CREATE FUNCTION orenda.keep_words(want text, d date, of_id text, at bigint, said text) RETURNS void
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $$
BEGIN
	IF NOT orenda.may(want, true) THEN
		RAISE EXCEPTION 'the space % may not be written', want USING ERRCODE = 'insufficient_privilege';
	END IF;
	INSERT INTO orenda.words VALUES (want, d, of_id, at, to_tsvector('simple', said))
		ON CONFLICT (space, day, id) DO UPDATE SET words = excluded.words;
END
$$;
-- +goose StatementEnd

-- Forgets the words of what a space does not keep any more.
-- +goose StatementBegin
CREATE FUNCTION orenda.forget_words(want text) RETURNS void
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $$
BEGIN
	IF NOT orenda.may(want, true) THEN
		RAISE EXCEPTION 'the space % may not be written', want USING ERRCODE = 'insufficient_privilege';
	END IF;
	PERFORM set_config('orenda.space', want, true);
	DELETE FROM orenda.words w WHERE w.space = want AND NOT EXISTS (
		SELECT 1 FROM orenda.exchange e WHERE e.space = w.space AND e.day = w.day AND e.id = w.id);
END
$$;
-- +goose StatementEnd

-- The newest exchanges of a space that have words. Rare ones are found by their index and then put in
-- order, common ones by going back from the newest: beforehand nobody can tell which are which.
-- +goose StatementBegin
CREATE FUNCTION orenda.find(want text, asked text, most int) RETURNS TABLE (day date, id text, place bigint)
LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = pg_catalog SET enable_seqscan = off AS $$
DECLARE
	q tsquery := to_tsquery('simple', asked);
	few constant int := 5000;
	hits int;
BEGIN
	IF NOT orenda.may(want, false) THEN
		RETURN;
	END IF;
	SELECT count(*) INTO hits FROM (SELECT 1 FROM orenda.words w WHERE w.space = want AND w.words @@ q LIMIT few) h;
	IF hits < few THEN
		RETURN QUERY SELECT h.day, h.id, h.place FROM (
			SELECT w.day, w.id, w.place FROM orenda.words w WHERE w.space = want AND w.words @@ q OFFSET 0) h
			ORDER BY h.place DESC LIMIT most;
	ELSE
		RETURN QUERY SELECT w.day, w.id, w.place FROM (
			SELECT * FROM orenda.words x WHERE x.space = want ORDER BY x.place DESC OFFSET 0) w
			WHERE w.words @@ q LIMIT most;
	END IF;
END
$$;
-- +goose StatementEnd

-- How many bytes each day of a space takes.
-- +goose StatementBegin
CREATE FUNCTION orenda.days(want text) RETURNS TABLE (day date, bytes bigint)
LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = pg_catalog AS $$
DECLARE
	n int;
BEGIN
	IF NOT orenda.may(want, false) THEN
		RETURN;
	END IF;
	SELECT number INTO n FROM orenda.space WHERE name = want;
	RETURN QUERY SELECT to_date(right(c.relname, 8), 'YYYYMMDD'), sum(pg_total_relation_size(c.oid))::bigint
		FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
		WHERE i.inhparent IN (to_regclass(format('orenda.exchange_%s', n)), to_regclass(format('orenda.words_%s', n)))
		GROUP BY 1 ORDER BY 1;
END
$$;
-- +goose StatementEnd

ALTER TABLE orenda.exchange ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY;
ALTER TABLE orenda.words ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY;
CREATE POLICY own ON orenda.words USING (true); -- the functions ask who may
ALTER TABLE orenda.bytes ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY;
ALTER TABLE orenda.holds ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY;
ALTER TABLE orenda.marked ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY;
CREATE POLICY own ON orenda.exchange USING (space = (SELECT orenda.open_space(false)))
	WITH CHECK (space = (SELECT orenda.open_space(true)));
CREATE POLICY own ON orenda.bytes USING (space = (SELECT orenda.open_space(false)))
	WITH CHECK (space = (SELECT orenda.open_space(true)));
CREATE POLICY own ON orenda.holds USING (space = (SELECT orenda.open_space(false)))
	WITH CHECK (space = (SELECT orenda.open_space(true)));
CREATE POLICY own ON orenda.marked USING (space = (SELECT orenda.open_space(false)))
	WITH CHECK (space = (SELECT orenda.open_space(true)));
