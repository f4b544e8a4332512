"""Starts the window; a second start hands its files to the window that is open already."""

import getpass
import json
import sys
from pathlib import Path

from yaffle.desktop.shared.log_file import log_to_file

_PATIENCE_MS = 500
_LAST_JOBS_MS = 3000


def _name() -> str:
    return f"yaffle-{getpass.getuser()}"


def hand_over(paths: list[Path]) -> bool:
    """Gives the files to a window that is open; whether there is one that took them."""
    from PySide6.QtNetwork import QLocalSocket

    socket = QLocalSocket()
    socket.connectToServer(_name())
    if not socket.waitForConnected(_PATIENCE_MS):
        return False
    socket.write(json.dumps([str(p.resolve()) for p in paths]).encode() + b"\n")
    taken = socket.waitForBytesWritten(_PATIENCE_MS) and socket.waitForReadyRead(_PATIENCE_MS)
    socket.disconnectFromServer()
    return bool(taken)


def run(paths: list[Path]) -> int:
    """Opens the window on captures or a case; returns the exit code."""
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.shared.jobs import let_all_end
    from yaffle.desktop.shared.quiet_collector import QuietCollector
    from yaffle.desktop.window.main_window import MainWindow
    from yaffle.desktop.window.single_instance import Single
    from yaffle.session.investigation import Investigation

    log_to_file()
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    application.setApplicationName("Yaffle")
    if paths and hand_over(paths):
        return 0
    QuietCollector(application)
    window = MainWindow(Investigation())
    single = Single(_name(), window)
    single.asked.connect(window.take_over)
    window.show()
    QTimer.singleShot(0, lambda: window.load(paths) if paths else window.make_ready())
    code = int(application.exec())
    let_all_end(_LAST_JOBS_MS)
    return code
