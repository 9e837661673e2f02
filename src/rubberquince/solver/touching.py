"""Which parts of the skins may touch, on the ways that nodes are about to go.

See kernels.patches for how they are found.  There may be more than can touch, which changes nothing, and they always
come in one order: so a run that is taken up again goes on to the same bits, whatever was found before.
"""

from collections.abc import Sequence

import igl
import numpy as np

from rubberquince.kernels import candidates as cd
from rubberquince.kernels import patches as pt
from rubberquince.kernels.candidates import SPARE
from rubberquince.kernels.distance import GROUND, LEAVING, closest_of
from rubberquince.solver.candidates import Candidates
from rubberquince.solver.overlaps import Straddle, is_across, is_tangled_in_itself, points_inside
from rubberquince.solver.patches import Patches, found
from rubberquince.solver.world import World

AHEAD = 2.0         # of the way of a substep: how much farther patches may go before they are searched anew
FIRM = 1.2          # of what strays from the way, where patches go fast: the same
LEAST, MOST = 0.5, 0.12     # of the gap and of a cell: bounds of this; what goes farther is searched along its way
BEND = 0.02         # of the finest length: what moves so far against its body may turn its skin much
TURNS = np.radians(4.0)     # that a patch may turn farther until pairs are found anew
FLAT = 0.02         # of the volume of a cell at rest: one that has less is inside out or nearly
CRUMPLED = 0.12     # of the cells of a solid: one of which more are inside out does not touch itself, so it can unfold,
#                     if it is tangled in itself
HALF = 0.5 * (1.0 + SPARE)       # of the gap: what boxes are widened by
SIDES = np.repeat([-1.0, 1.0], 3)
NOWHERE = np.zeros((0, 3))


