"""This host's connections in Survey, as its kernel has them now, with the issues it reports."""

from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from yaffle.collector.sock_diag import ESTABLISHED, STATES
from yaffle.collector.socket_snapshot import INTERFACES_FILE, SOCKETS_FILE, read_snapshot, want
from yaffle.desktop.shared.column_table import Column, Listing
from yaffle.desktop.shared.panes import Panes
from yaffle.desktop.survey.looking_panel import LookingPanel
from yaffle.errors import YaffleError
from yaffle.findings.suffering import details, suffering
from yaffle.session.live_rates import OVER_S, LiveRate, LiveRates
from yaffle.units import count, duration, moment, rate, three_digits

_PACES = {"paused": 0, "every 1 s": 1, "every 2 s": 2, "every 10 s": 10}
_USUAL = "every 2 s"
_US = 1000
Row = dict[str, Any]


def _end(row: Row, end: str) -> str:
    address, port = row[end], row[f"{end}_port"]
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"


def _rate(row: Row, name: str) -> float:
    """Bits/s since the look before."""
    return 8e9 * float(row[f"{name}_rise"]) / row["span_ns"] if row["span_ns"] else 0.0


class SocketsPanel(LookingPanel):
    """Looks while it is seen, at the pace the user set. `wanted`: packets of a connection, as a filter."""

    wanted = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._folder: Path | None = None
        self._rows: list[Row] = []
        self._shown: list[Row] = []
        self.search = QLineEdit()
        self.search.setPlaceholderText("find a process, an address, a port …")
        self.search.setClearButtonEnabled(True)
        self.search.setMinimumWidth(240)
        self.search.setAccessibleName("find connections")
        self.search.textChanged.connect(lambda _text: self._fill())
        self.suffering = QCheckBox("with issues")
        self.suffering.setToolTip("Only connections with an issue that the kernel reports")
        self.listening = QCheckBox("listening")
        self.listening.setToolTip("Listening and unconnected sockets, too")
        for box in (self.suffering, self.listening):
            box.toggled.connect(lambda _on: self._fill())
        self.pace = QComboBox()
        for name, seconds in _PACES.items():
            self.pace.addItem(name, seconds)
        self.pace.setCurrentText(_USUAL)
        self.pace.setToolTip("How often this page is refreshed; paused: nothing moves")
        self.pace.activated.connect(lambda _: self._set_timer())
        self.table = Listing("Connections of this host")
        self.table.entered.connect(self._choose)
        self._sorted = False  # by the user: it stays so while rows come and go
        self.table.horizontalHeader().sectionClicked.connect(self._sort)
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        for part in (self.suffering, self.listening, self.pace, self.search):
            head.addWidget(part)
        self.details = QLabel()
        self.details.setObjectName("faint")
        self.details.setWordWrap(True)
        self.table.selectionModel().currentRowChanged.connect(lambda _now, _before: self._show_details())
        connections = QWidget()
        upper = QVBoxLayout(connections)
        upper.setContentsMargins(0, 0, 0, 0)
        upper.addWidget(self.table, 1)
        upper.addWidget(self.details)
        self.interfaces = Listing("Interfaces of this host")
        body = Panes("survey sockets panel: body", Qt.Orientation.Vertical)
        body.arrange([connections, self.interfaces], [380, 130])
        self._rates = LiveRates()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(head)
        column.addWidget(body, 1)
        self.show_rows(None)

    @property
    def pace_ms(self) -> int:
        return 1000 * int(self.pace.currentData()) if self._folder is not None else 0

    def watch(self, folder: Path | None) -> None:
        """Another history, or none."""
        self._folder, self._rates = folder, LiveRates()
        self.show_rows(None)
        self._set_timer()

    def look(self) -> None:
        """Looks now, unless it still does."""
        folder = self._folder
        if folder is not None and self.isVisible() and not self._latest.busy:
            self._latest.ask(lambda _progress: _read(folder), self._show)

    def _show(self, found: tuple[list[Row] | None, list[Row]]) -> None:
        rows, interfaces = found
        self._rates.add(interfaces)
        self.show_rows(rows)

    def show_rows(self, rows: list[Row] | None) -> None:
        """Shows what is there now; None: nobody told."""
        self._rows = rows or []
        if rows is None:
            self.words.setText(
                "No connections here: open the history that yaffle collect writes on this host, with a [host] in its"
                " configuration."
            )
        elif rows:
            bad = sum(1 for row in rows if row["suffers"])
            open_now = sum(1 for row in rows if not row["listening"])
            interrupts, soft = self._rates.interrupts
            self.words.setText(
                f"{rows[0]['device']} at {moment(rows[0]['time_ns'], digits=0)}: {count(open_now)} open,"
                f" {count(bad)} with issues since the last update; {three_digits(interrupts)} interrupts/s,"
                f" {three_digits(soft)} packet soft interrupts/s (NET_RX)"
            )
        for part in (self.search, self.suffering, self.listening, self.pace):
            part.setVisible(self._folder is not None)
        self._fill()
        self._fill_interfaces()

    def _fill_interfaces(self) -> None:
        rows = self._rates.rows
        columns = [
            Column("interface", lambda r: rows[r].name, [one.name for one in rows], figures=False),
            *(
                Column(
                    f"{way}, {seconds} s",
                    partial(_bits, rows, way, place),
                    [getattr(one, f"{way}_bps")[place] for one in rows],
                    meaning=f"mean of the last {seconds} s",
                )
                for way in ("in", "out")
                for place, seconds in enumerate(OVER_S)
            ),
            Column(
                "unicast in",
                lambda r: f"{three_digits(rows[r].in_packets)} /s",
                [one.in_packets for one in rows],
                meaning="packets/s to this host; broadcasts are among them",
            ),
            Column(
                "multicast in", lambda r: f"{three_digits(rows[r].in_multicast)} /s", [o.in_multicast for o in rows]
            ),
            Column(
                "packets out", lambda r: f"{three_digits(rows[r].out_packets)} /s", [one.out_packets for one in rows]
            ),
            Column(
                "errors, discards",
                lambda r: count(rows[r].errors),
                [one.errors for one in rows],
                meaning="both directions, in the last 10 s",
            ),
        ]
        widths = ((0, 80), *((k, 76) for k in range(1, 7)), (7, 78), (8, 70), (9, 70), (10, 50))
        self.interfaces.show_columns(columns, len(rows), widths, wide=0)

    def _fill(self) -> None:
        wanted = self.search.text().lower().split()
        selected = self._selected()
        self._shown = rows = [
            row
            for row in self._rows
            if (self.listening.isChecked() or not row["listening"])
            and (row["suffers"] or not self.suffering.isChecked())
            and all(part in row["text"] for part in wanted)
        ]
        rows.sort(key=lambda row: (not row["suffers"], -_rate(row, "sent") - _rate(row, "received"), row["text"]))
        self.table.show_columns(
            [
                Column("process", lambda r: rows[r]["program"] or "–", [r["program"] for r in rows], figures=False),
                Column("local address", lambda r: _end(rows[r], "own"), [r["own_port"] for r in rows], figures=False),
                Column(
                    "remote address",
                    lambda r: "" if rows[r]["listening"] else _end(rows[r], "other"),
                    [r["other"] for r in rows],
                    figures=False,
                ),
                *(
                    Column(title, partial(_rate_text, rows, name), [_rate(r, name) for r in rows])
                    for title, name in (("sent", "sent"), ("received", "received"))
                ),
                Column(
                    "RTT (min)",
                    lambda r: _trips(rows[r]),
                    [r["round_trip_us"] for r in rows],
                    meaning="smoothed RTT; in brackets the minimum of the last minutes",
                ),
                Column(
                    "retransmissions",
                    lambda r: count(rows[r]["retransmissions"]),
                    [r["retransmissions"] for r in rows],
                    meaning="segments since the connection was established",
                ),
                Column(
                    "timeouts",
                    lambda r: count(rows[r]["timeouts"]),
                    [r["timeouts"] for r in rows],
                    meaning="retransmission timeouts (RTO) since the connection was established",
                ),
                Column(
                    "state, issues",
                    lambda r: _how(rows[r]),
                    [r["suffers"] for r in rows],
                    figures=False,
                    meaning="since the last update; shares are of the time with data outstanding",
                ),
            ],
            len(rows),
            ((0, 80), (1, 124), (2, 124), (3, 80), (4, 80), (5, 124), (6, 72), (7, 64)),
            wide=8,
        )
        if self._sorted:
            header = self.table.horizontalHeader()
            self.table.columns.sort(header.sortIndicatorSection(), header.sortIndicatorOrder())
        if selected is not None:
            again = next((k for k, row in enumerate(rows) if _same(row, selected)), -1)
            if again >= 0:
                self.table.selectRow(self.table.columns.place_of(again))
        self._show_details()

    def _choose(self, row: int) -> None:
        """Enter: to the packets of a connection in the ring."""
        if 0 <= row < len(self._shown) and not self._shown[row]["listening"]:
            one = self._shown[row]
            ends = ((one["own"], one["own_port"]), (one["other"], one["other_port"]))
            ways = [
                f"(client = '{a}' AND client_port = {p} AND server = '{b}' AND server_port = {q})"
                for (a, p), (b, q) in (ends, ends[::-1])
            ]
            self.wanted.emit(" OR ".join(ways))

    def _sort(self, _section: int) -> None:
        self._sorted = True

    def _show_details(self) -> None:
        """What else is known of the connection that is selected."""
        row = self._selected()
        self.details.setText(details(row) if row is not None else "Select a connection to see its details.")
        self.details.setVisible(bool(self._shown))

    def _selected(self) -> Row | None:
        index = self.table.currentIndex()
        order = self.table.columns.order
        return self._shown[int(order[index.row()])] if index.isValid() and index.row() < order.size else None

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self._fill()


