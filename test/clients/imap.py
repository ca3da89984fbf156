"""A mail program's conversation by IMAP, with the library of Python: every answer is checked.

Usage: imap.py HOST PORT LOGIN PASSWORD (STARTTLS on that port)
"""

import email
import email.policy
import imaplib
import re
import ssl
import sys

host, port, login, password = sys.argv[1:]
tls = ssl.create_default_context()
tls.check_hostname, tls.verify_mode = False, ssl.CERT_NONE
count = 0


def ok(answer, want="OK"):
    """Counts a command and sees to its answer."""
    global count
    count += 1
    assert answer[0] == want, answer
    return answer[1]


def flags(line):
    return set(f.decode() for f in imaplib.ParseFlags(line))


mixed = (
    "From: Tomas Vik <tomas.vik@skerryline.example>\r\nTo: ines.harrow@skerryline.example\r\n"
    "Subject: =?utf-8?q?Sj=C3=B8kart?= for the north\r\nDate: Mon, 30 Nov 2026 08:00:00 +0100\r\n"
    "Message-ID: <chart@skerryline.example>\r\nMIME-Version: 1.0\r\n"
    'Content-Type: multipart/mixed; boundary="kelp"\r\n\r\n'
    "--kelp\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n"
    "The chart of B=C3=B8lgevik is here.\r\n"
    "--kelp\r\nContent-Type: application/octet-stream; name=chart.bin\r\nContent-Transfer-Encoding: base64\r\n"
    "Content-Disposition: attachment; filename=chart.bin\r\n\r\nAAECAwQFBgcICQ==\r\n"
    "--kelp\r\nContent-Type: message/rfc822\r\n\r\nSubject: inner\r\nFrom: a@b.example\r\n\r\ninner text\r\n\r\n"
    "--kelp--\r\n"
).encode()

m = imaplib.IMAP4(host, int(port))
assert "STARTTLS" in m.capabilities and "LOGINDISABLED" in m.capabilities, m.capabilities
try:
    m.login(login, password)
    raise SystemExit("somebody signed in before TLS")
except imaplib.IMAP4.error as e:
    assert "PRIVACYREQUIRED" in str(e), e
ok(m.starttls(tls))
try:
    m.login(login, "wrong " + password)
    raise SystemExit("a wrong password signs in")
except imaplib.IMAP4.error as e:
    assert "AUTHENTICATIONFAILED" in str(e), e
ok(m.authenticate("PLAIN", lambda _: b"\0" + login.encode() + b"\0" + password.encode()))
assert b"IMAP4rev2" in ok(m.capability())[0]
assert b'"Shared/"' in ok(m.namespace())[0]
ok(m.noop())
names = b" ".join(ok(m.list()))
for use in (b"\\Sent", b"\\Drafts", b"\\Trash", b"\\Junk", b"\\Archive"):
    assert use in names, names
assert ok(m.select("INBOX"))[0] == b"0"
assert ok(m.search(None, "ALL")) == [b""]
ok(m.create("Boats/North"))
assert any(b'"Boats"' in line for line in ok(m.list('""', "%")))
ok(m.rename("Boats/North", "Boats/&AMY-r&APg-")) # in modified UTF-7
assert any(b"Boats/&AMY-r&APg-" in line for line in ok(m.lsub('""', "*")))
ok(m.unsubscribe("Boats"))
assert not any(line.endswith(b'"Boats"') for line in ok(m.lsub('""', "*")))
ok(m.subscribe("Boats"))
assert re.match(rb"\[APPENDUID \d+ 1\]", ok(m.append("INBOX", "(\\Flagged)", '"30-Nov-2026 08:00:00 +0100"', mixed))[0])
for n in range(2, 6):
    ok(m.append("INBOX", None, None, b"Subject: message %d\r\nFrom: deck@skerryline.example\r\n\r\nrope %d\r\n" % (n, n)))
assert ok(m.noop()) is not None and m.untagged_responses["EXISTS"][-1] == b"5", m.untagged_responses

data = ok(m.fetch("1", "(UID FLAGS INTERNALDATE RFC822.SIZE ENVELOPE)"))[0]
assert b"RFC822.SIZE %d" % len(mixed) in data and b"<chart@skerryline.example>" in data, data
assert flags(data) == {"\\Flagged"} and b'INTERNALDATE "30-Nov-2026' in data, data
assert ok(m.fetch("1", "(BODY.PEEK[])"))[0][1] == mixed
message = email.message_from_bytes(mixed, policy=email.policy.SMTP)
structure = ok(m.fetch("1", "(BODYSTRUCTURE)"))[0]
assert structure.count(b'"base64"') == 1 and b'"rfc822"' in structure and b'"inner"' in structure, structure
for part in ("1", "2", "3"):
    text = ok(m.fetch("1", "(BODY.PEEK[%s])" % part))[0][1]
    assert (b" %d " % len(text)) in structure or (b" %d" % len(text)) in structure, (part, text, structure)
    assert text in mixed
