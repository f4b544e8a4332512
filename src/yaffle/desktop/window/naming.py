"""The user's own names: of applications, sites and capture points; what changes with them is computed again."""

from dataclasses import replace

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QWidget

from yaffle.desktop.window.naming_dialog import NamingDialog
from yaffle.desktop.window.sites_dialog import SitesDialog
from yaffle.desktop.window.task import Task
from yaffle.session.investigation import Investigation, Opened


class Naming(QObject):
    """Keeps names, and has the findings told again when what the user says has changed."""

    def __init__(self, investigation: Investigation, task: Task, window: QWidget) -> None:
        super().__init__(window)
        self._model, self._task, self._window = investigation, task, window
        self._undo = [investigation.kept_changed.connect(self._kept)]

    def name_application(self, application: str = "", server: str = "", port: int = 0) -> None:
        """Lets the user name what runs at a server and port."""
        dialog = NamingDialog(self._model.kept.rules, application, server, port, self._window)
        dialog.accepted.connect(
            lambda: self._model.keep(replace(self._model.kept, rules=dialog.rules), "names of applications")
        )
        dialog.open()

    def name_sites(self) -> None:
        """Lets the user name ranges of addresses."""
        dialog = SitesDialog(self._model.kept.sites, self._window)
        dialog.accepted.connect(lambda: self._model.keep(replace(self._model.kept, sites=dialog.sites), "sites"))
        dialog.open()

    def _kept(self) -> None:
        opened = self._model.opened
        if opened is not None and opened.analysis.told != self._model.kept.told:
            self.tell_again()

    def tell_again(self) -> None:
        """Has everything named, and all findings told, once more."""
        opened = self._model.opened
        if opened is None or self._task.job is not None:
            return
        memory = self._model.memory()
        self._task.begin(
            lambda progress: Opened(opened.analysis, opened.folder, memory, progress),
            "applying changes",
            self._model.renamed,
        )
