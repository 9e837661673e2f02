"""What lies where in the frames of a run: written with them, and read by everyone who looks at them."""

import json
import zlib
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

READINGS = ("volume", "stretch", "contact", "speed", "height", "centre", "squeeze", "area", "pressure", "fold")


@dataclass(frozen=True)
class Entry:
    """A piece that moves: how many skin points and carrier nodes it has, and the key of its carrier.

    Frames of another carrier say nothing about the cells of this one.  Of two of one piece the last is what is seen.
    """

    piece: str
    role: str
    points: int
    nodes: int
    carrier: str


@dataclass(frozen=True)
class Layout:
    """The moving pieces of a run in the order of their arrays, the length of a state, and the readings of each."""

    entries: tuple[Entry, ...]
    state: int
    columns: tuple[str, ...] = READINGS

    @property
    def points(self) -> int:
        """Skin points of all pieces."""
        return sum(entry.points for entry in self.entries)

    def row(self, piece: str) -> int | None:
        """Which row of the readings is a piece's; None when it does not move."""
        return next((k for k, entry in enumerate(self.entries) if entry.piece == piece), None)

    def skins(self, skin: np.ndarray) -> dict[str, np.ndarray]:
        """Skin points (n, 3) by piece, out of those of all."""
        return self._split(skin, [entry.points for entry in self.entries])

    def nodes(self, nodes: np.ndarray) -> dict[str, np.ndarray]:
        """Carrier nodes (n, 3) by piece, out of those of all."""
        return self._split(nodes, [entry.nodes for entry in self.entries])

    def _split(self, values: np.ndarray, counts: list[int]) -> dict[str, np.ndarray]:
        parts = np.split(values, np.cumsum(counts)[:-1]) if counts else []
        return {entry.piece: part for entry, part, count in zip(self.entries, parts, counts) if count}

    def to_json(self) -> str:
        """Text with a checksum of its own."""
        data = asdict(self)
        return json.dumps({"layout": data, "check": _check(data)}, sort_keys=True)

    @classmethod
    def from_json(cls, text: str) -> "Layout":
        """Raises ValueError when the text is not what ``to_json`` wrote."""
        try:
            said: dict[str, Any] = json.loads(text)
            data = said["layout"]
            if said["check"] != _check(data):
                raise ValueError("the checksum does not hold")
            return cls(tuple(Entry(**entry) for entry in data["entries"]), data["state"], tuple(data["columns"]))
        except (KeyError, TypeError, AttributeError, RecursionError) as error:
            raise ValueError(f"not a layout: {error}") from None


def _check(data: Any) -> int:
    return zlib.crc32(json.dumps(data, sort_keys=True).encode())
