"""The documentation: it builds as a site, its links lead somewhere, its notebook runs."""

import shutil
import subprocess
import sys
from pathlib import Path

import nbformat
import pytest
from nbclient import NotebookClient

from yaffle.programs import interface_page

ROOT = Path(__file__).parent.parent


def test_the_site_builds_offline_without_a_dead_link(tmp_path):
    command = [sys.executable, "-m", "mkdocs", "build", "--strict", "-q", "-d", str(tmp_path / "site")]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    pages = list((tmp_path / "site").glob("*.html"))
    assert len(pages) > 20
    for page in pages:
        text = page.read_text()
        for elsewhere in ('src="http', "fonts.googleapis", "unpkg.com", "cdn."):
            assert elsewhere not in text, (page.name, elsewhere)


def test_links_of_the_pages_at_the_top_lead_to_files():
    import re

    for name in ("README.md", "ARCHITECTURE.md", "CONTRIBUTING.md"):
        for target in re.findall(r"\]\(([^)#]+)\)", (ROOT / name).read_text()):
            assert target.startswith("http") or (ROOT / target).exists(), (name, target)


def test_the_page_of_the_interface_is_that_of_its_description():
    assert (ROOT / "docs" / "interface.md").read_text() == interface_page.page()


def test_the_notebook_runs_on_the_demo(morning, monkeypatch, tmp_path):
    for capture in morning:
        shutil.copy(capture, tmp_path)
    monkeypatch.setenv("YAFFLE_DEMO", str(tmp_path))
    book = nbformat.read(ROOT / "docs" / "programs.ipynb", 4)
    assert all(not cell.get("outputs") for cell in book.cells), "outputs are not kept"
    NotebookClient(book, timeout=120, kernel_name="python3", resources={"metadata": {"path": str(tmp_path)}}).execute()
    told = "".join(out.get("text", "") for cell in book.cells for out in cell.get("outputs", []))
    assert "1. Northpoint waits for ticket database" in told


@pytest.mark.skipif(shutil.which("chromium") is None, reason="no browser here")
def test_reports_are_accessible_in_a_real_browser(analysed_morning, tmp_path):
    """axe-core's rules, all of them; at two widths nothing but tables is wider than the window."""
    import json
    import re

    import axe_core_python

    from yaffle.report.html import render

    rules = next(Path(axe_core_python.__file__).parent.rglob("axe*.js")).read_text()
    told = "JSON.stringify([r.violations.map(v => v.id), document.documentElement.scrollWidth <= window.innerWidth])"
    shown = 'p = document.createElement("pre"); p.id = "found"; p.textContent = t; document.body.appendChild(p)'
    script = f'axe.run(document).then(r => {{ const t = {told}; document.body.innerHTML = ""; const {shown}; }})'
    page = render(analysed_morning).replace("</body>", f"<script>{rules}</script><script>{script}</script></body>")
    (tmp_path / "r.html").write_text(page)
    for wide in (1280, 480):
        command = ["chromium", "--headless=new", "--no-sandbox", "--disable-gpu", f"--window-size={wide},900"]
        command += ["--virtual-time-budget=20000", "--dump-dom", f"file://{tmp_path}/r.html"]
        seen = subprocess.run(command, capture_output=True, text=True, check=False, timeout=120).stdout
        found = re.search(r'<pre id="found">(.*?)</pre>', seen, re.DOTALL)
        assert found is not None, seen[-500:]
        assert json.loads(found.group(1)) == [[], True], wide
