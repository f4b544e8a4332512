"""A web server and a name server as they are found in the world, on this host's loopback, and certificates for them."""

import contextlib
import datetime
import subprocess
import time

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from tests.ports import free_port
from tests.real.peers import _environment, program

NAME = "tickets.harbourline.example"


def certificates(folder, days):
    """A certificate for NAME that ends so many days from now, and the authority that signed it."""
    now = datetime.datetime.now(datetime.UTC)

    def made(subject, key, issuer, signer, *, authority, until):
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject)])
        builder = (
            x509.CertificateBuilder().subject_name(name).issuer_name(issuer or name).public_key(key.public_key())
            .serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(days=900))
            .not_valid_after(now + datetime.timedelta(days=until))
            .add_extension(x509.BasicConstraints(ca=authority, path_length=None), critical=True)
        )  # fmt: skip
        if not authority:
            builder = builder.add_extension(x509.SubjectAlternativeName([x509.DNSName(NAME)]), critical=False)
        return builder.sign(signer, hashes.SHA256())

    root, own = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    above = made("Harbourline test authority", root, None, root, authority=True, until=900)
    leaf = made(NAME, own, above.subject, root, authority=False, until=days)
    pem = serialization.Encoding.PEM
    (folder / "ca.pem").write_bytes(above.public_bytes(pem))
    (folder / "cert.pem").write_bytes(leaf.public_bytes(pem))
    (folder / "key.pem").write_bytes(
        own.private_bytes(pem, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    return leaf.not_valid_after_utc


@contextlib.contextmanager
def started(words, folder):
    with (folder / "log").open("ab") as log:
        process = subprocess.Popen([program(words[0]), *words[1:]], env=_environment(folder), stdout=log, stderr=log)
    try:
        time.sleep(0.5)
        assert process.poll() is None, (folder / "log").read_text()
        yield process
    finally:
        process.terminate()
        process.wait()


@contextlib.contextmanager
def web(folder, days):
    """nginx with a page over HTTP and HTTPS; ports of both, and when the certificate ends."""
    ends, plain, sealed = certificates(folder, days), free_port(), free_port()
    for name in ("logs", "body"):
        (folder / name).mkdir(exist_ok=True)
    (folder / "index.html").write_text("hello ferry")
    (folder / "nginx.conf").write_text(
        f"daemon off; pid {folder}/pid; error_log {folder}/logs/error; user root; events {{}}\n"
        f"http {{ access_log off; client_body_temp_path {folder}/body; proxy_temp_path {folder}/body;"
        f" fastcgi_temp_path {folder}/body; uwsgi_temp_path {folder}/body; scgi_temp_path {folder}/body;\n"
        f"server {{ listen 127.0.0.1:{plain}; root {folder}; location /moved {{ return 301 /index.html; }} }}\n"
        f"server {{ listen 127.0.0.1:{sealed} ssl; root {folder}; ssl_certificate {folder}/cert.pem;"
        f" ssl_certificate_key {folder}/key.pem; }} }}\n"
    )
    with started(["nginx", "-c", str(folder / "nginx.conf"), "-p", str(folder)], folder):
        yield plain, sealed, ends


@contextlib.contextmanager
def names(folder, address="203.0.113.22"):
    """dnsmasq that knows some names, NAME by an address; its port."""
    port = free_port()
    text = ",".join(letter * 200 for letter in "xyzwvut")
    words = [
        "--no-daemon", "--no-resolv", "--no-hosts", f"--port={port}", "--listen-address=127.0.0.1", "--bind-interfaces",
        f"--address=/{NAME}/{address}", "--local=/harbourline.example/", f"--mx-host=harbourline.example,{NAME},10",
        f"--txt-record=long.harbourline.example,{text}", "--user=root", f"--pid-file={folder}/names.pid",
        "--edns-packet-max=512",
    ]  # fmt: skip
    with started(["dnsmasq", *words], folder):
        yield port
