"""Reads a delivery status notification with Python's email package, which knows
nothing of Gull Route, and prints what it found as JSON."""

import email
import email.policy
import json
import sys

message = email.message_from_binary_file(sys.stdin.buffer, policy=email.policy.default)
parts = list(message.iter_parts())
status = parts[1].get_payload()
out = {
    "type": message.get_content_type(),
    "report_type": message.get_param("report-type"),
    "subject": message["Subject"],
    "auto": message["Auto-Submitted"],
    "parts": [p.get_content_type() for p in parts],
    "text": parts[0].get_content(),
    "groups": [{k.lower(): str(v) for k, v in g.items()} for g in status],
    "original": parts[2].get_payload()[0].as_string() if parts[2].get_content_type() == "message/rfc822" else parts[2].get_payload(decode=True).decode(),
    "defects": [str(d) for p in message.walk() for d in p.defects],
}
json.dump(out, sys.stdout)
