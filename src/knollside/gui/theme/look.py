"""Colours, fonts and the style sheet: one place the whole window takes its look from."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette

_FONTS = Path(__file__).parent / "fonts"
_SIGNS = Path(__file__).parent / "signs"
TEXT, MONO = "Atkinson Hyperlegible Next", "Atkinson Hyperlegible Mono"

_family: dict[str, str] = {}

# token: (Day, Lamp)
TOKENS: dict[str, tuple[str, str]] = {
    "chalk": ("#F3F0E6", "#1F1C18"),
    "paper": ("#FBF9F2", "#2A2621"),
    "peat": ("#2A2520", "#EDE6D8"),
    "slate": ("#55606A", "#A3ADB5"),
    "moss": ("#55722F", "#9DBB6A"),
    "straw": ("#B98518", "#E0B24E"),
    "straw ink": ("#7F5A0A", "#EBC878"),
    "clay": ("#A8452A", "#E58D70"),
    "spring": ("#2F6F7E", "#6FB3C2"),
    "heather": ("#74497A", "#C29AC7"),
    "chosen": ("#EDE4EC", "#3A2F3C"),
    "deep": ("#E9E4D5", "#181512"),
    "rule": ("#DAD4C3", "#3B362E"),
    "rule 2": ("#C6BEA9", "#4D463B"),
    "warn": ("#F3E8CB", "#3B3220"),
    "bed": ("#EAE4D3", "#292520"),
    "bed lines": ("#D9D1BB", "#332E27"),
    "full": ("#CFC6AE", "#5D5442"),
    "half": ("#E2D9C0", "#4A4335"),
    "open": ("#EFEADC", "#332F28"),
    "crack": ("#DCC7B4", "#5A4034"),
    "bedrock": ("#8B8069", "#3F392E"),
    "on moss": ("#FFFFFF", "#1F1C18"),
}
# Marks on the lit part keep their Day inks in both themes.
PART_INK = {name: QColor(TOKENS[name][0]) for name in ("spring", "clay", "heather", "peat", "straw", "moss")}


class Look(QObject):
    """The current theme. ``changed`` fires when it is switched."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.lamp = False

    def colour(self, token: str, alpha: int = 255) -> QColor:
        out = QColor(TOKENS[token][self.lamp])
        out.setAlpha(alpha)
        return out

    def switch(self, lamp: bool) -> None:
        self.lamp = lamp
        self.changed.emit()

    def palette(self) -> QPalette:
        p = QPalette()
        for role, token in (
            (QPalette.ColorRole.Window, "paper"),
            (QPalette.ColorRole.Base, "paper"),
            (QPalette.ColorRole.WindowText, "peat"),
            (QPalette.ColorRole.Text, "peat"),
            (QPalette.ColorRole.Button, "paper"),
            (QPalette.ColorRole.ButtonText, "peat"),
            (QPalette.ColorRole.ToolTipBase, "paper"),
            (QPalette.ColorRole.ToolTipText, "peat"),
            (QPalette.ColorRole.Highlight, "heather"),
            (QPalette.ColorRole.HighlightedText, "paper"),
            (QPalette.ColorRole.PlaceholderText, "slate"),
        ):
            p.setColor(role, self.colour(token))
        return p

    def sheet(self) -> str:
        c = {k: v[self.lamp] for k, v in TOKENS.items()}
        signs = _SIGNS.as_posix()
        return f"""
        * {{ color: {c["peat"]}; }}
        QWidget#ground {{ background: {c["chalk"]}; }}
        QWidget#paper, QScrollArea#paper {{ background: {c["paper"]}; }}
        QLabel {{ background: transparent; }}
        QLabel[dim="true"] {{ color: {c["slate"]}; }}
        QLabel[warn="true"] {{ color: {c["straw ink"]}; }}
        QLabel[bad="true"] {{ color: {c["clay"]}; }}
        QLabel[good="true"] {{ color: {c["moss"]}; }}
        QPushButton, QToolButton {{ background: {c["paper"]}; border: 1px solid {c["rule 2"]}; border-radius: 6px;
            padding: 5px 10px; }}
        QPushButton:hover, QToolButton:hover {{ border-color: {c["heather"]}; }}
        QPushButton:focus, QToolButton:focus, QComboBox:focus, QLineEdit:focus, QDateEdit:focus, QCheckBox:focus,
            QRadioButton:focus {{ border: 2px solid {c["heather"]}; }}
        QPushButton:checked {{ background: {c["heather"]}; color: {c["paper"]}; border-color: {c["heather"]}; }}
        QPushButton:disabled, QToolButton:disabled {{ color: {c["slate"]}; background: {c["deep"]}; }}
        QPushButton[main="true"] {{ background: {c["moss"]}; color: {c["on moss"]}; border-color: {c["moss"]}; }}
        QPushButton[main="true"]:disabled {{ background: {c["deep"]}; color: {c["slate"]}; border-color: {c["rule 2"]}; }}
        QPushButton[plain="true"] {{ border: 1px solid transparent; background: transparent; color: {c["spring"]};
            padding: 2px 4px; text-align: left; }}
        QPushButton[plain="true"]:focus {{ border: 2px solid {c["heather"]}; }}
        QPushButton[small="true"] {{ padding: 4px 3px; font-size: 13px; }}
        QPushButton[bare="true"] {{ border: 1px solid transparent; background: transparent; padding: 4px 6px; }}
        QPushButton[bare="true"]:hover, QPushButton[bare="true"]:focus {{ border-color: {c["heather"]}; }}
        QComboBox, QLineEdit, QDateEdit {{ background: {c["paper"]}; border: 1px solid {c["rule 2"]}; border-radius: 6px;
            padding: 4px 8px; selection-background-color: {c["heather"]}; min-height: 20px; }}
        QLineEdit[bad="true"] {{ border: 2px solid {c["clay"]}; }}
        QComboBox::drop-down, QDateEdit::drop-down {{ border: none; width: 20px; }}
        QComboBox::down-arrow, QDateEdit::down-arrow {{ image: url({signs}/down-{"lamp" if self.lamp else "day"}.svg);
            width: 12px; height: 12px; }}
        QCheckBox::indicator, QRadioButton::indicator {{ width: 15px; height: 15px; border: 1.5px solid {c["slate"]};
            background: {c["paper"]}; }}
        QCheckBox::indicator {{ border-radius: 4px; }}
        QRadioButton::indicator {{ border-radius: 9px; }}
        QCheckBox::indicator:checked {{ background: {c["moss"]}; border-color: {c["moss"]};
            image: url({signs}/tick-{"lamp" if self.lamp else "day"}.svg); }}
        QRadioButton::indicator:checked {{ border-color: {c["heather"]};
            background: qradialgradient(cx:0.5, cy:0.5, radius:0.5, fx:0.5, fy:0.5, stop:0 {c["heather"]},
            stop:0.5 {c["heather"]}, stop:0.55 {c["paper"]}, stop:1 {c["paper"]}); }}
        QComboBox QAbstractItemView {{ background: {c["paper"]}; border: 1px solid {c["rule 2"]};
            selection-background-color: {c["chosen"]}; selection-color: {c["peat"]}; outline: none; }}
        QCheckBox, QRadioButton {{ background: transparent; spacing: 8px; border: 2px solid transparent; border-radius: 6px;
            padding: 2px; }}
        QMenu {{ background: {c["paper"]}; border: 1px solid {c["rule 2"]}; }}
        QMenu::item:selected {{ background: {c["chosen"]}; }}
        QToolTip {{ background: {c["paper"]}; color: {c["peat"]}; border: 1px solid {c["rule 2"]}; }}
        QScrollArea {{ border: none; background: transparent; }}
        QScrollBar:vertical {{ width: 10px; background: transparent; }}
        QScrollBar::handle:vertical {{ background: {c["rule 2"]}; border-radius: 4px; min-height: 24px; }}
        QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
        QProgressBar {{ background: {c["deep"]}; border: none; border-radius: 3px; height: 6px; }}
        QProgressBar::chunk {{ background: {c["heather"]}; border-radius: 3px; }}
        """


look = Look()


def load_fonts() -> None:
    """Register the shipped fonts under the family names they really carry."""
    for name in (TEXT, MONO):
        made = QFontDatabase.addApplicationFont(str(_FONTS / f"{name.replace(' ', '')}.ttf"))
        _family[name] = (QFontDatabase.applicationFontFamilies(made) or [name])[0]


def font(size: int = 14, weight: int = 400, mono: bool = False) -> QFont:
    """A shipped font at ``size`` px; weight on the variable axis, digits of equal width."""
    name = MONO if mono else TEXT
    f = QFont(_family.get(name, name))
    f.setPixelSize(size)
    f.setVariableAxis(QFont.Tag("wght"), float(weight))
    f.setFeature(QFont.Tag("tnum"), 1)
    return f
