"""The look: two sets of colours, one type scale, one spacing grid."""

from __future__ import annotations

from functools import cache
from importlib import resources

from msgspec import Struct
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication

"""All distances are multiples of this, in pixels."""

SMALL, BODY, TITLE = 11, 13, 15
"""The type scale, in pixels."""


class Colors(Struct, frozen=True):
    """Colours by what they mean, named after what a valley is made of."""

    chalk: str
    card: str
    raised: str
    ink: str
    muted: str
    line: str
    moss: str
    clay: str
    amber: str
    river: str
    ochre: str
    heather: str
    mask: str
    shade: str


LIGHT = Colors(
    chalk="#EFEDE6", card="#FBFAF5", raised="#FFFFFF", ink="#20282A", muted="#626862", line="#D5D2C6", moss="#2E6A43",
    clay="#A33E26", amber="#8F5B00", river="#17608F", ochre="#B9751A", heather="#74508F", mask="#8A6A58", shade="#E3E9EA",
)  # fmt: skip
DARK = Colors(
    chalk="#161A1A", card="#1E2423", raised="#283030", ink="#E7E5DC", muted="#9DA49E", line="#39413F", moss="#83C694",
    clay="#F0927A", amber="#E3B45B", river="#74BCE6", ochre="#E2AC55", heather="#C0A2DC", mask="#B08F7C", shade="#26313A",
)  # fmt: skip

_families: list[str] = []


def load_fonts() -> str:
    """Register the type that ships with Combe; the family's name."""
    if not _families:
        folder = resources.files("combe.app.theme") / "fonts"
        for name in ("Inter-Regular.otf", "Inter-Medium.otf", "Inter-SemiBold.otf"):
            number = QFontDatabase.addApplicationFontFromData((folder / name).read_bytes())
            _families.extend(QFontDatabase.applicationFontFamilies(number))
    return _families[0] if _families else QApplication.font().family()


