"""Evidence out and in again: tables hold what the screen holds, a written selection analyses the same, masked or
not.
"""

import csv

import numpy as np
import pyarrow.parquet as pq
import pytest

from tests.frames import ACK, PSH, C, S, Talk, ether, pcap
from yaffle.analysis import analyse
from yaffle.capture.masking import Masker
from yaffle.cli import app
from yaffle.errors import Cancelled, YaffleError
from yaffle.ledger import causes
from yaffle.report.html import render
from yaffle.session.exports import connections_table, safe_name, waits_table, write_packets, write_table
from yaffle.session.focus import Focus
from yaffle.session.investigation import Investigation, Opened
from yaffle.session.kept import Complaint, Kept
from yaffle.session.reporting import report_page, said


@pytest.fixture(scope="module")
def model(analysed_morning):
    model = Investigation()
    model.open(Opened(analysed_morning))
    return model


def test_exchanges_go_out_as_csv_and_parquet_with_what_they_hold(model, tmp_path):
    model.look(Focus(filter="server_port = 5432 and wait_ms > 1000"))
    scene = model.scene
    table = waits_table(scene)
    assert write_table(table, tmp_path / "a.csv") == write_table(table, tmp_path / "a.parquet") == scene.rows.size
    again = pq.read_table(tmp_path / "a.parquet")
    charges = [name for name in again.column_names if name.endswith("_charge_ms")]
    assert sum(np.sum(again.column(name).to_numpy()) for name in charges) == pytest.approx(
        scene.evidence.waits.wait_ns[scene.rows].sum() / 1e6
    )
    rows = list(csv.DictReader((tmp_path / "a.csv").open()))
    assert len(rows) == scene.rows.size
    assert float(rows[0]["wait_ms"]) > 1000
    with pytest.raises(YaffleError, match="ends in"):
        write_table(table, tmp_path / "a.xlsx")
    assert not list(tmp_path.glob("*.part"))


def test_connections_go_out_and_addresses_are_masked_alike(model):
    model.look(Focus(filter="server_port = 5432"))
    masker = Masker()
    plain, masked, waits = (
        connections_table(model.scene),
        connections_table(model.scene, masker),
        waits_table(model.scene, masker),
    )
    assert plain.num_rows == np.unique(model.evidence.waits.connection[model.rows]).size
    assert masked.column("server").to_pylist() == [masker.text(a) for a in plain.column("server").to_pylist()]
    assert set(waits.column("client").to_pylist()) <= set(masked.column("client").to_pylist())
    assert not {"client_name", "site", "application"} & set(masked.column_names + waits.column_names)


@pytest.mark.parametrize("mask", [False, True])
def test_a_selection_written_as_a_capture_analyses_the_same(model, tmp_path, mask):
    model.look(Focus(filter="site = 'Isle of Wren'"))
    scene = model.scene
    path = tmp_path / "out.pcapng"
    assert write_packets(scene.evidence, scene.packets, path, Masker() if mask else None) == scene.packets.sum()
    again = analyse([path])
    kept = np.unique(scene.evidence.waits.connection[scene.rows])
    before = scene.evidence.analysis.account
    # Look-ups are other conversations, and a masked capture has no payload that tells a sign-on from a question.
    both = (again.account.connection_charges, before.connection_charges[kept])
    sums = [charges.sum() - charges[:, [causes.NAME, causes.SERVER_NAME]].sum() for charges in both]
    assert sums[0] == pytest.approx(sums[1], rel=0.02 if mask else 0.001)
    for side in (0, 1):
        assert (
            again.account.side(side, "retransmitted_packets").sum()
            == before.side(side, "retransmitted_packets")[kept].sum()
        )
    assert bool(again.capture.names) != mask
    assert b"timeout retransmission (RTO)" in path.read_bytes()


def test_packets_come_from_several_files_in_any_packing(tmp_path):
    import gzip

    one = Talk(sport=1000).open()
    one.send(0, 100, 200, ACK | PSH)
    two = Talk(sport=2000).open(at_ms=50)
    two.send(0, 150, 300, ACK | PSH)
    first = one.write(tmp_path / "one.pcap")
    packed = tmp_path / "two.pcap.gz"
    packed.write_bytes(gzip.compress(two.write(tmp_path / "two.pcap").read_bytes()))
    model = Investigation()
    model.open(Opened(analyse([first, packed])))
    write_packets(model.evidence, model.scene.in_period, tmp_path / "all.pcapng")
    again = analyse([tmp_path / "all.pcapng"])
    assert again.capture.packets.time_ns.tolist() == sorted(model.evidence.analysis.capture.packets.time_ns.tolist())
    assert sorted(again.account.side(0, "payload_bytes").tolist()) == [200, 300]


def test_a_writing_can_be_stopped_and_a_moved_source_is_told(model, tmp_path):
    model.look(Focus())
    with pytest.raises(Cancelled):
        write_packets(
            model.evidence, model.scene.packets, tmp_path / "x.pcapng", progress=lambda share, words: share < 0.1
        )
    assert not list(tmp_path.iterdir())
    path = pcap(tmp_path / "gone.pcap", [(1, ether(Talk().open().out[0][1][14:]))])
    other = Investigation()
    other.open(Opened(analyse([path])))
    path.unlink()
    with pytest.raises(YaffleError, match="not there any more"):
        write_packets(other.evidence, other.scene.in_period, tmp_path / "x.pcapng")
    assert safe_name("Isle of Wren / 06:38") == "isle-of-wren-06-38"


def test_the_report_tells_the_users_part_and_masks_what_goes_out(model, tmp_path):
    model.look(Focus())
    key, other = model.findings[0].key, model.findings[1].key
    complaint = Complaint("Northpoint", "desk", "<slow>", model.evidence.first_ns, model.evidence.last_ns)
    kept = Kept("see the lock", (key,), {other: "known since May"}, {key: "told the team"}, (complaint,))
    page = report_page(model.opened, kept)
    for text in ("see the lock", "known since May", "told the team", "&lt;slow&gt;", "Dismissed"):
        assert text in page
    masked = render(model.opened.analysis, said=said(Kept()), masker=Masker())
    assert (
        "203.0.113." not in masked
        and "198.51.100." not in masked
        and "harbourline" not in masked
        and "Northpoint waits" not in masked
    )


def test_the_command_line_gets_everything_out(morning, tmp_path):
    from typer.testing import CliRunner

    arguments = [
        "export",
        str(morning[1]),
        "--filter",
        "wait_ms > 1000",
        "--period",
        "last 20 min",
        "--exchanges",
        str(tmp_path / "e.csv"),
        "--connections",
        str(tmp_path / "c.parquet"),
    ]
    result = CliRunner().invoke(
        app, [*arguments, "--packets", str(tmp_path / "p.pcapng"), "--report", str(tmp_path / "r.pdf"), "--mask"]
    )
    assert result.exit_code == 0, result.output
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF")
    assert pq.read_table(tmp_path / "c.parquet").num_rows > 0
    assert C.encode() not in (tmp_path / "e.csv").read_bytes() and S.encode() not in (tmp_path / "e.csv").read_bytes()
    wrong = CliRunner().invoke(app, ["export", str(morning[1]), "--filter", "nonsense > 1"])
    assert wrong.exit_code != 0 and "nonsense" in str(wrong.exception)
