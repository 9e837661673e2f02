"""The process that exports.  Run as ``python -m rubberquince.jobs.exporter ORDER``; see jobs.exporting."""

import pickle
import signal
import sys
from pathlib import Path

from rubberquince.bake.cache import FrameCache
from rubberquince.bake.export import export_frame, export_run
from rubberquince.errors import ExportError
from rubberquince.exchange.apart import REFUSED
from rubberquince.jobs.exporting import FrameOrder, RunOrder


def carry_out(order: FrameOrder | RunOrder) -> int:
    """How many frames were written.  Raises ExportError."""
    if isinstance(order, FrameOrder):
        export_frame(order.path, order.scene, order.meshes, order.skins)
        return 1
    cache = FrameCache.reader(order.folder)
    if cache is None:
        raise ExportError("The baked frames are gone; press Bake first.")
    return export_run(order.path, order.scene, order.meshes, cache, order.first, order.last)


def main() -> int:
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))       # what is half written is taken away on the way out
    try:
        print(carry_out(pickle.loads(Path(sys.argv[1]).read_bytes())))
    except ExportError as error:
        print(error)
        return REFUSED
    return 0


if __name__ == "__main__":
    sys.exit(main())
