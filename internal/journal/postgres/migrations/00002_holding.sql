-- +goose Up
-- Which of some exchanges of a space have words.
-- +goose StatementBegin
CREATE FUNCTION orenda.holding(want text, asked text, ids text[]) RETURNS TABLE (id text)
LANGUAGE sql STABLE SECURITY DEFINER SET search_path = pg_catalog AS $$
	SELECT w.id FROM orenda.exchange e JOIN orenda.words w ON w.space = e.space AND w.day = e.day AND w.id = e.id
		WHERE orenda.may(want, false) AND e.space = want AND e.id = ANY (ids) AND w.words @@ to_tsquery('simple', asked)
$$;
-- +goose StatementEnd
