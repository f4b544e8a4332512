"""What is done again where the machine was late, and what is not."""

import time

from tests import calm

pytest_plugins = ["pytester"]


def counted(pytester, monkeypatch, late_ms):
    """How often a test that fails at first is called."""
    pytester.makepyfile(
        conftest="pytest_plugins = ['tests.calm']\n",
        test_it="import pytest\nturns = []\n@pytest.mark.alone\ndef test_it(tmp_path):\n"
        "    turns.append(1)\n    print('turn', len(turns), tmp_path.exists())\n    assert len(turns) > 2\n",
    )
    monkeypatch.setattr(calm, "LATE_MS", late_ms)
    return pytester.runpytest_inprocess("-p", "no:xvfb", "-p", "no:cacheprovider", "-n", "0")


def test_a_failure_while_the_machine_was_late_is_tried_again(pytester, monkeypatch):
    counted(pytester, monkeypatch, 0.0).assert_outcomes(passed=1)


def test_on_a_calm_machine_it_fails_at_once(pytester, monkeypatch):
    found = counted(pytester, monkeypatch, 1e9)
    found.assert_outcomes(failed=1)
    assert "turn 2" not in found.stdout.str()


def test_the_meter_tells_how_late_a_timer_was():
    with calm.Meter() as meter:
        time.sleep(0.3)
    assert 0.0 < meter.worst_ms < 10_000
