"""What lies below the window runs without it."""

import subprocess
import sys

CORE = ("cli", "demos.harvest_fair", "bake.run", "bake.checks", "jobs.worker", "exchange.reader", "view.renderer",
        "view.stage", "view.handles")


def test_the_core_never_loads_qt():
    code = f"import sys, importlib; [importlib.import_module('rubberquince.' + m) for m in {CORE!r}];" \
           "sys.exit(any(m.split('.')[0] == 'PySide6' for m in sys.modules))"
    assert subprocess.run([sys.executable, "-c", code]).returncode == 0
