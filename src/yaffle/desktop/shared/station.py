"""What stations have in common: they compute when they are seen and something moved, away from the interface thread."""

from PySide6.QtWidgets import QWidget

from yaffle.desktop.shared.jobs import Latest
from yaffle.session.investigation import Investigation
from yaffle.session.scene import Scene


class Station(QWidget):
    """Subclasses give their `pictures`, ask for them of a scene, and show nothing where nothing is open."""

    def __init__(self, investigation: Investigation, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = investigation
        self._stale = True

    @property
    def pictures(self) -> tuple[Latest, ...]:
        """What computes away from the interface thread."""
        raise NotImplementedError

    @property
    def busy(self) -> bool:
        """Whether something shown is still being computed."""
        return any(latest.busy for latest in self.pictures)

    def _ask(self, scene: Scene) -> None:
        """Has the pictures of a scene computed."""
        raise NotImplementedError

    def _show_nothing(self) -> None:
        """Nothing is open: says what to do."""
        raise NotImplementedError

    def _changed(self) -> None:
        self._stale = True
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        self.refresh()

    def refresh(self) -> None:
        """Has what is shown computed, if something moved since."""
        if not self._stale:
            return
        self._stale = False
        if self._model.scene is None:
            for latest in self.pictures:
                latest.forget()
            self._show_nothing()
        else:
            self._ask(self._model.scene)
