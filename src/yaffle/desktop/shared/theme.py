"""Colors, marks and letters: parchment, ink and moss; a color and a mark of its own for each party."""

from dataclasses import dataclass, replace
from functools import cache

from PySide6.QtCore import Qt
from PySide6.QtGui import QBrush, QColor, QFont, QPalette
from PySide6.QtWidgets import QApplication

from yaffle.ledger import causes


@dataclass(frozen=True)
class Theme:
    """One family of colors."""

    name: str
    surface: str
    panel: str
    line: str
    ink: str
    faint: str
    moss: str
    moss_soft: str
    red: str
    straw: str
    client: str
    network: str
    server: str
    unexplained: str

    def party(self, party: str) -> QColor:
        """The party's own color."""
        return QColor(
            {"client": self.client, "network": self.network, "server": self.server}.get(party, self.unexplained)
        )

    def brushes(self, party: str) -> tuple[QBrush, ...]:
        """What a slice of the party is filled with, one over the other: color and mark."""
        return _brushes(self, party)


@cache
def _brushes(look: Theme, party: str) -> tuple[QBrush, ...]:
    color = look.party(party)
    if party == causes.NETWORK:
        return (QBrush(color),)
    if party == causes.UNEXPLAINED:
        return (QBrush(QColor(look.panel)),)
    mark = QColor(look.panel)
    mark.setAlpha(210)
    pattern = Qt.BrushStyle.Dense6Pattern if party == causes.CLIENT else Qt.BrushStyle.BDiagPattern
    return (QBrush(color), QBrush(mark, pattern))


LIGHT = Theme(
    "light",
    "#f3eddd",
    "#fbf8ef",
    "#d5ccb4",
    "#2a2922",
    "#6a6557",
    "#56682b",
    "#dfe3c4",
    "#b02a1e",
    "#d9b23c",
    "#b5700d",
    "#1c7676",
    "#77356a",
    "#7d796d",
)
# For paper: white, and dark enough for a printer without color.
PAPER = replace(LIGHT, name="paper", surface="#ffffff", panel="#ffffff", line="#c9c3b0", ink="#201f1a", faint="#5a5547")

DARK = Theme(
    "dark",
    "#21221d",
    "#2a2b25",
    "#45463c",
    "#ece6d6",
    "#a9a491",
    "#a3b85c",
    "#3d4529",
    "#e8685a",
    "#d9b23c",
    "#e0a040",
    "#4fb3b0",
    "#c583b6",
    "#98948a",
)

_current = LIGHT
_own_points = 0


def current() -> Theme:
    """The theme in use."""
    return _current


