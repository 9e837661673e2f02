"""The values of pieces, each declared once: its bounds, and what the sheet, the keys and the guide say about it."""

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

Finite = Annotated[float, Field(allow_inf_nan=False, ge=-1e4, le=1e4)]


class Plain(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


@dataclass(frozen=True)
class About:
    """What is said about a value: its name and unit, where its slider begins and ends (SI), and a sentence.

    when : "value" may change while a run goes on, "build" needs a new one.
    """

    name: str
    unit: str
    low: float
    high: float
    tip: str
    log: bool = False
    when: Literal["value", "build"] = "value"


def about(model: type[Plain]) -> dict[str, About]:
    """What is said about the values of a model, by field, in their order."""
    return {name: said for name, field in model.model_fields.items()
            for said in field.metadata if isinstance(said, About)}


def built(values: Plain) -> dict[str, object]:
    """Those of the values that the arrays of a run depend on."""
    said = about(type(values))
    return {name: getattr(values, name) for name in type(values).model_fields
            if name in said and said[name].when == "build"}


class FeelChoice(Plain):
    """The feel that values started from, and what it was mixed with; "" = none."""

    name: str = Field("", max_length=40)
    mixed_with: str = Field("", max_length=40)
    share: float = Field(0.0, ge=0.0, le=1.0)


Halves = Annotated[float, Field(ge=0.0, le=60.0), About(
    "Wobble halves in", "s", 0.02, 5.0, "Seconds in which a wobble becomes half as wide", log=True)]
Weight = Annotated[float, Field(ge=-10.0, le=10.0), About(
    "Gravity", "%", -1.0, 2.0, "How strongly gravity pulls: 100 % as it does, 0 % floats, below 0 % rises")]


class SolidValues(Plain):
    """What a Solid is made of.

    ``keeps_volume`` 0 .. 1 is Poisson's ratio 0.25 .. 0.495; ``weight`` is the part of gravity that pulls at it.
    """

    feel: FeelChoice = FeelChoice(name="set jelly")
    cells: Annotated[int, Field(ge=2, le=60), About(
        "Cells across", "", 2, 60, "Cells across the smallest side: more bend and fold finer, and take longer",
        when="build")] = 8
    stiffness: Annotated[float, Field(ge=1.0, le=1e9, allow_inf_nan=False), About(
        "Stiffness", "kPa", 200.0, 1e6,
        "How hard it is to stretch and squeeze, in kPa: jelly 1 – 10, foam 10 – 50, rubber 500", log=True)] = 4200.0
    keeps_volume: Annotated[float, Field(ge=0.0, le=1.0), About(
        "Keeps its volume", "%", 0.0, 1.0,
        "How much it bulges when squeezed: 0 % like cork, 100 % like water in a skin")] = 0.8
    stretching: Annotated[float, Field(ge=0.1, le=10.0), About(
        "Harder to pull", "%", 0.1, 10.0, "How hard it is to pull apart, of how hard it is to squeeze: at 300 % three "
        "times as hard, below 100 % squeezing is harder. What keeps dents does not heed it",
        log=True, when="build")] = 1.0
    wobble_halves: Halves = 0.35
    rest_size: Annotated[float, Field(ge=0.2, le=5.0), About(
        "Rest size", "%", 0.5, 2.0, "How large it wants to be, of how it was made: key it, and dough rises")] = 1.0
    density: Annotated[float, Field(ge=1.0, le=3e4), About(
        "Density", "kg/l", 20.0, 5000.0, "Weight of a litre, in kg: water 1, foam 0.05, rubber 1.1", log=True)] = 1050.0
    weight: Weight = 1.0
    yields: Annotated[float | None, Field(ge=0.0, le=3.0), About(
        "Yields at", "%", 0.0, 0.5, "What is squeezed or stretched by more than this stays so: at 0 % it flows, like "
        "honey or warm wax")] = None
    flow_time: Annotated[float, Field(ge=1e-3, le=1e4), About(
        "Flows in", "s", 0.01, 10.0, "Seconds in which two thirds of what is too much have flowed: dough 0.1, "
        "warm wax 1", log=True)] = 0.1
    stays: Annotated[float, Field(ge=0.05, le=1.0), About(
        "Of that stays", "%", 0.1, 1.0, "The part of a dent that stays in the end; the rest comes back")] = 1.0


class ShellValues(Plain):
    """What a Shell is made of, and how its lengths at rest differ from those it was made with."""

    feel: FeelChoice = FeelChoice(name="canvas")
    stretch: Annotated[float, Field(ge=0.1, le=1e7, allow_inf_nan=False), About(
        "Stretch stiffness", "N/m", 20.0, 1e5,
        "How hard it is to stretch, in N/m: latex 200, silk 1500, canvas 3000, leather 10 000", log=True)] = 3000.0
    squeeze: Annotated[float, Field(ge=0.0, le=1.0), About(
        "Squeeze share", "%", 0.0, 1.0,
        "Part of the stretch stiffness that also resists being squeezed: the less, the finer it wrinkles")] = 0.3
    bend: Annotated[float, Field(ge=0.0, le=1e3, allow_inf_nan=False), About(
        "Bend stiffness", "mN·m", 1e-7, 1e-1,
        "How hard it is to bend, in mN·m: silk 0.005, canvas 0.1, felt 1, leather 3", log=True)] = 1e-4
    wobble_halves: Halves = 0.15
    mass: Annotated[float, Field(ge=1e-3, le=100.0), About(
        "Mass of an area", "kg/m²", 0.02, 5.0, "Weight of a square metre, in kg: film 0.03, silk 0.06, canvas 0.35",
        log=True)] = 0.35
    along: Annotated[float, Field(ge=0.05, le=5.0), About(
        "Length along", "%", 0.5, 1.5, "Rest length along its grain, of the one it was made with: above 100 % it "
        "buckles, below it is taut")] = 1.0
    across: Annotated[float, Field(ge=0.05, le=5.0), About(
        "Length across", "%", 0.5, 1.5, "Rest length across that")] = 1.0
    grain: Annotated[float, Field(ge=-180.0, le=180.0), About(
        "Grain", "°", -90.0, 90.0, "Direction of “along”: turned about y from its x, or within its texture",
        when="build")] = 0.0
    grain_by: Literal["shape", "texture"] = "shape"
    limit: Annotated[float | None, Field(ge=1.0, le=10.0), About(
        "Stretches at most", "%", 1.0, 3.0,
        "Beyond so much of its length it is fifty times as hard to stretch")] = None
    flat: bool = False
    weight: Weight = 1.0


class NetValues(Plain):
    """What a Net is made of: springs between points that are no more than ``rings`` edges apart.

    Where ``within`` is above 0, they are between all that are no farther from each other than that.
    """

    feel: FeelChoice = FeelChoice(name="drumskin")
    stretch: Annotated[float, Field(ge=0.01, le=1e7, allow_inf_nan=False), About(
        "Stretch stiffness", "N/m", 5.0, 1e5,
        "How hard it is to stretch as a whole, in N/m: rubber net 100, twine 5000", log=True)] = 800.0
    squeeze: Annotated[float, Field(ge=0.0, le=1.0), About(
        "Squeeze share", "%", 0.0, 1.0,
        "Part of the stretch stiffness that also resists being squeezed: string has none")] = 0.2
    rings: Annotated[int, Field(ge=1, le=4), About(
        "Rings", "", 1, 4, "How many edges apart points are joined: more rings also resist bending", when="build")] = 1
    within: Annotated[float, Field(ge=0.0, le=1e3, allow_inf_nan=False), About(
        "Within", "length", 0.0, 0.2, "Joins all points that are no farther apart; at 0 it goes by rings",
        when="build")] = 0.0
    length: Annotated[float, Field(ge=0.05, le=5.0), About(
        "Rest length", "%", 0.5, 1.2, "Of the one it was made with: below 100 % it is taut")] = 1.0
    wobble_halves: Halves = 0.4
    mass: Annotated[float, Field(ge=1e-3, le=100.0), About(
        "Mass of an area", "kg/m²", 0.02, 5.0, "Weight of a square metre, in kg", log=True)] = 0.3
    weight: Weight = 1.0


class RigidValues(Plain):
    """What a Rigid piece weighs; ``mass``, kg, stands in the place of its density where it is not None."""

    feel: FeelChoice = FeelChoice(name="wood")
    density: Annotated[float, Field(ge=1.0, le=3e4), About(
        "Density", "kg/l", 20.0, 12_000.0, "Weight of a litre, in kg: wood 0.6, stone 2.5, iron 7.8", log=True)] = 600.0
    mass: Annotated[float | None, Field(gt=1e-6, le=1e6), About(
        "Mass", "kg", 0.005, 50.0, "What it weighs as a whole", log=True)] = None
    weight: Weight = 1.0
    wobble_halves: Annotated[float, Field(ge=0.0, le=0.0)] = 0.0


class BraceValues(Plain):
    """Springs across the inside of a skin, so that it stands; ``count`` 0 is none."""

    count: Annotated[int, Field(ge=0, le=20_000), About(
        "Braces", "", 0, 1000, "How many springs span its inside", when="build")] = 0
    stiffness: Annotated[float, Field(ge=0.0, le=1e6, allow_inf_nan=False), About(
        "Brace stiffness", "N/m", 0.5, 1e4, "Of each brace, in N/m", log=True)] = 20.0
    damping: Annotated[float, Field(ge=0.0, le=1e5, allow_inf_nan=False), About(
        "Brace damping", "N·s/m", 0.0, 10.0, "What each brace resists being made longer or shorter quickly with")] = 0.0
    longest: Annotated[float, Field(gt=0.0, le=1e3, allow_inf_nan=False), About(
        "Longest", "length", 0.005, 1.0, "Braces that would be longer are left out", log=True, when="build")] = 1.0
    spread: Annotated[float, Field(ge=0.0, le=89.0), About(
        "Spread", "°", 0.0, 80.0, "How far aside from straight inwards they may go", when="build")] = 30.0
    seed: Annotated[int, Field(ge=0, le=1_000_000), About(
        "Seed", "", 0.0, 100.0, "Each seed gives other braces", when="build")] = 1


class PressureValues(Plain):
    """What presses on a closed skin from inside; ``frames`` are those over which it grows."""

    pressure: Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False), About(
        "Pressure", "Pa", -1000.0, 2000.0, "What presses from inside, in Pa; below 0 it sucks: cushion 50, balloon 500")
        ] = 0.0
    frames: Annotated[float, Field(ge=0.0, le=1e4), About(
        "Grows over", "frames", 0.0, 120.0, "Frames in which it comes to that; 0 is at once")] = 12.0
    kind: Literal["steady", "gas"] = "steady"
    backing: Annotated[float, Field(ge=0.0, le=1e7), About(
        "Outside pressure", "kPa", 100.0, 1e5,
        "Of a closed-in gas: the higher, the harder it keeps its volume; the air has 100 kPa", log=True)] = 2000.0