class Touching:
    """Relations (ids, kind, gap) of pieces with each other, of solids with themselves, and with the ground.

    Of each also its ``distance``, m, where nodes are, whether the closest points are ``inside`` both parts, and the
    vector ``apart`` (relations, 3) between them.
    """

    def __init__(self, world: World, patches: Patches) -> None:
        self._world, self._patches, self._near = world, patches, patches.near
        self._inside: list[tuple[int, np.ndarray, bool]] = []   # a piece, which points (n,) bool it leads out, or in
        self.tangled: list[tuple[int, int]] = []        # solids that are inside each other, for who knows to say
        self.sewn = np.zeros((0, 2), np.int64)          # points that are sewn to each other, so is this
        self.forget()

    def forget(self) -> None:
        """Search anew at the next call: gaps have changed or points have jumped."""
        world, patches, near = self._world, self._patches, self._near
        ground = float(np.max(world.spec.ground.gap)) if world.spec.ground else 0.0
        self._ground_gap = np.maximum(near.gap[: near.moving], ground)
        self._ground_gap[~world.meets[near.piece[: near.moving], -1]] = -np.inf
        self._widest = float(max([*world.gap[~world.of_balls], ground, 1e-6]))
        self._margin = HALF * (self._widest + 2.0 * np.where(world.of_balls, world.gap, 0.0)[patches.piece])
        self._limp = BEND * patches.finest()
        self._spare = np.maximum(MOST * patches.size(np.arange(patches.moving)), LEAST * self._widest)
        self._inside, self._sunk = [], np.zeros(near.moving, bool)
        self._wide = patches.boxes(near.points, len(patches.piece)) + self._margin[:, None] * SIDES
        self._wide[: patches.moving] = np.nan
        self._start = self._faced = near.points     # where a substep began, and where it was last seen how skins face
        self._cones, self._paired = patches.no_cones(), False       # of the normals that pairs were found for
        self._keys, self._pairs = np.zeros(0, np.int64), np.zeros((0, 2), np.int64)
        self._own, self._smooth = np.zeros(0, bool), np.zeros(0, bool)
        self._slack, self._strayed = np.zeros(0), np.zeros(0)       # of each pair, m; strays before this substep
        self._along, self._most = np.zeros(0, bool), np.zeros(0)    # of each pair: listed along the way; see _cover
        self._alike, self._strays, self._candidates = np.zeros(0, bool), np.zeros(0), Candidates()
        self._crumpled = np.zeros(0, np.int64)
        self.drop()

    def begin_frame(self, x: np.ndarray, skin: np.ndarray) -> None:
        """Look anew at the next call, and find out which solids are crumpled with their nodes at ``x`` (n, 3) and the
        points of all skins at ``skin`` (n, 3), m, near or not.
        """
        self.drop()
        self._cones, self._paired = self._patches.no_cones(), False
        share = self._world.octahedra.inside_out(x, FLAT, self._world.bodies)
        ground = [a for a, b in self.tangled if b == len(self._world.gap)]
        self._sunk = np.isin(self._near.piece[: self._near.moving], ground)
        self._crumpled = np.array([k for k in np.flatnonzero(share > CRUMPLED)
                                   if is_tangled_in_itself(self._world.skin, skin, int(k))], np.int64)

    def drop(self) -> None:
        """Look anew at the next call."""
        self._at, self._way = NOWHERE, NOWHERE
        self._boxed, self._here = NOWHERE, NOWHERE      # the boxes of patches at a place, by its name
        self._moves: list[np.ndarray] = []
        self._leaving: list[tuple[np.ndarray, ...]] = []
        none = Candidates()
        self.ids, self.kind, self.gap = none.ids, none.kind, none.gap
        self.distance, self.inside, self.apart = none.distance, none.inside, none.apart

    def boxes(self) -> np.ndarray:
        """Boxes (moving, 6) of what patches were seen to go through, and of what may be near them there."""
        room = self._margin.max(initial=0.0) + self._spare.max(initial=0.0)
        return self._wide[: self._patches.moving] + room * SIDES

    def begin(self, x: np.ndarray) -> None:
        """A substep begins at skin points ``x`` (n, 3), m."""
        zero = np.zeros(x.shape)
        self._strayed += self._patches.stray(self._pairs, self._slack >= 0.0, x, [zero], self._start, zero)[0]
        self._slack[self._along] = -1.0             # lists along a way end with it
        self._along[:] = False
        self._start = self._faced = x.copy()
        if self._face(self._start):             # only those of this substep count
            self._cones = self._patches.no_cones()
            self._face(self._start)
        self._alike = self._left_alone(self._start)
        self.drop()
        self._leaving = [self._leave(k, wrong, within, x) for k, wrong, within in self._inside]

    def look(self, at: np.ndarray, x: np.ndarray, *moves: np.ndarray) -> bool:
        """Find what can touch at skin points ``x`` (n, 3), m, and on the straight ways of ``moves`` (n, 3) from it.

        ``at`` names the place: as long as it is the same, what was found for earlier moves is kept.
        Returns True when something was added.
        """
        if not self._near.moving:
            return False
        if not len(self._way):
            self._way = moves[0] if moves else np.zeros(x.shape)
        fresh = self._at is not at
        if not fresh:
            moves = tuple(move for move in moves if not any(pt.same(move, known) for known in self._moves))
        if not (fresh or moves):
            return False
        if fresh:
            self._at, self._moves, self._strays = at, [], self._strayed.copy()
            moves = (np.zeros(x.shape), *moves)
        self._moves += moves
        bent = self._bent(x, moves)
        anew = self._pair_up(x, list(moves))
        if anew:
            self._strays = self._strayed.copy()
        anew |= self._turn(bent)
        anew |= self._cover(x, self._moves if anew else list(moves))
        if fresh:
            self._candidates.forget()
            self._low = np.zeros(self._near.moving, bool)
        if fresh or anew:
            moves = tuple(self._moves)
        more = self._pick(x, np.array(moves))
        if more or fresh or anew:
            self._collect(x)
        return more > 0

    def _pick(self, x: np.ndarray, moves: np.ndarray) -> int:
        """Pick what may come within its gap under ``moves`` (m, n, 3), m; returns how much more that is."""
        more = self._candidates.pick(self._own, self._strays, x, moves)
        if self._world.spec.ground:
            more += cd.pick_low(x, moves, self._ground_gap, self._low)
        return more

    def _bent(self, x: np.ndarray, moves: Sequence[np.ndarray]) -> list[np.ndarray]:
        """Where ``moves`` lead from ``x`` that change shapes much since they were last looked at; pairs are found anew
        for how skins face there.
        """
        bent = []
        for move in moves:
            there = x + move
            if pt.bends(there - self._faced, self._near.first, self._limp):
                self._face(there)
                self._faced = there
                bent.append(there)
        return bent

    def _turn(self, bent: list[np.ndarray]) -> bool:
        """See which patches no longer face one way where skins are ``bent``; True if some do."""
        before = self._alike
        for there in bent:
            self._alike = self._alike & self._left_alone(there)
        return self._alike is not before and bool((self._alike != before).any())

    def _face(self, x: np.ndarray) -> bool:
        """See to it that pairs are found that could not meet before and may where skins are at ``x`` (n, 3); True if
        there may be some.
        """
        turned = self._patches.widen_cones(self._cones, x, TURNS)
        self._paired &= not turned
        return turned

    def _left_alone(self, x: np.ndarray) -> np.ndarray:
        """Which pairs (pairs,) bool are of one skin and cannot meet, as it is at ``x`` (n, 3), or are not to."""
        alike = self._patches.face_one_way(x, self._pairs, self._smooth)
        if len(self._crumpled):
            alike |= self._own & np.isin(self._patches.piece[self._pairs[:, 0]], self._crumpled)
        return alike

    def _cover(self, x: np.ndarray, moves: list[np.ndarray]) -> bool:
        """Make the candidates hold on the ways of ``moves`` from ``x``; returns True when some were searched for."""
        counts = ~self._alike
        need, off = self._patches.stray(self._pairs, counts, x, moves, self._start, self._way)
        stale = pt.allow(need, off, counts, self._own, self._most, LEAST * self._widest, AHEAD, FIRM, self._strayed,
                         self._strays, self._slack, self._along)
        if not stale.any():
            return False
        new = self._patches.search(self._pairs, stale, self._slack, self._along, self._start, self._way, self._own)
        self._candidates.replace(~counts | stale, *new)
        return True

    def _pair_up(self, x: np.ndarray, moves: list[np.ndarray]) -> bool:
        """Find the pairs of patches that may meet on ``moves`` from ``x``, if those known do not hold; True if so."""
        patches, moving = self._patches, self._patches.moving
        if self._boxed is not self._at:
            self._boxed, self._here = self._at, patches.boxes(x, moving)
        box = self._here.copy()
        for move in moves:
            patches.widen(box, x, move)
        within = pt.within(box, self._margin[:moving], self._wide[:moving])
        if within and self._paired:
            return False
        if not within:
            for move in self._moves:
                patches.widen(box, x, move)
            self._wide[:moving] = box + (self._margin[:moving] + self._spare)[:, None] * SIDES
        self._paired, keys = True, patches.meeting(self._wide, self._cones)
        if np.array_equal(keys, self._keys):
            return False
        known, before = found(keys, self._keys)
        self._candidates.renumber(known, before)
        slack, strayed, along = np.full(len(keys), -1.0), np.zeros(len(keys)), np.zeros(len(keys), bool)
        slack[known], strayed[known] = self._slack[before[known]], self._strayed[before[known]]
        along[known] = self._along[before[known]]
        self._slack, self._strayed, self._along = slack, strayed, along
        self._keys, self._pairs = keys, np.column_stack(np.divmod(keys, len(patches.piece)))
        pieces = patches.piece[self._pairs]
        self._own = (pieces[:, 0] == pieces[:, 1]) & ~self._world.of_balls[pieces[:, 0]]
        self._smooth = self._own & patches.smooth(self._pairs)
        self._most = MOST * patches.size(self._pairs[:, 0])
        alike = self._left_alone(self._start)
        alike[known] &= self._alike[before[known]]      # what has turned since stays so
        self._alike = alike
        return True

    def _collect(self, x: np.ndarray) -> None:
        """Join what was picked, what leads out of colliders, and the ground, all at ``x`` (n, 3)."""
        parts = self._candidates.gather(self._low & ~self._sunk, self._ground_gap, x)
        if self._inside or self.tangled or len(self.sewn):
            counts = self._counts(parts[0]) | (parts[1] == GROUND)
            parts = tuple(column[counts] for column in parts)
        if self._leaving:
            others = [(*other, *closest_of(*other[:2], x)) for other in self._leaving]
            parts = tuple(np.concatenate(column) for column in zip(parts, *others))
        self.ids, self.kind, self.gap, self.distance, self.inside, self.apart = parts

    # --- what starts inside another -------------------------------------------------------------------

    def look_inside(self, x: np.ndarray, straddles: Sequence[Straddle]) -> None:
        """Find out, with all skins at ``x`` (n, 3), m, what is led out of colliders that keep to their outside, and of
        what it started across.
        """
        world, skin, bodies = self._world, self._world.skin, self._world.bodies
        wrong = {(k, False): points_inside(skin, x, k, np.flatnonzero(world.meets[k, :bodies]))
                 for k in np.flatnonzero(world.outside_only).tolist()}
        for straddle in straddles:
            side = straddle.piece, straddle.within
            wrong[side] = is_across(world, x, straddle) | wrong.get(side, np.zeros(len(x), bool))
        self._inside = [(k, there[self._near.number], within) for (k, within), there in wrong.items() if there.any()]

    def _leave(self, k: int, wrong: np.ndarray, within: bool, x: np.ndarray) -> tuple[np.ndarray, ...]:
        """Points that are ``wrong`` (n,) bool on one side of piece ``k`` with its nearest faces, through which they are
        led out, or in.
        """
        triangles = self._near.place[self._world.skin.triangles[k]]
        points = np.flatnonzero(wrong)
        _, nearest, _ = igl.point_mesh_squared_distance(np.ascontiguousarray(x[points]), x, triangles)
        faces = triangles[nearest][:, ::-1 if within else 1]
        return (np.column_stack([points, faces]), np.full(len(points), LEAVING, np.int8), self._near.gap[points])

    def _counts(self, ids: np.ndarray) -> np.ndarray:
        """Which relations (k, 4) count, (k,) bool: not those of points that are led out, nor of tangled solids, nor of
        what is sewn together.
        """
        piece = self._near.piece
        one, two = piece[ids[:, 0]], piece[ids[:, 3]]
        counts = np.ones(len(ids), bool)
        for a, b in self.tangled:
            counts &= ~((one == a) & (two == b) | (one == b) & (two == a))
        if len(self.sewn):
            sewn = np.zeros(len(piece), bool)
            sewn[self.sewn] = True
            second = piece[ids] == two[:, None]
            both = (sewn[ids] & second).any(axis=1) & (sewn[ids] & ~second).any(axis=1)
            counts &= ~both
        for k, wrong, _ in self._inside:
            counts &= ~(((one == k) | (two == k)) & wrong[ids].any(axis=1))
        return counts
