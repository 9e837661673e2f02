"""What all tests share: an offscreen platform and folders of their own."""

import os

import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory, monkeypatch):
    """Caches, settings and autosaves of a test go to a folder of its own."""
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_CACHE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME"):
        monkeypatch.setenv(name, str(home))
    return home
