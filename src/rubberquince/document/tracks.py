"""Keyed values: what a value is at any frame, by its keys and the ways between them."""

import math
from itertools import pairwise
from typing import Annotated, Any, Literal, cast, get_args

from annotated_types import Ge, Gt, Le
from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from rubberquince.document.values import Plain

Way = Literal["smooth", "even", "stepped", "by ratio"]
LAST = 100_000              # frame
TINY = 1e-6                 # above what a value has to be greater than


class Key(Plain):
    """A value at a frame, and the ``way`` to the next one.

    ``slope`` is how fast a smooth course passes it, in units of the value a frame; None finds one that never swings
    beyond its keys.
    """

    frame: Annotated[float, Field(ge=0.0, le=LAST, allow_inf_nan=False)]
    value: Annotated[float, Field(allow_inf_nan=False, ge=-1e9, le=1e9)]
    way: Way = "smooth"
    slope: Annotated[float | None, Field(allow_inf_nan=False, ge=-1e9, le=1e9)] = None


class Track(Plain):
    """The keys of the value at a path, such as "place.position.0", in the order of their frames."""

    of: str = Field(max_length=40)
    keys: tuple[Key, ...] = Field(min_length=1, max_length=5000)

    @model_validator(mode="after")
    def _in_order(self) -> "Track":
        if any(one.frame >= two.frame for one, two in pairwise(self.keys)):
            raise PydanticCustomError("order", "keys must come one after another")
        return self

    def key_at(self, frame: float) -> Key | None:
        return next((key for key in self.keys if key.frame == frame), None)

    def at(self, frame: float) -> float:
        """The value at a frame; before the first key and after the last it is theirs."""
        keys = self.keys
        if frame <= keys[0].frame:
            return keys[0].value
        if frame >= keys[-1].frame:
            return keys[-1].value
        k = next(k for k in range(len(keys) - 1) if frame < keys[k + 1].frame)
        return self._between(k, (frame - keys[k].frame) / (keys[k + 1].frame - keys[k].frame))

    def _between(self, k: int, share: float) -> float:
        one, two = self.keys[k], self.keys[k + 1]
        if one.way == "stepped":
            return one.value
        if one.way == "by ratio" and one.value * two.value > 0.0:
            return one.value * (two.value / one.value) ** share
        if one.way != "smooth":
            return one.value + share * (two.value - one.value)
        span = two.frame - one.frame
        a, b = span * self.slope(k), span * self.slope(k + 1)
        rest = 1.0 - share                  # the cubic of both values and slopes (Hermite 1878)
        return (rest * rest * ((1.0 + 2.0 * share) * one.value + share * a)
                + share * share * ((1.0 + 2.0 * rest) * two.value - rest * b))

    def slope(self, k: int) -> float:
        """How fast the course passes key ``k``, a frame: its own, or one by which it never swings beyond its keys
        (Fritsch, Butland 1984, eq. 5); at the first and the last it stands.
        """
        keys, own = self.keys, self.keys[k].slope
        if own is not None:
            return own
        if k in (0, len(keys) - 1):
            return 0.0
        before, after = keys[k].frame - keys[k - 1].frame, keys[k + 1].frame - keys[k].frame
        fall = (keys[k].value - keys[k - 1].value) / before
        rise = (keys[k + 1].value - keys[k].value) / after
        if fall * rise <= 0.0:
            return 0.0
        share = (before + 2.0 * after) / (3.0 * (before + after))
        return fall * rise / (share * rise + (1.0 - share) * fall)

    def with_key(self, key: Key) -> "Track":
        """The same with one more key, in the place of one at its frame; that one's way and slope stay."""
        before = self.key_at(key.frame)
        if before is not None:
            key = before.model_copy(update={"value": key.value})
        kept = [one for one in self.keys if one.frame != key.frame]
        return Track(of=self.of, keys=tuple(sorted([*kept, key], key=lambda one: one.frame)))


def get_at(model: Any, path: str) -> Any:
    """The value at a dotted path; a number in it is the place in a tuple."""
    for name in path.split("."):
        model = model[int(name)] if name.isdigit() else getattr(model, name)
    return model


def put_at(model: Any, path: str, value: Any) -> Any:
    """A copy with the value at the path replaced, unchecked: keys were checked when they were set."""
    head, _, rest = path.partition(".")
    if isinstance(model, tuple):
        k = int(head)
        return (*model[:k], put_at(model[k], rest, value) if rest else value, *model[k + 1:])
    fresh = put_at(getattr(model, head), rest, value) if rest else value
    return model.model_copy(update={head: fresh})


def at_frame(model: Any, frame: float) -> Any:
    """A piece, or a scene, with its own keyed values as they are at a frame."""
    for track in model.tracks:
        least, most = bounds_at(model, track.of)
        model = put_at(model, track.of, min(max(track.at(frame), least), most))
    return model


def bounds_at(model: Any, path: str) -> tuple[float, float]:
    """What the value at a path may be, so that a course that swings beyond its keys stays within."""
    head, _, rest = path.partition(".")
    if rest and not rest.isdigit():
        return bounds_at(getattr(model, head), rest)
    marks: list[Any] = list(type(model).model_fields[head].metadata)
    for part in get_args(type(model).model_fields[head].annotation):       # of an item of a tuple, or of an optional
        marks += getattr(part, "__metadata__", ())
    marks += [inner for mark in marks for inner in getattr(mark, "metadata", ())]
    least = [cast(float, m.ge) for m in marks if isinstance(m, Ge)]
    least += [cast(float, m.gt) + TINY for m in marks if isinstance(m, Gt)]
    most = [cast(float, m.le) for m in marks if isinstance(m, Le)]
    return max(least, default=-math.inf), min(most, default=math.inf)


def scene_at(scene: Any, frame: float) -> Any:
    """A scene with all keyed values, also of its pieces, as they are at a frame."""
    if any(piece.tracks for piece in scene.pieces):
        scene = scene.model_copy(update={"pieces": tuple(at_frame(piece, frame) for piece in scene.pieces)})
    return at_frame(scene, frame)


def with_track(model: Any, track: Track) -> Any:
    """A piece or a scene with a track, in the place of the one of the same value."""
    others = tuple(one for one in model.tracks if one.of != track.of)
    return model.model_copy(update={"tracks": (*others, track)})


def without_track(model: Any, path: str) -> Any:
    return model.model_copy(update={"tracks": tuple(one for one in model.tracks if one.of != path)})


def with_keys_at(before: Any, after: Any, path: str, frame: float) -> Any:
    """``after``, a piece or a scene whose value at a path was changed, with the change as keys at a frame.

    That is for what has keys; what they say nothing of changes as a whole.
    """
    for track in before.tracks:
        if f"{track.of}.".startswith(f"{path}."):
            value = get_at(after, track.of)
            after = put_at(after, track.of, get_at(before, track.of))
            if value is not None and value != track.at(frame):
                after = with_track(after, track.with_key(Key(frame=frame, value=value)))
    return after
