-- +goose Up
-- The line before the content of a message in a mailbox is its Return-Path and nothing else:
-- it is made from the sender when it is read.
ALTER TABLE mailbox_message DROP head;
