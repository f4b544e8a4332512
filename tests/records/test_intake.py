"""Export datagrams by hand: every way templates come and go, sampling, boots, losses; and exporters that mean no
good.
"""

import random
from struct import pack

import numpy as np
import pytest

from tests.records.messages import a_set, ipfix, netflow5, netflow9, option_template, template
from yaffle.records.elements import VARIABLE
from yaffle.records.intake import MOST_DOMAINS, Intake
from yaffle.records.sequence import MOST_KEPT, Sequence
from yaffle.records.templates import numbers

S = 10**9
NOW = 1_790_000_000 * S
FIELDS = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (2, 4), (1, 8), (152, 8), (153, 8)]


def record(packets, octets=1000, start_ms=NOW // 10**6 - 5000):
    return bytes([198, 51, 100, 1, 203, 0, 113, 2]) + pack(
        "!HHBIQQQ", 1234, 443, 6, packets, octets, start_ms, start_ms + 1000
    )


def taken(*datagrams, address="192.0.2.1"):
    intake = Intake()
    for k, data in enumerate(datagrams):
        assert intake.take(NOW + k * S, address, data)
    return intake.finish()


def test_records_before_their_template_wait_for_it():
    found = taken(
        ipfix([a_set(300, record(7))]),
        ipfix([template(300, FIELDS)], sequence=1),
        ipfix([a_set(300, record(9))], sequence=1),
    )
    assert found.rows["packets"].tolist() == [7, 9]
    assert (found.exporters[0].lost_records, found.exporters[0].undecoded) == (0, 0)
    assert found.rows["first_ns"][0] == NOW - 5 * S


def test_templates_change_and_are_withdrawn():
    other = [(2, 2), (8, 4), (12, 4)]
    found = taken(
        ipfix([template(300, FIELDS), a_set(300, record(1))]),
        ipfix(
            [template(300, other), a_set(300, pack("!H", 2) + bytes([198, 51, 100, 1, 203, 0, 113, 2]), padding=3)],
            sequence=1,
        ),
        ipfix([a_set(2, pack("!HH", 300, 0)), a_set(300, record(5))], sequence=2),
    )
    assert found.rows["packets"].tolist() == [1, 2]
    assert found.exporters[0].undecoded > 0


def test_fields_that_vary_in_length_and_belong_to_enterprises():
    fields = [(8, 4), (7, VARIABLE, 32473), (2, 3), (9, 4, 32473)]
    long = b"x" * 300
    body = bytes([198, 51, 100, 1]) + b"\xff" + pack("!H", 300) + long + b"\0\1\2" + pack("!I", 77)
    body += bytes([198, 51, 100, 9]) + b"\x03abc" + b"\0\0\5" + pack("!I", 78)
    found = taken(ipfix([template(400, fields), a_set(400, body)]))
    assert found.rows["packets"].tolist() == [258, 5]
    assert found.own[1] == {"32473/7": "abc", "32473/9": 78}
    assert found.own[0]["32473/9"] == 77 and str(found.own[0]["32473/7"]).startswith("xxx")


def test_options_name_interfaces_and_applications_and_tell_sampling():
    names = option_template(500, [(10, 4), (82, 8)], 1)
    apps = option_template(501, [(95, 4), (96, 6)], 1)
    rate = option_template(502, [(302, 4), (305, 4), (306, 4)], 1)
    told = [
        a_set(500, pack("!I", 7) + b"ge-0/0/7"),
        a_set(501, pack("!I", 0x06000001) + b"quay\0\0"),
        a_set(502, pack("!III", 9, 1, 99)),
    ]
    data = a_set(300, record(3)[:-16] + pack("!I", 0x06000001) + pack("!I", 9))
    found = taken(
        ipfix([template(300, [*FIELDS[:-2], (95, 4), (302, 4)]), data]), ipfix([names, apps, rate, *told], sequence=1)
    )
    e = found.exporters[0]
    assert (e.interfaces, e.applications, e.sampling) == ({7: "ge-0/0/7"}, {0x06000001: "quay"}, 100)
    assert found.rows["packets"].tolist() == [300]
    assert e.counts == "scaled" and e.lost_records == 0 and e.records == 4


def test_a_sampler_that_no_option_tells_of_is_said_to_be_unknown():
    found = taken(
        netflow9([template(300, [(8, 4), (12, 4), (2, 4), (48, 1)], kind=0), a_set(300, bytes(8) + pack("!IB", 5, 3))])
    )
    assert found.exporters[0].counts == "unknown"
    assert found.rows["packets"].tolist() == [5]


def test_uptimes_are_tied_to_boots_and_survive_their_wrap():
    top = (1 << 32) - 1
    found = taken(
        netflow5([(1, 100, top - 4000, top - 3000)], uptime_ms=top - 1000),
        netflow5([(2, 100, top - 500, 0)], sequence=1, uptime_ms=0),  # A millisecond less than two seconds later.
    )
    assert (found.rows["first_ns"] - np.array([NOW, NOW + S])).tolist() == pytest.approx(
        [-3 * S, -0.5 * S], abs=0.1 * S
    )
    found = taken(
        netflow5([(1, 100, 499_000, 499_500)], uptime_ms=500_000),
        netflow5([(2, 100, 200, 900)], sequence=1, uptime_ms=1000),
    )
    assert found.exporters[0].boots == 2
    assert (found.rows["first_ns"] - np.array([NOW, NOW + S])).tolist() == pytest.approx([-S, -0.8 * S], abs=0.01 * S)


def test_sampling_of_version_5_scales():
    found = taken(netflow5([(4, 400, 1000, 2000)], sampling=0x4000 | 50))
    assert (found.rows["packets"][0], found.rows["octets"][0], found.exporters[0].counts) == (200, 20_000, "scaled")
    assert (found.rows["dscp"][0], found.rows["ingress"][0], found.rows["egress"][0]) == (46, 3, 4)


def test_losses_are_counted_whatever_overtakes_whatever_boots():
    order = Sequence()
    for number, carried in ((10, 5), (20, 5), (15, 5), (25, 5), (40, 5)):  # 15 came late; 30 to 39 never did.
        order.take(number, carried)
    assert order.lost == 10
    for number, carried in ((0, 5), (5, 5), (10, 5)):
        order.take(number + (1 << 31), carried)  # As after a boot.
    assert order.lost == 10
    wrapped = Sequence()
    for number in ((1 << 32) - 5, 0, 5, 15):
        wrapped.take(number, 5)
    assert wrapped.lost == 5


def test_a_long_count_is_settled_piece_by_piece():
    rnd, order, lost, number = random.Random(1), Sequence(), 0, 0
    for _ in range(3 * MOST_KEPT):
        if rnd.random() < 0.01:
            number, lost = number + 7, lost + 7
        order.take(number, 7)
        number += 7
    assert order.lost == lost


def test_numbers_of_any_width_are_those_of_plain_arithmetic():
    rnd = random.Random(5)
    for size in (1, 2, 3, 4, 5, 6, 7, 8):
        raw = np.frombuffer(rnd.randbytes(40 * (size + 3)), np.uint8).reshape(40, size + 3)
        wanted = [int.from_bytes(row[1 : 1 + size].tobytes(), "big") for row in raw]
        assert [v % (1 << 64) for v in numbers(raw, (1, size)).tolist()] == wanted


def test_templates_that_cannot_be_are_refused():
    intake = Intake()
    for fields in ([(8, 0)], [(1, 0)] * 40, [(8, 65534), (12, 65534)]):
        intake.take(NOW, "192.0.2.1", ipfix([template(300, fields), a_set(300, bytes(64))]))
    intake.take(NOW, "192.0.2.1", ipfix([a_set(2, pack("!HH", 301, 60_000) + bytes(40)), a_set(301, bytes(64))]))
    intake.take(NOW, "192.0.2.1", ipfix([template(302, [(8, VARIABLE)]), a_set(302, bytes(8))]))
    found = intake.finish()
    assert found.rows.size <= 8


def test_one_who_invents_domains_and_templates_disturbs_nobody():
    intake = Intake()
    assert intake.take(NOW, "192.0.2.1", ipfix([template(300, FIELDS), a_set(300, record(1))]))
    for domain in range(1000):
        intake.take(NOW, "192.0.2.66", ipfix([template(256 + domain % 60_000, FIELDS * 20)], domain=domain))
    for number in range(4000):
        intake.take(
            NOW,
            "192.0.2.66",
            ipfix(
                [template(256 + number, FIELDS * 20), a_set(70 + number % 60_000, bytes(1000))],
                domain=1,
                sequence=number * 1000,
            ),
        )
    assert intake.take(NOW + S, "192.0.2.1", ipfix([a_set(300, record(2))], sequence=1))
    found = intake.finish()
    assert len(found.exporters) <= 1 + MOST_DOMAINS
    own = found.rows[found.rows["exporter"] == 0]
    assert own["packets"].tolist() == [1, 2] and found.exporters[0].lost_records == 0


@pytest.mark.parametrize("seed", range(4))
def test_mutated_datagrams_are_taken_or_refused(seed):
    rnd = random.Random(seed)
    seeds = [
        ipfix(
            [
                template(300, FIELDS),
                option_template(301, [(10, 4), (82, VARIABLE)], 1),
                a_set(300, record(1) * 3),
                a_set(301, pack("!I", 1) + b"\3eth"),
            ]
        ),
        netflow9(
            [template(300, [(8, 4), (22, 4), (21, 4), (2, 3), (48, 2)], kind=0), a_set(300, bytes(17) * 2, padding=2)]
        ),
        netflow5([(1, 2, 3, 4)] * 3),
        b"\0\0\0\5\0\0\0\1"
        + bytes([192, 0, 2, 1])
        + pack("!IIII", 0, 1, 5, 1)
        + pack("!II", 1, 88)
        + pack("!IIIIIIII", 1, 2, 32, 99, 0, 2, 3, 1)
        + pack("!IIIIII", 1, 48, 1, 100, 4, 32)
        + bytes(12)
        + b"\x08\0\x45"
        + bytes(17)
        + bytes(20),
    ]
    intake = Intake()
    for k in range(4000):
        data = bytearray(rnd.choice(seeds))
        for _ in range(rnd.randrange(4)):
            at = rnd.randrange(len(data))
            how = rnd.randrange(3)
            if how == 0:
                data[at] = rnd.choice((0, 1, 255, 128, rnd.randrange(256)))
            elif how == 1:
                del data[at : at + rnd.randrange(1, 9)]
            else:
                data[at:at] = rnd.randbytes(rnd.randrange(1, 5))
        intake.take(NOW + k, "192.0.2.1", bytes(data))
    found = intake.finish()
    assert (found.rows["sampling"] >= 1).all()
    assert all(e.lost_records >= 0 for e in found.exporters)


def test_a_file_of_messages_is_read_to_its_break(tmp_path):
    from yaffle.analysis import analyse
    from yaffle.report.document import document

    path = tmp_path / "kept.ipfix"
    whole = ipfix([template(300, FIELDS), a_set(300, record(7) * 2)]) + ipfix(
        [a_set(300, record(9))], sequence=2, seconds=1_790_000_060
    )
    path.write_bytes(whole)
    found = document(analyse([path]), include=["flows"])
    assert [f["packets"] for f in found["flows"]] == [7, 7, 9]
    assert (found["exporters"][0]["address"], found["exporters"][0]["lost_records"]) == ("kept.ipfix", 0)
    assert found["sources"][0]["complete"]
    path.write_bytes(whole[:-5])
    found = document(analyse([path]), include=["flows"])
    assert [f["packets"] for f in found["flows"]] == [7, 7]
    assert not found["sources"][0]["complete"] and any(
        "no whole IPFIX message" in n for n in found["sources"][0]["notes"]
    )


def test_what_exporters_measured_stands_beside_the_record():
    fields = [*FIELDS, (133, 4), (9001, 4, 32473)]
    found = taken(ipfix([template(300, fields), a_set(300, record(7) + pack("!II", 3, 1500))]))
    assert found.own == {0: {"dropped_packets": 3, "32473/9001": 1500}}
