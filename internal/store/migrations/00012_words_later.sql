-- +goose Up
-- The words of messages and refusals are written in the commit of what they belong to, not
-- behind it, and indexed in bulk when their day is over (store/words.go).
INSERT INTO find_text SELECT ids[i], words[i] FROM count_log, generate_subscripts(ids, 1) i
    WHERE kind = 1 AND words IS NOT NULL ON CONFLICT DO NOTHING;
INSERT INTO find_text SELECT m.id, left(lower(concat_ws(E'\n', m.sender, m.header_from, m.subject, m.message_id, r.all)), 4000)
    FROM (SELECT unnest(ids) AS id FROM count_log WHERE kind = 1 AND words IS NULL) k JOIN message m ON m.id = k.id
    CROSS JOIN LATERAL (SELECT string_agg(DISTINCT a, E'\n') AS all FROM (
        SELECT unnest(ARRAY[recipient, original]) AS a FROM delivery WHERE message_id = k.id
        UNION ALL SELECT unnest(ARRAY[recipient, original]) FROM delivery_done WHERE message_id = k.id) d) r
    ON CONFLICT DO NOTHING;
INSERT INTO find_text SELECT m.id, left(lower(concat_ws(E'\n', m.sender, m.header_from, m.subject, m.message_id, m.recipient)), 4000)
    FROM (SELECT unnest(ids) AS id FROM count_log WHERE kind = 4) k JOIN refusal m ON m.id = k.id
    ON CONFLICT DO NOTHING;
ALTER TABLE count_log DROP words;

-- The indexes of days that are over are made anew within minutes.
DROP INDEX find_text_words;
ALTER TABLE find_text DROP CONSTRAINT find_text_pkey;
CREATE INDEX find_text_id ON find_text USING brin (id) WITH (pages_per_range = 16, autosummarize = on);
