"""Relations of pairs of patches that may come within their gap, and what is known of them where nodes are."""

import numpy as np

from rubberquince.kernels import candidates as cd
from rubberquince.solver.sharing import shared

FEW = 2000          # pairs: so many are looked through at once


class Candidates:
    """Relations of pairs, with what is known of them where nodes are, in rows.

    Those of pair k are from ``begin[k]`` to ``end[k]``, and ``lack[k]``, m, is how near the nearest is to its reach.
    New rows are put at the end, and those of a pair that is searched anew lie idle until there is no more room: a
    search of few pairs does not copy what is known of all.

    ids (rows, 4), kind and gap (rows,), m : the relations.
    far : (rows,) m, how near one comes at least but for what was allowed for; see kernels.search.
    seen, picked : (rows,) bool, whether it was looked at where nodes are, and whether it may come within its gap from
    there; distance : (rows,) m, inside : (rows,) bool and apart : (rows, 3) m as in kernels.distance, of those seen.
    """

    def __init__(self) -> None:
        self._begin_empty(0)
        self._rows = 0
        self._set(np.zeros((0, 4), np.int64), np.zeros(0, np.int8), np.zeros(0), np.zeros(0), np.zeros(0, bool),
                  np.zeros(0, bool), np.zeros(0, bool), np.zeros(0), np.zeros((0, 3)))

    def _set(self, *columns: np.ndarray) -> None:
        (self.ids, self.kind, self.gap, self.far, self.seen, self.inside, self.picked, self.distance,
         self.apart) = columns

    def _begin_empty(self, pairs: int) -> None:
        self.begin, self.end, self.lack = np.zeros(pairs, np.int64), np.zeros(pairs, np.int64), np.full(pairs, np.inf)

    @property
    def _columns(self) -> tuple[np.ndarray, ...]:
        return (self.ids, self.kind, self.gap, self.far, self.seen, self.inside, self.picked, self.distance, self.apart)

    def renumber(self, known: np.ndarray, before: np.ndarray) -> None:
        """From now on pairs are others: of those that are ``known`` (pairs,) bool, ``before`` says which they were."""
        begin, end, lack = self.begin, self.end, self.lack
        old = before[known]
        self._begin_empty(len(known))
        self.begin[known], self.end[known], self.lack[known] = begin[old], end[old], lack[old]

    def replace(self, gone: np.ndarray, pair: np.ndarray, *new: np.ndarray) -> None:
        """Drop those of pairs that are ``gone`` (pairs,) bool and add ``new`` ones, ids, kind, gap and far, of some of
        these, sorted by ``pair``.
        """
        self.begin[gone], self.end[gone], self.lack[gone] = 0, 0, np.inf
        first = self._make_room(len(pair))
        for column, more in zip(self._columns, new):
            column[first: self._rows] = more
        self.seen[first: self._rows], self.picked[first: self._rows] = False, False
        cd.add_spans(pair, first, self.gap, self.far, self.begin, self.end, self.lack)

    def _make_room(self, more: int) -> int:
        """Have rows for so many ``more``; returns the first of them."""
        if self._rows + more > len(self.kind):
            rows = cd.rows_of(self.begin, self.end)
            room = 2 * (len(rows) + more)
            wider = tuple(np.empty((room, *column.shape[1:]), column.dtype) for column in self._columns)
            for column, old in zip(wider, self._columns):
                column[: len(rows)] = old[rows]
            count = self.end - self.begin
            self.end = np.cumsum(count)
            self.begin = self.end - count
            self._set(*wider)
            self._rows = len(rows)
        self._rows += more
        return self._rows - more

    def forget(self) -> None:
        """Nothing is known of any, as nodes are elsewhere."""
        self.seen[: self._rows], self.picked[: self._rows] = False, False

    def pick(self, own: np.ndarray, strays: np.ndarray, x: np.ndarray, moves: np.ndarray) -> int:
        """Pick those that may come within their gap from ``x`` on under ``moves`` (m, n, 3), m; returns how many more.
        """
        def part(lo: int, hi: int) -> int:
            more: int = cd.pick(lo, hi, self.begin, self.end, self.lack, self.ids, self.kind, self.gap, self.far, own,
                                strays, x, moves, self.seen, self.distance, self.inside, self.apart, self.picked,
                                np.empty(4), np.empty(3))
            return more

        return sum(shared(part, len(own), FEW))

    def gather(self, low: np.ndarray, ground_gap: np.ndarray, x: np.ndarray) -> tuple[np.ndarray, ...]:
        """See kernels.candidates.gather."""
        parts: tuple[np.ndarray, ...] = cd.gather(self.begin, self.end, self.picked, self.ids, self.kind, self.gap,
                                                  self.distance, self.inside, self.apart, low, ground_gap, x)
        return parts
