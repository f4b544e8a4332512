"""The window on a history that is being written, offscreen, looking every second: `python -m benchmarks.watching
FOLDER SECONDS`.
"""

import os
import sys
from pathlib import Path


def main(folder: Path, seconds: float) -> None:
    """Prints how often the flow records were drawn."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from yaffle.desktop.shared import theme
    from yaffle.desktop.survey.station import FLOWS
    from yaffle.desktop.window.main_window import MainWindow
    from yaffle.session.investigation import Investigation

    application = QApplication([])
    theme.apply(application, theme.LIGHT)
    window = MainWindow(Investigation())
    window.show()
    window.load([folder])
    window.live.set_pace(1)
    drawn = 0

    def count() -> None:
        nonlocal drawn
        drawn += 1

    window.investigation.focus_changed.connect(count)
    QTimer.singleShot(2000, lambda: (window.go(1), window.survey.parts.setCurrentIndex(FLOWS)))
    QTimer.singleShot(round(seconds * 1000), application.quit)
    application.exec()
    picture = window.survey.flows.picture
    print(f"the window drew {drawn} times; at the end it showed {picture.records if picture else 0:,} records")
    sys.stdout.flush()
    os._exit(0)


if __name__ == "__main__":
    main(Path(sys.argv[1]), float(sys.argv[2]))
