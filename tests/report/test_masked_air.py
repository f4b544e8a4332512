"""What a radio heard, masked: no network's name, no hardware address, and one and the same other one for each."""

import json
import re

from yaffle.analysis import analyse
from yaffle.capture.masking import Masker
from yaffle.demo.pier_air import SSID, make_pier_air, make_pier_uplink, scanner
from yaffle.report.document import document
from yaffle.report.html import render
from yaffle.report.nameless import masked, nameless

HARDWARE = re.compile(r"\b[0-9a-f]{2}(?::[0-9a-f]{2}){5}\b")


def test_networks_and_hardware_addresses_are_others(tmp_path):
    analysis = analyse([make_pier_air(tmp_path / "air.pcapng"), make_pier_uplink(tmp_path / "uplink.pcapng")])
    masker = Masker(b"k" * 16)
    plain, page = json.dumps(document(analysis)), render(analysis, masker=masker)
    told = masked(json.dumps(document(nameless(analysis))), masker)
    known = set(HARDWARE.findall(plain))
    assert scanner(2).hex(":") in known and f'"{SSID}"' in plain
    for text in (told, page):
        assert not known & set(HARDWARE.findall(text)) and f'"{SSID}"' not in text and f"{SSID} at" not in text
        assert "192.0.2.18" not in text and "scanner-" not in text
    assert {masker.hardware(one) for one in known} == set(HARDWARE.findall(told))
    assert len({masker.hardware(one) for one in known}) == len(known) and "network 1" in told
    assert all(int(one[:2], 16) & 3 == 2 for one in HARDWARE.findall(told))


def test_addresses_end_where_sentences_go_on():
    masker = Masker(b"k" * 16)
    one, network = masker.text("2001:db8::7"), masker.text("2001:db8::")
    for text, told in (
        ("2001:db8::7: slow", f"{one}: slow"), ("[2001:db8::7]:443", f"[{one}]:443"), ("(2001:db8::7)", f"({one})"),
        ("at 2001:db8::, or", f"at {network}, or"),
        ("02:4b:00:00:00:04: wrong key", f"{masker.hardware('02:4b:00:00:00:04')}: wrong key"),
        ("192.0.2.18:1812: slow", f"{masker.text('192.0.2.18')}:1812: slow"), ("06:41:12", "06:41:12"),
    ):  # fmt: skip
        assert masked(text, masker) == told
