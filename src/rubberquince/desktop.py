"""Make the program known to the desktop: a menu entry, its icon, and a file type for scenes.

Everything goes to the user's own data folder after the freedesktop.org specifications; ``remove`` takes it away.
"""

import os
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path
from xml.sax.saxutils import escape

from rubberquince.document.storage import SUFFIX
from rubberquince.errors import InstallError

NAME = "rubberquince"
TYPE = "application/x-rubberquince-scene"
ENTRY = """[Desktop Entry]
Type=Application
Version=1.5
Name=Rubber Quince
GenericName=Workbench for soft things
Comment=Tune, bake and hand over jelly, cushions and squishy props
Exec={command} %f
Icon={name}
Terminal=false
Categories=Graphics;3DGraphics;
MimeType={type};
StartupWMClass={name}
"""
FILE_TYPE = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{type}">
    <comment>{comment}</comment>
    <sub-class-of type="application/zip"/>
    <glob pattern="*{suffix}"/>
    <icon name="{name}"/>
  </mime-type>
</mime-info>
"""


def data_home() -> Path:
    """Where the desktop looks for what a user has installed."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def install(home: Path) -> list[Path]:
    """Write entry, file type and icons under ``home``; returns the files.  Raises InstallError."""
    icon = (files("rubberquince") / "assets" / "icons" / f"{NAME}.svg").read_text(encoding="utf-8")
    comment = escape("Rubber Quince scene")
    contents = (ENTRY.format(command=_command(), name=NAME, type=TYPE),
                FILE_TYPE.format(type=TYPE, comment=comment, suffix=SUFFIX, name=NAME), icon, icon)
    written = _places(home)
    try:
        for path, text in zip(written, contents):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InstallError(f"The desktop entry could not be written to “{home}”: "
                           f"{(error.strerror or 'unknown error').lower()}.") from None
    _tell(home)
    return written


def remove(home: Path) -> None:
    """Take away what ``install`` wrote."""
    for path in _places(home):
        path.unlink(missing_ok=True)
    _tell(home)


def _places(home: Path) -> list[Path]:
    icons = home / "icons" / "hicolor" / "scalable"
    return [home / "applications" / f"{NAME}.desktop", home / "mime" / "packages" / f"{NAME}.xml",
            icons / "apps" / f"{NAME}.svg", icons / "mimetypes" / f"{TYPE.replace('/', '-')}.svg"]


def _command() -> str:
    """What starts the window of this very installation."""
    script = Path(sys.executable).with_name("rubber-quince-window")
    words = [str(script)] if script.exists() else [sys.executable, "-m", "rubberquince"]
    return " ".join(f'"{word}"' if " " in word else word for word in words)


def _tell(home: Path) -> None:
    """Let the desktop look again, where its helpers are there; else it does at the next login."""
    for helper, folder in (("update-desktop-database", "applications"), ("update-mime-database", "mime"),
                           ("gtk-update-icon-cache", "icons/hicolor")):
        if shutil.which(helper) and (home / folder).is_dir():
            subprocess.run([helper, str(home / folder)], capture_output=True, check=False)
