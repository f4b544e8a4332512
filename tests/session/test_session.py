import json
import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from yaffle.case.folder import missing_source, open_case, relocate, save_case
from yaffle.errors import Cancelled, CaseError
from yaffle.history.locked_database import FilterError, locked_database
from yaffle.ledger import causes
from yaffle.session import column_page
from yaffle.session.apportion import trail_rows
from yaffle.session.filtering import COLUMNS, Filter
from yaffle.session.focus import Focus
from yaffle.session.interval_sums import over_time
from yaffle.session.investigation import Investigation, Opened, open_folder
from yaffle.session.make_up import make_up
from yaffle.session.measures import edges
from yaffle.session.navigation import Navigation
from yaffle.session.signal import Signal
from yaffle.session.survey import series
from yaffle.session.wait_levels import groups


@pytest.fixture(scope="module")
def opened(analysed_morning):
    return Opened(analysed_morning)


@pytest.fixture
def model(opened):
    model = Investigation()
    model.open(Opened(opened.analysis))
    return model


def test_the_morning_gives_exactly_its_four_culprits_and_the_marking(opened):
    found = [(f.party, f.cause) for f in opened.findings]
    assert sorted(found) == [
        ("client", "window"),
        ("network", "loss"),
        ("network", "marking"),
        ("server", "name"),
        ("server", "processing"),
    ]
    text = " ".join(f.sentence for f in opened.findings)
    assert "Northpoint waits for ticket database" in text
    assert "ticket desk waited for it, too (14" in text
    assert "timetable" not in text  # It asks the same database, and nobody held it up.
    assert "Isle of Wren loses packets" in text
    assert "Saltmarsh is limited by its own hosts" in text
    assert "names-terminals" in text and "Isle of Wren, Northpoint and Saltmarsh waited for it" in text
    assert not any(f.site == "Quay House" for f in opened.findings)
    assert opened.findings[-1].cause == "marking"
    assert (
        "voice is re-marked between Quay House data centre and Saltmarsh: 3,600 of 3,600"
        in opened.findings[-1].sentence
    )


def test_a_site_without_a_finding_is_said_to_be_fine(opened):
    assert [place.site for place in opened.cleared] == ["Quay House"]
    assert "no problem found" in opened.cleared[0].sentence


def test_the_page_of_columns_is_current():
    written = Path(__file__).parents[2] / "docs" / "columns.md"
    assert written.read_text() == column_page.page()


def test_waits_agree_with_the_truth_of_the_simulation(morning, opened):
    truth = json.loads((morning[0].parent / "truth.json").read_text())
    evidence = opened.evidence
    mine = {}
    for row, c in enumerate(evidence.waits.connection.tolist()):
        key = (evidence.client.texts[evidence.client.codes[c]], int(evidence.client_port[c]))
        mine.setdefault(key, []).append(int(evidence.waits.wait_ns[row]))
    compared = close = 0
    account = opened.analysis.account
    set_up = account.of_exchange("set_up_ns")
    for entry in truth["connections"]:
        found = mine.get((entry["client"], entry["port"]), [])
        if len(found) != len(entry["waits"]):
            continue
        rows = [
            r
            for r, c in enumerate(evidence.waits.connection.tolist())
            if int(evidence.client_port[c]) == entry["port"]
            and evidence.client.texts[evidence.client.codes[c]] == entry["client"]
        ]
        for row, (asked, had) in zip(rows, entry["waits"], strict=True):
            wait = int(evidence.waits.wait_ns[row]) - int(set_up[evidence.waits.exchange[row]])
            compared += 1
            close += abs(wait - (had - asked)) <= 0.05 * (had - asked) + 5e6
    assert compared > 4000
    assert close / compared > 0.97


def test_each_connection_stands_once_though_seen_twice(opened):
    evidence = opened.evidence
    keys = {
        (int(evidence.client.codes[c]), int(evidence.client_port[c]), int(evidence.server.codes[c]))
        for c in np.flatnonzero(evidence.speaks)
    }
    assert len(keys) == int(evidence.speaks.sum()) < evidence.speaks.size
    assert (evidence.analysis.account.fact("last_ns") > 0).all(), "a connection was not accounted for"


def test_groups_add_up_on_every_level(opened):
    evidence = opened.evidence
    rows = np.arange(evidence.waits.connection.size)
    level = groups(evidence, rows, ())
    assert sum(g.exchanges for g in level) == rows.size
    assert (sum(g.charges for g in level) == evidence.waits.charges.sum(axis=0)).all()
    for depth in range(3):
        worst = level[0]
        level = [g for g in groups(evidence, worst.rows, worst.trail) if not g.beside]
        assert sum(g.wait_ns for g in level) == worst.wait_ns
        assert level[0].level == depth + 1
        assert np.array_equal(np.sort(trail_rows(evidence, rows, worst.trail)), np.sort(worst.rows))


