"""Real servers in network namespaces: makes the small captures in tests/data/services, each with what its clients did.

Run as root: python -m tests.real.servers FOLDER [NAME...]. Needs Debian's nghttp2-server, nghttp2-client, slapd,
ldap-utils, samba, smbclient, snmpd, snmp, chrony, ntpsec-ntpdate, mariadb-server, kea-dhcp6-server, wide-dhcpv6-client,
iputils-ping, openssl, nginx, curl, redis-server, redis-tools, dnsmasq, bind9-dnsutils, udhcpc, freeradius,
freeradius-utils, postgresql, and aioquic (PyPI). Names and passwords are made up.
"""

import contextlib
import gzip
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from tests.real.two_kernels import CLIENT, MS, SERVER, Bridge, Way

CLIENT6, SERVER6 = "2001:db8:51::77", "2001:db8:113::77"
_NAME = "harbourline.example"


class Lab:
    """Both ends of the line, a folder to work in, and what the clients did."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.bridge = Bridge(
            Way(delay_ns=5 * MS), Way(delay_ns=5 * MS), kept_bytes=65535, ethertypes=(b"\x08\x00", b"\x86\xdd")
        )
        self.truth: list[dict[str, object]] = []
        for side, address, other in (("client", CLIENT6, SERVER6), ("server", SERVER6, CLIENT6)):
            space = self.bridge.space(side)
            self.run(None, "ip", "-n", space, "link", "set", "lo", "up")
            self.run(None, "ip", "-n", space, "addr", "add", f"{address}/128", "dev", "eth", "nodad")
            self.run(None, "ip", "-n", space, "route", "add", f"{other}/128", "dev", "eth")
        time.sleep(2.5)  # Link-local addresses settle.

    def run(self, side: str | None, *words: str, check: bool = True, text: str | None = None) -> str:
        """Runs a command, inside one end of the line if one is named; gives what it printed."""
        inside = ("ip", "netns", "exec", self.bridge.space(side)) if side else ()
        done = subprocess.run([*inside, *words], capture_output=True, text=True, input=text, timeout=60, check=False)
        if check and done.returncode:
            raise RuntimeError(f"{' '.join(words)}: {done.stderr or done.stdout}")
        return done.stdout + done.stderr

    @contextlib.contextmanager
    def server(self, *words: str, wait_s: float = 1.5) -> Iterator[None]:
        """A server that runs meanwhile."""
        log = (self.folder / "server.log").open("ab")
        process = subprocess.Popen(
            ["ip", "netns", "exec", self.bridge.space("server"), *words],
            stdout=log,
            stderr=log,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
        try:
            time.sleep(wait_s)
            if process.poll() is not None:
                raise RuntimeError(f"{words[0]} ended: {(self.folder / 'server.log').read_text()[-2000:]}")
            yield
        finally:
            process.terminate()
            try:
                process.wait(10)
            except subprocess.TimeoutExpired:
                process.kill()

    def did(self, label: str, outcome: str, **more: object) -> None:
        """Notes what a client did, and how it was answered."""
        self.truth.append({"label": label, "outcome": outcome, **more})


def web2(lab: Lab) -> None:
    """Pages over one clear HTTP/2 connection, asked at once."""
    pages = lab.folder / "pages"
    pages.mkdir()
    for name, octets in (("index.html", 400), ("style.css", 9000), ("berths.png", 25_000)):
        (pages / name).write_bytes(os.urandom(octets))
    with lab.server("nghttpd", "--no-tls", "-d", str(pages), "8080"):
        targets = ["/index.html", "/style.css", "/berths.png", "/missing.js"]
        lab.run(
            "client", "nghttp", "-n", "-H", f":authority: www.{_NAME}", *(f"http://{SERVER}:8080{t}" for t in targets)
        )
        for target in targets:
            lab.did(f"GET {target}", "404" if "missing" in target else "200")


def _certificate(lab: Lab) -> tuple[Path, Path]:
    key, certificate = lab.folder / "key.pem", lab.folder / "cert.pem"
    words = (
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-days",
        "2",
        "-subj",
        f"/CN=www.{_NAME}",
        "-keyout",
        str(key),
        "-out",
        str(certificate),
    )
    lab.run(None, "openssl", *words)
    return key, certificate


def directory_sealed(lab: Lab) -> None:
    """A search inside TLS that was started on the connection."""
    key, certificate = _certificate(lab)
    (lab.folder / "db").mkdir()
    (lab.folder / "slapd.conf").write_text(
        "include /etc/ldap/schema/core.schema\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\npidfile"
        f" {lab.folder}/slapd.pid\nTLSCertificateFile {certificate}\nTLSCertificateKeyFile {key}\ndatabase mdb\nsuffix"
        f" dc=harbourline,dc=example\ndirectory {lab.folder}/db\nmaxsize 10485760\n"
    )
    with lab.server("slapd", "-d", "0", "-f", str(lab.folder / "slapd.conf"), "-h", f"ldap://{SERVER}"):
        os.environ["LDAPTLS_REQCERT"] = "never"
        lab.run("client", "ldapsearch", "-x", "-ZZ", "-H", f"ldap://{SERVER}", "-s", "base", "-b", "", "namingContexts")
    lab.did("start TLS", "success")
    for _ in range(2):  # A bind and a search.
        lab.did("", "answered")


def directory(lab: Lab) -> None:
    """Binds and searches at a directory."""
    base = "dc=harbourline,dc=example"
    (lab.folder / "db").mkdir()
    (lab.folder / "slapd.conf").write_text(
        "include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\ninclude"
        " /etc/ldap/schema/inetorgperson.schema\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\npidfile"
        f" {lab.folder}/slapd.pid\ndatabase mdb\nsuffix {base}\nrootdn cn=keeper,{base}\nrootpw berth\ndirectory"
        f" {lab.folder}/db\nmaxsize 10485760\n"
    )
    people = "".join(f"\ndn: cn=desk-{k},{base}\nobjectClass: person\ncn: desk-{k}\nsn: desk\n" for k in range(5))
    who = ("-x", "-H", f"ldap://{SERVER}", "-D", f"cn=keeper,{base}", "-w", "berth")
    with lab.server("slapd", "-d", "0", "-f", str(lab.folder / "slapd.conf"), "-h", f"ldap://{SERVER}"):
        lab.run(
            "client",
            "ldapadd",
            *who,
            text=(
                f"dn: {base}\nobjectClass: dcObject\nobjectClass: organization\ndc: harbourline\no:"
                f" Harbourline\n{people}"
            ),
        )
        lab.did(f"bind cn=keeper,{base}", "success")
        for name in (base, *(f"cn=desk-{k},{base}" for k in range(5))):
            lab.did(f"add {name}", "success")
        lab.run("client", "ldapsearch", *who, "-b", base, "(cn=desk-3)")
        lab.did(f"bind cn=keeper,{base}", "success")
        lab.did(f"search {base} sub (cn=desk-3)", "success")
        lab.run("client", "ldapsearch", *who, "-b", f"ou=none,{base}", "(objectClass=*)", check=False)
        lab.did(f"bind cn=keeper,{base}", "success")
        lab.did(f"search ou=none,{base} sub (objectClass=*)", "noSuchObject")
        lab.run(
            "client",
            "ldapwhoami",
            "-x",
            "-H",
            f"ldap://{SERVER}",
            "-D",
            f"cn=keeper,{base}",
            "-w",
            "wrong",
            check=False,
        )
        lab.did(f"bind cn=keeper,{base}", "invalidCredentials")


def _files(lab: Lab, sealed: bool) -> None:
    share = lab.folder / "share"
    share.mkdir()
    (share / "sailings.txt").write_text("06:40 Isle of Wren\n" * 200)
    share.chmod(0o777)
    for name in ("private", "lock", "state", "cache", "pid", "ncalrpc"):
        (lab.folder / name).mkdir()
    settings = {
        "global": {
            "server role": "standalone server",
            "map to guest": "bad user",
            "guest account": "nobody",
            "bind interfaces only": "no",
            "smb ports": "445",
            "private dir": lab.folder / "private",
            "lock directory": lab.folder / "lock",
            "state directory": lab.folder / "state",
            "cache directory": lab.folder / "cache",
            "pid directory": lab.folder / "pid",
            "ncalrpc dir": lab.folder / "ncalrpc",
            "log file": lab.folder / "smb.log",
            "server smb encrypt": "required" if sealed else "off",
            "disable spoolss": "yes",
            "load printers": "no",
            "passdb backend": f"tdbsam:{lab.folder}/private/passdb.tdb",
        },
        "boards": {"path": share, "read only": "no", "guest ok": "no" if sealed else "yes", "force user": "root"},
    }
    sections = [f"[{part}]\n" + "".join(f"{k} = {v}\n" for k, v in keys.items()) for part, keys in settings.items()]
    (lab.folder / "smb.conf").write_text("".join(sections))
    conf = str(lab.folder / "smb.conf")
    subprocess.run(
        ["smbpasswd", "-c", conf, "-s", "-a", "root"],
        input="berth\nberth\n",
        text=True,
        check=True,
        capture_output=True,
    )
    with lab.server("smbd", "-F", "--no-process-group", "-s", conf, wait_s=2.5):
        words = "get sailings.txt got.txt; put got.txt copy.txt; get nothing.txt"
        lab.run(
            "client",
            "smbclient",
            f"//{SERVER}/boards",
            "-s",
            conf,
            "-U",
            "root%berth",
            "-m",
            "SMB3",
            "-c",
            f"lcd {lab.folder}; {words}",
            check=False,
        )
    (lab.folder / "got.txt").stat()  # It was there, so it was read.


def files(lab: Lab) -> None:
    """A file read, one written, one missing, in clear."""
    _files(lab, sealed=False)
    tree = f"\\\\{SERVER}\\boards"
    lab.did(f"TREE CONNECT {tree}", "STATUS_SUCCESS")
    lab.did("CREATE sailings.txt", "STATUS_SUCCESS")
    lab.did("READ sailings.txt", "STATUS_SUCCESS")
    lab.did("CREATE copy.txt", "STATUS_SUCCESS")
    lab.did("WRITE copy.txt", "STATUS_SUCCESS")
    lab.did("CREATE nothing.txt", "STATUS_OBJECT_NAME_NOT_FOUND")


def files_sealed(lab: Lab) -> None:
    """The same, encrypted."""
    _files(lab, sealed=True)
    lab.did("encrypted", "answered")


def counters(lab: Lab) -> None:
    """Versions 2c and 3 of SNMP, and one community that nobody answers."""
    (lab.folder / "snmpd.conf").write_text(
        f"agentAddress udp:{SERVER}:161\nrocommunity gauge\ncreateUser watch SHA quaysidewatch AES"
        " quaysidewatch\nrouser watch\n"
    )
    sys_name, uptime = ".1.3.6.1.2.1.1.5.0", ".1.3.6.1.2.1.1.3.0"
    with lab.server(
        "snmpd",
        "-f",
        "-Lo",
        "-C",
        "-c",
        str(lab.folder / "snmpd.conf"),
        "-p",
        str(lab.folder / "snmpd.pid"),
        wait_s=2.5,
    ):
        lab.run("client", "snmpget", "-On", "-v2c", "-c", "gauge", SERVER, sys_name)
        lab.did("get 1.3.6.1.2.1.1.5.0", "noError", protocol="snmp")
        lab.run("client", "snmpset", "-v2c", "-c", "gauge", SERVER, sys_name, "s", "x", check=False)
        lab.did("set 1.3.6.1.2.1.1.5.0", "noAccess", protocol="snmp")
        lab.run("client", "snmpget", "-v2c", "-c", "wrong", "-r", "2", "-t", "1", SERVER, uptime, check=False)
        lab.did("get 1.3.6.1.2.1.1.3.0", "unanswered", protocol="snmp", tries=3)
        lab.run(
            "client",
            "snmpget",
            "-v3",
            "-l",
            "authPriv",
            "-u",
            "watch",
            "-a",
            "SHA",
            "-A",
            "quaysidewatch",
            "-x",
            "AES",
            "-X",
            "quaysidewatch",
            SERVER,
            uptime,
        )
        lab.did("encrypted", "answered", protocol="snmp")


def clocks(lab: Lab) -> None:
    """A time server asked, and echoes both ways of IP."""
    (lab.folder / "chrony.conf").write_text(
        f"local stratum 3\nallow all\ncmdport 0\npidfile {lab.folder}/chronyd.pid\ndriftfile {lab.folder}/drift\n"
    )
    with lab.server("chronyd", "-x", "-d", "-u", "root", "-f", str(lab.folder / "chrony.conf")):
        lab.run("client", "ntpdate", "-q", "-p", "3", SERVER, check=False)
        lab.did("time", "stratum 3", protocol="ntp")
    lab.run("client", "ping", "-c", "3", "-i", "0.2", SERVER)
    lab.run("client", "ping", "-c", "2", "-i", "0.2", SERVER6)
    lab.did("echo", "reply", protocol="icmp", count=5)
    lab.run("server", "sysctl", "-qw", "net.ipv4.icmp_echo_ignore_all=1")
    lab.run("client", "ping", "-c", "2", "-W", "1", SERVER, check=False)
    lab.did("echo", "unanswered", protocol="icmp", count=2)


def tickets(lab: Lab) -> None:
    """Statements at MariaDB, one of which fails."""
    data = lab.folder / "data"
    lab.run(
        None,
        "mariadb-install-db",
        f"--datadir={data}",
        "--user=root",
        "--auth-root-authentication-method=normal",
        "--skip-test-db",
    )
    words = [
        "select 7 * 6",
        "select sleep(0.2)",
        "select nothing from nowhere",
        "select count(*) from information_schema.tables",
    ]
    with lab.server(
        "mariadbd",
        "--no-defaults",
        f"--datadir={data}",
        "--user=root",
        f"--socket={lab.folder}/s.sock",
        f"--bind-address={SERVER}",
        "--skip-ssl",
        wait_s=6,
    ):
        lab.run(
            None,
            "mariadb",
            "--no-defaults",
            f"--socket={lab.folder}/s.sock",
            "-e",
            "create user 'desk'@'%' identified by 'berth'; grant all on *.* to 'desk'@'%'",
        )
        lab.run(
            "client",
            "mariadb",
            "--no-defaults",
            "--skip-ssl",
            "-f",
            "-h",
            SERVER,
            "-u",
            "desk",
            "-pberth",
            text=";\n".join([*words, ""]),
            check=False,
        )
    for word in words:
        lab.did(word, "3D000" if "nowhere" in word else "00000")


def leases6(lab: Lab) -> None:
    """An address by DHCPv6, asked for, and given back."""
    (lab.folder / "kea.conf").write_text(
        json.dumps(
            {
                "Dhcp6": {
                    "interfaces-config": {"interfaces": ["eth"]},
                    "lease-database": {"type": "memfile", "persist": False},
                    "subnet6": [
                        {
                            "id": 1,
                            "subnet": "2001:db8:51::/64",
                            "interface": "eth",
                            "pools": [{"pool": "2001:db8:51::1000-2001:db8:51::1fff"}],
                        }
                    ],
                }
            }
        )
    )
    (lab.folder / "dhcp6c.conf").write_text("interface eth { send ia-na 0; };\nid-assoc na 0 { };\n")
    os.environ["KEA_PIDFILE_DIR"] = os.environ["KEA_LOCKFILE_DIR"] = str(lab.folder)
    with lab.server("kea-dhcp6", "-c", str(lab.folder / "kea.conf"), wait_s=2.5):
        client = subprocess.Popen(
            [
                "ip",
                "netns",
                "exec",
                lab.bridge.space("client"),
                "dhcp6c",
                "-f",
                "-c",
                str(lab.folder / "dhcp6c.conf"),
                "-p",
                str(lab.folder / "c.pid"),
                "eth",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(6)
        client.terminate()
        client.wait(10)
        time.sleep(1)
    for kind, outcome in (("solicit", "advertise"), ("request", "reply"), ("release", "reply")):
        lab.did(kind, outcome, protocol="dhcpv6")


def quick(lab: Lab) -> None:
    """Two QUIC connections, one of them through a name that the server does not know better."""
    key, certificate = _certificate(lab)
    serve = (
        "import asyncio\nfrom aioquic.asyncio import serve\nfrom aioquic.quic.configuration import"
        " QuicConfiguration\nasync def main():\n c = QuicConfiguration(is_client=False, alpn_protocols=['hq'])\n"
        f" c.load_cert_chain({str(certificate)!r}, {str(key)!r})\n async def answer(reader, writer):\n "
        f" writer.write(await reader.read()); writer.write_eof()\n await serve({SERVER!r}, 4433, configuration=c,"
        " stream_handler=lambda r, w: asyncio.ensure_future(answer(r, w)))\n await"
        " asyncio.Event().wait()\nasyncio.run(main())\n"
    )
    ask = (
        "import asyncio, ssl, sys\nfrom aioquic.asyncio import connect\nfrom aioquic.quic.configuration import"
        " QuicConfiguration\nasync def main():\n c = QuicConfiguration(is_client=True, alpn_protocols=['hq'],"
        f" server_name=sys.argv[1], verify_mode=ssl.CERT_NONE)\n async with connect({SERVER!r}, 4433, configuration=c)"
        " as q:\n  for _ in range(12):\n   r, w = await q.create_stream()\n   w.write(b'berths'); w.write_eof(); await"
        " r.read()\nasyncio.run(main())\n"
    )
    with lab.server(sys.executable, "-c", serve, wait_s=3):
        for name in (f"www.{_NAME}", f"boards.{_NAME}"):
            lab.run("client", sys.executable, "-c", ask, name)
            lab.did(name, "answered", protocol="quic")


def pages(lab: Lab) -> None:
    """Pages from a web server over one connection: one missing, one asked for by its head alone."""
    (lab.folder / "pages").mkdir()
    (lab.folder / "pages" / "index.html").write_bytes(os.urandom(5000))
    (lab.folder / "nginx.conf").write_text(
        f"daemon off;\nuser root;\npid {lab.folder}/nginx.pid;\nerror_log {lab.folder}/error.log;\nevents {{}}\n"
        f"http {{ access_log off; server {{ listen {SERVER}:8081; root {lab.folder}/pages; }} }}\n"
    )
    with lab.server("nginx", "-c", str(lab.folder / "nginx.conf"), "-e", str(lab.folder / "error.log")):
        at = f"http://{SERVER}:8081"
        lab.run("client", "curl", "-s", "-o", "/dev/null", "-o", "/dev/null", f"{at}/index.html", f"{at}/missing.html")
        lab.run("client", "curl", "-s", "-o", "/dev/null", "--head", f"{at}/index.html")
    for label, outcome in (("GET /index.html", "200"), ("GET /missing.html", "404"), ("HEAD /index.html", "200")):
        lab.did(label, outcome)


def keys(lab: Lab) -> None:
    """Commands at Redis, one of them wrong."""
    words = ["SET berth 7", "GET berth", "LPUSH berth x", "GET nothing"]
    with lab.server(
        "redis-server",
        "--bind",
        SERVER,
        "--port",
        "6379",
        "--save",
        "",
        "--dir",
        str(lab.folder),
        "--protected-mode",
        "no",
    ):
        lab.run("client", "redis-cli", "-h", SERVER, text="\n".join([*words, ""]))
    for word in words:
        lab.did(" ".join(word.split()[:2]), "WRONGTYPE" if "LPUSH" in word else "OK")


def names(lab: Lab) -> None:
    """Look-ups at a name server: one that is there, one that is not, one refused, and a deaf one asked three times."""
    words = (
        "--no-daemon",
        "--no-resolv",
        "--no-hosts",
        f"--listen-address={SERVER}",
        "--bind-interfaces",
        "--user=root",
        f"--pid-file={lab.folder}/dnsmasq.pid",
    )
    own = (f"--address=/www.{_NAME}/203.0.113.5", f"--local=/{_NAME}/")
    with lab.server("dnsmasq", *words, *own):
        lab.run("client", "dig", "+noall", f"@{SERVER}", f"www.{_NAME}", "A")
        lab.did("A", "NOERROR", name=f"www.{_NAME}", tries=1)
        lab.run("client", "dig", "+noall", f"@{SERVER}", f"gone.{_NAME}", "AAAA")
        lab.did("AAAA", "NXDOMAIN", name=f"gone.{_NAME}", tries=1)
        lab.run("client", "dig", "+noall", "+tcp", f"@{SERVER}", f"www.{_NAME}", "A")
        lab.did("A", "NOERROR", name=f"www.{_NAME}", tries=1)
        lab.run("client", "dig", "+noall", f"@{SERVER}", "elsewhere.example", "A")
        lab.did("A", "REFUSED", name="elsewhere.example", tries=1)
    lab.run("server", "ip", "link", "set", "lo", "up")
    mute = (
        "import socket, sys, time; s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind((sys.argv[1], 53));"
        " time.sleep(60)"
    )
    with lab.server(sys.executable, "-c", mute, SERVER):
        lab.run("client", "dig", "+noall", "+tries=3", "+time=1", f"@{SERVER}", f"deaf.{_NAME}", "A", check=False)
        lab.did("A", "unanswered", name=f"deaf.{_NAME}", tries=3)


def leases(lab: Lab) -> None:
    """An address by DHCP, and its renewal given back."""
    lab.run("server", "ip", "addr", "add", "203.0.113.129/25", "dev", "eth")
    words = (
        "--no-daemon",
        "--port=0",
        "--dhcp-range=203.0.113.140,203.0.113.150,255.255.255.128,1h",
        "--interface=eth",
        "--user=root",
        "--dhcp-authoritative",
        "--no-ping",
    )
    with lab.server("dnsmasq", *words, f"--pid-file={lab.folder}/dnsmasq.pid", f"--dhcp-leasefile={lab.folder}/leases"):
        (lab.folder / "nothing.sh").write_text("#!/bin/sh\nexit 0\n")
        (lab.folder / "nothing.sh").chmod(0o755)
        lab.run("client", "udhcpc", "-f", "-q", "-n", "-i", "eth", "-s", str(lab.folder / "nothing.sh"))
    for kind, outcome in (("discover", "offer"), ("request", "ack")):
        lab.did(kind, outcome, protocol="dhcp")


def sign_ons(lab: Lab) -> None:
    """Two who sign on, one of them with a wrong password."""
    conf = lab.folder / "raddb"
    conf.mkdir()
    (conf / "radiusd.conf").write_text(
        f"prefix = {lab.folder}\nlogdir = {lab.folder}\nrun_dir = {lab.folder}\nlibdir = /usr/lib/freeradius\nmodules"
        f" {{\n pap {{\n }}\n files {{\n usersfile = {conf}/users\n }}\n}}\nclient quay {{\n ipaddr = {CLIENT}\n secret"
        f" = berth\n}}\nserver main {{\n listen {{\n type = auth\n ipaddr = {SERVER}\n port = 1812\n }}\n authorize"
        " {\n files\n pap\n }\n authenticate {\n Auth-Type PAP {\n pap\n }\n }\n}\n"
    )
    (conf / "users").write_text('desk-1 Cleartext-Password := "tide"\n')
    with lab.server("freeradius", "-X", "-n", "radiusd", "-d", str(conf), wait_s=2.5):
        for word, outcome in (("tide", "accept"), ("ebb", "reject")):
            lab.run(
                "client",
                "radclient",
                "-r",
                "1",
                f"{SERVER}:1812",
                "auth",
                "berth",
                text=f'User-Name = "desk-1"\nUser-Password = "{word}"\n',
                check=False,
            )
            lab.did("access", outcome, protocol="radius", name="desk-1")


def statements(lab: Lab) -> None:
    """Statements at PostgreSQL, in a session of this script's own: no client program is needed."""
    data = lab.folder / "data"
    shutil.chown(lab.folder, "postgres")
    lab.run(None, "runuser", "-u", "postgres", "--", "initdb", "-D", str(data), "-A", "trust", "-U", "keeper")
    (data / "pg_hba.conf").write_text("host all all all trust\n")
    words = ["select 7 * 6", "select pg_sleep(0.15)", "select nothing from nowhere"]
    serve = (
        "runuser",
        "-u",
        "postgres",
        "--",
        "postgres",
        "-D",
        str(data),
        "-h",
        SERVER,
        "-k",
        str(lab.folder),
        "-p",
        "5432",
    )
    ask = (
        "import socket, struct, sys\ns = socket.create_connection((sys.argv[1], 5432))\nheld = b''\ndef ready():\n"
        " global held\n while b'Z\\0\\0\\0\\5' not in held or not held.split(b'Z\\0\\0\\0\\5')[-1]:\n  held +="
        " s.recv(65536)\n held = b''\nbody = struct.pack('!I', 196608) +"
        " b'user\\0keeper\\0database\\0postgres\\0\\0'\ns.sendall(struct.pack('!I', 4 + len(body)) +"
        " body)\nready()\nfor text in sys.argv[2:]:\n s.sendall(b'Q' + struct.pack('!I', 5 + len(text)) + text.encode()"
        " + b'\\0')\n ready()\ns.sendall(b'X\\0\\0\\0\\4')\ns.close()\n"
    )
    with lab.server(*serve, wait_s=3):
        lab.run("client", sys.executable, "-c", ask, SERVER, *words)
    for word in words:
        lab.did(word, "42P01" if "nowhere" in word else "00000")


