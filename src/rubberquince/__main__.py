"""``python -m rubberquince``: the window.  Without a window: ``python -m rubberquince.cli``."""

import sys

from rubberquince.app import main_from_shell

if __name__ == "__main__":
    sys.exit(main_from_shell())
