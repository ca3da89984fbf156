"""Evaluates SPF cases by an independent implementation (python3-spf), with DNS
taken from the table. Reads {"dns": {name: {type: [..]}}, "cases": [..]} and
prints a list of results."""
import json
import sys

import spf

table = json.load(sys.stdin)
zone = {name.lower(): types for name, types in table["dns"].items()}


def lookup(name, qtype, strict=True, timeout=20):
    name = name.lower().rstrip(".")
    types = zone.get(name, {})
    if "TIMEOUT" in types:
        raise spf.TempError("DNS times out")
    out = []
    for value in types.get(qtype, []):
        if qtype == "MX":
            preference, host = value.split()
            out.append(((name, "MX"), (int(preference), host)))
        elif qtype == "TXT":
            out.append(((name, "TXT"), (value.encode(),)))
        elif qtype == "AAAA":
            import ipaddress
            out.append(((name, "AAAA"), ipaddress.IPv6Address(value).packed))
        else:
            out.append(((name, qtype), value))
    return out


spf.DNSLookup = lookup
results = []
for case in table["cases"]:
    query = spf.query(i=case["ip"], s=case["sender"], h=case["helo"], strict=1)
    results.append(query.check()[0])
json.dump(results, sys.stdout)
