"""Reception over loopback: datagrams and streams become records of a history; what the kernel drops is told."""

import signal
import socket
import subprocess
import sys
import time
from struct import pack

import pytest

from tests.records.messages import a_set, ipfix, netflow5, netflow9, template
from yaffle.errors import YaffleError
from yaffle.history.keeper import Keeper
from yaffle.history.reception import Reception
from yaffle.history.reception_words import kept_days, line
from yaffle.history.store import History
from yaffle.history.writer import HistoryWriter

FIELDS = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (2, 4), (1, 8)]
RECORD = bytes([198, 51, 100, 1, 203, 0, 113, 2]) + pack("!HHBIQ", 1234, 443, 6, 3, 1000)


def waited(what, seconds=20):
    until = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < until, "it never came"
        time.sleep(0.02)


def everything(folder):
    return History(folder).rows(0, 1 << 62).records


def sent_udp(port, *messages):
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        for message in messages:
            sender.sendto(message, ("127.0.0.1", port))


def test_datagrams_of_all_kinds_are_kept(tmp_path):
    keeper = Keeper(HistoryWriter(tmp_path))
    keeper.start()
    reception = Reception(keeper, udp=(0,), every_s=0.1)
    reception.start()
    now = int(time.time())
    first = ipfix([template(300, FIELDS), a_set(300, RECORD * 4)], seconds=now)
    sent_udp(
        reception.ports[0][1],
        first,
        netflow5([(1, 100, 50_000, 60_000)] * 2, seconds=now),
        netflow9([template(260, FIELDS, kind=0), a_set(260, RECORD)], seconds=now),
        b"nothing",
    )
    waited(lambda: reception.status.records == 7 and reception.status.refused == 1)
    sent_udp(reception.ports[0][1], ipfix([a_set(300, RECORD * 3)], sequence=4, seconds=now))
    waited(lambda: reception.status.records == 10)
    reception.stop()
    keeper.stop()
    found = everything(tmp_path)
    assert found.rows.size == 10
    assert sorted((e.protocol, e.flow_records, e.lost_records) for e in found.exporters) == [
        (0, 2, 0),
        (1, 1, 0),
        (2, 7, 0),
    ]
    assert "10 flow records in 5 datagrams; 0 dropped by the kernel; 1 were none of these protocols" in line(
        reception.status
    )


def test_messages_over_tcp_are_put_together_whatever_their_pieces(tmp_path):
    keeper = Keeper(HistoryWriter(tmp_path))
    keeper.start()
    reception = Reception(keeper, tcp=(0,), every_s=0.1)
    reception.start()
    stream = ipfix([template(300, FIELDS), a_set(300, RECORD * 2)]) + b"".join(
        ipfix([a_set(300, RECORD)], sequence=2 + k) for k in range(20)
    )
    with socket.create_connection(("127.0.0.1", reception.ports[0][1])) as sender:
        for at in range(0, len(stream), 7):
            sender.sendall(stream[at : at + 7])
    waited(lambda: reception.status.records == 22)
    with socket.create_connection(("127.0.0.1", reception.ports[0][1])) as sender:
        sender.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        assert sender.recv(10) == b""  # Such a session is given up.
    reception.stop()
    keeper.stop()
    assert everything(tmp_path).rows.size == 22


def test_what_the_kernel_drops_is_counted(tmp_path):
    keeper = Keeper(HistoryWriter(tmp_path))
    keeper.start()
    reception = Reception(keeper, udp=(0,), every_s=0.1, room=8192)
    port = reception.ports[0][1]
    message = ipfix([template(300, FIELDS), a_set(300, RECORD * 30)])
    sent_udp(port, *[message] * 200)
    reception.start()
    waited(lambda: reception.status.datagrams > 0)
    sent_udp(port, message)  # The count comes with the next that is received.
    waited(lambda: reception.status.kernel_drops > 0)
    reception.stop()
    keeper.stop()
    assert reception.status.datagrams + reception.status.kernel_drops == 201
    assert "dropped by the kernel" in line(reception.status)


def test_a_port_that_is_taken_is_said(tmp_path):
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as own:
        own.bind(("127.0.0.1", 0))
        own.listen(1)
        with pytest.raises(YaffleError, match="cannot listen on 127"):
            Reception(Keeper(HistoryWriter(tmp_path)), tcp=(own.getsockname()[1],))


def test_the_command_listens_until_it_is_told_to_stop(tmp_path):
    folder = tmp_path / "kept"
    command = [sys.executable, "-m", "yaffle", "listen", "--history", str(folder), "--udp", "0", "--keep", "1min=7"]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    said = process.stdout.readline()
    assert "listening on 127.0.0.1: UDP " in said
    sent_udp(int(said.split("UDP ")[1].split(";")[0]), ipfix([template(300, FIELDS), a_set(300, RECORD * 5)]))
    time.sleep(0.3)
    process.send_signal(signal.SIGTERM)
    assert "5 flow records in 1 datagrams" in process.communicate(timeout=30)[0]
    history = History(folder)
    assert history.days["1min"] == 7
    assert history.rows(0, 1 << 62).records.rows["packets"].sum() == 15


def test_retention_is_told_by_level():
    assert kept_days(["records=3", "counters=9"]) == {"records": 3, "counters": 9}
    assert kept_days(["1min=0"]) == {"1min": 0}
    for word in ("week=3", "1h", "1h=0", "1h=x"):
        with pytest.raises(YaffleError, match="LEVEL=DAYS"):
            kept_days([word])
