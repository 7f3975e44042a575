"""Colours, type scale and style sheet of the window: a drawing office, light by default, dark on wish."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

FAMILY = "IBM Plex Sans"


@dataclass(frozen=True)
class Theme:
    """One set of colours."""

    name: str
    paper: str
    sheet: str
    canvas: str
    ink: str
    quiet: str
    hair: str
    accent: str
    on_accent: str
    wash: str
    edge: str
    warn: str
    warn_edge: str
    base: str

    @property
    def canvas_rgb(self) -> tuple[int, int, int]:
        return _rgb(self.canvas)

    @property
    def ink_rgb(self) -> tuple[int, int, int]:
        return _rgb(self.ink)


LIGHT = Theme(
    "light", paper="#faf9f5", sheet="#ffffff", canvas="#f1f0ea", ink="#23282a", quiet="#6b7173", hair="#dcdad2",
    accent="#1d4d57", on_accent="#ffffff", wash="#ebeee9", edge="#b5472a", warn="#fdf3df", warn_edge="#e5c98f",
    base="#7c8fa6",
)  # fmt: skip
DARK = Theme(
    "dark", paper="#1d2123", sheet="#24292b", canvas="#16191b", ink="#e7e6e0", quiet="#9ba1a1", hair="#3a4042",
    accent="#7fb8bd", on_accent="#11201f", wash="#2c3335", edge="#f08a5d", warn="#3a3323", warn_edge="#6f5f33",
    base="#8fa6c2",
)  # fmt: skip
THEMES = {theme.name: theme for theme in (LIGHT, DARK)}


def load_fonts() -> None:
    """Make the shipped fonts known to Qt."""
    folder = resources.files("kerb") / "assets" / "fonts"
    for weight in ("Regular", "Medium", "SemiBold"):
        QFontDatabase.addApplicationFont(str(folder / f"PlexSans-{weight}.ttf"))


def font(size: float, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The interface font in pixels at 1×, with figures of equal width."""
    made = QFont(FAMILY)
    made.setPixelSize(round(size))
    made.setWeight(weight)
    made.setHintingPreference(QFont.HintingPreference.PreferNoHinting)
    return made


def apply(app: QApplication, theme: Theme) -> None:
    """Give the whole application a theme."""
    prepare(app, theme)
    app.setStyleSheet(style_sheet(theme))