def test_waits_over_time_keep_their_sum(opened):
    evidence = opened.evidence
    rows = np.arange(evidence.waits.connection.size)
    sums = over_time(evidence, rows, edges(evidence.first_ns, evidence.last_ns, 0))
    assert sums.sum() == pytest.approx(evidence.waits.wait_ns.sum())


def test_the_series_and_the_make_up_count_each_packet_once(opened):
    evidence = opened.evidence
    data = series(evidence, None, evidence.first_ns, evidence.last_ns, 77)
    assert data.packets.sum() == evidence.packet_counts.sum()
    parts = make_up(evidence, evidence.packet_counts, "application")
    assert sum(p.octets for p in parts) == int(data.octets.sum())
    assert sum(p.share for p in parts) == pytest.approx(1)


def test_a_filter_selects_waits(opened):
    mask = Filter(opened.evidence).rows("wait_ms > 500 and server_port = 5432 -- slow ones")
    wait = opened.evidence.waits.wait_ns / 1e6
    port = opened.evidence.port[opened.evidence.waits.connection]
    assert np.array_equal(mask, (wait > 500) & (port == 5432))


def test_every_documented_column_can_be_asked(opened):
    table = Filter(opened.evidence)
    for name, _ in COLUMNS:
        assert table.rows(f"{name} is not null").any()


@pytest.mark.parametrize(
    "expression",
    [
        "wait_ms >",
        "nonsense = 1",
        "1=1); COPY (SELECT 1) TO '/tmp/yaffle-evil'; --",
        "exists(select * from read_csv('/etc/passwd'))",
        "client in (select * from '/etc/passwd')",
        "exists(select * from glob('/*'))",
        "true; ATTACH '/tmp/x.db'",
        "true; SET enable_external_access=true",
        "true; INSTALL httpfs",
        "getenv('HOME') = 'x'",
    ],
)
def test_a_filter_can_do_nothing_but_filter(opened, expression):
    with pytest.raises(FilterError) as caught:
        Filter(opened.evidence).rows(expression)
    assert "\n" not in str(caught.value)
    assert not Path("/tmp/yaffle-evil").exists()


@pytest.mark.parametrize(
    "statement",
    [
        "COPY (SELECT 1) TO '/tmp/yaffle-evil'",
        "ATTACH '/tmp/x.db'",
        "INSTALL httpfs",
        "LOAD httpfs",
        "SET enable_external_access=true",
        "SELECT * FROM '/etc/passwd'",
    ],
)
def test_the_database_itself_is_locked(statement):
    import duckdb

    with pytest.raises(duckdb.Error):
        locked_database().execute(statement).fetchall()


def test_a_wrong_filter_narrows_nothing_and_says_so(model):
    before = model.rows.size
    model.look(model.focus.with_filter("wait_ms >"))
    assert model.rows.size == before
    assert model.filter_error is not None
    model.back()
    assert model.filter_error is None


def test_focus_goes_back_and_forward():
    history = Navigation(Focus())
    one, two = Focus((1, 2)), Focus((1, 2), ("a",), "x > 1")
    assert history.go(one) and history.go(two) and not history.go(two)
    assert history.back() and history.now == one and history.back() and history.now == Focus() and not history.back()
    assert history.forward() and history.forward() and history.now == two and not history.forward()
    assert Focus.from_json(json.loads(json.dumps(two.as_json()))) == two
    assert Focus.from_json({"period": "broken", "trail": 3}) == Focus()


def test_following_a_finding_leads_to_its_grounds(model):
    for finding in (f for f in model.findings if f.cause != "marking"):
        model.follow(finding)
        assert model.rows.size > 0
        share = model.evidence.waits.parties[model.rows].sum(axis=0)
        if (
            finding.party != "network" and finding.cause != "name"
        ):  # Its victims waited on a look-up, which is their network's time.
            assert causes.PARTIES[int(np.argmax(share))] == finding.party
        assert model.connection is not None
        assert model.connection.number in finding.connections


def test_silences_say_who_owed_the_next_packet(model):
    server = next(f for f in model.findings if f.party == "server")
    model.follow(server)
    waiting = [s for s in model.connection.silences(500_000_000) if s.kind == "waiting"]
    assert waiting
    assert all(s.owed_by == "server" for s in waiting)
    assert "acknowledged and unanswered" in waiting[0].sentence
    lossy = next(f for f in model.findings if f.cause == "loss")
    model.follow(lossy)
    assert any("retransmitted" in s.sentence for s in model.connection.silences())


