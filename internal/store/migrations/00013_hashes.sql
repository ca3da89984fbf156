-- +goose Up
-- Who sent and who received, and their domains, by hashes: the indexes hold eight octets in
-- place of each text (store/search.go, sameAs). They are made anew here, all of history's.
DROP INDEX message_sender, message_sender_domain, delivery_done_recipient, delivery_done_domain;
CREATE INDEX message_sender ON message (hashtextextended(lower(sender), 0), id);
CREATE INDEX message_sender_domain ON message (hashtextextended(split_part(lower(sender), '@', -1), 0), id);
CREATE INDEX delivery_done_recipient ON delivery_done (hashtextextended(lower(recipient), 0), message_id);
CREATE INDEX delivery_done_domain ON delivery_done (hashtextextended(split_part(lower(recipient), '@', -1), 0), message_id);