def _bits(rows: list[LiveRate], way: str, place: int, row: int) -> str:
    return rate(float(getattr(rows[row], f"{way}_bps")[place]))


def _rate_text(rows: list[Row], name: str, row: int) -> str:
    return rate(_rate(rows[row], name))


def _trips(row: Row) -> str:
    if not row["round_trip_us"]:
        return "–"
    floor = f" ({duration(row['floor_us'] * _US)})" if row["floor_us"] else ""
    return f"{duration(row['round_trip_us'] * _US)}{floor}"


def _how(row: Row) -> str:
    """What it suffers from, and its state where that is not simply open."""
    open_now = row["state"] == STATES[ESTABLISHED] or row["transport"] == "UDP"
    return ", ".join(part for part in ("" if open_now else row["state"], row["suffers"]) if part)


def _same(one: Row, other: Row) -> bool:
    names = ("transport", "own", "own_port", "other", "other_port")
    return all(one[name] == other[name] for name in names)


def _read(folder: Path) -> tuple[list[Row] | None, list[Row]]:
    """The last snapshots: sockets, each with what it suffers from, and interfaces."""
    try:
        want(folder)
        table, interfaces = (read_snapshot(folder, name) for name in (SOCKETS_FILE, INTERFACES_FILE))
    except OSError as error:
        raise YaffleError(f"{folder}: {error.strerror or error}") from error
    if table is None:
        return None, []
    rows: list[Row] = table.to_pylist()
    for row in rows:
        row["suffers"] = suffering(row)
        parts = (row["program"], row["unit"], _end(row, "own"), _end(row, "other"), row["state"], row["transport"])
        row["text"] = " ".join((*parts, row["suffers"])).lower()
    return rows, interfaces.to_pylist() if interfaces is not None else []
