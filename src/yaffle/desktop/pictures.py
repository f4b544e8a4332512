"""Runs the whole example without a screen: opens the demo, follows a finding, takes a picture of each station."""

import os
from pathlib import Path


def take_pictures(captures: list[Path], folder: Path) -> list[Path]:
    """One PNG a station, 1280x800, from the real window driven as a user would."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QEventLoop, QTimer
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop import theme
    from yaffle.desktop.main_window import STATIONS, MainWindow
    from yaffle.errors import YaffleError
    from yaffle.session.investigation import Investigation

    application = QApplication.instance() or QApplication(["yaffle"])
    assert isinstance(application, QApplication)
    theme.apply(application, theme.LIGHT)
    window = MainWindow(Investigation())
    window.show()

    def wait(ms: int) -> None:
        loop = QEventLoop()
        QTimer.singleShot(ms, loop.quit)
        loop.exec()

    window.load(captures)
    while window.job is not None:
        wait(30)
    if window.investigation.opened is None:
        raise YaffleError("the demo could not be opened")
    paths = []
    for number, name in enumerate(STATIONS):
        if name == "Apportion" and window.findings.cards:
            window.findings.cards[0].followed.emit()
            while window.busy:
                wait(20)
        elif name == "Examine":
            lossy = [k for k, f in enumerate(window.investigation.findings) if f.cause == "loss"]
            if lossy:
                window.findings.cards[lossy[0]].followed.emit()
            window.go(number)
            window.examine.step_silence(1)
        window.go(number)
        wait(60)
        while window.busy:
            wait(20)
        wait(120)
        path = folder / f"{name.lower()}.png"
        if not window.grab().save(str(path)):
            raise YaffleError(f"{path}: cannot be written")
        paths.append(path)
    window.close()
    return paths