def _style(theme: Theme) -> str:
    return f"""
    * {{ outline: none; }}
    QMainWindow, QWidget {{ background: {theme.surface}; color: {theme.ink}; }}
    QToolTip {{ background: {theme.panel}; color: {theme.ink}; border: 1px solid {theme.line}; padding: 4px; }}
    QTreeView, QTableView, QListWidget, QPlainTextEdit, QTextBrowser, QScrollArea, QLineEdit {{
        background: {theme.panel}; border: 1px solid {theme.line}; selection-background-color: {theme.moss_soft};
            selection-color: {theme.ink};
        alternate-background-color: {theme.surface}; }}
    QLineEdit {{ border-radius: 3px; padding: 3px 6px; }}
    QLineEdit:focus, QTreeView:focus, QTableView:focus, QListWidget:focus {{ border: 1px solid {theme.moss}; }}
    QLineEdit[wrong="true"] {{ border: 1px solid {theme.red}; }}
    QHeaderView::section {{ background: {theme.surface}; color: {theme.faint}; border: none;
        border-bottom: 1px solid {theme.line}; padding: 3px 6px; }}
    QPushButton, QToolButton {{ background: {theme.panel}; border: 1px solid {theme.line}; border-radius: 3px;
        padding: 3px 9px; }}
    QToolButton#small {{ padding: 2px 5px; }}
    QToolButton:checked {{ background: {theme.moss_soft}; border-color: {theme.moss}; }}
    QPushButton:hover, QToolButton:hover {{ border-color: {theme.moss}; }}
    QPushButton:focus, QToolButton:focus {{ border: 1px solid {theme.moss}; }}
    QPushButton:disabled, QToolButton:disabled {{ color: {theme.faint}; background: {theme.surface}; }}
    QToolButton#station {{ border: none; border-left: 4px solid transparent; border-radius: 0; padding: 10px 8px;
        text-align: left; background: transparent; }}
    QToolButton#station:checked {{ border-left: 4px solid {theme.moss}; background: {theme.moss_soft};
        font-weight: bold; }}
    QToolButton#station:focus {{ border-left: 4px solid {theme.moss}; }}
    QFrame#finding {{ background: {theme.panel}; border: 1px solid {theme.line}; border-left: 4px solid {theme.straw};
        border-radius: 3px; }}
    QFrame#finding[severity="critical"] {{ border-left: 4px solid {theme.red}; }}
    QFrame#finding[severity="minor"] {{ border-left: 4px solid {theme.line}; }}
    QFrame#finding:hover, QFrame#finding:focus {{ border-top-color: {theme.moss}; border-right-color: {theme.moss};
        border-bottom-color: {theme.moss}; }}
    QFrame#finding QLabel {{ background: transparent; }}
    QLabel#faint {{ color: {theme.faint}; }}
    QLabel#wrong {{ color: {theme.red}; }}
    QLabel#heading {{ font-weight: bold; }}
    QTabWidget::pane {{ border: none; border-top: 1px solid {theme.line}; }}
    QTabBar {{ qproperty-drawBase: 0; }}
    QCheckBox::indicator {{ width: 11px; height: 11px; background: {theme.panel}; border: 1px solid {theme.faint};
        border-radius: 2px; }}
    QCheckBox::indicator:checked {{ background: {theme.moss}; }}
    QCheckBox:focus {{ color: {theme.moss}; }}
    QSplitter::handle {{ background: {theme.surface}; }}
    QProgressBar {{ border: 1px solid {theme.line}; border-radius: 3px; text-align: center; background: {theme.panel};
        max-height: 15px; }}
    QProgressBar::chunk {{ background: {theme.moss_soft}; }}
    QStatusBar {{ color: {theme.faint}; }}
    QScrollBar:vertical {{ background: {theme.surface}; width: 11px;
        }} QScrollBar:horizontal {{ background: {theme.surface}; height: 11px; }}
    QScrollBar::handle {{ background: {theme.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QMenu {{ background: {theme.panel}; border: 1px solid {theme.line};
        }} QMenu::item:selected {{ background: {theme.moss_soft}; }}
    QMenuBar {{ background: {theme.surface}; }} QMenuBar::item:selected {{ background: {theme.moss_soft}; }}
    """


def figures_font() -> QFont:
    """The window's font with figures of one width."""
    font = QFont(QApplication.font())
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


def use(theme: Theme) -> None:
    """What plots and painted parts ask for from now on."""
    global _current  # noqa: PLW0603  (one theme a process, as Qt has one palette)
    _current = theme


def apply(application: QApplication, theme: Theme, font_points: int = 0) -> None:
    """Puts the theme on, with letters of a size (0: the desktop's own); plots and painted parts ask `current` when
    they draw.
    """
    global _own_points  # noqa: PLW0603  (the size before anything was chosen)
    use(theme)
    font = application.font()
    _own_points = _own_points or font.pointSize()
    points = font_points or _own_points
    if application.styleSheet() == _style(theme) and font.pointSize() == points:
        return  # To put it on again would dress every part anew.
    font.setPointSize(points)
    application.setFont(font)
    application.setStyle("Fusion")
    palette = QPalette()
    for role, color in (
        (QPalette.ColorRole.Window, theme.surface),
        (QPalette.ColorRole.WindowText, theme.ink),
        (QPalette.ColorRole.Base, theme.panel),
        (QPalette.ColorRole.AlternateBase, theme.surface),
        (QPalette.ColorRole.Text, theme.ink),
        (QPalette.ColorRole.Button, theme.panel),
        (QPalette.ColorRole.ButtonText, theme.ink),
        (QPalette.ColorRole.Highlight, theme.moss_soft),
        (QPalette.ColorRole.HighlightedText, theme.ink),
        (QPalette.ColorRole.PlaceholderText, theme.faint),
    ):
        palette.setColor(role, QColor(color))
    application.setPalette(palette)
    application.setStyleSheet(_style(theme))
