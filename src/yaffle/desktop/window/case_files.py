"""Opening and saving: captures, cases, histories, what grows, what is received."""

import time
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import platformdirs
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QFileDialog, QInputDialog, QWidget

from yaffle.analysis import Analysis, analyse
from yaffle.capture.ring_folder import files_of, is_ring, keep_stretch, packets_of_period, with_rings
from yaffle.case.folder import SUFFIX
from yaffle.demo.making import make_in_child
from yaffle.demo.morning import morning_paths
from yaffle.desktop.window.capturing_here import CAPTURE, CaptureDialog
from yaffle.desktop.window.long_command import LongCommand
from yaffle.desktop.window.receiving import LISTEN, ReceiveDialog
from yaffle.desktop.window.task import Task
from yaffle.engine_start import make_ready
from yaffle.errors import YaffleError
from yaffle.file_store import is_url
from yaffle.following import Followed, can_be_followed
from yaffle.given_evidence import given
from yaffle.history.layout import HistoryError, is_history, rings_of
from yaffle.memory_plan import planned
from yaffle.session.beginning import first_packets
from yaffle.session.focus import Focus
from yaffle.session.investigation import Investigation, Opened, open_folder
from yaffle.units import moment

_LOOK_EVERY_MS = 500  # How often growing captures are looked at; where a look took longer, at once:
_LOOK_ON_MS = 30  # what it found is drawn first.
_LAST_NS = 600 * 10**9  # of a ring, that are opened for what passes now
_AT_REST = 3  # looks without growth, after which a capture is looked at whole
_CAPTURES = "Captures and flow records (*.pcap *.pcapng *.cap *.ipfix *.csv *.parquet *.gz *.zst *.lz4);;All files (*)"


def _moved_on(memory: dict[str, Any], former_ns: int, analysis: Analysis) -> dict[str, Any]:
    """The user's memory with a period that ended with the evidence moved to its new end; any other one stays."""
    period = memory["focus"].get("period")
    last_ns = max((source.last_ns for source in analysis.capture.sources), default=former_ns)
    if not period or period[1] != former_ns or last_ns <= former_ns:
        return memory
    moved = [period[0] + last_ns - former_ns, last_ns]
    return memory | {"focus": memory["focus"] | {"period": moved}}