class ReshapeValues(Plain):
    """How the shape that a piece wants to have differs from the one that it was made with, along one of its axes.

    The lower end there stays.  ``follows``: of a mesh that moves, that its lengths at rest go along with its frames.
    """

    axis: Literal["x", "y", "z"] = "y"
    bend: Annotated[float, Field(ge=-720.0, le=720.0), About(
        "Bend", "°", -180.0, 180.0, "How far it bends from its lower end to its upper: 360° is a ring")] = 0.0
    toward: Annotated[float, Field(ge=-360.0, le=360.0), About(
        "Bends toward", "°", -180.0, 180.0, "Which way it bends, turned about the axis")] = 0.0
    twist: Annotated[float, Field(ge=-3600.0, le=3600.0), About(
        "Twist", "°", -360.0, 360.0, "How far its upper end is turned about the axis against its lower")] = 0.0
    taper: Annotated[float, Field(ge=-0.95, le=4.0), About(
        "Taper", "%", -0.9, 1.0, "How much wider its upper end is: below 0 it is drawn in to a point")] = 0.0
    swell: Annotated[float, Field(ge=-0.95, le=4.0), About(
        "Swell", "%", -0.8, 1.0, "How much wider its middle is: below 0 it has a waist")] = 0.0
    squash: Annotated[float, Field(ge=0.1, le=5.0), About(
        "Length", "%", 0.3, 2.0, "Of the one it had: below 100 % it is squashed, gets wider "
        "and keeps its volume")] = 1.0
    follows: bool = False


