"""What lies over the view: what the colours of a display say, and one sentence that comes and goes."""

from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QLinearGradient, QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QPushButton, QWidget

from rubberquince.ui import style
from rubberquince.ui.parts import label, row

STAYS = 9000                # ms that a sentence without trouble is shown
CREAM, PLUM, GHOST = "#EFECE4", "#613962", "#9DB1B9"
LEGENDS: dict[str, tuple[tuple[tuple[float, str], ...], tuple[str, ...]]] = {      # colours as the shaders have them
    "stretch": (((0.0, "#576F7C"), (0.5, CREAM), (1.0, "#AC4B27")), ("−25 % pressed", "0", "pulled +25 %")),
    "holds": (((0.0, CREAM), (0.499, CREAM), (0.501, PLUM), (1.0, PLUM)), ("moves", "", "is held")),
    "map": (((0.0, CREAM), (1.0, PLUM)), ("0", "what the map says", "1")),
    "gap": (((0.0, GHOST), (1.0, GHOST)), ("", "how near others may come", ""))}


class Legend(QWidget):
    """What the colours of a display say: a course of colours, or single ones, with words beneath."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setFixedSize(214, 46)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._colours: tuple[tuple[float, str], ...] = ()
        self._words: tuple[str, ...] = ()
        self.hide()

    def show_display(self, display: str, words: tuple[str, ...] = ()) -> None:
        """Show the legend of a display, or none where its colours are those of the pieces; ``words`` go before its own.
        """
        self._colours, usual = LEGENDS.get(display, ((), ()))
        self._words = words or usual
        self.setAccessibleName(", ".join(self._words))
        self.setVisible(bool(self._words))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QColor(style.LINE))
        painter.setBrush(QColor(255, 255, 255, 225))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 8, 8)
        bar = QRectF(12, 9, self.width() - 24, 9)
        colours = QLinearGradient(bar.topLeft(), bar.topRight())
        for at, colour in self._colours:
            colours.setColorAt(at, QColor(colour))
        painter.fillRect(bar, colours)
        font = painter.font()
        font.setPixelSize(11)
        painter.setFont(font)
        painter.setPen(QColor(style.INK))
        under = bar.translated(0, 12).adjusted(0, 0, 0, 8)
        sides = (Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight)
        for side, text in zip(sides, self._words):
            painter.drawText(under, side | Qt.AlignmentFlag.AlignVCenter, text)
        painter.end()


class Notice(QFrame):
    """One sentence at the foot of the view.  Troubles stay until they are read."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("notice")
        self._over = parent
        self.sentence = label("", wrap=True)
        self.close_button = QPushButton("✕")
        self.close_button.setObjectName("bare")
        self.close_button.setFixedSize(22, 22)
        self.close_button.setAccessibleName("Close the message")
        self.close_button.clicked.connect(self.hide)
        line = row(margins=(12, 8, 8, 8))
        line.addWidget(self.sentence, 1)
        line.addWidget(self.close_button)
        self.setLayout(line)
        self._timer = QTimer(self, singleShot=True, interval=STAYS)
        self._timer.timeout.connect(self.hide)
        self.hide()

    def say(self, sentence: str, trouble: bool) -> None:
        self.sentence.setText(sentence)
        self.setProperty("trouble", trouble)
        self.style().unpolish(self)
        self.style().polish(self)
        self._timer.stop()
        if not trouble:
            self._timer.start()
        self.place()
        self.show()
        self.raise_()

    def place(self) -> None:
        area, layout = self._over.rect(), self.layout()
        width = min(area.width() - 24, 620)
        height = max(layout.heightForWidth(width) if layout else 0, 40)
        self.setGeometry((area.width() - width) // 2, area.height() - height - 12, width, height)
