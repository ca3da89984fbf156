"""Seals or verifies a chain by an independent implementation (python3-dkim). Reads {"message":
text in Latin-1, "dns": {name: record}} and, to seal, {"key": PEM, "domain", "selector", "host"};
prints the verdict, or the fields that were added."""
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


if "key" in given:
    fields = dkim.arc_sign(
        message, given["selector"].encode(), given["domain"].encode(), given["key"].encode(),
        given["host"].encode())
    json.dump(b"".join(fields).decode(), sys.stdout)
else:
    verdict, _, why = dkim.arc_verify(message, dnsfunc=lookup)
    json.dump([verdict.decode(), why], sys.stdout)
