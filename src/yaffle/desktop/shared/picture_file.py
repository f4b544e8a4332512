"""What a painted part shows, as a file: PNG, or SVG for paper."""

from pathlib import Path

from PySide6.QtCore import QPoint, QSize
from PySide6.QtGui import QPainter
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget


def save_picture(part: QWidget) -> None:
    """Asks where, and saves the picture; says so where that fails."""
    path, _ = QFileDialog.getSaveFileName(part, "Save the picture", "picture.png", "PNG (*.png);;SVG (*.svg)")
    if path and not write_picture(part, Path(path)):
        QMessageBox.warning(part, "Yaffle", f"{path}: cannot be written")


def write_picture(part: QWidget, path: Path) -> bool:
    """Writes it by the name's suffix; whether it could be written."""
    if path.suffix.lower() != ".svg":
        return part.grab().save(str(path))
    vector = QSvgGenerator()
    vector.setFileName(str(path))
    vector.setSize(QSize(part.width(), part.height()))
    vector.setViewBox(part.rect())
    painter = QPainter()
    if not painter.begin(vector):
        return False
    part.render(painter, QPoint(0, 0))
    painter.end()
    return path.exists()
