"""Verifies the DKIM signatures of a message by an independent implementation
(python3-dkim). Reads {"message": text in Latin-1, "dns": {name: record}} and prints
the result of each signature."""
import json
import sys

import dkim

given = json.load(sys.stdin)
message = given["message"].encode("latin-1")
records = {name.rstrip(".").lower(): text for name, text in given["dns"].items()}


def lookup(name, timeout=5):
    if isinstance(name, bytes):
        name = name.decode()
    text = records.get(name.rstrip(".").lower())
    return text.encode() if text is not None else None


d = dkim.DKIM(message)
count = sum(1 for name, _ in d.headers if name.lower() == b"dkim-signature")
json.dump([d.verify(idx=i, dnsfunc=lookup) for i in range(count)], sys.stdout)
