"""`yaffle serve` from its first line to its end: what it refuses to begin with, where it answers, token and TLS."""

import signal
import ssl
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from tests.report.test_report import slow_talk

WORD = "a-word-that-is-long-enough"


def command(*more):
    return [sys.executable, "-m", "yaffle", "serve", *map(str, more)]


@pytest.fixture
def capture(tmp_path):
    return slow_talk().write(tmp_path / "desk.pcap")


@pytest.fixture
def token(tmp_path):
    path = tmp_path / "token"
    path.write_text(f"{WORD}\n")
    path.chmod(0o600)
    return path


def certificate(folder):
    key, name = ec.generate_private_key(ec.SECP256R1()), x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "x")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(7)
        .not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ip_address("127.0.0.1"))]), False)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    (folder / "cert.pem").write_bytes(made.public_bytes(serialization.Encoding.PEM))
    plain = (serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    (folder / "key.pem").write_bytes(key.private_bytes(*plain))
    return folder / "cert.pem", folder / "key.pem"


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (("--bind", "0.0.0.0"), "needs --token-file"),
        (("--bind", "::"), "needs --token-file"),
        (("--token-file", "/nowhere"), "--token-file /nowhere"),
        (("--tls-cert", "cert.pem"), "belong together"),
    ],
)
def test_what_would_be_open_to_others_does_not_begin(capture, more, words):
    done = subprocess.run(command(capture, *more), capture_output=True, text=True, check=False, timeout=120)
    assert done.returncode == 2 and words in done.stderr


def test_a_token_that_others_may_read_or_that_is_short_is_refused(capture, token):
    token.chmod(0o644)
    done = subprocess.run(command(capture, "--token-file", token), capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "chmod 600" in done.stderr
    token.write_text("short")
    token.chmod(0o600)
    done = subprocess.run(command(capture, "--token-file", token), capture_output=True, text=True, check=False)
    assert (
        done.returncode == 2
        and "at least 16 characters" in done.stderr
        and "short" not in done.stderr.split("token")[0]
    )


def test_it_answers_by_tls_with_the_token_until_it_is_stopped(capture, token, tmp_path):
    cert, key = certificate(tmp_path)
    more = ("--port", 0, "--token-file", token, "--tls-cert", cert, "--tls-key", key)
    process = subprocess.Popen(command(capture, *more), stdout=subprocess.PIPE, text=True)
    try:
        line = process.stdout.readline()
        assert line.startswith("answering on https://127.0.0.1:") and WORD not in line
        address = line.split()[2].rstrip(",")
        with httpx.Client(base_url=address, verify=ssl.create_default_context(cafile=cert), timeout=30) as client:
            assert client.get("/v1/cases").status_code == 401
            bearing = {"Authorization": f"Bearer {WORD}"}
            assert client.get("/v1/cases", headers=bearing).json()[0]["case"] == "desk"
            rows = client.get("/v1/cases/desk/tables/exchanges", headers=bearing).json()["rows"]
            assert len(rows) == 3
    finally:
        process.send_signal(signal.SIGINT)
        assert process.wait(20) == 0
        process.stdout.close()
