"""Notices reach real receivers, in people's words and in a form for machines."""

import contextlib
import hashlib
import hmac
import json
import shutil
import socket
import threading
import time
from email import message_from_bytes

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.handlers import Message

from tests.ports import free_port
from tests.watching.receivers import hooks, notification_daemon, session_bus, syslog_server
from yaffle.watching.channels import SIGNATURE, Channel, NotSentError
from yaffle.watching.event_rows import Event

NOW = 1_795_860_000 * 10**9
EVENT = Event(
    NOW, "slow desk", "web (TCP 443)", "raised", "critical", 12.5, 10.0, "ms", "round trip: 12.5 ms, limit: above 10 ms"
)


def test_a_web_hook_is_signed_and_holds_the_event():
    with hooks() as hook:
        Channel("hook", "webhook", hook.url, secret="harbour", history="h").send([EVENT])
        told, headers = hook.told[0], {key.lower(): value for key, value in hook.headers[0].items()}
        assert told["watch"] == "slow desk" and told["value"] == 12.5 and told["words"] == EVENT.words
        expected = hmac.new(b"harbour", hook.taken[0], hashlib.sha256).hexdigest()
        assert headers[SIGNATURE.lower()] == expected
        assert told["open"].startswith("yaffle open h --period '2026-11-28")
        template = '{"text": {{ title | tojson }}, "n": {{ events | length }}}'
        shaped = Channel("chat", "webhook", hook.url, template=template)
        shaped.send([EVENT, EVENT], more=3)
        assert hook.told[1]["n"] == 2 and "5 changes: slow desk" in hook.told[1]["text"]
        with pytest.raises(NotSentError, match="template"):
            Channel("bad", "webhook", hook.url, template="{{ ''.__class__.__mro__ }}{% for %}").send([EVENT])
        hook.up = False
        with pytest.raises(NotSentError, match="503"):
            Channel("hook", "webhook", hook.url).send([EVENT])
    with pytest.raises(NotSentError):
        Channel("hook", "webhook", hook.url).send([EVENT])


class Kept(Message):
    def __init__(self):
        super().__init__()
        self.messages = []

    def handle_message(self, message):
        self.messages.append(message_from_bytes(message.as_bytes()))


def test_a_mail_names_the_watch_in_words_and_in_a_header():
    handler = Kept()
    server = Controller(handler, hostname="127.0.0.1", port=free_port(), ready_timeout=10)
    server.start()
    port = server.server.sockets[0].getsockname()[1]
    who = ("yaffle@harbourline.example", ("duty@harbourline.example",))
    mail = Channel("duty", "mail", f"smtp://127.0.0.1:{port}", *who)
    mail.send([EVENT, EVENT])
    server.stop()
    (message,) = handler.messages
    assert "slow desk" in message["Subject"] and message["To"] == "duty@harbourline.example"
    assert json.loads(message["X-Yaffle-Event"])["watch"] == "slow desk"
    text = message.get_payload(decode=True).decode()
    assert "limit: above 10 ms" in text and "2026-11-28" in text and "yaffle open" in text
    with pytest.raises(NotSentError):
        mail.send([EVENT])


def test_syslog_over_udp_and_tcp():
    with syslog_server() as (port, lines):
        Channel("log", "syslog", f"udp://127.0.0.1:{port}").send([EVENT])
        end = time.monotonic() + 5
        while not lines and time.monotonic() < end:
            time.sleep(0.02)
    assert (
        lines[0].startswith(b"<26>1 2026-11-28T") and b'watch="slow desk"' in lines[0] and b'value="12.5"' in lines[0]
    )
    with socket.create_server(("127.0.0.1", 0)) as listening:
        taken = []

        def take():
            own, _ = listening.accept()
            with own:
                while data := own.recv(65_536):
                    taken.append(data)

        thread = threading.Thread(target=take)
        thread.start()
        Channel("log", "syslog", f"tcp://127.0.0.1:{listening.getsockname()[1]}").send([EVENT, EVENT])
        thread.join(5)
    length, _, rest = b"".join(taken).partition(b" ")
    assert rest[: int(length)].endswith(EVENT.words.encode()) and rest[int(length) :].startswith(length + b" ")


@pytest.mark.skipif(not shutil.which("dbus-daemon"), reason="no message bus here")
def test_the_desktop_shows_it(tmp_path):
    with pytest.raises(NotSentError, match="desktop"), session_bus(tmp_path):
        Channel("desk", "desktop").send([EVENT])
    with notification_daemon(tmp_path) as shown:
        assert Channel("desk", "desktop").send([EVENT]) == "shown on the desktop"
    (body,) = shown
    assert body[3] == "critical: slow desk, web (TCP 443)" and body[4] == EVENT.words and body[6]["urgency"] == ("y", 2)


@pytest.fixture
def certified(tmp_path, monkeypatch):
    """A server's context for 127.0.0.1, whose issuer this process trusts."""
    import datetime
    import ipaddress
    import ssl

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key, name = ec.generate_private_key(ec.SECP256R1()), x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "x")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(7).not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]), False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), True).sign(key, hashes.SHA256())
    )  # fmt: skip
    path = tmp_path / "own.pem"
    path.write_bytes(made.public_bytes(serialization.Encoding.PEM) + key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()))  # fmt: skip
    monkeypatch.setenv("SSL_CERT_FILE", str(path))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(path)
    return context


def test_syslog_over_tls_is_framed_and_the_server_is_checked(certified, monkeypatch):
    lines: list[bytes] = []
    listening = socket.create_server(("127.0.0.1", 0))
    port = listening.getsockname()[1]

    def serve():
        for _ in range(2):
            with contextlib.suppress(OSError):
                plain, _ = listening.accept()
                with plain, certified.wrap_socket(plain, server_side=True) as own:
                    while data := own.recv(4096):
                        lines.append(data)

    serving = threading.Thread(target=serve, daemon=True)
    serving.start()
    Channel("log", "syslog", f"tls://127.0.0.1:{port}").send([EVENT])
    while not lines:
        time.sleep(0.01)
    told = b"".join(lines)
    length, _, rest = told.partition(b" ")  # RFC 5425, section 4.3
    assert int(length) == len(rest) and b"slow desk" in rest
    monkeypatch.setenv("SSL_CERT_FILE", "/dev/null")
    with pytest.raises(NotSentError, match="certificate"):
        Channel("log", "syslog", f"tls://127.0.0.1:{port}").send([EVENT])
    listening.close()


def test_mail_over_tls_from_the_first_byte_and_the_server_is_checked(certified, monkeypatch):
    handler = Kept()
    server = Controller(handler, hostname="127.0.0.1", port=free_port(), ready_timeout=10, ssl_context=certified)
    server.start()
    url = f"smtps://127.0.0.1:{server.server.sockets[0].getsockname()[1]}"
    mail = Channel("duty", "mail", url, "yaffle@harbourline.example", ("duty@harbourline.example",))
    mail.send([EVENT])
    assert len(handler.messages) == 1
    monkeypatch.setenv("SSL_CERT_FILE", "/dev/null")
    with pytest.raises(NotSentError, match="certificate"):
        mail.send([EVENT])
    server.stop()
