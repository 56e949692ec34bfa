-- +goose Up
-- From here on bodies are apart from their heads, so that equal ones are kept once: an older Orenda does not read
-- such records, and is told so.
SELECT 1;
