"""The map with the ways of what flows over it: choose one to see its way; what is changed by hand is kept with the
case.
"""

from dataclasses import replace
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QInputDialog, QLabel, QPushButton, QVBoxLayout, QWidget

from yaffle.desktop.path.map_canvas import MapCanvas
from yaffle.session.kept import Kept
from yaffle.session.map_edits import BY_HAND, Drawn, Placed
from yaffle.session.map_layout import laid_out
from yaffle.session.map_view import HURT, MapPicture
from yaffle.units import count

_NO_WAY = "nothing chosen"
_NOTHING = (
    "A map is drawn from what captures and flow records tell: sites, points of capture, devices that exported, and the"
    " links between them. Open some evidence (Ctrl+O)."
)


class MapPage(QWidget):
    """`kept` carries what is to be kept, and the words for it."""

    kept = Signal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.picture: MapPicture | None = None
        self._kept = Kept()
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.canvas = MapCanvas()
        self.canvas.moved.connect(self._move)
        self.canvas.renaming.connect(self.rename)
        self.canvas.left_out.connect(self.leave_out)
        self.canvas.joined.connect(self.join)
        self.canvas.unjoined.connect(self.unjoin)
        self.flows = QComboBox()
        self.flows.setAccessibleName("What flows over the map")
        self.flows.setToolTip("Choose a flow to see its path on the map")
        self.flows.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.flows.setMinimumContentsLength(9)
        self.flows.currentIndexChanged.connect(lambda _: self._mark())
        row = QHBoxLayout()
        self.buttons = {}
        for text, tip, does in (
            ("Add place…", "Draws a place that the evidence does not show", self.add_place),
            (
                "Link",
                "Links the two places that are chosen (L)",
                lambda: self.join(*self.canvas.chosen) if len(self.canvas.chosen) == 2 else None,
            ),
            (
                "Rename…",
                "Another name for the place that is chosen (F2)",
                lambda: self.rename(self.canvas.chosen[0]) if self.canvas.chosen else None,
            ),
            (
                "Hide",
                "Hides the chosen places (Delete)",
                lambda: self.leave_out(self.canvas.chosen) if self.canvas.chosen else None,
            ),
            ("Reset layout", "Forgets moved places and shows hidden ones", self.lay_out_anew),
            ("Save…", "All of the map as SVG or PNG (Ctrl+S)", self.canvas.save),
        ):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, does=does: does())
            self.buttons[text] = button
            row.addWidget(button)
        row.addStretch(1)
        row.addWidget(QLabel("Path of"))
        row.addWidget(self.flows, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(self.canvas, 1)
        self.show_picture(None, Kept())

    def show_picture(self, picture: MapPicture | None, kept: Kept) -> None:
        """Shows another map, with what the user changed on it."""
        former = self.chosen_flow
        self.picture, self._kept = picture, kept
        flows = picture.flows if picture is not None else []
        some = picture is not None and bool(picture.places or kept.placed)
        self.canvas.setVisible(some)
        self.flows.blockSignals(True)
        self.flows.clear()
        self.flows.addItems([_NO_WAY, *(name for name, _ in flows)])
        self.flows.setCurrentText(former if former in [name for name, _ in flows] else _NO_WAY)
        self.flows.blockSignals(False)
        self._draw()

    def keep_up(self, kept: Kept) -> None:
        """Draws the same map with other changes."""
        if (kept.placed, kept.drawn) != (self._kept.placed, self._kept.drawn):
            self._kept = kept
            self._draw()
        else:
            self._kept = kept

    def _draw(self) -> None:
        picture = self.picture
        layout = laid_out(picture or MapPicture(), self._kept.placed, self._kept.drawn)
        self.canvas.show_layout(layout)
        hurt = [link for link in layout.links if link.state == HURT]
        gone = f"; {count(layout.hidden)} hidden" if layout.hidden else ""
        bad = f"{count(len(hurt))} of them lose packets" if hurt else "none of them is seen to lose packets"
        self.words.setText(
            f"{count(len(layout.places))} places, {count(len(layout.links))}"
            f" link{'s' if len(layout.links) != 1 else ''}, {bad}{gone}. The period above moves in time with Left and"
            " Right."
            if layout.places
            else _NOTHING
        )
        self._mark()

    @property
    def chosen_flow(self) -> str:
        """The name of the way that is marked; empty without."""
        return "" if self.flows.currentIndex() <= 0 else self.flows.currentText()

    def _mark(self) -> None:
        name = self.chosen_flow
        self.canvas.mark(
            next((stations for own, stations in self.picture.flows if own == name), [])
            if self.picture is not None and name
            else []
        )

    # --- what the user changes ---
    def _place(self, key: str, **fields: Any) -> tuple[Placed, ...]:
        mine = next((one for one in self._kept.placed if one.key == key), Placed(key))
        return (*(one for one in self._kept.placed if one.key != key), replace(mine, **fields))

    def _keep(self, words: str, **fields: Any) -> None:
        self.kept.emit(replace(self._kept, **fields), words)

    def _move(self, corners: dict[str, tuple[int, int]]) -> None:
        placed = {one.key: one for one in self._kept.placed}
        for key, (x, y) in corners.items():
            placed[key] = replace(placed.get(key, Placed(key)), x=x, y=y)
        self._keep("move on the map", placed=tuple(placed.values()))

    def rename(self, key: str) -> None:
        """Asks for another name of a place."""
        label = next((one.label for one in self._kept.placed if one.key == key), "") or key.partition(": ")[2]
        text, fine = QInputDialog.getText(self, "Name on the map", "Name (empty: its own)", text=label)
        if fine:
            self._keep("rename on the map", placed=self._place(key, label=text.strip()))

    def leave_out(self, keys: list[str]) -> None:
        """Takes places off the map; drawn ones are gone for good."""
        placed = tuple(one for one in self._kept.placed if one.key not in keys)
        hidden = tuple(
            replace(next((one for one in self._kept.placed if one.key == key), Placed(key)), hidden=1)
            for key in keys
            if not key.startswith(BY_HAND)
        )
        drawn = tuple(
            one for one in self._kept.drawn if not {one.one, one.two} & {key for key in keys if key.startswith(BY_HAND)}
        )
        self._keep("hide on the map", placed=(*placed, *hidden), drawn=drawn)

    def add_place(self) -> None:
        """Asks for the name of a place to draw."""
        text, fine = QInputDialog.getText(self, "Add place", "Name")
        if fine and text.strip():
            self._keep(f"add {text.strip()} to the map", placed=self._place(BY_HAND + text.strip(), hidden=0))

    def join(self, one: str, two: str) -> None:
        """Draws a link."""
        if one != two and not any({link.one, link.two} == {one, two} for link in self._kept.drawn):
            self._keep("link on the map", drawn=(*self._kept.drawn, Drawn(one, two)))

    def unjoin(self, one: str, two: str) -> None:
        """Takes a drawn link away; what the evidence shows stays."""
        left = tuple(link for link in self._kept.drawn if {link.one, link.two} != {one, two})
        if left != self._kept.drawn:
            self._keep("take a link off the map", drawn=left)

    def lay_out_anew(self) -> None:
        """Forgets positions and what was left out; names and what was drawn stay."""
        placed = tuple(replace(one, x=-1, y=-1, hidden=0) for one in self._kept.placed)
        self._keep(
            "reset the map's layout", placed=tuple(one for one in placed if one.label or one.key.startswith(BY_HAND))
        )

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.canvas.dress()
