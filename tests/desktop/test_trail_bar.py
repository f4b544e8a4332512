"""The trail of the focus: what fits is whole, and room that is short is shared."""

from PySide6.QtCore import Qt

from yaffle.desktop.window.trail_bar import TrailBar

PARTS = ["All", "ticket database", "203.0.113.21 port 5432", "purser-2.saltmarsh.harbourline.example", "port 34663"]


def test_a_long_trail_gives_way(qtbot):
    chosen = []
    bar = TrailBar(chosen.append)
    qtbot.addWidget(bar)
    bar.show()
    bar.show_parts(PARTS)
    bar.resize(bar.sizeHint())
    roomy = [button.text() for button in bar.buttons]
    assert roomy[:3] == ["All", "› ticket database", f"› {PARTS[2]}"] and roomy[3].endswith("…")
    assert bar.minimumSizeHint().width() < 300
    bar.resize(bar.minimumSizeHint())
    assert all(button.geometry().right() <= bar.width() for button in bar.buttons)
    assert bar.buttons[0].text() == "All" and bar.buttons[3].text() != roomy[3]
    assert PARTS[3] in bar.buttons[3].toolTip()
    bar.resize(bar.sizeHint())
    assert [button.text() for button in bar.buttons] == roomy
    qtbot.mouseClick(bar.buttons[2], Qt.MouseButton.LeftButton)
    assert chosen == [2]
    bar.show_parts(PARTS[:2])
    assert [button.text() for button in bar.buttons] == ["All", "› ticket database"]
