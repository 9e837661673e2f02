"""Feels: named sets of physical values for solids to start from, and mixtures of two."""

from dataclasses import dataclass

import numpy as np

from rubberquince.document.scene import FeelChoice, Piece, SolidValues

OWN = ""                    # no feel: the values were set by hand


@dataclass(frozen=True)
class Feel:
    """``line`` says how it behaves; the values are those of SolidValues, in SI units."""

    name: str
    line: str
    stiffness: float
    keeps_volume: float
    wobble_halves: float
    density: float


FEELS = {feel.name: feel for feel in (
    Feel("set jelly", "sags a little, wobbles low and is soon quiet", 4200.0, 0.80, 0.35, 1050.0),
    Feel("wobbly jelly", "leans, trembles and comes back for a second or two", 3000.0, 0.80, 1.0, 1050.0),
    Feel("firm jelly", "holds its edges; the wobble is small and quick", 15e3, 0.85, 0.25, 1100.0),
    Feel("gel", "heavy and lazy: bulges rather than shrinks", 40e3, 0.97, 0.15, 1000.0),
    Feel("foam", "squashes without bulging and hardly wobbles", 25e3, 0.05, 0.06, 60.0),
    Feel("soft rubber", "springs back at once and hops", 400e3, 0.98, 0.20, 1100.0),
    Feel("dough", "slumps under its weight and stays quiet", 6e3, 0.90, 0.04, 1150.0),
    Feel("marshmallow", "light, soft, gives way and comes back slowly", 8e3, 0.25, 0.08, 400.0))}


def mixed(choice: FeelChoice) -> dict[str, float]:
    """The values of a mixture: stiffness, damping and density by ratio, the keeping of volume evenly."""
    one = FEELS[choice.name]
    two = FEELS.get(choice.mixed_with, one)
    values = {}
    for name in ("stiffness", "keeps_volume", "wobble_halves", "density"):
        a, b = getattr(one, name), getattr(two, name)
        if name == "keeps_volume":
            value = a + (b - a) * choice.share
        else:
            value = float(a * np.exp(np.log(b / a) * choice.share))
        values[name] = float(f"{value:.6g}")
    return values


def with_feel(piece: Piece, choice: FeelChoice) -> Piece:
    """The piece with the values of a feel; with OWN, the values it has."""
    if choice.name not in FEELS:
        return piece.model_copy(update={"feel": FeelChoice(name=OWN)})
    solid = SolidValues.model_validate({**piece.solid.model_dump(), **mixed(choice)})
    return piece.model_copy(update={"feel": choice, "solid": solid})


def usual(piece: Piece) -> dict[str, float]:
    """What reset brings back: the values of the piece's feel, or the program's own."""
    if piece.feel.name in FEELS:
        return mixed(piece.feel)
    return SolidValues().model_dump(include={"stiffness", "keeps_volume", "wobble_halves", "density"})
