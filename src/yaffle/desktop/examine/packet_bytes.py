"""Header fields and bytes of the selected packet, read from its capture only now; asks where a moved capture is."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QTextCursor
from PySide6.QtWidgets import (
    QFileDialog,
    QLabel,
    QPlainTextEdit,
    QPushButton,
    QTextEdit,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yaffle.capture.byte_source import read_at
from yaffle.capture.fields import fields
from yaffle.case.folder import missing_source, relocate
from yaffle.desktop.shared import theme
from yaffle.desktop.shared.panes import Panes
from yaffle.errors import CaseError
from yaffle.session.investigation import Investigation


def hex_lines(data: bytes) -> str:
    """Sixteen bytes a line: offset, hexadecimal, printable characters."""
    lines = []
    for at in range(0, len(data), 16):
        part = data[at : at + 16]
        text = "".join(chr(b) if 32 <= b < 127 else "·" for b in part)
        lines.append(f"{at:5d}  {part.hex(' '):47s}  {text}")
    return "\n".join(lines)


class PacketBytes(QWidget):
    """A drawer that stays shut until asked."""

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._words = QLabel()
        self._words.setWordWrap(True)
        self._find = QPushButton("Say where it is…")
        self._find.clicked.connect(self._locate)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setAccessibleName("Bytes of the packet")
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels(["field", "value"])
        self.tree.setAccessibleName("Header fields")
        self.tree.setColumnWidth(0, 170)
        self.tree.setUniformRowHeights(True)
        self.tree.currentItemChanged.connect(self._light)
        both = Panes("examine packet bytes: both", Qt.Orientation.Vertical)
        both.arrange([self.tree, self.text], [300, 200])
        self._opened = {"TCP", "UDP"}
        self._data = b""
        column = QVBoxLayout(self)
        column.setContentsMargins(4, 0, 0, 0)
        for part in (self._words, self._find):
            column.addWidget(part)
        column.addWidget(both, 1)
        self._undo = [investigation.selection_changed.connect(self._redraw)]

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        self._redraw()

    def _redraw(self) -> None:
        if not self.isVisible():
            return
        self._find.setVisible(False)
        self.text.clear()
        self._opened = {
            item.text(0)
            for k in range(self.tree.topLevelItemCount())
            if (item := self.tree.topLevelItem(k)) is not None and item.isExpanded()
        } or self._opened
        self.tree.clear()
        connection, index = self._model.connection, self._model.segment
        if connection is None or index < 0:
            self._words.setText("Select a packet to see its bytes.")
            return
        capture = connection.evidence.analysis.capture
        row = int(connection.segments["row"][index])
        source = capture.sources[int(capture.packets.source[row])]
        if away := missing_source(source):
            self._words.setText(f"{away}. The figures stand; only the bytes need the file.")
            self._find.setVisible(True)
            return
        kept, wire = int(capture.packets.captured_bytes[row]), int(capture.packets.wire_bytes[row])
        data = read_at(Path(source.path), int(capture.packets.position[row]), kept)
        self._words.setText(f"packet {index + 1}: {kept} of {wire} bytes kept, from {source.name}")
        self._data = data
        self.text.setPlainText(hex_lines(data))
        face = source.interfaces[int(capture.packets.link[row])]
        for header in fields(data, face.link_type):
            top = QTreeWidgetItem([header.name, header.value])
            top.setData(0, Qt.ItemDataRole.UserRole, (header.start, header.stop))
            for part in header.parts:
                item = QTreeWidgetItem([part.name, part.value])
                item.setData(0, Qt.ItemDataRole.UserRole, (part.start, part.stop))
                top.addChild(item)
            self.tree.addTopLevelItem(top)
            top.setExpanded(header.name in self._opened)

    def _light(self, item: QTreeWidgetItem | None, _previous: object) -> None:
        """Lights the bytes of a field, in both columns of the text."""
        marks = []
        if item is not None:
            first, stop = item.data(0, Qt.ItemDataRole.UserRole)
            for line in range(first // 16, -(-stop // 16)):
                low, high = max(first, 16 * line) - 16 * line, min(stop, 16 * line + 16) - 16 * line
                block = self.text.document().findBlockByNumber(line)
                for start, end in ((7 + 3 * low, 7 + 3 * high - 1), (56 + low, 56 + high)):
                    mark = QTextEdit.ExtraSelection()
                    mark.cursor = QTextCursor(block)
                    mark.cursor.setPosition(block.position() + start)
                    mark.cursor.setPosition(
                        block.position() + min(end, block.length() - 1), QTextCursor.MoveMode.KeepAnchor
                    )
                    mark.format.setBackground(QColor(theme.current().moss_soft))
                    mark.format.setFontWeight(QFont.Weight.Bold)
                    marks.append(mark)
            self.text.setTextCursor(QTextCursor(self.text.document().findBlockByNumber(first // 16)))
        self.text.setExtraSelections(marks)

    def _locate(self) -> None:
        connection = self._model.connection
        if connection is None:
            return
        capture = connection.evidence.analysis.capture
        source = capture.sources[int(capture.packets.source[int(connection.segments["row"][self._model.segment])])]
        path, _ = QFileDialog.getOpenFileName(self, f"Where is {source.name}?", str(Path(source.path).parent))
        if path:
            self.take_location(Path(path))

    def take_location(self, path: Path) -> None:
        """Takes the file for the source of the selected packet, if it is the same."""
        connection = self._model.connection
        assert connection is not None
        capture = connection.evidence.analysis.capture
        number = int(capture.packets.source[int(connection.segments["row"][self._model.segment])])
        try:
            relocate(capture, number, path)
        except CaseError as error:
            self._words.setText(str(error))
            return
        self._redraw()
