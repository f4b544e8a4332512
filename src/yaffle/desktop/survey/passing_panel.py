"""What passes a capture now, in Survey: means of the last 2, 10 and 40 s by host, pair, application or port."""

import time
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.survey.looking_panel import LookingPanel
from yaffle.inventory.places import Places
from yaffle.session.live_packets import BY, HOST, WAYS, LivePackets, Passing
from yaffle.session.live_rates import OVER_S
from yaffle.units import moment, rate

_LOOK_MS = 1000
_SETTLED_NS = 300_000_000  # A second counts when it is over for so long: the kernel hands packets on in blocks.
_LATE_NS = 5 * 10**9
_KEYS = {2: "2", 10: "1", 40: "4"}  # of the means


class PassingPanel(LookingPanel):
    """Looks once a second while it is seen. `wanted`: the packets of a group, as a filter of its exchanges."""

    wanted = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._packets: LivePackets | None = None
        self._places = Places({})
        self._rows: list[Passing] = []
        self._shown_by = HOST  # by what the rows are grouped
        self.by = QComboBox()
        self.by.addItems(list(BY))
        self.by.setAccessibleName("group by")
        self.by.setToolTip("Group by (B: the next one)")
        self.by.currentTextChanged.connect(lambda _: self.look())
        self.first, self.second = QCheckBox(), QCheckBox()
        self.spans = {seconds: QCheckBox(f"{seconds} s") for seconds in OVER_S}
        self.still = QCheckBox("hold still")
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        for part, key, words in (
            (self.by, "B", ""),
            (self.first, "S", "This direction (S)"),
            (self.second, "R", "The reverse direction (R)"),
            *((box, _KEYS[seconds], f"Mean of the last {seconds} s ({_KEYS[seconds]})")
              for seconds, box in self.spans.items()),
            (self.still, "H", "Nothing moves while it is checked (H)"),
        ):  # fmt: skip
            head.addWidget(part)
            shortcut = QShortcut(QKeySequence(key), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            if isinstance(part, QCheckBox):
                part.setToolTip(words)
                part.setChecked(part is not self.still)
                part.toggled.connect(lambda _on: self._fill())
                shortcut.activated.connect(part.toggle)
            else:
                shortcut.activated.connect(self._next)
        self.table = Listing("What passes now")
        self.table.entered.connect(self._choose)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(head)
        column.addWidget(self.table, 1)
        self._fill()

    @property
    def pace_ms(self) -> int:
        return _LOOK_MS if self._packets is not None else 0

    def watch(self, ring: Path | None, places: Places) -> None:
        """Another ring, or none; names of hosts and applications."""
        self._places = places
        if ring is None or self._packets is None or self._packets.ring != ring:
            self._packets, self._rows = (LivePackets(ring) if ring is not None else None), []
        self._set_timer()
        self._fill()

    def _next(self) -> None:
        self.by.setCurrentIndex((self.by.currentIndex() + 1) % self.by.count())

    def look(self) -> None:
        """Looks now, unless it still does, or nothing shall move."""
        packets, places, by = self._packets, self._places, self.by.currentText()
        if packets is None or not self.isVisible() or self._latest.busy or self.still.isChecked():
            return

        def work(_progress: object) -> tuple[str, list[Passing]]:
            packets.look()
            return by, packets.passing(by, places, time.time_ns() - _SETTLED_NS)

        self._latest.ask(work, self._show)

    def _show(self, found: tuple[str, list[Passing]]) -> None:
        self._shown_by, self._rows = found
        self._fill()

    def _fill(self) -> None:
        rows, packets = self._rows, self._packets
        self.words.setText(self._said())
        ways = WAYS[self._shown_by]
        for box, name in zip((self.first, self.second), ways, strict=True):
            box.setText(name)
        shown = [
            (name, attribute, place, seconds)
            for name, attribute, box in (
                (ways[0], "first_bps", self.first),
                (ways[1], "second_bps", self.second),
            )
            if box.isChecked()
            for place, seconds in enumerate(OVER_S)
            if self.spans[seconds].isChecked()
        ]
        selected = self._selected()
        self.table.show_columns(
            [
                Column(self._shown_by, lambda r: rows[r].name, [one.name for one in rows], figures=False),
                *(
                    Column(
                        f"{name}, {seconds} s",
                        partial(_bits, rows, attribute, place),
                        [getattr(one, attribute)[place] for one in rows],
                        meaning=f"mean of the last {seconds} s",
                    )
                    for name, attribute, place, seconds in shown
                ),
            ],
            len(rows),
            ((0, 220), *((k + 1, 92) for k in range(len(shown)))),
            wide=0,
        )
        again = next((k for k, one in enumerate(rows) if one.name == selected), -1)
        if again >= 0:
            self.table.selectRow(self.table.columns.place_of(again))
        for part in (self.by, self.first, self.second, self.still, *self.spans.values()):
            part.setVisible(packets is not None)

    def _said(self) -> str:
        packets = self._packets
        if packets is None:
            return (
                "Nothing is captured here: begin with Case, Capture packets here…, open a capture's ring, or the"
                " history of a collector that captures."
            )
        if not packets.newest_ns:
            return "No packet has come yet."
        late = time.time_ns() - packets.newest_ns
        when = f"last packet at {moment(packets.newest_ns, digits=0)}"
        return f"{when}: nothing passes" if late > _LATE_NS else f"{when}; Enter: the exchanges of a row"

    def _selected(self) -> str:
        index, order = self.table.currentIndex(), self.table.columns.order
        place = index.row()
        if not index.isValid() or place >= order.size or int(order[place]) >= len(self._rows):
            return ""
        return self._rows[int(order[place])].name

    def _choose(self, row: int) -> None:
        if 0 <= row < len(self._rows):
            self.wanted.emit(self._rows[row].filter)

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self._fill()


def _bits(rows: list[Passing], attribute: str, place: int, row: int) -> str:
    return rate(float(getattr(rows[row], attribute)[place]))
