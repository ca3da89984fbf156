-- +goose Up
-- What is compressed is not compressed again.
ALTER TABLE archive_block ALTER COLUMN data SET STORAGE EXTERNAL;
ALTER TABLE archive_sums ALTER COLUMN data SET STORAGE EXTERNAL;

-- +goose Down
ALTER TABLE archive_block ALTER COLUMN data SET STORAGE EXTENDED;
ALTER TABLE archive_sums ALTER COLUMN data SET STORAGE EXTENDED;
