"""What lies below the window runs without it."""

import subprocess
import sys
import tomllib
from pathlib import Path

CORE = ("cli", "demos.harvest_fair", "bake.run", "bake.checks", "jobs.worker", "exchange.reader", "view.renderer",
        "view.stage", "view.handles")


def test_the_core_never_loads_qt():
    code = f"import sys, importlib; [importlib.import_module('rubberquince.' + m) for m in {CORE!r}];" \
           "sys.exit(any(m.split('.')[0] == 'PySide6' for m in sys.modules))"
    assert subprocess.run([sys.executable, "-c", code]).returncode == 0


def test_everything_that_is_not_code_goes_into_the_package():
    root = Path(__file__).parents[1]
    project = tomllib.loads((root / "pyproject.toml").read_text())
    patterns = project["tool"]["setuptools"]["package-data"]["rubberquince"]
    source = root / "src" / "rubberquince"
    packed = {path for pattern in patterns for path in source.glob(pattern) if path.is_file()}
    needed = {path for path in source.rglob("*") if path.is_file() and path.suffix != ".py"
              and "__pycache__" not in path.parts}
    assert needed <= packed
