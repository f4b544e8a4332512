"""Capturing on this machine from the window: which interface, where to, how much, done by a process of its own."""

import time
from pathlib import Path

import platformdirs
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from yaffle.capture.ring_folder import is_ring
from yaffle.collector.configuration_parts import duration_ns
from yaffle.desktop.shared.dialog_parts import ok_cancel, wrong_label
from yaffle.desktop.window.long_command import Long
from yaffle.desktop.window.receiving import ports_of
from yaffle.errors import YaffleError
from yaffle.live.capturing import interfaces_here
from yaffle.live.packet_filter import program
from yaffle.live.packet_socket import ANY
from yaffle.memory_plan import bytes_of
from yaffle.units import rate

CAPTURE = Long("capture", is_ring, "Capturing has ended; the ring is kept.")
_RATES_MS = 1000
_STATISTICS = "/sys/class/net/{}/statistics/{}_bytes"
_LEAST_RING = 1 << 20


def _octets(name: str) -> tuple[int, int]:
    """What an interface received and sent so far."""
    told = []
    for way in ("rx", "tx"):
        try:
            told.append(int(Path(_STATISTICS.format(name, way)).read_text()))
        except (OSError, ValueError):
            told.append(0)
    return told[0], told[1]


class CaptureDialog(QDialog):
    """`kept_in` is the ring, `arguments` what to capture with, when it is accepted."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Capture packets here")
        self.resize(540, 320)
        self.arguments: list[str] = []
        self.kept_in = Path()
        self.interface = QComboBox()
        self._names = [*interfaces_here(), ANY]
        self.interface.addItems(self._names)
        self.interface.setToolTip("any: all of them, told apart; rates are those of the last second")
        self._before = ({name: _octets(name) for name in self._names}, time.monotonic())
        self._timer = QTimer(self)
        self._timer.setInterval(_RATES_MS)
        self._timer.timeout.connect(self._show_rates)
        self._timer.start()
        stamp = time.strftime("ring-%Y-%m-%dT%H%M%S")
        self.folder, self.most, self.longest, self.slice, self.hosts, self.ports = (
            QLineEdit(text)
            for text in (str(platformdirs.user_data_path("yaffle") / stamp), "2GiB", "30min", "256", "", "")
        )
        self.most.setToolTip("All files together hold no more; the oldest go")
        self.longest.setToolTip("Files that ended longer ago go; empty: as long as there is room")
        self.slice.setToolTip("Bytes of each packet that are kept; empty: all of it")
        self.hosts.setToolTip("Addresses, one of which a packet must be from or to; empty: any")
        self.ports.setToolTip("Ports, one of which a packet must be from or to; empty: any")
        form = QFormLayout()
        for name, part in (
            ("Interface", self.interface), ("Ring folder", self.folder), ("Maximum size", self.most),
            ("Maximum age", self.longest), ("Snap length (bytes)", self.slice), ("Hosts", self.hosts),
            ("Ports", self.ports),
        ):  # fmt: skip
            form.addRow(name, part)
        self._wrong = wrong_label()
        buttons = ok_cancel(self)
        column = QVBoxLayout(self)
        column.addWidget(
            QLabel("The last packets of this machine are kept in a ring of files; the same as yaffle capture.")
        )
        column.addLayout(form)
        column.addWidget(self._wrong)
        column.addWidget(buttons)

    def _show_rates(self) -> None:
        """What passes each interface now."""
        before, then = self._before
        now, at = {name: _octets(name) for name in self._names}, time.monotonic()
        self._before = now, at
        for place, name in enumerate(self._names):
            into, out = (8 * (b - a) / max(0.1, at - then) for a, b in zip(before[name], now[name], strict=True))
            self.interface.setItemText(place, name if name == ANY else f"{name}, in {rate(into)}, out {rate(out)}")

    def accept(self) -> None:
        """Takes what was entered, if it makes sense."""
        try:
            hosts = self.hosts.text().replace(",", " ").split()
            ports = ports_of(self.ports.text())
            program(hosts, ports)
            bytes_of(self.most.text(), "maximum size", _LEAST_RING)
            if self.longest.text().strip():
                duration_ns(self.longest.text())
            if (size := self.slice.text().strip()) and not (size.isdigit() and int(size) >= 16):
                raise ValueError("give a snap length of at least 16 bytes, or nothing for whole packets")
            if not self.folder.text().strip():
                raise ValueError("give a folder to keep the ring in")
        except (ValueError, YaffleError) as error:
            self._wrong.setText(str(error))
            return
        self.kept_in = Path(self.folder.text().strip())
        told = [
            ("--interface", self._names[self.interface.currentIndex()]), ("--ring", str(self.kept_in)),
            ("--limit-bytes", self.most.text().strip()), ("--limit-time", self.longest.text().strip()),
            ("--slice", size), *(("--host", host) for host in hosts), *(("--port", str(port)) for port in ports),
        ]  # fmt: skip
        self.arguments = [part for option, value in told if value for part in (option, value)]
        super().accept()
