"""The map as it is drawn: boxes that can be moved, links with their words, one way marked; saved as SVG or PNG."""

import itertools
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFontMetricsF,
    QImage,
    QKeyEvent,
    QPainter,
    QPainterPath,
    QPainterPathStroker,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import (
    QFileDialog,
    QGraphicsItem,
    QGraphicsPathItem,
    QGraphicsScene,
    QGraphicsSceneMouseEvent,
    QGraphicsView,
    QMessageBox,
    QStyleOptionGraphicsItem,
    QWidget,
)

from yaffle.desktop.shared import theme
from yaffle.ledger import causes
from yaffle.session.map_layout import HEIGHT, WIDTH, Layout
from yaffle.session.map_view import (
    BELONGS,
    CLIENTS,
    FINE,
    HURT,
    SERVERS,
    SERVICE,
    UNMEASURED,
    WAITED,
    WORN,
    Link,
    Place,
)

_PLACES_ON_LINE = (0.5, 0.4, 0.6, 0.3, 0.7, 0.2, 0.8)  # Where the words of a link may stand, the first that is free.
_SIDEWAYS = (0.0, -0.35, 0.35, -0.6, 0.6)  # How far beside it, in widths of its own.
_ASIDE = (-0.7, 0.7, -1.0, 1.0, -1.4, 1.4, -2.0, 2.0, -2.8, 2.8)  # How far above or below it, in heights of its own.
_MARGIN = 18
_LINES = {WORN: Qt.PenStyle.DashLine, HURT: Qt.PenStyle.DashLine, UNMEASURED: Qt.PenStyle.DotLine}
_ORDER = (
    HURT,
    WAITED,
    WORN,
    FINE,
    UNMEASURED,
    BELONGS,
)  # The words of what hurts have the first choice of where to stand.


class _Box(QGraphicsItem):
    """A place."""

    def __init__(self, place: Place, canvas: "MapCanvas") -> None:
        super().__init__()
        self.place, self._canvas = place, canvas
        self.marked = False
        self.setFlags(
            QGraphicsItem.GraphicsItemFlag.ItemIsMovable
            | QGraphicsItem.GraphicsItemFlag.ItemIsSelectable
            | QGraphicsItem.GraphicsItemFlag.ItemSendsScenePositionChanges
        )
        witnesses = f" ({', '.join(place.witnesses)})" if place.witnesses else ""
        self.setToolTip(f"{place.label}: {place.words}{witnesses}. Drag moves it; F2 renames, Delete hides it")
        self.setZValue(2)

    def boundingRect(self) -> QRectF:
        return QRectF(-2, -2, WIDTH + 4, HEIGHT + 4)

    def paint(self, painter: QPainter, _option: QStyleOptionGraphicsItem, _widget: QWidget | None = None) -> None:
        look = theme.current()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(0, 0, WIDTH, HEIGHT)
        painter.setPen(
            QPen(
                QColor(look.moss if self.marked or self.isSelected() else look.faint),
                2.4 if self.marked or self.isSelected() else 1.2,
            )
        )
        painter.setBrush(QColor(look.moss_soft if self.marked or self.isSelected() else look.panel))
        if self.place.kind in (CLIENTS, SERVERS, SERVICE):
            painter.drawRoundedRect(box, 12, 12)
        else:
            painter.drawRect(box)
        if self.place.kind in (CLIENTS, SERVERS, SERVICE):  # The party's color and mark, as in every ledger.
            party = causes.CLIENT if self.place.kind == CLIENTS else causes.SERVER
            for brush in look.brushes(party):
                painter.fillRect(QRectF(WIDTH - 6 if self.place.kind == SERVERS else 0, 12, 6, HEIGHT - 24), brush)
        painter.setPen(QColor(look.ink))
        font = painter.font()
        side = Qt.TextElideMode.ElideRight if self.place.kind == SERVICE else Qt.TextElideMode.ElideMiddle
        text = painter.fontMetrics().elidedText(self.place.label, side, WIDTH - 24)
        painter.drawText(
            box.adjusted(12, 4, -12, -HEIGHT / 2 + 2), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text
        )
        painter.setPen(QColor(look.faint))
        painter.setFont(font)
        painter.drawText(
            box.adjusted(12, HEIGHT / 2 - 2, -12, -4),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            self.place.words,
        )

    def itemChange(self, change: QGraphicsItem.GraphicsItemChange, value: object) -> object:
        if change == QGraphicsItem.GraphicsItemChange.ItemScenePositionHasChanged:
            self._canvas.follow(self)
        return super().itemChange(change, value)

    def mouseReleaseEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        super().mouseReleaseEvent(event)
        self._canvas.settle()

    def mouseDoubleClickEvent(self, _event: QGraphicsSceneMouseEvent) -> None:
        self._canvas.renaming.emit(self.place.key)


