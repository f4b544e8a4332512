"""Work off the interface thread: the newest question counts; a second window hands its files over."""

import threading
import time
from pathlib import Path

from PySide6.QtCore import QRunnable, QThreadPool

from yaffle.desktop.application import hand_over
from yaffle.desktop.shared.jobs import Latest
from yaffle.desktop.window.single_instance import Single
from yaffle.errors import Cancelled


def test_only_the_newest_question_is_answered(qtbot):
    latest, shown = Latest(), []
    for k in range(5):
        latest.ask(lambda _progress, k=k: (time.sleep(0.05), k)[1], shown.append)
    qtbot.waitUntil(lambda: not latest.busy)
    assert shown == [4]
    latest.ask(lambda _progress: 5, shown.append)
    latest.forget()
    qtbot.waitUntil(lambda: not latest.busy)
    assert shown == [4]


def test_what_is_asked_twice_for_one_event_is_worked_out_once(qtbot):
    latest, shown, begun = Latest(), [], []
    for k in range(3):
        latest.ask(lambda _progress, k=k: begun.append(k), shown.append)
    assert latest.busy
    qtbot.waitUntil(lambda: not latest.busy)
    assert begun == [2] and len(shown) == 1


def test_a_mistake_in_one_picture_does_not_end_the_next(qtbot):
    latest, shown, said, begun = Latest(), [], [], []
    latest.failed.connect(said.append)
    latest.ask(lambda _progress: begun.append(1) or 1 / 0, shown.append)
    qtbot.waitUntil(lambda: bool(begun))
    latest.ask(lambda _progress: 7, shown.append)
    qtbot.waitUntil(lambda: not latest.busy)
    assert shown == [7]
    assert "ZeroDivisionError" in said[0]


def _slowly(progress):
    for k in range(400):
        if not progress(k / 400, "drawing"):
            raise Cancelled
        time.sleep(0.01)
    return "done"


def test_a_long_picture_tells_how_far_it_is_and_can_be_stopped(qtbot):
    latest, shown, said, seen = Latest(), [], [], []
    latest.failed.connect(said.append)
    latest.progressed.connect(lambda share, words, _left: seen.append((share, words)))
    latest.ask(_slowly, shown.append)
    qtbot.waitUntil(lambda: bool(seen))
    assert 0 < seen[0][0] < 1 and seen[0][1] == "drawing"
    latest.stop()
    qtbot.waitUntil(lambda: not latest.busy)
    assert shown == [] and "stopped" in said[0]


def test_a_new_question_gives_the_former_up(qtbot):
    latest, shown, said, begun = Latest(), [], [], []
    latest.failed.connect(said.append)
    latest.ask(lambda progress: begun.append(1) or _slowly(progress), shown.append)
    qtbot.waitUntil(lambda: bool(begun))
    latest.ask(lambda _progress: 7, shown.append)
    qtbot.waitUntil(lambda: not latest.busy, timeout=2000)
    assert shown == [7] and said == []


def test_a_second_start_hands_its_files_to_the_first(qtbot, monkeypatch, tmp_path):
    import multiprocessing

    name = f"yaffle-test-{tmp_path.name}"
    monkeypatch.setattr("yaffle.desktop.application._name", lambda: name)
    assert not hand_over([tmp_path / "a.pcap"])
    single, asked = Single(name), []
    single.asked.connect(asked.extend)
    other = multiprocessing.get_context("fork").Process(target=_start_again, args=(name, tmp_path / "a.pcap"))
    other.start()
    qtbot.waitUntil(lambda: asked == [Path(tmp_path / "a.pcap")])
    other.join(10)
    assert other.exitcode == 0


def _start_again(name, path):
    import subprocess
    import sys

    code = (
        "import sys; from pathlib import Path; from PySide6.QtCore import QCoreApplication; app = QCoreApplication([]);"
        "from yaffle.desktop import application; application._name = lambda: sys.argv[1];"
        "sys.exit(0 if application.hand_over([Path(sys.argv[2])]) else 1)"
    )
    sys.exit(subprocess.run([sys.executable, "-c", code, name, str(path)], check=False).returncode)


def test_garbage_is_collected_by_the_interface_alone(qtbot, quiet_collector):
    destroyed_in = []

    class Ring:
        def __init__(self):
            self.itself = self

        def __del__(self):
            destroyed_in.append(threading.get_ident())

    class Work(QRunnable):
        def run(self):
            for _ in range(20_000):
                Ring()  # Python's own collector would come by here.

    QThreadPool.globalInstance().start(Work())
    qtbot.waitUntil(lambda: len(destroyed_in) >= 20_000, timeout=20_000)
    assert set(destroyed_in) == {threading.get_ident()}
