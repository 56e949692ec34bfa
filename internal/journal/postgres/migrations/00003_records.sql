-- +goose Up
-- Records are packed in another way from here on, which an older Orenda does not read: it is told so.
SELECT 1;
