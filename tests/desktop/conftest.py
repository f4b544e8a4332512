"""Windows of tests are garbage at their end: it is collected here, not by a thread of the next test."""

import gc

import pytest
from PySide6.QtCore import QCoreApplication, QEvent

from yaffle.desktop.shared.jobs import let_all_end
from yaffle.desktop.shared.quiet_collector import QuietCollector


@pytest.fixture(autouse=True)
def quiet_collector(qapp):
    collector = QuietCollector()
    yield collector
    let_all_end(10_000)
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    collector.stop()
    assert gc.isenabled()
