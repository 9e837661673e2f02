"""What all tests share: an offscreen platform, folders of their own, and nothing left behind."""

import os
import tempfile
import time

import pytest
from hypothesis import settings

from leftovers import children

settings.register_profile("steady", deadline=None)      # a machine may be busy; times belong in benchmarks
settings.load_profile("steady")
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["OPENBLAS_NUM_THREADS"] = "1"    # as the application has it; tests load NumPy first
PATIENCE = 5.0              # s that processes have for ending


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory, monkeypatch):
    """Caches, settings, autosaves and temporary files of a test go to a folder of its own.

    A test that leaves processes or temporary folders of the program behind fails.
    """
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_CACHE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME"):
        monkeypatch.setenv(name, str(home))
    (home / "tmp").mkdir()
    monkeypatch.setenv("TMPDIR", str(home / "tmp"))
    monkeypatch.setattr(tempfile, "tempdir", str(home / "tmp"))
    yield home
    end = time.monotonic() + PATIENCE
    while (children() or list((home / "tmp").glob("rubberquince-*"))) and time.monotonic() < end:
        time.sleep(0.02)
    assert not children()
    assert not list((home / "tmp").glob("rubberquince-*"))
