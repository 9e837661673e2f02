"""Relations of pairs of patches that may come within their gap, and what is known of them where nodes are."""

from dataclasses import dataclass, fields, replace

import numpy as np

from rubberquince.kernels import candidates as cd

NOTHING = (np.zeros(0, np.int64), np.zeros((0, 4), np.int64), np.zeros(0, np.int8), np.zeros(0), np.zeros(0))


@dataclass(frozen=True, eq=False)
class Candidates:
    """Of pair ``pair`` (c,), sorted, the relations ``ids`` (c, 4) with their ``kind`` and ``gap`` (c,), m.

    far : (c,) m, how near one comes at least but for what was allowed for; see kernels.search.
    seen, picked : (c,) bool, whether it was looked at where nodes are, and whether it may come within its gap from
    there; distance : (c,) m, inside : (c,) bool and apart : (c, 3) m as in kernels.distance, of those seen.
    """

    pair: np.ndarray
    ids: np.ndarray
    kind: np.ndarray
    gap: np.ndarray
    far: np.ndarray
    seen: np.ndarray
    inside: np.ndarray
    picked: np.ndarray
    distance: np.ndarray
    apart: np.ndarray

    @staticmethod
    def none() -> "Candidates":
        nobody = np.zeros(0, bool)
        return Candidates(*NOTHING, nobody, nobody, nobody, np.zeros(0), np.zeros((0, 3)))

    @property
    def columns(self) -> tuple[np.ndarray, ...]:
        return tuple(getattr(self, field.name) for field in fields(self))

    def of_pairs(self, kept: np.ndarray, now: np.ndarray) -> "Candidates":
        """Those of pairs that are ``kept`` (pairs,) bool, which are ``now`` (pairs,) other numbers, in one order."""
        mine = Candidates(*cd.join(*self.columns, kept, *NOTHING))
        return replace(mine, pair=now[mine.pair])

    def joined(self, kept: np.ndarray, new: tuple[np.ndarray, ...]) -> "Candidates":
        """Those of pairs that are ``kept`` (pairs,) bool, and ``new`` ones of others, as a search finds them."""
        return Candidates(*cd.join(*self.columns, kept, *new))

    def moved(self) -> "Candidates":
        """The same where nothing is known, as nodes are elsewhere."""
        return replace(self, seen=np.zeros_like(self.seen), picked=np.zeros_like(self.picked))

    def spans(self, pairs: int) -> tuple[np.ndarray, np.ndarray]:
        """See kernels.candidates.spans."""
        begin, lack = cd.spans(self.pair, self.gap, self.far, pairs)
        return begin, lack

    def pick(self, spans: tuple[np.ndarray, np.ndarray], own: np.ndarray, strays: np.ndarray, x: np.ndarray,
             moves: np.ndarray) -> int:
        """Pick those that may come within their gap from ``x`` on under ``moves`` (m, n, 3), m; returns how many more.
        """
        more: int = cd.pick(*spans, self.ids, self.kind, self.gap, self.far, own, strays, x, moves, self.seen,
                            self.distance, self.inside, self.apart, self.picked, np.empty(4), np.empty(3))
        return more
