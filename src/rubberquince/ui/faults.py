"""What happens when the program itself goes wrong: it is written down, said in one sentence, and nothing is lost."""

import logging
import sys
import threading
from collections.abc import Callable
from types import TracebackType

SENTENCE = ("Something in the program went wrong: “{}”. The scene is as it was, a copy of it is kept, and the log "
            "says more.")

log = logging.getLogger(__name__)


def watch_for_faults(tell: Callable[[str], None]) -> None:
    """From now on ``tell`` hears one sentence of each error that nobody caught, in whatever thread it came up.

    ``tell`` is called in that thread.
    """
    def on_error(kind: type[BaseException], error: BaseException | None, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error or kind(), trace)
            return
        log.error("not caught", exc_info=(kind, error or kind(), trace))
        text = str(error).strip().splitlines()
        tell(SENTENCE.format(text[0][:80] if text else kind.__name__))

    sys.excepthook = on_error
    threading.excepthook = lambda args: on_error(args.exc_type, args.exc_value, args.exc_traceback)
