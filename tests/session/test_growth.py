"""A history that grows while it is looked at."""

from tests.history.test_history import START, Clock, told
from yaffle.analysis import analyse
from yaffle.history.layout import HOUR_NS
from yaffle.history.writer import HistoryWriter
from yaffle.session.investigation import Investigation, Opened

S = 10**9


def test_the_window_goes_along_and_a_chosen_period_with_it(tmp_path):
    clock = Clock(START + 600 * S)
    writer = HistoryWriter(tmp_path, now_ns=clock, settle=False)
    writer.append(told(1, clock.now_ns))
    model = Investigation()
    model.open(Opened(analyse([tmp_path])))
    assert model.opened.grown() is None
    last = model.evidence.last_ns
    model.look(model.focus.with_period((last - 60 * S, last)))
    seen = []

    def heard():
        seen.append("grown")

    model.grown_changed.connect(heard)
    clock.now_ns = START + HOUR_NS - S
    writer.append(told(2, clock.now_ns))
    growth = model.opened.grown()
    model.grow(growth)
    assert seen == ["grown"]
    assert 0 <= model.evidence.last_ns - clock.now_ns < 10
    assert model.focus.period == (model.evidence.last_ns - 60 * S, model.evidence.last_ns)
    assert not model.history.can_go_forward
    assert model.opened.overview.octets.sum() > 0
    other = Investigation()
    other.open(Opened(analyse([tmp_path])))
    other.grow(growth)  # Of another window: nothing of this one.
    assert other.focus.period is None
    writer.close()
