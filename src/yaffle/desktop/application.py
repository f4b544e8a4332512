"""Starts the window."""

import logging
import sys
from pathlib import Path

import platformdirs


def _log_to_file() -> Path:
    folder = Path(platformdirs.user_log_dir("yaffle"))
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "yaffle.log"
    logging.basicConfig(filename=path, level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s")
    return path


def run(paths: list[Path]) -> int:
    """Opens the window on captures or a case; returns the exit code."""
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop import theme
    from yaffle.desktop.main_window import MainWindow
    from yaffle.session.investigation import Investigation

    _log_to_file()
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    application.setApplicationName("Yaffle")
    theme.apply(application, theme.LIGHT)
    window = MainWindow(Investigation())
    window.show()
    if paths:
        QTimer.singleShot(0, lambda: window.load(paths))
    return int(application.exec())