class ReleaseValues(Plain):
    """When Pellets are let go, one after another from the end that their y points to, and how fast they leave.

    With a ``life`` they go back after it, and ``again`` lets them go anew, without end.
    """

    first: Annotated[int, Field(ge=0, le=100_000), About(
        "Lets go from", "", 1, 200, "Frame at which the first is let go; until then all wait where they are",
        when="build")] = 1
    frames: Annotated[float, Field(ge=0.0, le=10_000.0), About(
        "Over frames", "", 0.0, 200.0, "Frames over which all are let go, one after another; at 0 all at once",
        when="build")] = 0.0
    speed: Annotated[float, Field(ge=-100.0, le=100.0), About(
        "Leave at", "m/s", -5.0, 5.0, "How fast each leaves, the way that its y points", when="build")] = 0.0
    life: Annotated[float, Field(ge=0.0, le=100_000.0), About(
        "Life", "", 0.0, 200.0, "Frames after which each goes back to where it waited; at 0 they stay",
        when="build")] = 0.0
    again: bool = False


class HoldValues(Plain):
    """Which points never move: those of a kind that are, as they start, above and below some height of the piece.

    ``curve`` is the id of the curve, or of the set of points, that is held.
    """

    what: Literal["nothing", "outline", "corners", "curve", "everything"] = "nothing"
    curve: str = Field("", max_length=16)
    above: Annotated[float, Field(ge=0.0, le=1.0), About(
        "Only above", "%", 0.0, 1.0, "Only points that start above so much of its height")] = 0.0
    below: Annotated[float, Field(ge=0.0, le=1.0), About(
        "Only below", "%", 0.0, 1.0, "Only points that start below so much of its height")] = 1.0


