"""The helper process as the window sees it: what is asked is answered by a signal, and nothing waits."""

from PySide6.QtCore import QObject, Signal

from rubberquince.jobs.errands import Errand, Helper


class Assistant(QObject):
    """``done(kind, result)`` of the last errand of a kind; None where it failed."""

    done = Signal(str, object)

    def __init__(self) -> None:
        super().__init__()
        self._helper = Helper(self.done.emit)

    def ask(self, kind: str, errand: Errand) -> None:
        self._helper.ask(kind, errand)

    def close(self) -> None:
        self._helper.close()