assert ok(m.fetch("1", "(BODY.PEEK[2])"))[0][1] == b"AAECAwQFBgcICQ=="
assert ok(m.fetch("1", "(BODY.PEEK[2.MIME])"))[0][1].startswith(b"Content-Type: application/octet-stream")
assert ok(m.fetch("1", "(BODY.PEEK[3.HEADER])"))[0][1] == b"Subject: inner\r\nFrom: a@b.example\r\n\r\n"
assert ok(m.fetch("1", "(BODY.PEEK[3.TEXT])"))[0][1] == b"inner text\r\n"
assert ok(m.fetch("1", "(BODY.PEEK[3.1])"))[0][1] == b"inner text\r\n"
assert ok(m.fetch("1", "(BINARY.PEEK[2])"))[0][1] == bytes(range(10))
assert ok(m.fetch("1", "(BODY.PEEK[]<5.10>)"))[0][1] == mixed[5:15]
assert ok(m.fetch("1", "(BODY.PEEK[HEADER.FIELDS (Subject X-None)])"))[0][1] == (
    b"Subject: =?utf-8?q?Sj=C3=B8kart?= for the north\r\n\r\n"
)
assert b"\\Seen" not in ok(m.fetch("1", "(FLAGS)"))[0]
assert ok(m.fetch("2", "(BODY[TEXT])"))[0][1] == b"rope 2\r\n"
assert b"\\Seen" in ok(m.fetch("2", "(FLAGS)"))[0]

searches = {
    ("SUBJECT", '"jøkart"'): b"1", ("BODY", '"lgevik is"'): b"1", ("TEXT", '"rope 3"'): b"3", ("UNSEEN",): b"1 3 4 5",
    ("FROM", '"deck@"', "NOT", "SEEN"): b"3 4 5", ("HEADER", "Message-ID", '"chart@"'): b"1", ("FLAGGED",): b"1",
    ("OR", "SUBJECT", '"message 4"', "SUBJECT", '"message 5"'): b"4 5", ("SENTON", "30-Nov-2026"): b"1",
    ("LARGER", "500"): b"1", ("UID", "2:3", "SMALLER", "500"): b"2 3", ("BODY", '"no such"'): b"",
    ("NEW",): b"", ("SINCE", "1-Jan-2020", "UNKEYWORD", "work"): b"1 2 3 4 5",
}
m._encoding = "utf-8"
for terms, want in searches.items():
    assert ok(m.search(None, *terms)) == [want], (terms, want)

assert flags(ok(m.store("3", "+FLAGS", "(\\Answered work)"))[0]) == {"\\Answered", "work"}
assert flags(ok(m.store("3", "-FLAGS", "(work)"))[0]) == {"\\Answered"}
assert flags(ok(m.store("3", "FLAGS", "(\\Draft)"))[0]) == {"\\Draft"}
ok(m.copy("1:2", "Archive"))
assert b"MESSAGES 2" in ok(m.status("Archive", "(MESSAGES UIDNEXT)"))[0]
ok(m.uid("MOVE", "1", "Boats"))
assert b"MESSAGES 1" in ok(m.status("Boats", "(MESSAGES UNSEEN)"))[0]
ok(m.store("1", "+FLAGS.SILENT", "(\\Deleted)"))
ok(m.uid("EXPUNGE", "3"))  # which is not marked
assert ok(m.search(None, "ALL")) == [b"1 2 3 4"]
ok(m.expunge())
assert ok(m.uid("SEARCH", None, "ALL")) == [b"3 4 5"]
ok(m.copy("1", "Nowhere"), "NO")
ok(m.create('"a//b"'), "NO")
ok(m.delete("INBOX"), "NO")
assert b"ines.harrow" in ok(m.getquotaroot("INBOX"))[0][0]
ok(m.xatom("ID", "NIL"))
ok(m.select("Archive", readonly=True))
ok(m.store("1", "+FLAGS", "(\\Deleted)"), "NO")
ok(m.close())
ok(m.delete("Boats/&AMY-r&APg-"))
ok(m.select("Boats"))
ok(m.unselect())
ok(m.logout(), "BYE")
print(count, "commands")
