"""Feels of the artist's own: each a small file, kept in one folder and found again at every start."""

import json
import re
from contextlib import suppress
from pathlib import Path
from typing import Any

from platformdirs import user_data_path

from rubberquince.document.feels import DENTS, FEELS, USUAL, Feel
from rubberquince.document.scene import Piece, Role
from rubberquince.document.values import NetValues, ShellValues, SolidValues
from rubberquince.errors import SceneError

SUFFIX = ".feel"
VERSION = 1
MOST_BYTES = 100_000
MADE_OF: dict[str, type[SolidValues | ShellValues | NetValues]] = {
    "solid": SolidValues, "shell": ShellValues, "net": NetValues}


def own_folder() -> Path:
    return user_data_path("rubberquince") / "feels"


def feel_of(piece: Piece, name: str, line: str = "") -> Feel:
    """The values of a piece as a feel.  Raises SceneError when the name is empty, too long or that of a usual feel."""
    name = name.strip()
    if not 0 < len(name) <= 40:
        raise SceneError("The name of a feel has 1 to 40 letters.")
    if name in USUAL:
        raise SceneError(f"“{name}” is one of the feels that the program brings; choose another name.")
    role: Role = piece.role if piece.made_of_name == piece.role else "solid"
    values = piece.made_of.model_dump()
    names = [*_wanted(role), *(DENTS if values.get("yields") is not None else ())]
    return Feel(name, role, line or f"made from {piece.name}", {key: float(values[key]) for key in names})


def _wanted(role: Role) -> set[str]:
    """The values that every feel of a role has."""
    return set.intersection(*(set(feel.values) for feel in USUAL.values() if feel.role == role))


def write_feel(path: Path, feel: Feel) -> None:
    """Raises SceneError when the file cannot be written."""
    said = {"feel": VERSION, "name": feel.name, "role": feel.role, "line": feel.line, "values": feel.values}
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps(said, indent=1), encoding="utf-8")
    except OSError as error:
        raise SceneError(f"Could not write “{path.name}”: {(error.strerror or 'unknown error').lower()}.") from None


def read_feel(path: Path) -> Feel:
    """Raises SceneError with one sentence when the file is not a feel with whole values."""
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ValueError("too long")
        said: Any = json.loads(path.read_text(encoding="utf-8"))
        name, role, line, values = said["name"], said["role"], str(said["line"])[:120], dict(said["values"])
        if said["feel"] > VERSION:
            raise SceneError(f"“{path.name}” was saved by a newer Rubber Quince; update the program to use it.")
        wanted = _wanted(role)
        if not isinstance(name, str) or not 0 < len(name) <= 40 or set(values) not in (wanted, wanted | set(DENTS)):
            raise ValueError("not whole")
        MADE_OF[role].model_validate({key: float(value) for key, value in values.items()})
    except OSError as error:
        raise SceneError(f"Could not read “{path.name}”: {(error.strerror or 'unknown error').lower()}.") from None
    except (ValueError, KeyError, TypeError, StopIteration, RecursionError):
        raise SceneError(f"“{path.name}” is not a feel: values are missing or beyond what they may be.") from None
    return Feel(name, role, line, {key: float(value) for key, value in values.items()})


def keep(feel: Feel) -> None:
    """Offer a feel from now on, and at the next start.  Raises SceneError when it cannot be kept."""
    if feel.name in USUAL:
        raise SceneError(f"“{feel.name}” is one of the feels that the program brings; choose another name.")
    write_feel(_file(feel.name), feel)
    FEELS[feel.name] = feel


def forget(name: str) -> None:
    """Offer one of the artist's own feels no longer; pieces keep their values."""
    if name not in USUAL:
        FEELS.pop(name, None)
        with suppress(OSError):
            _file(name).unlink()


def find_own() -> list[str]:
    """Offer all that were kept; returns sentences about files that could not be read."""
    troubles = []
    for path in sorted(own_folder().glob(f"*{SUFFIX}")):
        try:
            feel = read_feel(path)
        except SceneError as error:
            troubles.append(str(error))
            continue
        FEELS.setdefault(feel.name, feel)
    return troubles


def _file(name: str) -> Path:
    """Letters and figures of the name, and all of it as a number, as names may differ in others only."""
    return own_folder() / f"{re.sub('[^A-Za-z0-9]+', '-', name)}-{name.encode().hex()[:60]}{SUFFIX}"
