"""Compile every kernel once, with progress, so that the first start is quick.

Runs a small scene at each quality: what it calls is compiled for the very types that a real run uses.
"""

import sys
import time
from collections.abc import Callable
from functools import partial

from rubberquince.bake.assemble import assemble
from rubberquince.bake.prime import prime, small_scene
from rubberquince.solver.stepper import Stepper


def warm_threads() -> None:
    """What only large scenes use: the same kernels on several threads."""
    stepper = Stepper(assemble(small_scene(), {}).spec)
    stepper.system.use_threads(2)
    stepper.frame()


def main() -> None:
    began = time.monotonic()
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
