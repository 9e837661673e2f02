"""Feels: named sets of physical values for a role to start from, and mixtures of two."""

from dataclasses import dataclass, field

import numpy as np

from rubberquince.document.scene import Piece, Role
from rubberquince.document.values import FeelChoice

OWN = ""                    # no feel: the values were set by hand
EVENLY = {"keeps_volume", "squeeze", "yields", "stays"}     # mixed by difference; all other values by ratio
DENTS = ("yields", "flow_time", "stays")    # values that only some feels of a Solid have


@dataclass(frozen=True)
class Feel:
    """``line`` says how it behaves; the values are those of the role's section, in SI units."""

    name: str
    role: Role
    line: str
    values: dict[str, float] = field(default_factory=dict)


def _solid(name: str, line: str, stiffness: float, keeps_volume: float, wobble_halves: float, density: float,
           *dents: float) -> Feel:
    return Feel(name, "solid", line, {"stiffness": stiffness, "keeps_volume": keeps_volume,
                                      "wobble_halves": wobble_halves, "density": density, **dict(zip(DENTS, dents))})


def _shell(name: str, line: str, stretch: float, squeeze: float, bend: float, wobble_halves: float,
           mass: float) -> Feel:
    return Feel(name, "shell", line, {"stretch": stretch, "squeeze": squeeze, "bend": bend,
                                      "wobble_halves": wobble_halves, "mass": mass})


def _rigid(name: str, line: str, density: float) -> Feel:
    return Feel(name, "rigid", line, {"density": density})


def _net(name: str, line: str, stretch: float, squeeze: float, wobble_halves: float, mass: float) -> Feel:
    return Feel(name, "net", line, {"stretch": stretch, "squeeze": squeeze, "wobble_halves": wobble_halves,
                                    "mass": mass})


USUAL = {feel.name: feel for feel in (
    _solid("set jelly", "sags a little, wobbles low and is soon quiet", 4200.0, 0.80, 0.35, 1050.0),
    _solid("wobbly jelly", "leans, trembles and comes back for a second or two", 3000.0, 0.80, 1.0, 1050.0),
    _solid("firm jelly", "holds its edges; the wobble is small and quick", 15e3, 0.85, 0.25, 1100.0),
    _solid("gel", "heavy and lazy: bulges rather than shrinks", 40e3, 0.97, 0.15, 1000.0),
    _solid("foam", "squashes without bulging and hardly wobbles", 25e3, 0.05, 0.06, 60.0),
    _solid("soft rubber", "springs back at once and hops", 400e3, 0.98, 0.20, 1100.0),
    _solid("dough", "slumps under its weight, keeps every dent", 6e3, 0.90, 0.04, 1150.0, 0.03, 0.06, 0.95),
    _solid("warm wax", "stands at first, then leans and slumps", 12e3, 0.95, 0.05, 930.0, 0.01, 0.5, 1.0),
    _solid("wet clay", "heavy; stays as it is pressed", 60e3, 0.90, 0.04, 1700.0, 0.02, 0.03, 1.0),
    _solid("syrup", "runs flat, slowly", 1500.0, 0.97, 0.05, 1350.0, 0.0, 0.15, 1.0),
    _solid("marshmallow", "light, soft, gives way and comes back slowly", 8e3, 0.25, 0.08, 400.0),
    _shell("canvas", "firm cloth: hardly stretches, folds in wide curves", 3000.0, 0.30, 1e-4, 0.15, 0.35),
    _shell("silk", "thin and fluid: falls in many small folds", 1500.0, 0.30, 5e-6, 0.30, 0.06),
    _shell("felt", "thick and slow: bends in one broad curve", 1500.0, 0.60, 1e-3, 0.08, 0.50),
    _shell("latex", "a rubber skin: stretches far and comes back", 200.0, 0.30, 2e-5, 0.30, 0.30),
    _shell("film", "thin wrap: taut or in crisp wrinkles, never stretched", 2000.0, 0.02, 2e-6, 0.25, 0.03),
    _shell("leather", "heavy and stiff: keeps its shape, creases late", 1e4, 0.70, 3e-3, 0.06, 0.90),
    _rigid("wood", "light, and floats on water", 600.0),
    _rigid("turnip", "as heavy as water", 980.0),
    _rigid("clay", "a pot, a tile", 1900.0),
    _rigid("stone", "heavy: presses deep into what is soft", 2500.0),
    _rigid("iron", "the heaviest thing at the fair", 7800.0),
    _net("drumskin", "taut and quick: throws back what falls on it", 4000.0, 0.20, 0.40, 0.30),
    _net("rubber net", "gives way far and swings on for a while", 300.0, 0.05, 0.60, 0.25),
    _net("twine", "hardly stretches, folds without resisting", 8000.0, 0.0, 0.15, 0.40),
    _net("still water", "ripples that run out and come back", 60.0, 0.0, 2.0, 0.50))}

FEELS = dict(USUAL)         # with the artist's own, see own_feels


def feels_of(role: Role) -> list[Feel]:
    section = {"cage": "solid", "pellets": "rigid"}.get(role, role)
    return [feel for feel in FEELS.values() if feel.role == section]


def mixed(choice: FeelChoice) -> dict[str, float]:
    """The values of a mixture: shares evenly, all others by ratio."""
    one = FEELS[choice.name].values
    two = FEELS[choice.mixed_with].values if choice.mixed_with in FEELS else one
    values = {}
    for name, a in one.items():
        b = two.get(name, a)
        evenly = name in EVENLY or min(a, b) <= 0.0
        value = a + (b - a) * choice.share if evenly else float(a * np.exp(np.log(b / a) * choice.share))
        values[name] = float(f"{value:.6g}")
    return values


def with_feel(piece: Piece, choice: FeelChoice) -> Piece:
    """The piece with the values of a feel of its role; with OWN, the values it has."""
    section, values = piece.made_of_name, piece.made_of
    if choice.name in FEELS and FEELS[choice.name].role == section:
        comes_back = {"yields": None} if section == "solid" else {}
        fresh = type(values).model_validate({**dict(values), **comes_back, **mixed(choice), "feel": choice})
    else:
        fresh = values.model_copy(update={"feel": FeelChoice(name=OWN)})
    return piece.model_copy(update={section: fresh})


def usual(piece: Piece) -> dict[str, float]:
    """What reset brings back: the values of the piece's feel, or the program's own."""
    values = piece.made_of
    if values.feel.name in FEELS:
        return mixed(values.feel)
    fresh = type(values)()
    return {name: getattr(fresh, name) for name in mixed(fresh.feel)}
