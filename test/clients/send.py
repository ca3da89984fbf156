"""Sends a message with Python's own SMTP client and tells how it went, as JSON.

usage: send.py HOST PORT tls|starttls|plain smtp|lmtp MECHANISM LOGIN PASSWORD FROM TO [SOURCE]
MECHANISM is none, plain, login, scram, scram-plus, or scram-unique: bound to a
connection of TLS 1.2 by tls-unique.
"""
import base64, hashlib, hmac, json, os, smtplib, ssl, sys

host, port, tls, protocol, mechanism, login, password, sender, to = sys.argv[1:10]
source = (sys.argv[10], 0) if len(sys.argv) > 10 else None
context = ssl._create_unverified_context()
if mechanism == "scram-unique":
    context.maximum_version = ssl.TLSVersion.TLSv1_2
out = {"offers": {}, "signed_in": False, "code": 0, "text": ""}


def scram(client, bound):
    """SCRAM-SHA-256 of RFC 7677, bound to the server's certificate or the connection if wanted."""
    h = lambda key, data: hmac.new(key, data, hashlib.sha256).digest()
    certificate, gs2 = b"", b"n,,"
    if bound == "tls-unique":
        certificate, gs2 = client.sock.get_channel_binding("tls-unique"), b"p=tls-unique,,"
    elif bound:
        certificate, gs2 = hashlib.sha256(client.sock.getpeercert(True)).digest(), b"p=tls-server-end-point,,"
    nonce = base64.b64encode(os.urandom(18)).decode()
    first = "n=%s,r=%s" % (login.replace("=", "=3D").replace(",", "=2C"), nonce)
    enc = lambda b: base64.b64encode(b).decode()
    code, text = client.docmd("AUTH", "SCRAM-SHA-256%s %s" % ("-PLUS" if bound else "", enc(gs2 + first.encode())))
    if code != 334:
        return code, text
    challenge = base64.b64decode(text).decode()
    part = dict(p.split("=", 1) for p in challenge.split(","))
    salted = hashlib.pbkdf2_hmac("sha256", password.encode(), base64.b64decode(part["s"]), int(part["i"]))
    without = "c=%s,r=%s" % (enc(gs2 + certificate), part["r"])
    message = ("%s,%s,%s" % (first, challenge, without)).encode()
    key = h(salted, b"Client Key")
    proof = bytes(a ^ b for a, b in zip(key, h(hashlib.sha256(key).digest(), message)))
    code, text = client.docmd(enc(("%s,p=%s" % (without, enc(proof))).encode()))
    if code != 334:
        return code, text
    want = b"v=" + base64.b64encode(h(h(salted, b"Server Key"), message))
    if base64.b64decode(text) != want:
        return 0, b"the server could not prove that it knows the password"
    return client.docmd("")


try:
    if protocol == "lmtp":
        client = smtplib.LMTP(host, int(port), local_hostname="client.example", source_address=source)
    elif tls == "tls":
        client = smtplib.SMTP_SSL(host, int(port), local_hostname="client.example", context=context, source_address=source, timeout=20)
    else:
        client = smtplib.SMTP(host, int(port), local_hostname="client.example", source_address=source, timeout=20)
    client.ehlo()
    if tls == "starttls":
        client.starttls(context=context)
        client.ehlo()
    out["offers"] = client.esmtp_features
    if mechanism != "none":
        if mechanism.startswith("scram"):
            code, text = scram(client, {"scram-plus": "certificate", "scram-unique": "tls-unique"}.get(mechanism))
        else:
            client.user, client.password = login, password
            code, text = client.auth(mechanism, getattr(client, "auth_" + mechanism), initial_response_ok=mechanism == "plain")
        out["signed_in"], out["code"], out["text"] = code == 235, code, text.decode()
        if code != 235:
            raise smtplib.SMTPAuthenticationError(code, text)
    client.sendmail(sender, [to], "Subject: by %s\r\n\r\nhello\r\n" % mechanism)
    out["code"], out["text"] = 250, "taken"
    client.quit()
except smtplib.SMTPRecipientsRefused as e:
    out["code"], out["text"] = e.recipients[to][0], e.recipients[to][1].decode()
except smtplib.SMTPResponseException as e:
    out["code"], out["text"] = e.smtp_code, e.smtp_error.decode() if isinstance(e.smtp_error, bytes) else str(e.smtp_error)
except Exception as e:
    out["text"] = "%s: %s" % (type(e).__name__, e)
print(json.dumps(out))
