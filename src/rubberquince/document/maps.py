"""Weight maps: how much of a value each place of a skin has, as a short list of layers that any mesh can be asked.

Lengths are in metres as the piece is placed; places on a skin in the unit box of its shape.
"""

from typing import Annotated, Literal

from pydantic import Field

from rubberquince.document.values import About, Finite, Plain

Share = Annotated[float, Field(ge=0.0, le=1.0)]
Reach = Annotated[float, Field(gt=0.0, le=1e3, allow_inf_nan=False)]
Vector = tuple[Finite, Finite, Finite]


def _reach(name: str, tip: str) -> About:
    return About(name, "length", 0.001, 1.0, tip, log=True)


class HeightRule(Plain):
    """From one height of the piece to another, or along one of its own axes: 1 at ``full``, 0 at ``none``."""

    kind: Literal["height"] = "height"
    axis: Literal["upwards", "its x", "its y", "its z"] = "upwards"
    full: Annotated[Share, About("All at", "%", 0.0, 1.0, "Where along the way the map is 1")] = 1.0
    none: Annotated[Share, About("None at", "%", 0.0, 1.0, "Where along the way the map is 0")] = 0.0


class LineRule(Plain):
    """By the distance along the skin from a line that is drawn on it, or by "" from its outline."""

    kind: Literal["line"] = "line"
    curve: str = Field("", max_length=16)
    reach: Annotated[Reach, _reach("Within", "Distance along the skin at which the map comes to 0")] = 0.02


class EdgesRule(Plain):
    """By the distance from edges between faces that turn by more than ``angle``."""

    kind: Literal["edges"] = "edges"
    angle: Annotated[float, Field(ge=0.0, le=180.0), About(
        "Sharper than", "°", 5.0, 120.0, "Edges between faces that turn by more than so much")] = 50.0
    reach: Annotated[Reach, _reach("Within", "Distance along the skin at which the map comes to 0")] = 0.02


class FacingRule(Plain):
    """What faces a direction, as the piece is placed: 1 within half an angle, 0 beyond it."""

    kind: Literal["facing"] = "facing"
    toward: Literal["up", "down", "left", "right", "front", "back"] = "up"
    angle: Annotated[float, Field(ge=1.0, le=180.0), About(
        "Within", "°", 10.0, 180.0, "What is turned away by more than so much has none")] = 60.0


class NearRule(Plain):
    """By the distance from another piece, as both are placed."""

    kind: Literal["near"] = "near"
    piece: str = Field("", max_length=16)
    reach: Annotated[Reach, _reach("Within", "Distance at which the map comes to 0")] = 0.02


class InsideRule(Plain):
    """What is inside a box, a ball or an upright tube that is placed in the scene, or inside a piece, by its id; it
    fades ``soft`` around it.
    """

    kind: Literal["inside"] = "inside"
    form: Literal["box", "ball", "tube", "a piece"] = "ball"
    piece: str = Field("", max_length=16)
    x: Annotated[Finite, About("Middle x", "length", -1.0, 1.0, "Where its middle is, to the right")] = 0.0
    y: Annotated[Finite, About("Middle y", "length", -1.0, 1.0, "Where its middle is, upwards")] = 0.1
    z: Annotated[Finite, About("Middle z", "length", -1.0, 1.0, "Where its middle is, to the front")] = 0.0
    width: Annotated[Reach, _reach("Width", "Its full width")] = 0.1
    height: Annotated[Reach, _reach("Height", "Its full height")] = 0.1
    depth: Annotated[Reach, _reach("Depth", "Its full depth")] = 0.1
    soft: Annotated[Reach, _reach("Fades over", "Distance outside of it at which the map comes to 0")] = 0.01


class NoiseRule(Plain):
    """Soft spots of about a size, others for each seed."""

    kind: Literal["noise"] = "noise"
    size: Annotated[Reach, _reach("Spots of", "How wide a spot is")] = 0.05
    seed: Annotated[int, Field(ge=0, le=1_000_000), About("Seed", "", 0.0, 100.0, "Each seed gives other spots")] = 1


class PartsRule(Plain):
    """A value at random for each connected part of the skin."""

    kind: Literal["parts"] = "parts"
    seed: Annotated[int, Field(ge=0, le=1_000_000), About("Seed", "", 0.0, 100.0, "Each seed gives other values")] = 1


class Stroke(Plain):
    """One stroke of a brush: past ``beads``, ``radius`` wide, m.  It adds, takes away, or smooths what is there.

    ``from_side`` is where it was painted from, in the frame of the shape: only what looks that way gets it; None goes
    through.  ``mirrored`` paints the other side of the middle of its x, too.
    """

    beads: tuple[Vector, ...] = Field(min_length=1, max_length=5000)
    radius: Reach
    strength: Share = 0.5
    does: Literal["adds", "takes", "smooths"] = "adds"
    from_side: Vector | None = None
    mirrored: bool = False


class StrokesRule(Plain):
    """What was painted, stroke by stroke, on top of what the layers below say."""

    kind: Literal["strokes"] = "strokes"
    strokes: tuple[Stroke, ...] = Field((), max_length=2000)


class TypedRule(Plain):
    """Values that were typed for chosen points: each holds for what is nearest to it and within ``reach``, m."""

    kind: Literal["typed"] = "typed"
    places: tuple[Vector, ...] = Field((), max_length=200_000)
    values: tuple[Share, ...] = Field((), max_length=200_000)
    reach: Reach = 0.005


Rule = (HeightRule | LineRule | EdgesRule | FacingRule | NearRule | InsideRule | NoiseRule | PartsRule | StrokesRule
        | TypedRule)
Join = Literal["instead of", "greater of", "lesser of", "added to", "times"]


class Layer(Plain):
    """A rule and how it joins what the layers before it say; ``blur``, m, spreads it along the skin."""

    rule: Annotated[Rule, Field(discriminator="kind")]
    join: Join = "greater of"
    inverted: bool = False
    blur: Annotated[float, Field(ge=0.0, le=100.0, allow_inf_nan=False)] = 0.0
    shown: bool = True


MAPPED = ("goal.strength", "shell.stretch", "shell.bend", "shell.mass", "net.stretch", "net.mass", "solid.stiffness",
          "solid.density", "solid.rest_size", "pressure.pressure", "contact.gap", "contact.friction", "shell.along",
          "shell.across", "net.length")


class Map(Plain):
    """A value, by its path in the piece, that goes from ``low`` where its layers say 0 to ``high`` where they say 1.

    Within a Solid it fades to ``low`` at ``depth``, m, under the skin; at 0 it goes all through.
    """

    of: str = Field(max_length=40)
    low: Annotated[float, Field(ge=0.0, le=1e9, allow_inf_nan=False)] = 0.0
    high: Annotated[float, Field(ge=0.0, le=1e9, allow_inf_nan=False)] = 1.0
    depth: Annotated[float, Field(ge=0.0, le=1e3, allow_inf_nan=False)] = 0.0
    layers: tuple[Layer, ...] = Field((), max_length=50)