MAKERS: dict[str, Callable[[Lab], None]] = {
    "web2": web2,
    "directory": directory,
    "directory-sealed": directory_sealed,
    "files": files,
    "files-sealed": files_sealed,
    "counters": counters,
    "clocks": clocks,
    "tickets": tickets,
    "leases6": leases6,
    "quick": quick,
    "pages": pages,
    "keys": keys,
    "names-own": names,
    "leases-own": leases,
    "sign-ons": sign_ons,
    "statements": statements,
}


def make(name: str, to: Path) -> None:
    """Makes one capture and its truth."""
    folder = Path(tempfile.mkdtemp(prefix="yaffle-servers-"))
    folder.chmod(0o755)
    lab = Lab(folder)
    try:
        MAKERS[name](lab)
        time.sleep(0.5)
    finally:
        paths = lab.bridge.close(folder)
    (to / f"{name}.pcap.gz").write_bytes(gzip.compress(paths["near_client"].read_bytes(), mtime=0))
    (to / f"{name}.json").write_text(json.dumps(lab.truth, indent=1) + "\n")
    shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    out = Path(sys.argv[1])
    for wanted in sys.argv[2:] or MAKERS:
        make(wanted, out)
        print(wanted, (out / f"{wanted}.pcap.gz").stat().st_size)
