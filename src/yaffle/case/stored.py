"""Cases in a store: written whole, and brought here to be opened."""

import hashlib
import json
import shutil
from pathlib import Path
from tempfile import TemporaryDirectory

import platformdirs

from yaffle.analysis import Analysis
from yaffle.case.folder import SUFFIX, save_case
from yaffle.errors import CaseError
from yaffle.file_store import Store, is_url
from yaffle.progress import Progress, go_on, step
from yaffle.room import spill_folder

_MANIFEST = "manifest.json"
_LISTED = "files.json"  # what the case holds, because stores may tell late what there is


def save_case_at(where: str, analysis: Analysis, progress: Progress = go_on) -> None:
    """Saves a case in a folder, or in a store, the manifest last. Raises CaseError, YaffleError or Cancelled."""
    if not is_url(where):
        save_case(Path(where), analysis, {}, progress=progress)
        return
    if not where.rstrip("/").endswith(SUFFIX):
        raise CaseError(f"{where}: the name of a case ends in {SUFFIX}")
    store = Store(where)
    with TemporaryDirectory(dir=spill_folder(), prefix="yaffle-") as name:
        folder = Path(name, f"case{SUFFIX}")
        save_case(folder, analysis, {}, settle=False, progress=progress)
        files = sorted(str(file.relative_to(folder)) for file in folder.rglob("*") if file.is_file())
        for file in [name for name in files if name != _MANIFEST]:
            store.put(file, folder / file)
        store.write(_LISTED, lambda path: path.write_text(json.dumps(files)))
        store.put(_MANIFEST, folder / _MANIFEST)


def case_here(where: str, progress: Progress = go_on) -> Path:
    """A case of a store as a folder of this machine; what was fetched before, and what was noted in it, is kept while
    the case in the store is the same. Raises YaffleError; Cancelled when `progress` says so.
    """
    if not where.rstrip("/").endswith(SUFFIX):
        raise CaseError(f"{where}: the name of a case ends in {SUFFIX}")
    store = Store(where)
    held = Path(platformdirs.user_cache_dir("yaffle"), "cases")
    folder = held / f"{hashlib.sha256(where.encode()).hexdigest()[:16]}{SUFFIX}"
    with TemporaryDirectory(prefix="yaffle-") as name:
        manifest = store.read(_MANIFEST, Path(name)).read_bytes()
        files = json.loads(store.read(_LISTED, Path(name)).read_text(encoding="utf-8"))
    if (folder / _MANIFEST).exists() and (folder / _MANIFEST).read_bytes() == manifest:
        return folder
    for number, file in enumerate(files):
        step(progress, number / len(files), "fetching the case")
        if Path(file).is_absolute() or ".." in Path(file).parts:
            raise CaseError(f"{where}: the case is damaged (a file of it is said to be at {file})")
        if file != _MANIFEST:
            fetched = store.read(file, folder)
            if fetched != folder / file:
                raise CaseError(f"{where}: a folder of this machine is opened by its path")
    folder.mkdir(parents=True, exist_ok=True)
    part = folder / f"{_MANIFEST}.part"
    part.write_bytes(manifest)
    part.replace(folder / _MANIFEST)
    for former in folder.iterdir():  # Columns of the case as it was.
        if former.is_dir() and not any(Path(file).parts[0] == former.name for file in files):
            shutil.rmtree(former)
    return folder
