"""What an installation puts beside the program: manual page, desktop entry, icon, kinds of files."""

from pathlib import Path
from xml.etree import ElementTree

import pytest

from yaffle import man_page
from yaffle.desktop_entry import PLACES, install_desktop
from yaffle.errors import YaffleError

ROOT = Path(__file__).parents[1]


def test_the_manual_page_is_that_of_the_commands() -> None:
    assert (ROOT / "docs" / "yaffle.1").read_text() == man_page.page()


def test_entry_icon_and_kinds_are_put_where_desktops_look(tmp_path: Path) -> None:
    written = install_desktop(tmp_path)
    assert {p.relative_to(tmp_path).as_posix() for p in written} == {f"{place}/{n}" for n, place in PLACES.items()}
    entry = (tmp_path / "applications" / "yaffle.desktop").read_text()
    keys = dict(line.split("=", 1) for line in entry.splitlines() if "=" in line)
    assert keys["Type"] == "Application" and keys["Icon"] == "yaffle" and keys["Exec"].startswith("yaffle")
    kinds = {k.get("type") for k in ElementTree.parse(tmp_path / "mime" / "packages" / "yaffle.xml").getroot()}
    assert kinds <= set(keys["MimeType"].split(";"))
    assert ElementTree.parse(tmp_path / "icons/hicolor/scalable/apps/yaffle.svg").getroot().tag.endswith("svg")
    install_desktop(tmp_path)  # Once more: the same.


def test_a_folder_that_cannot_be_written_is_said(tmp_path: Path) -> None:
    (tmp_path / "applications").write_text("a file is in the way")
    with pytest.raises(YaffleError, match=str(tmp_path)):
        install_desktop(tmp_path)


def test_every_page_that_a_page_links_to_is_there() -> None:
    import re

    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name} -> {target}"
