"""What a painted part shows, as a file: PNG, or SVG for paper."""

from pathlib import Path

from PySide6.QtCore import QBuffer, QIODevice, QPoint
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
    try:
        path.write_bytes(vectors(part))
    except OSError:
        return False
    return True


def vectors(part: QWidget) -> bytes:
    """What it shows as SVG."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    vector = QSvgGenerator(QSvgGenerator.SvgVersion.Svg11)
    vector.setOutputDevice(buffer)
    vector.setSize(part.size())
    vector.setViewBox(part.rect())
    painter = QPainter(vector)
    QWidget.render(part, painter, QPoint(0, 0))  # A plot has another method of the same name.
    painter.end()
    return bytes(buffer.data().data())
