"""Real applications in tiers: links, splits and shares against what their own logs say."""

import pytest

from tests.tiers.truth import DATA, score, truth_of
from yaffle.analysis import analyse


@pytest.mark.parametrize(
    ("name", "right", "found", "error", "most"),
    [
        ("alone", 0.99, 0.99, 0.03, 0.97),
        ("network-between", 0.99, 0.99, 0.03, 0.97),
        ("pool-exhausted", 0.90, 0.85, 0.10, 0.92),
    ],
)
def test_links_and_splits_are_those_of_the_applications_own_logs(name, right, found, error, most):
    result = score(analyse([DATA / f"{name}.pcap.gz"]), truth_of(name))
    assert result.right >= right * result.named
    assert result.right >= found * result.true
    assert result.sure_right >= 0.95 * result.sure
    assert sum(result.split_errors) / len(result.split_errors) <= error
    assert sum(result.most_right) >= most * len(result.most_right)
    assert result.worst_share <= 0.03