def test_a_case_is_saved_and_opened_again_without_its_captures(tmp_path, model, morning):
    model.follow(model.findings[0])
    model.pin(model.findings[0], True)
    model.write_notes("boarding desks, before the 06:40")
    model.save(tmp_path / "tuesday")
    again = Investigation()
    again.open(open_folder(tmp_path / "tuesday.yaffle"))
    assert again.focus == model.focus
    assert again.kept.notes == model.kept.notes
    assert again.kept.pinned == model.kept.pinned
    assert [f.sentence for f in again.opened.findings] == [f.sentence for f in model.opened.findings]
    assert np.array_equal(again.rows, model.rows)
    again.look(Focus())
    again.remember()
    assert open_case(tmp_path / "tuesday.yaffle")[1]["focus"] == Focus().as_json()


def test_a_moved_capture_is_told_and_taken_again_only_if_it_is_the_same(tmp_path, model, morning):
    capture = model.evidence.analysis.capture
    here = capture.sources[0]
    capture.sources[0] = replace(here, path=str(tmp_path / "gone.pcapng"))
    assert "not there" in missing_source(capture.sources[0])
    other = tmp_path / "other.pcapng"
    other.write_bytes(b"something else")
    with pytest.raises(CaseError):
        relocate(capture, 0, other)
    moved = tmp_path / "moved.pcapng"
    shutil.copy(here.path, moved)
    relocate(capture, 0, moved)
    assert missing_source(capture.sources[0]) == ""
    capture.sources[0] = here


def test_damaged_cases_are_refused_in_one_line(tmp_path, model):
    model.save(tmp_path / "a.yaffle")
    folder = tmp_path / "a.yaffle"
    columns = next(folder.glob("columns-*")).name
    for name in (f"{columns}/packets.arrow", "manifest.json", f"{columns}/exchanges.arrow"):
        kept = (folder / name).read_bytes()
        for content in (kept[: len(kept) // 2], b"", b"\xff" * 64):
            (folder / name).unlink()  # What is open maps the former file.
            (folder / name).write_bytes(content)
            with pytest.raises(CaseError) as caught:
                open_case(folder)
            assert "\n" not in str(caught.value).split("(")[0]
        (folder / name).write_bytes(kept)
    with pytest.raises(CaseError):
        open_case(tmp_path / "nothing.yaffle")
    manifest = json.loads((folder / "manifest.json").read_text())
    (folder / "manifest.json").write_text(json.dumps({**manifest, "version": 99}))
    with pytest.raises(CaseError, match="later version"):
        open_case(folder)


def test_columns_that_point_outside_their_tables_are_refused(tmp_path, opened):
    analysis = opened.analysis
    for broken in (
        replace(
            analysis,
            capture=replace(
                analysis.capture, packets=analysis.capture.packets._replace(flow=analysis.capture.packets.flow + 10**6)
            ),
        ),
        replace(analysis, account=replace(analysis.account, order=analysis.account.order + 10**6)),
        replace(analysis, speaker=analysis.speaker - 5),
    ):
        save_case(tmp_path / "b.yaffle", broken, {})
        with pytest.raises(CaseError, match="damaged"):
            open_case(tmp_path / "b.yaffle")
    manifest = json.loads((tmp_path / "b.yaffle" / "manifest.json").read_text())
    (tmp_path / "b.yaffle" / "manifest.json").write_text(json.dumps({**manifest, "columns": "../elsewhere"}))
    with pytest.raises(CaseError, match="elsewhere"):
        open_case(tmp_path / "b.yaffle")


def test_a_saving_that_is_stopped_or_fails_leaves_the_former_state(tmp_path, opened, monkeypatch):
    folder = tmp_path / "c.yaffle"
    save_case(folder, opened.analysis, {"notes": "before"})
    steps = iter([True, True, False])
    with pytest.raises(Cancelled):
        save_case(folder, opened.analysis, {"notes": "after"}, progress=lambda share, words: next(steps))
    monkeypatch.setattr(
        "yaffle.case.folder.save_memory", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left on device"))
    )
    with pytest.raises(CaseError, match="No space"):
        save_case(folder, opened.analysis, {"notes": "after"})
    analysis, memory = open_case(folder)
    assert memory["notes"] == "before"
    assert analysis.capture.packets.time_ns.size == opened.analysis.capture.packets.time_ns.size
    assert len(list(folder.glob("columns-*"))) == 1


def test_a_signal_does_not_hold_its_listeners():
    class Listener:
        def __init__(self):
            self.heard = 0

        def hear(self):
            self.heard += 1

    signal, one, two = Signal(), Listener(), Listener()
    undo = signal.connect(one.hear)
    signal.connect(two.hear)
    signal.emit()
    undo()
    del two
    signal.emit()
    assert one.heard == 1
