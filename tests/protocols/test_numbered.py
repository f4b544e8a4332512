"""Requests and answers that bear one number."""

import random

from yaffle.protocols.numbered import Numbered


def test_the_first_request_of_a_number_gets_its_first_answer_whichever_comes_first():
    numbered = Numbered()
    assert numbered.ask(1, "first") is None
    assert numbered.ask(1, "second") is None
    assert numbered.tell(1, "one") == "first"
    assert numbered.tell(2, "early") is None
    assert numbered.ask(2, "late") == "early"
    assert numbered.tell(1, "two") == "second"
    assert numbered.tell(1, "three") is None
    assert numbered.ask(1, "third") == "three"
    assert numbered.unanswered == []


def test_who_belongs_together_does_not_depend_on_when_they_come():
    rnd = random.Random(3)
    for _ in range(200):
        sides = [[(rnd.randrange(3), k) for k in range(rnd.randrange(12))] for _ in (0, 1)]
        wanted = set()
        for number in range(3):
            asked, told = ([k for own, k in side if own == number] for side in sides)
            wanted |= {(number, *pair) for pair in zip(asked, told, strict=False)}
        numbered, found, left = Numbered(), set(), [list(side) for side in sides]
        while any(left):
            side = rnd.randrange(2) if all(left) else int(not left[0])
            number, k = left[side].pop(0)
            other = numbered.tell(number, k) if side else numbered.ask(number, k)
            if other is not None:
                found.add((number, other, k) if side else (number, k, other))
        assert found == wanted
        assert len(numbered.unanswered) == len(sides[0]) - len(wanted)
