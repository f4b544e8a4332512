"""Findings in one line, and those that one cause explains together."""

import pytest

from yaffle.findings.finding import Finding
from yaffle.findings.headline import headline, story, story_headline, what
from yaffle.ledger import causes

S = 1_000_000_000


def finding(party=causes.SERVER, cause="processing", subject="tickets for Northpoint", site="Northpoint", **more):
    values = {"first_ns": 0, "last_ns": 9 * S, "lost_ns": 84 * S, "users": 3, "confidence": 0.9}
    return Finding(party, cause, "major", subject, "A sentence.", "A step.", site=site, **(values | more))


def test_who_what_and_how_much():
    assert headline(finding()) == "tickets for Northpoint: server processing, 84.0 s"
    assert headline(finding(cause="refused", lost_ns=0)) == "tickets for Northpoint: connection refused"


@pytest.mark.parametrize(("party", "cause"), causes.CHARGES)
def test_every_cause_has_words(party, cause):
    assert what(finding(party, cause)).startswith(party)


def test_late_names_are_called_so():
    late = finding(cause="name", grounds={"protocol": "dns"})
    assert what(late) == "slow DNS responses"


def test_sites_that_wait_for_one_server_are_one_story():
    north, isle = finding(), finding(subject="tickets for Isle of Wren", site="Isle of Wren", lost_ns=6 * S)
    assert story(north) == story(isle)
    assert story_headline([north, isle]) == "tickets: server processing, 2 sites, 90.0 s"
    lossy = [
        finding(causes.NETWORK, "loss", subject=f"tickets for {site}", site=site) for site in ("North", "Saltmarsh")
    ]
    assert story(lossy[0]) != story(lossy[1])  # Two sites may lose on two links.
