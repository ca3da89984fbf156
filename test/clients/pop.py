"""A mail program's conversation by POP3, with the library of Python: every answer is checked.

Usage: pop.py HOST PORT LOGIN PASSWORD (STLS on that port); the inbox holds five messages.
"""

import poplib
import ssl
import sys

host, port, login, password = sys.argv[1:]
tls = ssl.create_default_context()
tls.check_hostname, tls.verify_mode = False, ssl.CERT_NONE
count = 0


def ok(answer):
    """Counts a command and sees to its answer."""
    global count
    count += 1
    first = answer[0] if isinstance(answer, tuple) else answer
    assert not isinstance(first, bytes) or first.startswith(b"+OK"), answer
    return answer


def no(act, *args, say=b""):
    """Counts a command that must be refused."""
    global count
    count += 1
    try:
        answer = act(*args)
    except poplib.error_proto as e:
        assert say in e.args[0], e
        return
    raise SystemExit("it was taken: %r" % (answer,))


def connect():
    p = poplib.POP3(host, int(port))
    ok(p.stls(tls))
    return p


p = poplib.POP3(host, int(port))
assert "STLS" in ok(p.capa()) and "USER" not in p.capa()
no(p.user, login, say=b"TLS")
no(p.list, say=b"sign in first")
ok(p.stls(tls))
assert {"USER", "SASL", "TOP", "UIDL", "UTF8"} <= set(ok(p.capa()))
no(p._shortcmd, "STLS")
ok(p._shortcmd("UTF8"))
ok(p.user(login))
no(p.pass_, "wrong " + password, say=b"[AUTH]")
no(p.pass_, password)  # say USER first
ok(p.user(login))
ok(p.pass_(password))
no(p.user, login, say=b"already")
assert ok(p.stat())[0] == 5
sizes = dict(line.split() for line in ok(p.list())[1])
assert len(sizes) == 5 and ok(p.list(2)).split()[2] == sizes[b"2"]
names = dict(line.split() for line in ok(p.uidl())[1])
assert len(set(names.values())) == 5 and names[b"3"] in ok(p.uidl(3))
for n in range(1, 6):
    answer, lines, octets = ok(p.retr(n))
    text = b"\r\n".join(lines) + b"\r\n"
    assert len(text) == int(sizes[b"%d" % n]), (len(text), sizes)
    assert lines[0].startswith(b"Return-Path: <") and b".starts with a dot" in lines, lines
head = ok(p.top(1, 1))[1]
assert head[-1] == b"first line", head
assert ok(p.top(1, 0))[1][-1] == b""
no(p.retr, 6, say=b"there are 5")
no(p.retr, 0)
no(p._shortcmd, "RETR x")
no(p._shortcmd, "NONSENSE")
no(p._shortcmd, "TOP 1")
no(p._shortcmd, "NOOP " + "x" * 300, say=b"octets")
ok(p.dele(1))
ok(p.dele(2))
no(p.retr, 1, say=b"marked")
no(p.dele, 1)
assert ok(p.stat())[0] == 3 and len(ok(p.list())[1]) == 3
ok(p.rset())
assert ok(p.stat())[0] == 5
ok(p.noop())
ok(p.dele(4))
p.close()  # without QUIT nothing goes

p = connect()
ok(p.user(login))
ok(p.pass_(password))
subject = [line for line in ok(p.top(1, 0))[1] if line.startswith(b"Subject:")]
assert subject[0].startswith(b"Subject: of five 0 =?utf-8?q?"), subject
assert dict(line.split() for line in ok(p.uidl())[1]) == names
ok(p.dele(4))
ok(p.quit())

p = connect()
ok(p.user(login))
ok(p.pass_(password))
left = dict(line.split() for line in ok(p.uidl())[1])
assert set(left.values()) == set(names.values()) - {names[b"4"]}, (left, names)
ok(p.quit())
print(count, "commands")
