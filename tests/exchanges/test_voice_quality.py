"""The E-model against values of the recommendations, and gaps that are heard."""

import pytest

from yaffle.media.voice_quality import delay_impairment, estimate, opinion_score


@pytest.mark.parametrize(
    ("r", "mos"),
    [(93.2, 4.41), (90, 4.34), (80, 4.03), (70, 3.60), (60, 3.10), (50, 2.58), (0, 1.0), (-5, 1.0), (100, 4.5)],
)
def test_scores_are_those_of_the_recommendation(r, mos):  # G.107 annex B, table B.1
    assert opinion_score(r) == pytest.approx(mos, abs=0.01)


@pytest.mark.parametrize(("ms", "idd"), [(50, 0), (100, 0), (150, 0.2), (200, 3.0), (300, 14.6), (400, 24.2)])
def test_delay_impairs_as_the_curve_says(ms, idd):
    assert delay_impairment(ms) == pytest.approx(idd, abs=0.6)


def test_loss_impairs_by_codec_and_burst():
    clean = estimate(0, 0.0, 1.0, None)
    assert (clean.r, clean.mos) == (pytest.approx(93.2), pytest.approx(4.41, abs=0.01))
    assert estimate(0, 0.05, 1.0, None).r == pytest.approx(93.2 - 95 * 5 / (5 + 25.1))
    assert estimate(0, 0.05, 2.0, None).r < estimate(0, 0.05, 1.0, None).r
    assert estimate(18, 0.0, 1.0, 20.0).r == pytest.approx(82.2)
    assert "20.0 ms measured" in estimate(18, 0.0, 1.0, 20.0).assumptions
    assert estimate(96, 0.0, 1.0, None) is None