@cache
def font(size: int = BODY, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The one family at a size of the scale, with figures of equal width; made once, or each would be looked up anew."""
    made = QFont(load_fonts())
    made.setPixelSize(size)
    made.setWeight(weight)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def mono(size: int = 12) -> QFont:
    """The family for code."""
    made = QFont("DejaVu Sans Mono")
    made.setStyleHint(QFont.StyleHint.Monospace)
    made.setPixelSize(size)
    return made


class Theme:
    """The colours in force."""

    def __init__(self) -> None:
        self.name = "light"
        self.colors = LIGHT
        self._made: dict[tuple[str, str, int], QColor] = {}

    def use(self, name: str, application: QApplication) -> None:
        """Dress the application in one of the two sets."""
        self.name = name
        self.colors = DARK if name == "dark" else LIGHT
        application.setFont(font())
        application.setPalette(_palette(self.colors))

    def color(self, role: str, alpha: int = 255) -> QColor:
        """A colour by its name; asked for some forty times a frame, so that whoever wants another makes a new one."""
        key = (self.name, role, alpha)
        if key not in self._made:
            self._made[key] = QColor(getattr(self.colors, role))
            self._made[key].setAlpha(alpha)
        return self._made[key]


ROLE_OF = {"danger": "clay", "warning": "amber", "note": "muted"}
"""Colours of what matters more and less."""
THEME = Theme()


def _palette(colors: Colors) -> QPalette:
    made = QPalette()
    roles = QPalette.ColorRole
    table = {
        roles.Window: colors.chalk, roles.Base: colors.raised, roles.AlternateBase: colors.card,
        roles.Text: colors.ink, roles.WindowText: colors.ink, roles.Button: colors.card, roles.ButtonText: colors.ink,
        roles.Highlight: colors.river, roles.HighlightedText: colors.raised, roles.ToolTipBase: colors.raised,
        roles.ToolTipText: colors.ink, roles.PlaceholderText: colors.muted, roles.Link: colors.river,
        roles.Accent: colors.river, roles.Mid: colors.line, roles.Dark: colors.line, roles.Light: colors.raised,
    }  # fmt: skip
    for role, color in table.items():
        made.setColor(role, QColor(color))
    for role in (roles.Text, roles.WindowText, roles.ButtonText):
        made.setColor(QPalette.ColorGroup.Disabled, role, QColor(colors.muted))
    return made


def style_sheet(c: Colors) -> str:
    """What a palette can't say."""
    return f"""
    QDialog {{ background: {c.chalk}; }}
    QMenuBar {{ background: {c.chalk}; padding: 2px 6px; }}
    QMenuBar::item {{ padding: 4px 10px; border-radius: 4px; background: transparent; }}
    QMenuBar::item:selected {{ background: {c.line}; }}
    QMenu {{ background: {c.raised}; border: 1px solid {c.line}; padding: 4px; }}
    QMenu::item {{ padding: 5px 24px 5px 12px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {c.shade}; color: {c.ink}; }}
    QMenu::item:disabled {{ color: {c.muted}; }}
    QMenu::separator {{ height: 1px; background: {c.line}; margin: 4px 8px; }}
    QToolTip {{ background: {c.raised}; color: {c.ink}; border: 1px solid {c.line}; padding: 4px 6px; }}
    QFrame#row {{ background: {c.raised}; border: 1px solid {c.line}; border-radius: 5px; }}
    QLabel[role="title"] {{ font-size: {TITLE}px; font-weight: 600; }}
    QLabel[role="strong"] {{ font-weight: 600; }}
    QLabel[role="muted"] {{ color: {c.muted}; font-size: {SMALL}px; }}
    QLabel[role="moss"] {{ color: {c.moss}; font-size: {SMALL}px; }}
    QLabel[role="clay"] {{ color: {c.clay}; font-size: {SMALL}px; }}
    QLabel[role="amber"] {{ color: {c.amber}; font-size: {SMALL}px; }}
    QLineEdit#figure {{ background: transparent; border: none; border-bottom: 1px solid {c.muted}; padding: 0 1px;
                        color: {c.ink}; selection-background-color: {c.river}; }}
    QLineEdit#figure:hover {{ border-bottom: 1px solid {c.river}; background: {c.shade}; }}
    QLineEdit#figure:focus {{ border-bottom: 2px solid {c.river}; background: {c.shade}; }}
    QLineEdit#figure[wrong="true"] {{ border-bottom: 2px solid {c.clay}; color: {c.clay}; }}
    QLineEdit#field, QComboBox, QSpinBox {{ background: {c.raised}; border: 1px solid {c.line}; border-radius: 4px;
                        padding: 3px 6px; min-height: 18px; }}
    QComboBox {{ padding-right: 20px; }}
    QLineEdit#field:focus, QComboBox:focus, QSpinBox:focus {{ border: 1px solid {c.river}; }}
    QLineEdit#field[wrong="true"] {{ border: 1px solid {c.clay}; color: {c.clay}; }}
    QComboBox::drop-down {{ border: none; width: 18px; }}
    QComboBox QAbstractItemView {{ background: {c.raised}; border: 1px solid {c.line}; selection-background-color: {c.shade};
                        selection-color: {c.ink}; outline: none; }}
    QPushButton {{ background: {c.raised}; border: 1px solid {c.line}; border-radius: 4px; padding: 5px 12px; }}
    QPushButton:hover {{ border: 1px solid {c.river}; }}
    QPushButton:focus {{ border: 1px solid {c.river}; }}
    QPushButton:pressed {{ background: {c.shade}; }}
    QPushButton:disabled {{ color: {c.muted}; }}
    QPushButton:default {{ background: {c.river}; border: 1px solid {c.river}; color: {c.raised}; font-weight: 600; }}
    QPushButton:default:disabled {{ background: {c.line}; border: 1px solid {c.line}; color: {c.muted}; }}
    QSpinBox::up-button, QSpinBox::down-button {{ width: 0; border: none; }}
    QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; button-layout: 2; }}
    QDialogButtonBox QPushButton {{ min-width: 72px; }}
    QLabel#qt_msgboxex_icon_label {{ max-width: 0; max-height: 0; }}
    QPushButton#main {{ background: {c.river}; border: 1px solid {c.river}; color: {c.raised}; font-weight: 600; }}
    QPushButton#main:hover, QPushButton#main:focus {{ border: 1px solid {c.ink}; }}
    QPushButton#main:disabled {{ background: {c.line}; border: 1px solid {c.line}; color: {c.muted}; }}
    QPushButton#remedy {{ padding: 2px 8px; color: {c.river}; text-align: left; }}
    QPushButton#quiet, QToolButton#quiet {{ background: transparent; border: 1px solid transparent; padding: 3px 6px;
                        color: {c.river}; text-align: left; border-radius: 4px; }}
    QPushButton#quiet:hover, QToolButton#quiet:hover, QPushButton#quiet:focus, QToolButton#quiet:focus
                        {{ border: 1px solid {c.line}; background: {c.raised}; }}
    QToolButton#quiet[inline="true"] {{ padding: 0 6px; }}
    QToolButton#quiet::menu-indicator {{ image: none; }}
    QToolButton#tab {{ background: transparent; border: none; border-bottom: 2px solid transparent; padding: 4px 0px; margin: 0 -1px;
                        color: {c.muted}; }}
    QToolButton#tab:checked {{ color: {c.ink}; font-weight: 600; border-bottom: 2px solid {c.river}; }}
    QToolButton#tab:hover, QToolButton#tab:focus {{ color: {c.river}; }}
    QScrollArea {{ background: transparent; border: none; }}
    QScrollArea > QWidget > QWidget {{ background: transparent; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 8px; margin: 0; }}
    QScrollBar::handle {{ background: {c.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::handle:hover {{ background: {c.muted}; }}
    QScrollBar::handle:disabled {{ background: transparent; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; border: none;
                        height: 0; width: 0; }}
    QTableView {{ background: transparent; border: none; gridline-color: {c.line}; outline: none;
                        selection-background-color: {c.shade}; selection-color: {c.ink}; }}
    QHeaderView {{ background: transparent; border: none; }}
    QHeaderView::section {{ background: transparent; border: none; border-bottom: 1px solid {c.line}; padding: 4px 8px;
                        color: {c.muted}; font-size: {SMALL}px; }}
    QTableCornerButton::section {{ background: transparent; border: none; }}
    QPlainTextEdit {{ background: {c.raised}; border: none; selection-background-color: {c.river};
                        selection-color: {c.raised}; }}
    QListWidget {{ background: {c.raised}; border: none; outline: none; }}
    QListWidget::item {{ padding: 5px 8px; border-radius: 4px; }}
    QListWidget::item:selected {{ background: {c.shade}; color: {c.ink}; }}
    QProgressBar {{ background: {c.line}; border: none; border-radius: 2px; max-height: 4px; }}
    QProgressBar::chunk {{ background: {c.river}; border-radius: 2px; }}
    QStatusBar {{ background: {c.chalk}; color: {c.muted}; font-size: {SMALL}px; }}
    QStatusBar::item {{ border: none; }}
    QSplitter::handle {{ background: transparent; }}
    """