class _Line(QGraphicsPathItem):
    """A link with its words."""

    def __init__(self, link: Link) -> None:
        super().__init__()
        self.link = link
        self.marked = False
        self.words = _Words()
        self.lines: list[str] = []
        self.setFlag(QGraphicsItem.GraphicsItemFlag.ItemIsSelectable)
        self.setToolTip(link.words.replace("; ", "\n") or "nothing measures this link")

    def lay(self, one: QPointF, two: QPointF, bends: list[tuple[int, int]]) -> None:
        """Draws the line between two boxes."""
        self.prepareGeometryChange()
        left, right = (one, two) if one.x() <= two.x() else (two, one)
        start, end = left + QPointF(WIDTH, HEIGHT / 2), right + QPointF(0, HEIGHT / 2)
        if end.x() - start.x() < 20:  # One over the other: from below to above.
            upper, lower = (one, two) if one.y() <= two.y() else (two, one)
            start, end = upper + QPointF(WIDTH / 2, HEIGHT), lower + QPointF(WIDTH / 2, 0)
        path, former = QPainterPath(start), start
        for after in (
            *(QPointF(*bend) for bend in sorted(bends)),
            end,
        ):  # Level where it meets a box or passes a column.
            half = (after.x() - former.x()) / 2
            (
                path.cubicTo(former + QPointF(half, 0), after - QPointF(half, 0), after)
                if half > 20
                else path.lineTo(after)
            )
            former = after
        self.setPath(path)

    def place_words(self, taken: list[QRectF], links: list[QPainterPath], metrics: QFontMetricsF) -> None:
        """Finds a place for its words where no box, no link and no other words are."""
        told = self.link.state in (HURT, WORN) or not {CLIENTS, SERVERS} & {
            self.link.one.partition(": ")[0],
            self.link.two.partition(": ")[0],
        }
        self.lines = list(self.link.labels) if told or self.marked or self.isSelected() else []
        if not self.lines:
            self.words.show_lines([], QRectF(), False, False)
            return
        wide = max(metrics.horizontalAdvance(line) for line in self.lines) + 8
        tall = metrics.height() * len(self.lines) + 2
        best, least = QRectF(), 1 << 30
        for sideways, aside, share in itertools.product(_SIDEWAYS, _ASIDE, _PLACES_ON_LINE):
            middle = self.path().pointAtPercent(share) + QPointF(sideways * wide, aside * tall)
            box = QRectF(middle.x() - wide / 2, middle.y() - tall / 2, wide, tall)
            struck = 3 * sum(box.intersects(other) for other in taken) + sum(link.intersects(box) for link in links)
            if struck < least:
                best, least = box, struck
            if not struck:
                break
        taken.append(best)
        self.words.show_lines(self.lines, best, self.link.state == HURT, self.marked or self.isSelected())

    def boundingRect(self) -> QRectF:
        return super().boundingRect().adjusted(-6, -6, 6, 6)

    def shape(self) -> QPainterPath:
        stroker = QPainterPathStroker()
        stroker.setWidth(10)
        return stroker.createStroke(self.path())

    def paint(self, painter: QPainter, _option: QStyleOptionGraphicsItem, _widget: QWidget | None = None) -> None:
        look = theme.current()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        color = {
            FINE: look.network, WORN: look.straw, HURT: look.red, UNMEASURED: look.unexplained, WAITED: look.server,
            BELONGS: look.line,
        }[self.link.state]  # fmt: skip
        style = _LINES.get(self.link.state, Qt.PenStyle.SolidLine)
        chosen = self.marked or self.isSelected()
        if chosen:
            painter.setPen(QPen(QColor(look.moss_soft), 11, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawPath(self.path())
        painter.setPen(QPen(QColor(color), 3.0 if chosen or self.link.state == HURT else 1.8, style))
        painter.drawPath(self.path())


class _Words(QGraphicsItem):
    """What is said of a link: above all links, below all places."""

    def __init__(self) -> None:
        super().__init__()
        self._lines: list[str] = []
        self._box, self._hurt, self._strong = QRectF(), False, False
        self.setZValue(1)

    def show_lines(self, lines: list[str], box: QRectF, hurt: bool, strong: bool) -> None:
        """Says something else, somewhere else."""
        self.prepareGeometryChange()
        self._lines, self._box, self._hurt, self._strong = lines, box if lines else QRectF(), hurt, strong

    def boundingRect(self) -> QRectF:
        return self._box

    def paint(self, painter: QPainter, _option: QStyleOptionGraphicsItem, _widget: QWidget | None = None) -> None:
        if not self._lines:
            return
        look = theme.current()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QBrush(QColor(look.surface)))
        painter.drawRect(self._box)
        painter.setPen(QColor(look.red if self._hurt else look.ink if self._strong else look.faint))
        painter.drawText(self._box, Qt.AlignmentFlag.AlignCenter, "\n".join(self._lines))


class MapCanvas(QGraphicsView):
    """`moved` carries keys with their new corners; `renaming`, `left_out`, `joined` and `unjoined` what the user wants
    of them.
    """

    moved = Signal(object)
    renaming = Signal(str)
    left_out = Signal(object)
    joined = Signal(str, str)
    unjoined = Signal(str, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        self._scene = QGraphicsScene()
        super().__init__(self._scene, parent)
        self.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.setDragMode(QGraphicsView.DragMode.RubberBandDrag)
        self.setAccessibleName("Map")
        self.setToolTip(
            "Drag moves a place, wheel zooms, F fits; Ctrl+click chooses several, L links two of them; Tab goes from"
            " place to place, Escape leaves the map; F2 renames, Delete leaves out; Ctrl+S here saves the picture"
        )
        self._boxes: dict[str, _Box] = {}
        self._lines: list[_Line] = []
        self._layout = Layout()
        self._fitted: set[str] = set()
        self._moving = False

    def show_layout(self, layout: Layout) -> None:
        """Shows another map; the view stays where it is while the same places are on it."""
        chosen = self.chosen
        self._scene.clear()
        self._layout = layout
        self._boxes, self._lines, self._moving = {}, [], False
        for link in sorted(layout.links, key=lambda link: _ORDER.index(link.state)):
            line = _Line(link)
            self._scene.addItem(line)
            self._scene.addItem(line.words)
            self._lines.append(line)
        for place in layout.places:
            box = _Box(place, self)
            self._boxes[place.key] = box
            self._scene.addItem(box)
            box.setPos(*layout.at[place.key])
            box.setSelected(place.key in chosen)
        self._moving = False
        self._lay_lines()
        keys = set(self._boxes)
        if keys != self._fitted:
            self._fitted = keys
            self.fit()

    @property
    def chosen(self) -> list[str]:
        """Keys of the places that are selected."""
        return [key for key, box in self._boxes.items() if box.isSelected()]

    def mark(self, stations: list[str]) -> None:
        """Marks the way over these places."""
        steps = set(itertools.pairwise(stations))
        for key, box in self._boxes.items():
            box.marked = key in stations
            box.update()
        for line in self._lines:
            line.marked = line.link.key in steps
        self._lay_lines()
        self._scene.update()

    def follow(self, _box: _Box) -> None:
        """Links go along with a box that moves."""
        if len(self._boxes) == len(self._layout.places):
            self._moving = True
            self._lay_lines()

    def settle(self) -> None:
        """Tells what was moved."""
        now = {key: (max(0, round(box.pos().x())), max(0, round(box.pos().y()))) for key, box in self._boxes.items()}
        moved = {key: corner for key, corner in now.items() if corner != tuple(self._layout.at[key])}
        if moved:
            self.moved.emit(moved)

    def _lay_lines(self) -> None:
        metrics = QFontMetricsF(self.font())
        taken = [QRectF(box.pos().x(), box.pos().y(), WIDTH, HEIGHT) for box in self._boxes.values()]
        for line in self._lines:
            bends = self._layout.bends.get(line.link.key, []) if not self._moving else []
            line.lay(self._boxes[line.link.one].pos(), self._boxes[line.link.two].pos(), bends)
        drawn = [line.shape() for line in self._lines]
        for line in self._lines:
            line.place_words(taken, drawn, metrics)
        self._scene.setSceneRect(self._scene.itemsBoundingRect().adjusted(-_MARGIN, -_MARGIN, _MARGIN, _MARGIN))

    def fit(self) -> None:
        """Shows all of it, no larger than it is."""
        self.resetTransform()
        area, room = self._scene.sceneRect(), self.viewport().rect()
        if area.width() > 0 and area.height() > 0:
            scale = min(1.0, room.width() / area.width(), room.height() / area.height())
            self.scale(scale, scale)
            self.centerOn(area.center())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        step = 1.15 if event.angleDelta().y() > 0 else 1 / 1.15
        if 0.1 < self.transform().m11() * step < 5:
            self.setTransformationAnchor(QGraphicsView.ViewportAnchor.AnchorUnderMouse)
            self.scale(step, step)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, chosen = event.key(), self.chosen
        if key == Qt.Key.Key_F:
            self.fit()
        elif key == Qt.Key.Key_S and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.save()
        elif key == Qt.Key.Key_F2 and chosen:
            self.renaming.emit(chosen[0])
        elif key == Qt.Key.Key_L and len(chosen) == 2:
            self.joined.emit(*chosen)
        elif key == Qt.Key.Key_Delete:
            lines = [line.link for line in self._lines if line.isSelected()]
            if chosen:
                self.left_out.emit(chosen)
            for link in lines:
                self.unjoined.emit(link.one, link.two)
        elif key == Qt.Key.Key_Escape:
            self._scene.clearSelection()
            self._leave()
        elif key in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab) and self._boxes:
            self._choose_next(-1 if key == Qt.Key.Key_Backtab else 1)
        elif (step := _STEPS.get(Qt.Key(key))) is not None and chosen:
            x, y = step
            for name in chosen:
                self._boxes[name].moveBy(x, y)
            self.settle()
        else:
            super().keyPressEvent(event)

    def focusNextPrevChild(self, _forward: bool) -> bool:
        """Tab goes from place to place; Escape lets it go on to what stands beside the map."""
        return False

    def _leave(self) -> None:
        """Gives the keyboard to what stands after the map."""
        after = self.nextInFocusChain()
        while (
            after is not None
            and after is not self
            and (
                self.isAncestorOf(after)
                or not after.isVisible()
                or after.focusPolicy() in (Qt.FocusPolicy.NoFocus, Qt.FocusPolicy.ClickFocus)
            )
        ):
            after = after.nextInFocusChain()
        if after is not None:
            after.setFocus(Qt.FocusReason.TabFocusReason)

    def _choose_next(self, step: int) -> None:
        keys = sorted(self._boxes, key=lambda k: (self._boxes[k].pos().x(), self._boxes[k].pos().y()))
        now = self.chosen
        place = (keys.index(now[0]) + step) % len(keys) if now else 0
        self._scene.clearSelection()
        self._boxes[keys[place]].setSelected(True)
        self.ensureVisible(self._boxes[keys[place]])

    def save(self) -> None:
        """Asks where, and saves the map."""
        path, _ = QFileDialog.getSaveFileName(self, "Save the map", "map.svg", "SVG (*.svg);;PNG (*.png)")
        if path and not self.write(Path(path)):
            QMessageBox.warning(self, "Yaffle", f"{path}: cannot be written")

    def write(self, path: Path) -> bool:
        """Writes all of the map by the name's suffix; whether it could be written."""
        area = self._scene.sceneRect()
        size = QSize(max(1, round(area.width())), max(1, round(area.height())))
        background = QColor(theme.current().surface)
        if path.suffix.lower() == ".svg":
            vector = QSvgGenerator()
            vector.setFileName(str(path))
            vector.setSize(size)
            vector.setViewBox(QRectF(0, 0, size.width(), size.height()))
            vector.setTitle("Map of the path")
            painter = QPainter()
            if not painter.begin(vector):
                return False
            painter.fillRect(QRectF(0, 0, size.width(), size.height()), background)
            self._scene.render(painter, QRectF(0, 0, size.width(), size.height()), area)
            painter.end()
            return path.exists()
        image = QImage(size * 2, QImage.Format.Format_RGB32)
        image.fill(background)
        painter = QPainter(image)
        self._scene.render(painter, QRectF(image.rect()), area)
        painter.end()
        return image.save(str(path))

    def dress(self) -> None:
        """Takes the colors of the theme."""
        self.setBackgroundBrush(QColor(theme.current().surface))
        self._scene.update()


_STEPS = {Qt.Key.Key_Left: (-10, 0), Qt.Key.Key_Right: (10, 0), Qt.Key.Key_Up: (0, -10), Qt.Key.Key_Down: (0, 10)}
