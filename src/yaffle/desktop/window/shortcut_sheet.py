"""The sheet of keys."""

from PySide6.QtWidgets import QDialog, QLabel, QVBoxLayout, QWidget

_PLACES = (
    ("Period strip", "move the period", "Left, Right"),
    ("Period strip", "zoom", "+, -, wheel"),
    ("Period strip", "whole period", "Home, Escape, double click"),
    ("Period strip", "draw volume, packets or waiting", "M"),
    ("Survey, what traffic is made of", "into a line, out of it", "Enter, Backspace"),
    ("Apportion", "narrow to the row; on a connection, examine it", "Enter"),
    ("Examine", "next, previous silence", "N, P"),
    ("Examine", "bytes of the packet", "B"),
    ("Ladder", "next, previous packet; by twenty", "Down, Up; Page"),
    ("Ladder", "time to scale; stretch it", "T; Ctrl and wheel"),
    ("Plots", "zoom, move, reset, save", "wheel, drag, R, Ctrl+S"),
    ("Tables", "copy as text; filter by a cell, save", "Ctrl+C; menu key"),
)


class ShortcutSheet(QDialog):
    """All keys, by place."""

    def __init__(self, actions: list[tuple[str, str, str]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Shortcuts")
        rows = [*actions, *_PLACES]
        cells, last = [], ""
        for place, what, keys in rows:
            head = f"<td><b>{place if place != last else ''}</b></td>"
            cells.append(f"<tr>{head}<td>{what}</td><td style='padding-left:24px'>{keys}</td></tr>")
            last = place
        label = QLabel("<table cellpadding='3'>" + "".join(cells) + "</table>")
        QVBoxLayout(self).addWidget(label)
