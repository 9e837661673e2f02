"""The kernels are Python: with compiling off a run gives the same, which finds what only the compiler lets pass."""

import os
import subprocess
import sys
from pathlib import Path

import numpy as np

CODE = """
import sys
sys.path.insert(0, {tests!r})
import numpy as np
from pathlib import Path
from rubberquince.bake.run import SceneRun
from rubberquince.document.scene import BlockShape, Piece, Place, RunSettings, Scene, SolidValues
cube = Piece(id="cube", name="Cube", shape=BlockShape(divisions=(1, 1, 1)), solid=SolidValues(cells=2, stiffness=900.0),
             place=Place(position=(0, 0.052, 0)))
scene = Scene(pieces=(cube,), run=RunSettings(last=3, quality="draft"))
frames = list(SceneRun(scene, {{}}, Path({folder!r}), lambda: False).frames(2))
np.save({target!r}, np.array([frame.skin for frame in frames]))
"""


def test_a_run_with_compiling_off_is_the_same_within_rounding(tmp_path):
    skins = {}
    for off in ("0", "1"):
        target = tmp_path / f"{off}.npy"
        code = CODE.format(tests=str(Path(__file__).parents[1]), folder=str(tmp_path / off), target=str(target))
        subprocess.run([sys.executable, "-W", "ignore", "-c", code], check=True, timeout=240,
                       env={**os.environ, "NUMBA_DISABLE_JIT": off})
        skins[off] = np.load(target)
    assert np.ptp(skins["1"][:, :, 1], axis=0).max() > 1e-3              # it fell and squashed
    np.testing.assert_allclose(skins["0"], skins["1"], atol=2e-5)       # float32 blocks, sums in another order
