-- +goose Up
-- A fourth tier of counts, of four weeks: a report of a quarter adds up a third of the rows.
INSERT INTO count_sum SELECT '4 weeks', date_bin('28 days', at, '0001-01-01 00:00:00+00'), dim, value, kind,
    sum(n), sum(bytes), sum(delay), max(delay_max) FROM count_sum WHERE tier = 'week' GROUP BY 2, 3, 4, 5;
