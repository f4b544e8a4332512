"""What one collector put into a store, as a folder here: its lists, who told, and a name for each of its files."""

import json
from pathlib import Path

from yaffle.file_store import MissingError, Store
from yaffle.history.layout import HistoryError
from yaffle.history.parts import write_json
from yaffle.history.stored import ABOUT, HELD, About, Held, StoredFile, about_of, held_of, list_name, stored_at

_STAMPS = "stamps.json"  # here: of the files beside the tables


class Branch:
    """One collector's folder."""

    def __init__(self, store: Store, folder: Path) -> None:
        self.folder = folder
        self._store = store
        self._days: dict[str, tuple[int, Held]] = {}
        for path in (folder / HELD).glob("*.json"):  # As it was when somebody looked last.
            try:
                self._days[path.stem] = held_of(str(path), path.read_bytes())
            except (OSError, HistoryError):
                path.unlink(missing_ok=True)  # It is asked for again.

    @property
    def name(self) -> str:
        """By which the collector is known."""
        return self.folder.name

    @property
    def files(self) -> Held:
        """All files by their names."""
        return {name: file for _, held in self._days.values() for name, file in held.items()}

    def file(self, name: str) -> StoredFile | None:
        """One of them; None where it was taken away."""
        day = name.split("/")[1][:10]
        return self._days[day][1].get(name) if day in self._days else None

    def about(self) -> About | None:
        """What the collector says now; None before its first files are there. Raises YaffleError."""
        name = stored_at(self.name, ABOUT)
        try:
            return about_of(f"{self._store.url}/{name}", self._store.content(name))
        except MissingError:
            return None

    def is_as(self, about: About) -> bool:
        """Whether this is what is here."""
        return {day: stamp for day, (stamp, _) in self._days.items()} == about.days and self._beside == about.beside

    @property
    def _beside(self) -> dict[str, int]:
        """The stamps of the files beside the tables, as they are here."""
        try:
            told = json.loads((self.folder / _STAMPS).read_text())
            return {name: int(stamp) for name, stamp in told.items() if (self.folder / name).exists()}
        except (FileNotFoundError, ValueError, TypeError, AttributeError):
            return {}

    def lists(self, about: About) -> list[str]:
        """The days whose lists are to be read anew."""
        return [day for day, stamp in about.days.items() if day not in self._days or self._days[day][0] != stamp]

    def read_list(self, day: str) -> None:
        """Reads the list of a day, and makes the names as it says. Raises YaffleError."""
        name = stored_at(self.name, list_name(day))
        content = self._store.content(name)
        stamp, held = held_of(f"{self._store.url}/{name}", content)
        self._name(self._days[day][1] if day in self._days else {}, held)
        path = self.folder / list_name(day)
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(".part")
        part.write_bytes(content)
        part.replace(path)
        self._days[day] = stamp, held

    def forget(self, days: set[str]) -> None:
        """Takes days away that the collector gave up."""
        for day in days & set(self._days):
            self._name(self._days.pop(day)[1], {})
            (self.folder / list_name(day)).unlink(missing_ok=True)

    def read_beside(self, about: About) -> None:
        """Reads who told, which stands in the store before what they told, and all else beside the tables. Raises
        YaffleError.
        """
        here = self._beside
        for name, stamp in about.beside.items():
            if here.get(name) != stamp:
                self._store.fetch(stored_at(self.name, name), self.folder / name)
        for name in set(here) - set(about.beside):
            (self.folder / name).unlink(missing_ok=True)
        write_json(self.folder / _STAMPS, about.beside)

    @property
    def days(self) -> set[str]:
        """Of which there are files."""
        return set(self._days)

    def _name(self, before: Held, now: Held) -> None:
        """Empty files for what came; what is gone, or has another content, goes."""
        for name, file in before.items():
            if now.get(name) != file:
                path = self.folder / name
                path.unlink(missing_ok=True)
                if name not in now and not any(path.parent.iterdir()):
                    path.parent.rmdir()
        for name in now:
            path = self.folder / name
            if not path.exists():
                path.parent.mkdir(parents=True, exist_ok=True)
                path.touch()