class GoalValues(Plain):
    """Where a piece is drawn to: its own shape as it is placed, or that of another piece with as many points.

    ``how`` says whether each of its points is, or only its middle, or its middle and its turn; or each but for its
    height, of which only the mean is drawn: so water keeps its volume and its waves run free.
    """

    to: Literal["nothing", "its own shape", "another piece"] = "nothing"
    piece: str = Field("", max_length=16)
    how: Literal["every point", "its middle", "as a whole", "its mean height"] = "every point"
    strength: Annotated[float, Field(ge=0.0, le=1.0), About(
        "Strength", "%", 0.0, 1.0, "How strongly it is drawn: 0 % not at all, 100 % holds it there")] = 0.8
    settles: Annotated[float, Field(ge=0.0, le=60.0), About(
        "Settles in", "s", 0.02, 5.0, "Seconds in which swings about the goal halve; 0 lets them swing",
        log=True)] = 0.3


class ContactValues(Plain):
    """How a piece touches; no ``bounce`` leaves that to what bodies are made of.  ``sides`` are a collider's."""

    gap: Annotated[float, Field(ge=1e-5, le=0.03), About(
        "Gap", "mm", 1e-4, 0.02, "Distance kept to what it touches, in mm; two pieces keep the greater of theirs",
        log=True)] = 0.001
    friction: Annotated[float, Field(ge=0.0, le=5.0), About(
        "Friction", "", 0.0, 2.0, "0 slides like ice, 0.4 like jelly on a plate, 1 hardly slides")] = 0.4
    bounce: Annotated[float | None, Field(ge=0.0, le=0.95), About(
        "Bounce", "%", 0.0, 0.95, "Part of the speed it comes back with: 0 % stays, 90 % like a rubber ball")] = None
    sides: Literal["both", "outside"] = "both"