def running() -> QApplication:
    """The one application object."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    return app


def prepare(app: QApplication, theme: Theme) -> None:
    """Give the application the colours of a theme, but no style sheet yet."""
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, theme.paper), (QPalette.ColorRole.WindowText, theme.ink),
        (QPalette.ColorRole.Base, theme.sheet), (QPalette.ColorRole.Text, theme.ink),
        (QPalette.ColorRole.Button, theme.paper), (QPalette.ColorRole.ButtonText, theme.ink),
        (QPalette.ColorRole.Highlight, theme.accent), (QPalette.ColorRole.HighlightedText, theme.on_accent),
        (QPalette.ColorRole.ToolTipBase, theme.sheet), (QPalette.ColorRole.ToolTipText, theme.ink),
        (QPalette.ColorRole.PlaceholderText, theme.quiet), (QPalette.ColorRole.AlternateBase, theme.wash),
        (QPalette.ColorRole.Link, theme.accent),
    ):  # fmt: skip
        palette.setColor(role, QColor(colour))
    palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.Text, QColor(theme.quiet))
    palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.ButtonText, QColor(theme.quiet))
    app.setPalette(palette)


def style_sheet(t: Theme) -> str:
    """The style sheet of a theme."""
    icons = str(resources.files("kerb") / "assets" / "icons")
    return f"""
    QWidget {{ color: {t.ink}; }}
    QMainWindow, QDialog, #page {{ background: {t.paper}; }}
    QMenuBar {{ background: {t.paper}; padding: 1px 8px; border: none; }}
    QMenuBar::item {{ padding: 3px 9px; background: transparent; border-radius: 4px; }}
    QMenuBar::item:selected {{ background: {t.wash}; }}
    QMenu {{ background: {t.sheet}; border: 1px solid {t.hair}; padding: 5px; }}
    QMenu::item {{ padding: 5px 26px 5px 12px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {t.wash}; color: {t.ink}; }}
    QMenu::item:disabled {{ color: {t.quiet}; }}
    QMenu::separator {{ height: 1px; background: {t.hair}; margin: 5px 8px; }}
    QToolTip {{ background: {t.sheet}; color: {t.ink}; border: 1px solid {t.hair}; padding: 4px 6px; }}
    #header, #left, #status {{ background: {t.paper}; }}
    #header {{ border-bottom: 1px solid {t.hair}; }}
    #left {{ border-right: 1px solid {t.hair}; }}
    #sheet, #sheetBody {{ background: {t.sheet}; }}
    #sheet {{ border-left: 1px solid {t.hair}; }}
    #status {{ border-top: 1px solid {t.hair}; }}
    #drawer {{ background: {t.sheet}; border-top: 1px solid {t.hair}; }}
    #bar {{ background: {t.paper}; border-top: 1px solid {t.hair}; }}
    #title {{ font-size: 15px; font-weight: 600; }}
    #dropmark {{ background: {t.wash}; color: {t.accent}; border: 2px solid {t.accent}; font-size: 20px; font-weight: 600; }}
    #quiet, QLabel[role="quiet"] {{ color: {t.quiet}; }}
    QLabel[role="small"] {{ color: {t.quiet}; font-size: 11px; }}
    QLabel[role="section"] {{ color: {t.accent}; font-size: 11px; font-weight: 600; }}
    QLabel[role="group"] {{ color: {t.quiet}; font-size: 11px; font-weight: 600; }}
    QLabel[role="verdict"] {{ color: {t.edge}; font-weight: 600; }}
    QLabel[role="headline"] {{ font-size: 34px; font-weight: 600; }}
    QLabel[role="unit"] {{ font-size: 16px; color: {t.quiet}; }}
    QLabel[role="heading"] {{ font-size: 16px; font-weight: 600; }}
    QLabel[role="welcome"] {{ font-size: 26px; font-weight: 600; }}
    QFrame[role="hair"] {{ background: {t.hair}; max-height: 1px; border: none; }}
    QLabel[role="warning"] {{ background: {t.warn}; border: 1px solid {t.warn_edge}; border-radius: 5px; padding: 6px 8px; font-size: 12px; }}
    QPushButton {{ background: {t.sheet}; border: 1px solid {t.hair}; border-radius: 5px; padding: 5px 12px; }}
    QPushButton:hover {{ border-color: {t.quiet}; }}
    QPushButton:pressed {{ background: {t.wash}; }}
    QPushButton:focus, QToolButton:focus {{ border: 1px solid {t.accent}; }}
    QPushButton:disabled {{ color: {t.quiet}; background: {t.paper}; }}
    QPushButton[role="main"] {{ background: {t.accent}; color: {t.on_accent}; border: 1px solid {t.accent}; font-weight: 600; padding: 6px 16px; }}
    QPushButton[role="main"]:disabled {{ background: {t.hair}; color: {t.quiet}; border-color: {t.hair}; }}
    QPushButton[role="link"] {{ background: transparent; border: none; color: {t.accent}; padding: 2px 0; text-align: right; }}
    QPushButton[role="link"][side="left"] {{ text-align: left; }}
    QPushButton[role="narrow"] {{ padding: 4px 8px; }}
    QPushButton[role="link"]:hover {{ text-decoration: underline; }}
    QPushButton[role="link"]:disabled {{ color: {t.quiet}; }}
    QToolButton {{ background: transparent; border: 1px solid transparent; border-radius: 5px; padding: 4px 6px; }}
    QToolButton:hover {{ background: {t.wash}; }}
    QToolButton:checked {{ background: {t.accent}; color: {t.on_accent}; }}
    QToolButton:disabled {{ color: {t.quiet}; }}
    QToolButton::menu-indicator {{ image: none; }}
    #strip {{ background: {t.sheet}; border: 1px solid {t.hair}; border-radius: 7px; }}
    #filterChip {{ background: {t.sheet}; border: 1px solid {t.accent}; border-radius: 11px; }}
    #filterChip[on="no"] {{ border: 1px dashed {t.quiet}; }}
    #filterChip QToolButton {{ padding: 2px 5px; font-size: 12px; border-radius: 10px; }}
    #selectionBar QToolButton {{ padding: 4px 5px; }}
    #selectionBar QPushButton {{ padding: 4px 8px; }}
    #card {{ background: {t.sheet}; border: 1px solid {t.hair}; border-radius: 7px; }}
    #selectionBar {{ background: {t.sheet}; border-top: 1px solid {t.hair}; }}
    QLineEdit, QComboBox, QDoubleSpinBox, QDateEdit {{ background: {t.sheet}; border: 1px solid {t.hair}; border-radius: 5px; padding: 4px 7px; selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
    QLineEdit:focus, QComboBox:focus {{ border: 1px solid {t.accent}; }}
    QLineEdit[bad="yes"] {{ border: 1px solid {t.edge}; }}
    QComboBox::drop-down {{ border: none; width: 18px; }}
    QComboBox::down-arrow {{ image: url({icons}/chevron-{t.name}.svg); width: 12px; height: 12px; margin-right: 6px; }}
    QComboBox QAbstractItemView {{ background: {t.sheet}; border: 1px solid {t.hair}; selection-background-color: {t.wash}; selection-color: {t.ink}; }}
    #command {{ border-radius: 6px; padding: 5px 10px; min-width: 190px; }}
    #chip {{ border-radius: 12px; padding: 3px 12px; background: {t.sheet}; border: 1px solid {t.hair}; }}
    #chip[sure="no"] {{ background: {t.warn}; border-color: {t.warn_edge}; }}
    QListWidget, QTableWidget, QTextBrowser, QPlainTextEdit, QTreeWidget {{ background: transparent; border: none; outline: none; }}
    QTableWidget {{ gridline-color: {t.hair}; }}
    QHeaderView::section {{ background: {t.sheet}; color: {t.quiet}; border: none; border-bottom: 1px solid {t.hair}; padding: 4px 6px; font-size: 11px; }}
    QTabBar::tab {{ background: transparent; padding: 6px 2px; margin-right: 18px; color: {t.quiet}; border-bottom: 2px solid transparent; }}
    QTabBar::tab:selected {{ color: {t.ink}; border-bottom: 2px solid {t.accent}; font-weight: 600; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {t.hair}; border-radius: 4px; min-height: 24px; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle:horizontal {{ background: {t.hair}; border-radius: 4px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollArea {{ border: none; background: transparent; }}
    QProgressBar {{ background: {t.wash}; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }}
    QProgressBar::chunk {{ background: {t.accent}; border-radius: 3px; }}
    QSplitter::handle {{ background: {t.hair}; }}
    QTreeWidget::item, QListWidget::item {{ padding: 2px 0; }}
    QTreeWidget::item:selected, QListWidget::item:selected {{ background: {t.wash}; color: {t.ink}; }}
    QTreeWidget::indicator, QListWidget::indicator, QTableView::indicator {{ width: 14px; height: 14px; border: 1px solid {t.quiet}; border-radius: 3px; background: {t.sheet}; }}
    QTreeWidget::indicator:checked, QListWidget::indicator:checked, QTableView::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; image: url({icons}/tick-{t.name}.svg); }}
    QDateEdit::drop-down {{ border: none; width: 18px; }}
    QDateEdit::down-arrow {{ image: url({icons}/chevron-{t.name}.svg); width: 12px; height: 12px; margin-right: 6px; }}
    QRadioButton::indicator {{ width: 14px; height: 14px; border: 1px solid {t.quiet}; border-radius: 8px; background: {t.sheet}; }}
    QRadioButton::indicator:checked {{ border: 4px solid {t.accent}; width: 8px; height: 8px; background: {t.on_accent}; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {t.quiet}; border-radius: 3px; background: {t.sheet}; }}
    QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; image: url({icons}/tick-{t.name}.svg); }}
    QMenu::indicator {{ width: 14px; height: 14px; left: 6px; }}
    QMenu::indicator:checked {{ background: {t.accent}; border-radius: 3px; image: url({icons}/tick-{t.name}.svg); }}
    """


def _rgb(text: str) -> tuple[int, int, int]:
    return int(text[1:3], 16), int(text[3:5], 16), int(text[5:7], 16)