class CaseFiles(QObject):
    """Asks for files and has them read by the task. `loaded` carries what was opened, `recent` a path of its own, or an
    address.
    """

    growth_wanted = Signal(bool)  # captures are to be followed as they grow
    loaded = Signal(object)
    begun = Signal(object)  # the first packets of what is being read
    recent = Signal(str)
    saved = Signal()
    said = Signal(str, int)

    def __init__(self, investigation: Investigation, task: Task, window: QWidget) -> None:
        super().__init__(window)
        self._model, self._task, self._window = investigation, task, window
        self._reading: list[Path] = []
        self._followed: Followed | None = None
        self._ring: Path | None = None  # the folder of a capture's ring, where one is open
        self._then: tuple[int, int] | None = None  # the period to look at when what is being read is open
        self._then_filter = ""
        self._following = False
        self._addresses: dict[Path, str] = {}  # of what lies here and was opened from a store
        self._rested = 0  # looks since captures have grown
        self._began_s = 0.0  # when reading began last
        self._timer = QTimer(self, interval=_LOOK_EVERY_MS)
        self._timer.timeout.connect(self.look_for_growth)
        self.receiver, self.capturer = LongCommand(LISTEN, self), LongCommand(CAPTURE, self)
        self.receiver.kept.connect(self._open_received)
        self.capturer.kept.connect(self._captured)
        task.over.connect(self._read)

    def open_files(self) -> None:
        """Asks for captures."""
        paths, _ = QFileDialog.getOpenFileNames(self._window, "Open captures", "", _CAPTURES)
        if paths:
            self.load([Path(p) for p in paths])

    def add_files(self) -> None:
        """Asks for captures to put beside those that are open."""
        paths, _ = QFileDialog.getOpenFileNames(self._window, "Add captures", "", _CAPTURES)
        if paths:
            self.load([*self.open_paths(), *(Path(p) for p in paths)])

    def open_paths(self) -> list[Path]:
        """The files that are open; of a ring those there are now."""
        evidence = self._model.evidence
        if evidence is not None and self._ring is not None:
            return files_of(self._ring)
        return [Path(s.path) for s in evidence.analysis.capture.sources] if evidence else []

    def open_demo(self) -> None:
        """Makes the demo's morning, unless it was made before, and opens it."""
        folder = platformdirs.user_data_path("yaffle") / "demo"

        def work(progress: Callable[[float, str], bool]) -> list[Path]:
            make_in_child(folder, progress)
            return morning_paths(folder)

        self._task.begin(work, "simulating the demo's morning", self.load)

    def open_case_dialog(self) -> None:
        """Asks for a case folder."""
        path = QFileDialog.getExistingDirectory(self._window, "Open a case (a folder NAME.yaffle)")
        if path:
            self.load([Path(path)])

    def open_history_dialog(self) -> None:
        """Asks for the folder of a history."""
        path = QFileDialog.getExistingDirectory(self._window, "Open a history (a folder that yaffle listen writes)")
        if path:
            self.load([Path(path)])

    def open_stored_dialog(self) -> None:
        """Asks for the address of a case or a history in a store, and opens it as far as it is asked for."""
        text, sure = QInputDialog.getText(
            self._window, "Open from a store", "Address of a case or a history, as s3://bucket/harbour-history:"
        )
        if sure and text.strip():
            self.open_given(text.strip())

    def open_given(self, text: str) -> None:
        """Opens what is at a path, or at the address of a store."""
        if is_url(text):
            self._task.begin(partial(given, text), "asking the store", partial(self._open_stored, text))
        else:
            self.load([Path(text)])

    def _open_stored(self, address: str, path: Path) -> None:
        self._addresses[path] = address
        self.load([path])

    def _open_received(self, folder: Path) -> None:
        if self._task.job is not None:  # When that is done.
            QTimer.singleShot(_LOOK_EVERY_MS, self, lambda: self._open_received(folder))
        else:
            self.load([folder])

    def receive(self) -> None:
        """Begins to receive flow records, or ends it."""
        if self.receiver.running:
            self.receiver.stop()
            return
        dialog = ReceiveDialog(self._window)
        dialog.accepted.connect(lambda: self.receiver.start(dialog.kept_in, dialog.arguments))
        dialog.open()

    def capture(self) -> None:
        """Begins to capture packets of this machine, or ends it."""
        if self.capturer.running:
            self.capturer.stop()
            return
        dialog = CaptureDialog(self._window)
        dialog.accepted.connect(lambda: self.capturer.start(dialog.kept_in, dialog.arguments))
        dialog.open()

    def keep_stretch(self) -> None:
        """Keeps what the open ring holds of the period in focus under a name, before it is overwritten."""
        evidence, ring = self._model.evidence, self._ring
        if evidence is None or ring is None:
            self.said.emit("Open the ring of a capture first: what is kept is a stretch of it.", 6000)
            return
        first_ns, last_ns = self._model.focus.period or (evidence.first_ns, evidence.last_ns)
        stretch = f"{moment(first_ns)} to {moment(last_ns)}"
        name, given = QInputDialog.getText(self._window, "Keep a stretch of the ring", f"Keep {stretch} as:")
        if given:
            try:
                self.said.emit(f"Kept in {keep_stretch(ring, name.strip(), first_ns, last_ns)}", 8000)
            except YaffleError as error:
                self.said.emit(str(error), 8000)

    def _captured(self, ring: Path) -> None:
        """Opens the ring of a capture, and follows it."""
        self.load([ring])
        self.growth_wanted.emit(True)

    def save_dialog(self) -> None:
        """Keeps the case: asks where, the first time."""
        opened = self._model.opened
        if opened is None:
            return
        if opened.folder is not None:
            self.save_case(opened.folder)
            return
        path, _ = QFileDialog.getSaveFileName(self._window, "Save the case", f"case{SUFFIX}", f"Case (*{SUFFIX})")
        if path:
            self.save_case(Path(path))

    def save_case(self, folder: Path) -> None:
        """Writes the case."""
        opened = self._model.opened
        if opened is not None:
            self._task.begin(
                self._model.saving(opened, folder), "saving the case", lambda kept: self._saved(opened, kept)
            )

    def _saved(self, opened: Opened, folder: Path) -> None:
        self.said.emit(f"Saved {folder}", 4000)
        self._model.saved(opened, folder)
        self.saved.emit()

    def follow_growth(self, on: bool) -> None:
        """Whether captures that grow are read again as they do."""
        self._following = on
        if on:
            self._timer.start()
        else:
            self.look_for_growth()

    def _followed_for(self, paths: list[Path]) -> Followed | None:
        """What reads on where the last reading ended, where captures are followed."""
        if not self._timer.isActive() or not can_be_followed(paths):
            return None
        known = self._followed.paths if self._followed is not None else []
        if self._followed is None or paths[: len(known)] != known:
            self._followed = Followed(paths)
        for path in paths[len(self._followed.paths) :]:  # A ring goes on in its next file.
            self._followed.add(path)
        return self._followed

    def read_again(self, *, provisional: bool = False) -> None:
        """Reads the open captures once more, with what came to them since; focus and notes stay. `provisional`: they
        will soon be read again.
        """
        if paths := self.open_paths():
            self.load(paths, again=True, provisional=provisional)

    def look_for_growth(self) -> None:
        """Reads the captures again if one of them has grown; and whole, when they have come to rest."""
        evidence = self._model.evidence
        if not self._task.free:
            return
        provisional = evidence is not None and evidence.analysis.provisional
        if not self._following and not provisional:  # What was told provisionally is told whole before it ends.
            self._timer.stop()
            self._followed = None  # It holds as much as the case itself.
        if evidence is None:
            return
        if not self._following:
            if provisional:
                self.read_again()
            return
        if self._has_grown(evidence.analysis):
            self._rested = 0
            self.read_again(provisional=True)
            return
        self._rested += 1
        if provisional and self._rested >= _AT_REST:
            self.read_again()

    def _has_grown(self, analysis: Analysis) -> bool:
        """Whether more is there than was read; a history is followed by itself."""
        sources = analysis.capture.sources
        if self._ring is not None and {s.path for s in sources} != {str(p.resolve()) for p in files_of(self._ring)}:
            return True
        return any(Path(s.path).is_file() and Path(s.path).stat().st_size > s.size_bytes for s in sources)

    def _look_on(self) -> None:
        """Reads on at once where captures grew while the last look was under way."""
        evidence = self._model.evidence
        if self._following and self._task.free and evidence is not None and self._has_grown(evidence.analysis):
            self.read_again(provisional=True)

    def load(self, paths: list[Path], *, again: bool = False, provisional: bool = False) -> None:
        """Opens captures or one case, off the interface thread; `again`: the same ones, and what the user did
        stays.
        """
        if not again:
            self._ring = paths[0] if len(paths) == 1 and is_ring(paths[0]) else None
            paths = with_rings(paths)
        memory = self._model.memory() if again else {}
        evidence = self._model.evidence
        former_ns = evidence.last_ns if again and evidence is not None else 0
        if again:  # Connections may be numbered otherwise when more was read: the trail leads to the client.
            memory["focus"]["trail"] = memory["focus"]["trail"][:3]
        followed = self._followed_for(paths) if again else None
        case = len(paths) == 1 and not is_history(paths[0]) and (paths[0].is_dir() or paths[0].suffix == SUFFIX)

        def work(progress: Callable[[float, str], bool]) -> Opened:
            make_ready(paths, progress)
            if case:
                return open_folder(paths[0], progress)
            if followed is not None:
                analysis = followed.look(progress, provisional=provisional)
                return Opened(analysis, memory=_moved_on(memory, former_ns, analysis), progress=progress)
            # Told across threads: the window shows it while the rest is read.
            self.begun.emit(first_packets([path for path in paths if path.is_file()]))
            return Opened(analyse(paths, progress, planned(paths)), memory=memory, progress=progress)

        if self._task.begin(work, "starting", self._loaded):
            self._reading, self._began_s = paths, time.monotonic()
            self._model.announce([(p.name, p.stat().st_size) for p in paths if p.is_file()])

    @property
    def ring(self) -> Path | None:
        """The ring of packets that is open, or into which a capture of the open history writes."""
        evidence = self._model.evidence
        history = evidence.analysis.history if evidence is not None else None
        if self._ring is not None or history is None:
            return self._ring
        with suppress(HistoryError):
            return next((ring for ring in rings_of(history.folder) if ring.is_dir()), None)
        return None

    def open_exchanges(self, expression: str) -> None:
        """To the exchanges of a filter: among the packets that are open, or in what the ring holds of the last
        minutes.
        """
        evidence, ring = self._model.evidence, self.ring
        if evidence is not None and evidence.waits.end_ns.size:
            self._model.look(Focus().with_filter(expression))
        elif evidence is not None and evidence.analysis.history is not None and ring is not None:
            now = time.time_ns()
            self._then, self._then_filter = (now - _LAST_NS, now), expression
            files = packets_of_period([ring], now - _LAST_NS, now)
            self.load([evidence.analysis.history.folder, *files])

    def open_packets(self, first_ns: int, last_ns: int) -> None:
        """Opens what rings hold of a period beside the history that is open, or says what remains."""
        evidence = self._model.evidence
        history = evidence.analysis.history if evidence is not None else None
        if history is None:
            return
        try:
            files = packets_of_period(rings_of(history.folder), first_ns, last_ns)
        except YaffleError as error:
            self.said.emit(str(error), 8000)
            return
        if files:
            self._then = (first_ns, last_ns)
            self.load([history.folder, *files])
        else:
            self.said.emit(
                "No ring holds packets of that hour any more: what remains are the waits kept by the minute or hour,"
                " and the flow records",
                8000,
            )

    def _read(self) -> None:
        if self._model.pending:
            self._model.announce([])

    def _loaded(self, opened: Opened) -> None:
        if self._ring is not None or len(self._reading) == 1:
            path = self._ring or self._reading[0]
            stored = opened.analysis.history.address if opened.analysis.history is not None else ""
            self.recent.emit(self._addresses.get(path, stored) or str(path.resolve()))
        self.loaded.emit(opened)
        if opened.analysis.provisional and time.monotonic() - self._began_s > _LOOK_EVERY_MS / 1000:
            QTimer.singleShot(_LOOK_ON_MS, self, self._look_on)
        if self._then is not None:
            self._model.look(self._model.focus.with_period(self._then).with_filter(self._then_filter))
            self._then, self._then_filter = None, ""
