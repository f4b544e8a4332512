"""Addresses and neighbors in Survey, as devices knew them, changes first; texts of devices then and now."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.findings.whereabouts import ADDRESS, DeviceText, Whereabout, Whereabouts
from yaffle.units import count, date_and_moment

_STILL_NS = 900 * 10**9  # Seen so short before the end of the period, it is still there.


class WhereaboutsPanel(QWidget):
    """A table of addresses and neighbors, and below it what devices say of themselves, then and now."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._found = Whereabouts([], [])
        self._rows: list[Whereabout] = []
        self._last_ns = 0
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.search = QLineEdit()
        self.search.setPlaceholderText("find an address, a device …")
        self.search.setClearButtonEnabled(True)
        self.search.setMinimumWidth(240)
        self.search.setAccessibleName("find addresses and neighbors")
        self.search.textChanged.connect(lambda _text: self._fill())
        self.changed_only = QCheckBox("changes only")
        self.changed_only.setToolTip("Only addresses and neighbors that moved in the period")
        self.changed_only.toggled.connect(lambda _on: self._fill())
        self.table = Listing("Addresses and neighbors")
        self.texts = Listing("Texts of devices")
        self.texts.selectionModel().currentRowChanged.connect(lambda now, _before: self._show_text(now.row()))
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setAccessibleName("a text then and now")
        self.text.setPlaceholderText(
            "Select a text: of one that changed, lines that went begin with -, lines that came with +"
        )
        lower = Panes("survey whereabouts panel: texts", Qt.Orientation.Horizontal)
        lower.arrange([self.texts, self.text], [420, 520])
        self._lower = lower
        body = Panes("survey whereabouts panel: body", Qt.Orientation.Vertical)
        body.arrange([self.table, lower], [360, 170])
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.changed_only)
        head.addWidget(self.search)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(head)
        column.addWidget(body, 1)
        self.show_whereabouts(Whereabouts([], []), 1)

    def show_whereabouts(self, found: Whereabouts, last_ns: int) -> None:
        """Shows another picture of a period that ends at a moment."""
        self._found, self._last_ns = found, last_ns
        if not found.rows and not found.texts:
            self.words.setText(
                "No address tables here: yaffle collect keeps them for this host with a [host], for switches and"
                " routers with a [[device]] in its configuration."
            )
        else:
            devices = len({row.device for row in found.rows})
            self.words.setText(
                f"{count(len(found.rows))} entries of {count(devices)} device{'s' if devices != 1 else ''} in the"
                f" period, {count(found.changes)} change{'s' if found.changes != 1 else ''}"
            )
        for part in (self.search, self.changed_only):
            part.setVisible(bool(found.rows))
        self._lower.setVisible(bool(found.texts))
        self._fill()
        self._fill_texts()

    def _fill(self) -> None:
        wanted = self.search.text().lower().split()
        self._rows = rows = [
            one
            for one in self._found.rows
            if (one.change or not self.changed_only.isChecked())
            and all(
                part in f"{one.device} {one.interface} {one.what} {one.who} {one.change}".lower() for part in wanted
            )
        ]
        self.table.show_columns(
            [
                Column("address or neighbor", lambda r: rows[r].what, [one.what for one in rows], figures=False),
                Column(
                    "MAC address or port",
                    lambda r: rows[r].who if rows[r].kind == ADDRESS else f"port {rows[r].who}" if rows[r].who else "",
                    [one.who for one in rows],
                    figures=False,
                    meaning="MAC address that uses the IP address; of an LLDP neighbor its port",
                ),
                Column("interface", lambda r: rows[r].interface, [one.interface for one in rows], figures=False),
                Column("device", lambda r: rows[r].device, [one.device for one in rows], figures=False),
                Column("first seen", lambda r: date_and_moment(rows[r].from_ns)[:16], [one.from_ns for one in rows]),
                Column("last seen", lambda r: self._until(rows[r]), [one.to_ns for one in rows]),
                Column("change", lambda r: rows[r].change, [one.change for one in rows], figures=False),
            ],
            len(rows),
            ((0, 140), (1, 130), (2, 80), (3, 110), (4, 122), (5, 122)),
            wide=6,
        )

    def _until(self, row: Whereabout) -> str:
        return "present" if row.to_ns >= self._last_ns - _STILL_NS else date_and_moment(row.to_ns)[:16]

    def _fill_texts(self) -> None:
        texts = self._found.texts
        self.texts.show_columns(
            [
                Column("text", lambda r: texts[r].name, [one.name for one in texts], figures=False),
                Column("device", lambda r: texts[r].device, [one.device for one in texts], figures=False),
                Column(
                    "changed",
                    lambda r: date_and_moment(texts[r].changed_ns)[:16] if texts[r].is_changed else "–",
                    [one.changed_ns if one.is_changed else 0 for one in texts],
                    meaning="in the period",
                ),
            ],
            len(texts),
            ((1, 120), (2, 130)),
        )
        if texts:
            self.texts.selectRow(0)
        self._show_text(0)

    def _show_text(self, row: int) -> None:
        order = self.texts.columns.order
        shown: DeviceText | None = self._found.texts[int(order[row])] if 0 <= row < order.size else None
        self.text.setPlainText("\n".join(shown.lines) if shown is not None else "")

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self._fill()
