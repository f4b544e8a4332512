import subprocess
import sys


def test_everything_below_the_desktop_imports_without_qt():
    code = (
        "import sys, yaffle.analysis, yaffle.session.investigation, yaffle.report.document, yaffle.demo.morning,"
        " yaffle.case.folder;sys.exit(any(m.startswith(('PySide6', 'pyqtgraph')) for m in sys.modules))"
    )
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0
