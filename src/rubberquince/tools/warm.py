"""Compile every kernel once, with progress, so that the first start is quick.

Runs a small scene at each quality: what it calls is compiled for the very types that a real run uses.
"""

import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import rubberquince
from rubberquince.bake.assemble import assemble
from rubberquince.bake.prime import prime, small_scene
from rubberquince.solver.stepper import Stepper


def warm_threads() -> None:
    """What only large scenes use: the same kernels on several threads."""
    stepper = Stepper(assemble(small_scene(), {}).spec)
    stepper.system.split(2)
    stepper.frame()


def drop_stale() -> None:
    """Throw compiled kernels away that are older than any source: Numba looks only at the file that a kernel is in, and
    what it calls may be in another.
    """
    package = Path(rubberquince.__file__).parent
    newest = max(path.stat().st_mtime for path in package.rglob("*.py"))
    for kept in package.rglob("*.nb[ic]"):
        if kept.stat().st_mtime < newest:
            kept.unlink()


def main() -> None:
    began = time.monotonic()
    drop_stale()
    steps: list[tuple[str, Callable[[], None]]] = [
        (f"the solver at {quality}", partial(prime, quality)) for quality in ("draft", "good", "sure")]
    steps.append(("the solver on several threads", warm_threads))
    for k, (what, do) in enumerate(steps):
        print(f"Preparing {k + 1} of {len(steps)}: {what} (once; {time.monotonic() - began:.0f} s so far)",
              file=sys.stderr, flush=True)
        do()
    print(f"Prepared in {time.monotonic() - began:.0f} s.", file=sys.stderr)


if __name__ == "__main__":
    main()
