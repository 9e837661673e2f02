"""Colours, font and style sheet of the window: a light, warm page."""

from importlib.resources import as_file, files

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

PAPER, CARD, LINE = "#F4F1EA", "#FFFFFF", "#D9D2C3"
INK, SOFT_INK = "#2C2A26", "#6E6759"
QUINCE, QUINCE_FILL, QUINCE_PALE = "#B8860B", "#F2C94C", "#FFF8E2"
LEAF, PLUM, CLAY, SLATE = "#5B7F4B", "#6B3E5E", "#B4532A", "#5F7A87"

SHEET = f"""
* {{ color: {INK}; }}
QMainWindow, QDialog, #page {{ background: {PAPER}; }}
QMenuBar {{ background: #FCFBF8; border-bottom: 1px solid {LINE}; padding: 2px 6px; }}
QMenuBar::item {{ padding: 4px 9px; border-radius: 4px; background: transparent; }}
QMenuBar::item:selected {{ background: {QUINCE_FILL}; }}
QMenu {{ background: {CARD}; border: 1px solid {LINE}; padding: 4px; }}
QMenu::item {{ padding: 5px 26px 5px 18px; border-radius: 4px; }}
QMenu::item:selected {{ background: {QUINCE_FILL}; }}
QMenu::item:disabled {{ color: #A59E90; }}
QMenu::separator {{ height: 1px; background: {LINE}; margin: 4px 8px; }}
QToolTip {{ background: {CARD}; color: {INK}; border: 1px solid {LINE}; padding: 4px; }}
QScrollArea {{ border: none; background: transparent; }}
QScrollBar:vertical {{ background: transparent; width: 9px; }}
QScrollBar:horizontal {{ background: transparent; height: 9px; }}
QScrollBar::handle {{ background: {LINE}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none;
    width: 0; height: 0; }}
#card, #section {{ background: {CARD}; border: 1px solid {LINE}; border-radius: 7px; }}
#card[chosen="true"] {{ border: 2px solid {QUINCE}; background: {QUINCE_PALE}; }}
#card:hover {{ border-color: {QUINCE}; }}
QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
#soft {{ color: {SOFT_INK}; }}
#small {{ color: {SOFT_INK}; font-size: 11px; }}
#head {{ font-weight: 600; }}
#caption {{ font-weight: 600; font-size: 11px; color: {SOFT_INK}; }}
#fold {{ text-align: left; border: none; background: transparent; padding: 7px 10px; font-weight: 600; }}
#fold:focus, #reset:focus, #eye:focus {{ border: 1px solid {QUINCE}; border-radius: 5px; }}
QLineEdit, QComboBox {{ background: #FDFCFA; border: 1px solid {LINE}; border-radius: 5px; padding: 2px 6px;
    selection-background-color: {QUINCE_FILL}; selection-color: {INK}; }}
QLineEdit:focus, QComboBox:focus {{ border: 1px solid {QUINCE}; }}
QLineEdit[wrong="true"] {{ border: 1px solid {CLAY}; background: #FBEDE7; }}
QLineEdit[differs="true"] {{ font-weight: 600; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox::down-arrow {{ image: url("{{arrow}}"); width: 12px; height: 12px; }}
QComboBox QAbstractItemView {{ background: {CARD}; border: 1px solid {LINE}; selection-background-color:
    {QUINCE_FILL};
    selection-color: {INK}; outline: none; }}
QPushButton {{ background: {CARD}; border: 1px solid {LINE}; border-radius: 6px; padding: 4px 11px; }}
QPushButton:hover {{ border-color: {QUINCE}; }}
QPushButton:focus {{ border-color: {QUINCE}; }}
QPushButton:disabled {{ color: #A59E90; background: {PAPER}; }}
QPushButton#main {{ background: {QUINCE}; color: white; border: 1px solid {QUINCE}; font-weight: 600; }}
QPushButton#main:hover {{ background: #9C7209; }}
QPushButton#main:disabled {{ background: {LINE}; border-color: {LINE}; color: white; }}
QPushButton#play {{ background: {QUINCE}; border: 1px solid {QUINCE}; border-radius: 17px; }}
QPushButton#play:hover, QPushButton#play:focus {{ background: #9C7209; }}
QPushButton#mend {{ background: {QUINCE_PALE}; border: 1px solid {QUINCE}; padding: 3px 8px; }}
QPushButton#part {{ border: none; border-radius: 11px; padding: 4px 12px; background: transparent; }}
QPushButton#part:checked {{ background: {QUINCE_FILL}; font-weight: 600; }}
QPushButton#part:hover:!checked {{ background: {QUINCE_PALE}; }}
QPushButton#add {{ border: 1px dashed #B9B09C; background: transparent; font-size: 17px; padding: 0; }}
QPushButton#bare, QPushButton#reset, QPushButton#eye {{ border: 1px solid transparent; background: transparent;
    padding: 0; }}
QPushButton#bare:hover, QPushButton#reset:hover, QPushButton#eye:hover {{ background: {QUINCE_PALE};
    border-radius: 5px; }}
QSplitter::handle {{ background: transparent; }}
QSplitter::handle:hover {{ background: {QUINCE_FILL}; }}
#strip, #lineup {{ background: #FCFBF8; }}
#lineup {{ border-bottom: 1px solid {LINE}; background: {PAPER}; }}
#strip {{ border-top: 1px solid {LINE}; }}
#side {{ background: #F9F7F2; }}
#sheet {{ border-right: 1px solid {LINE}; background: #F9F7F2; }}
#facts {{ border-left: 1px solid {LINE}; background: #F9F7F2; }}
#stack {{ background: {PAPER}; border: 1px solid {LINE}; border-radius: 6px; }}
#layer {{ background: {CARD}; border: 1px solid {LINE}; border-radius: 5px; }}
QPushButton#square {{ border: 1.5px solid {SOFT_INK}; border-radius: 3px; background: transparent; padding: 0; }}
QPushButton#square[mapped="true"] {{ background: qlineargradient(x1: 0, y1: 1, x2: 1, y2: 0, stop: 0 #EFECE4,
    stop: 1 #613962); }}
QPushButton#square:checked {{ border: 2px solid {QUINCE}; }}
#rule {{ background: {LINE}; min-width: 1px; max-width: 1px; margin: 4px 6px; }}
#bar {{ background: rgba(255, 255, 255, 225); border: 1px solid {LINE}; border-radius: 12px; }}
#notice {{ background: rgba(255, 255, 255, 240); border: 1px solid {LINE}; border-left: 4px solid {LEAF};
    border-radius: 6px; }}
#notice[trouble="true"] {{ border-left: 4px solid {CLAY}; }}
#check {{ background: {CARD}; border: 1px solid {LINE}; border-left: 4px solid {LEAF}; border-radius: 6px; }}
#check[trouble="true"] {{ border-left: 4px solid {CLAY}; }}
QSlider {{ min-height: 20px; }}
QSlider::groove:horizontal {{ height: 4px; background: #E8E2D4; border-radius: 2px; }}
QSlider::sub-page:horizontal {{ background: {QUINCE}; border-radius: 2px; height: 4px; }}
QSlider::handle:horizontal {{ width: 11px; height: 11px; margin: -6px 0; background: {CARD}; border: 2px solid
    {QUINCE}; border-radius: 7px; }}
QSlider:focus {{ border: 1px solid {QUINCE}; border-radius: 4px; }}
QProgressBar {{ border: 1px solid {LINE}; border-radius: 4px; background: {CARD}; height: 10px; text-align: center; }}
QProgressBar::chunk {{ background: {QUINCE_FILL}; border-radius: 3px; }}
"""


def dress(app: QApplication) -> None:
    """Load the shipped font and put the style on the whole application."""
    for name in ("Regular", "Medium", "SemiBold"):
        with as_file(files("rubberquince") / "assets" / "fonts" / f"Inter-{name}.otf") as path:
            QFontDatabase.addApplicationFont(str(path))
    font = QFont("Inter")
    font.setPixelSize(13)
    font.setFeature(QFont.Tag("tnum"), 1)
    app.setStyle("Fusion")
    app.setFont(font)
    palette = QPalette()
    for role, colour in ((QPalette.ColorRole.Window, PAPER), (QPalette.ColorRole.Base, CARD),
                         (QPalette.ColorRole.Text, INK), (QPalette.ColorRole.WindowText, INK),
                         (QPalette.ColorRole.ButtonText, INK), (QPalette.ColorRole.Highlight, QUINCE_FILL),
                         (QPalette.ColorRole.HighlightedText, INK), (QPalette.ColorRole.PlaceholderText, SOFT_INK)):
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)
    with as_file(files("rubberquince") / "assets" / "marks" / "open-fold.svg") as path:
        app.setStyleSheet(SHEET.replace("{arrow}", path.as_posix()))
