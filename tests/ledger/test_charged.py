"""What no connection is charged with, none of its exchanges is: sums leave such columns out."""

import gzip
from pathlib import Path

import numpy as np
import pytest

from yaffle.analysis import analyse
from yaffle.ledger.sums import by_party
from yaffle.session.evidence import Evidence

CAPTURES = sorted((Path(__file__).parents[1] / "data").rglob("*.pcap*.gz"))


@pytest.mark.parametrize("source", CAPTURES[::3], ids=lambda path: path.stem)
def test_columns_that_are_left_out_hold_nothing(source, tmp_path):
    path = tmp_path / source.stem
    path.write_bytes(gzip.decompress(source.read_bytes()))
    account = (evidence := Evidence(analyse([path]))).analysis.account
    assert (account.exchange_charges >= 0).all()
    assert {*np.flatnonzero(account.exchange_charges.any(axis=0))} <= {*account.charged}
    for of_some, of_all in zip(
        by_party(account.exchange_charges, account.charged), by_party(account.exchange_charges), strict=True
    ):
        assert np.array_equal(of_some, of_all)
    waits, rows = evidence.waits, np.arange(evidence.waits.connection.size)[::2]
    assert np.array_equal(waits.wait_ns, waits.charges.sum(axis=1))
    assert np.array_equal(waits.charged(rows), waits.charges[rows].sum(axis=0))