class SeamValues(Plain):
    """How a seam draws: ``strength`` is of each pair of points."""

    strength: Annotated[float, Field(ge=1.0, le=1e6, allow_inf_nan=False), About(
        "Strength", "N/m", 50.0, 1e5, "How strongly each pair of points is drawn together, in N/m", log=True)] = 2000.0
    frames: Annotated[float, Field(ge=0.0, le=1e4), About(
        "Closes over", "frames", 0.0, 60.0, "Frames in which the two come together")] = 10.0


class ForceValues(Plain):
    """A force of the scene about where its piece is and along its y: air that moves, or what pulls.

    ``reach`` 0 is everywhere; ``acts_on`` are ids of pieces, none for all; a ``limit`` of 0 is none; ``own`` is the
    name of air of the artist's own, see solver.own_air.
    """

    kind: Literal["wind", "turbulence", "vortex", "puller", "own"] = "wind"
    own: str = Field("", max_length=60)
    speed: Annotated[float, Field(ge=-1e4, le=1e4), About(
        "Air speed", "m/s", 0.0, 15.0, "How fast its air goes: a breeze 3 m/s, a fresh wind 9; below 0 the other way")
        ] = 4.0
    gusts: Annotated[float, Field(ge=0.0, le=1.0), About(
        "Gusts", "%", 0.0, 1.0, "How much it swells and falls: 0 % blows evenly")] = 0.3
    inflow: Annotated[float, Field(ge=-1e4, le=1e4), About(
        "Inflow", "m/s", 0.0, 10.0, "How fast air goes towards its axis; below 0 away from it")] = 0.5
    lift: Annotated[float, Field(ge=-1e4, le=1e4), About(
        "Lift", "m/s", 0.0, 10.0, "How fast air rises in its core")] = 0.5
    size: Annotated[float, Field(gt=0.0, le=1e3), About(
        "Size", "length", 0.01, 1.0, "How wide its whirls are, or the core of a vortex", log=True)] = 0.15
    period: Annotated[float, Field(gt=0.0, le=1e3), About(
        "Changes within", "s", 0.1, 5.0, "Seconds in which a gust comes and goes, or a whirl changes", log=True)] = 0.8
    pull: Annotated[float, Field(ge=-1e6, le=1e6), About(
        "Pull", "m/s²", -30.0, 30.0, "How hard it draws, as gravity does with 9.8 m/s²; below 0 it pushes away")] = 10.0
    draws_to: Literal["its middle", "its axis", "a piece"] = "its middle"
    piece: str = Field("", max_length=16)
    rest: Annotated[float, Field(ge=0.0, le=1e3), About(
        "Rest distance", "length", 0.0, 0.5, "How far from it things come to rest: nearer, they are pushed away")] = 0.0
    limit: Annotated[float, Field(ge=0.0, le=1e4), About(
        "Speed limit", "m/s", 0.0, 10.0, "What already comes so fast is not drawn further; 0 is no limit")] = 0.0
    reach: Annotated[float, Field(ge=0.0, le=1e3), About(
        "Reach", "length", 0.0, 2.0, "Distance at which it has faded to nothing; 0 reaches everywhere")] = 0.0
    fade: Literal["soft", "steep", "even"] = "soft"
    first: Annotated[int, Field(ge=0, le=100_000), About(
        "From frame", "", 0, 240, "The frame that it begins with")] = 0
    last: Annotated[int, Field(ge=0, le=100_000), About(
        "To frame", "", 0, 240, "The frame that it ends with")] = 100_000
    seed: Annotated[int, Field(ge=0, le=1_000_000), About("Seed", "", 0, 100, "Each seed gives other gusts and whirls")
                    ] = 1
    acts_on: tuple[str, ...] = Field((), max_length=2000)


class Look(Plain):
    material: Literal["jelly", "matte", "cloth", "film", "latex"] = "matte"
    colour: str = Field("#C9C2B4", pattern=r"^#[0-9A-Fa-f]{6}$")
