"""How tables and panes were arranged, kept between sessions."""

import json
from pathlib import Path

import pytest

from yaffle.session import layout_memory
from yaffle.session.layout_memory import LayoutMemory, load_layout


@pytest.fixture
def file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    path = tmp_path / "settings" / "arrangement.json"
    monkeypatch.setattr(layout_memory, "_file", lambda: path)
    return path


def test_what_was_arranged_comes_back(file: Path) -> None:
    memory = LayoutMemory(
        {"connections": {"client": 120}}, {"connections": ["server", "client"]}, {"survey": [200, 90]}
    )
    memory.save()
    assert load_layout() == memory
    memory.forget_table("connections")
    assert load_layout() == LayoutMemory(panes={"survey": [200, 90]})
    assert not list(file.parent.glob("*.part"))


@pytest.mark.parametrize(
    "text",
    [
        "",
        "[]",
        "{",
        '{"widths": 3, "orders": "x", "panes": null}',
        '{"widths": {"a": {"b": -1, "c": true, "d": 1e9, "e": "80"}}, "panes": {"p": [1, "2"], "q": []}}',
        '{"orders": {"a": {"b": 1}}}',
    ],
)
def test_what_makes_no_sense_is_left_out(file: Path, text: str) -> None:
    file.parent.mkdir()
    file.write_text(text)
    found = load_layout()
    assert not any(found.widths.values()) and not found.orders and not found.panes


def test_a_disk_that_cannot_be_written_stops_nobody(file: Path, caplog: pytest.LogCaptureFixture) -> None:
    file.parent.write_text("a file is in the way")
    LayoutMemory(panes={"survey": [1, 2]}).save()
    assert "cannot be kept" in caplog.text
    assert load_layout() == LayoutMemory()


def test_it_is_plain_json(file: Path) -> None:
    LayoutMemory(widths={"a": {"b": 40}}).save()
    assert json.loads(file.read_text())["widths"] == {"a": {"b": 40}}
