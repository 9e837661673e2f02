"""The scene as plain, frozen data.  SI units; angles in degrees; y is up.

A changed scene is a new scene that shares what did not change, so undo keeps whole scenes cheaply and
listeners find out what changed by identity.
"""

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, ValidationError, model_validator
from pydantic_core import PydanticCustomError
from scipy.spatial.transform import Rotation

from rubberquince.document.maps import Map
from rubberquince.document.tracks import Track
from rubberquince.document.values import (
    BraceValues,
    ContactValues,
    Finite,
    ForceValues,
    GoalValues,
    HoldValues,
    Look,
    NetValues,
    Plain,
    PressureValues,
    ReleaseValues,
    ReshapeValues,
    RigidValues,
    SeamValues,
    ShellValues,
    SolidValues,
)
from rubberquince.errors import RangeError, SceneError

VERSION = 9

Length = Annotated[float, Field(allow_inf_nan=False, gt=0, le=1e3)]
Vector = tuple[Finite, Finite, Finite]
Role = Literal["solid", "shell", "net", "cage", "rigid", "pellets", "carried", "collider", "scenery", "force"]
GROUND = "ground"           # stands for the ground where ids of pieces are listed
MOVING: tuple[Role, ...] = ("solid", "shell", "net", "cage", "rigid", "pellets")
IN_CELLS: tuple[Role, ...] = ("solid", "cage")      # those that a lattice carries
LED: tuple[Role, ...] = ("collider", "scenery", "force")        # those that keys lead
MADE_AS = {"shell": "shell", "net": "net", "rigid": "rigid", "pellets": "rigid"}       # all else as a Solid
RESHAPED: tuple[Role, ...] = ("solid", "shell", "net", "cage", "collider", "scenery")
OF_SKIN: tuple[Role, ...] = ("shell", "net")     # those whose nodes are the points of their skin


class BlockShape(Plain):
    """A cuboid, divided along x, y and z."""

    kind: Literal["block"] = "block"
    divisions: tuple[Annotated[int, Field(ge=1, le=200)], Annotated[int, Field(ge=1, le=200)],
                     Annotated[int, Field(ge=1, le=200)]] = (12, 8, 12)


class SphereShape(Plain):
    """A sphere of ``around`` meridians and ``rings`` bands."""

    kind: Literal["sphere"] = "sphere"
    around: int = Field(48, ge=6, le=400)
    rings: int = Field(24, ge=3, le=200)


class TorusShape(Plain):
    """A ring; ``thickness`` 0 .. 1 of the tube: at 1 the hole closes."""

    kind: Literal["torus"] = "torus"
    around: int = Field(64, ge=6, le=400)
    sides: int = Field(24, ge=3, le=200)
    thickness: float = Field(0.6, ge=0.05, le=0.98)


class CushionShape(Plain):
    """Two square sheets sewn along their rim; ``pinch`` 0 .. 1 draws the sides in.

    They are stitched along lines, too, that part them into ``panels`` each way.
    """

    kind: Literal["cushion"] = "cushion"
    divisions: int = Field(28, ge=2, le=200)
    pinch: float = Field(0.5, ge=0.0, le=1.0)
    panels: int = Field(1, ge=1, le=20)


class SheetShape(Plain):
    """A flat sheet without thickness, divided along x and z."""

    kind: Literal["sheet"] = "sheet"
    across: int = Field(12, ge=1, le=200)
    along: int = Field(12, ge=1, le=200)


class SuperellipsoidShape(Plain):
    """A body between a box and a spindle; the ``seed`` says which."""

    kind: Literal["superellipsoid"] = "superellipsoid"
    seed: int = Field(1, ge=0, le=1_000_000)
    around: int = Field(48, ge=6, le=400)
    rings: int = Field(30, ge=3, le=200)


class PelletsShape(Plain):
    """Balls side by side, as many as ``count``, that fill the form ``within``; by ``spread`` some are smaller."""

    kind: Literal["pellets"] = "pellets"
    count: int = Field(200, ge=1, le=5000)
    spread: float = Field(0.2, ge=0.0, le=0.8)
    within: Literal["ball", "box", "tube"] = "ball"
    seed: int = Field(1, ge=0, le=1_000_000)
    around: int = Field(10, ge=6, le=24)


class RevolvedShape(Plain):
    """A profile of (radius, height, flute depth) turned about y, radius swelling ``flutes`` times around.

    ``rounded`` is how often its corners are cut.
    """

    kind: Literal["revolved"] = "revolved"
    name: str = Field("revolved shape", max_length=60)
    profile: tuple[tuple[Annotated[float, Field(ge=0, le=100)], Finite, Annotated[float, Field(ge=0, le=1)]],
                   ...] = Field(min_length=2, max_length=400)
    rounded: int = Field(0, ge=0, le=4)
    flutes: int = Field(0, ge=0, le=60)
    around: int = Field(96, ge=6, le=800)
    bands: int = Field(40, ge=2, le=400)


class ImportedShape(Plain):
    """A mesh from a file, kept with the scene under the hash of its content; ``moves`` if that has frames."""

    kind: Literal["imported"] = "imported"
    name: str = Field("mesh", max_length=120)
    mesh: str = Field(pattern=r"^[0-9a-f]{32}$")
    moves: bool = False


Recipe = (BlockShape | SphereShape | TorusShape | CushionShape | SheetShape | SuperellipsoidShape | PelletsShape
          | RevolvedShape)
Shape = Annotated[Recipe | ImportedShape, Field(discriminator="kind")]


class Place(Plain):
    """Centre of the piece, turn about x, y and z (y first), and real size along its own axes; and how far it has gone
    along the line that it moves along, if there is one.
    """

    along: float = Field(0.0, ge=0.0, le=1.0)
    position: Vector = (0.0, 0.0, 0.0)
    turn: Vector = (0.0, 0.0, 0.0)
    size: tuple[Length, Length, Length] = (0.1, 0.1, 0.1)

    def rotation(self) -> np.ndarray:
        """(3, 3) rotation matrix."""
        x, y, z = self.turn
        return Rotation.from_euler("YXZ", [y, x, z], degrees=True).as_matrix()


class Curve(Plain):
    """A line on the skin of a piece, past ``beads`` that are given in the unit box of its shape.

    Between them it follows the edges of whatever mesh the shape has; see shapes.paths.
    """

    id: str = Field(pattern=r"^[a-z0-9]{1,16}$")
    name: str = Field(min_length=1, max_length=60)
    beads: tuple[Vector, ...] = Field(min_length=1, max_length=5000)
    closed: bool = False


class PointSet(Plain):
    """Points of a skin by a name: those within ``reach``, m, of ``places`` that are given in the unit box of the shape.
    """

    id: str = Field(pattern=r"^[a-z0-9]{1,16}$")
    name: str = Field(min_length=1, max_length=60)
    places: tuple[Vector, ...] = Field(min_length=1, max_length=200_000)
    reach: Annotated[float, Field(gt=0.0, le=1e3, allow_inf_nan=False)]


class Piece(Plain):
    """Anything in the scene: it has a shape, a place and a role.

    ``solid``, ``shell``, ``net`` and ``rigid`` are what it is made of in these roles: a role that is taken back finds
    its values again; ``release`` says when Pellets are let go, ``reshape`` what shape it wants to have.
    ``carried_by`` is the id of the piece that carries it, if that is its role; ``rides_on`` that of one whose keyed
    motion, or if it is a force any motion, it takes part in; ``moves_along`` the id of a piece and, after a space,
    that of a line on it whose way this one goes, and ``turns_along`` whether it turns as that does.  ``passes`` are
    the ids of what it passes through, among them itself or GROUND.
    """

    id: str = Field(pattern=r"^[a-z0-9]{1,16}$")
    name: str = Field(min_length=1, max_length=60)
    visible: bool = True
    carried_by: str = Field("", max_length=16)
    shape: Shape
    place: Place = Place()
    role: Role = "solid"
    solid: SolidValues = SolidValues()
    shell: ShellValues = ShellValues()
    net: NetValues = NetValues()
    rigid: RigidValues = RigidValues()
    release: ReleaseValues = ReleaseValues()
    reshape: ReshapeValues = ReshapeValues()
    braces: BraceValues = BraceValues()
    pressure: PressureValues = PressureValues()
    hold: HoldValues = HoldValues()
    contact: ContactValues = ContactValues()
    look: Look = Look()
    curves: tuple[Curve, ...] = Field((), max_length=200)
    sets: tuple[PointSet, ...] = Field((), max_length=200)
    passes: tuple[str, ...] = Field((), max_length=2000)
    goal: GoalValues = GoalValues()
    force: ForceValues = ForceValues()
    maps: tuple[Map, ...] = Field((), max_length=20)
    tracks: tuple[Track, ...] = Field((), max_length=100)
    rides_on: str = Field("", max_length=16)
    moves_along: str = Field("", max_length=40)
    turns_along: bool = False

    def lines_and_sets(self) -> dict[str, str]:
        """What of its skin has a name: ids and names."""
        return {**{one.id: one.name for one in self.curves}, **{one.id: one.name for one in self.sets}}

    def map_of(self, path: str) -> Map | None:
        """The map of the value at a path, if it has one."""
        return next((one for one in self.maps if one.of == path), None)

    def track_of(self, path: str) -> Track | None:
        """The keys of the value at a path, if it has some."""
        return next((one for one in self.tracks if one.of == path), None)

    def curve(self, curve_id: str) -> Curve | None:
        return next((curve for curve in self.curves if curve.id == curve_id), None)

    @property
    def moves(self) -> bool:
        return self.role in MOVING

    @property
    def has_course(self) -> bool:
        """Do keys lead its place, its own or those of what it rides on, or is its shape another in time?"""
        return self.is_to_go or self.shape_moves or self.reshapes

    @property
    def is_to_go(self) -> bool:
        """Is it asked to be in other places in time: by keys, by what it rides on, or by a mesh that moves?"""
        return (bool(self.rides_on) or bool(self.moves_along) or (self.shape_moves and not self.reshape.follows)
                or any(track.of.startswith("place.") for track in self.tracks))

    @property
    def shape_moves(self) -> bool:
        """Is its mesh another in each frame?"""
        return isinstance(self.shape, ImportedShape) and self.shape.moves

    @property
    def reshapes(self) -> bool:
        """Does it want to be another shape than the one that it was made with, at some time?"""
        plain = self.reshape.model_copy(update={"axis": "y", "toward": 0.0, "follows": False}) == ReshapeValues()
        return self.role in RESHAPED and (not plain or any(track.of.startswith("reshape.") for track in self.tracks))

    @property
    def rest_moves(self) -> bool:
        """Do its lengths at rest change in time?  What keeps dents finds its rest shape by itself."""
        moves = self.reshapes or (self.shape_moves and self.reshape.follows)
        return moves and (self.of_skin or (self.in_cells and self.solid.yields is None))

    @property
    def is_led(self) -> bool:
        """Does it go where keys lead it, whatever it meets?"""
        return self.role in LED and self.has_course

    @property
    def carries(self) -> bool:
        """May forces ride on it as it moves by itself?  Pellets go each its own way."""
        return self.moves and self.role != "pellets"

    @property
    def is_seen_moving(self) -> bool:
        """Does it move by itself, with another or by keys?"""
        return self.moves or self.role in ("carried", "force") or self.is_led

    @property
    def made_of(self) -> SolidValues | ShellValues | NetValues | RigidValues:
        """The values of its role; of what does not move, those it would have as a Solid.  A Cage is soft as that is."""
        values: SolidValues | ShellValues | NetValues | RigidValues = getattr(self, self.made_of_name)
        return values

    @property
    def of_skin(self) -> bool:
        """Are its nodes the points of its skin?"""
        return self.role in OF_SKIN

    @property
    def in_cells(self) -> bool:
        """Is it carried by a lattice?"""
        return self.role in IN_CELLS

    @property
    def made_of_name(self) -> str:
        """Under which name of the piece these are."""
        return MADE_AS.get(self.role, "solid")


class Seam(Plain):
    """Two lines, sewn together: each point of the first to the nearest of the second.

    ``one`` and ``two`` are ids of pieces, which may be the same; ``along`` says which of their curves, "" =
    the outline.
    """

    id: str = Field(pattern=r"^[a-z0-9]{1,16}$")
    one: str
    two: str
    along: tuple[str, str] = ("", "")
    values: SeamValues = SeamValues()


class RunSettings(Plain):
    """How the scene is run: frames first .. last, gravity, the ground at height 0.

    Gravity pulls straight down, or leans by so many degrees from that ``toward`` a side: 0 right, 90 back, 180 left.
    """

    first: int = Field(1, ge=0, le=100_000)
    last: int = Field(120, ge=1, le=100_000)
    fps: float = Field(24.0, ge=1.0, le=240.0)
    gravity: float = Field(9.81, ge=-100.0, le=100.0)
    lean: float = Field(0.0, ge=-360.0, le=360.0)
    toward: float = Field(0.0, ge=-360.0, le=360.0)
    ground: bool = True
    ground_friction: float = Field(0.5, ge=0.0, le=5.0)
    quality: Literal["draft", "good", "sure"] = "good"

    @model_validator(mode="after")
    def _in_order(self) -> "RunSettings":
        if self.first > self.last:
            raise PydanticCustomError("order", "the first frame must not come after the last")
        return self

    def pulls(self) -> np.ndarray:
        """The direction (3,) that gravity pulls in where it is above 0."""
        lean, toward = np.radians([self.lean, self.toward])
        return np.array([np.sin(lean) * np.cos(toward), -np.cos(lean), -np.sin(lean) * np.sin(toward)])


class Scene(Plain):
    """One document."""

    version: int = VERSION
    length_unit: Literal["mm", "cm", "m", "in"] = "cm"
    pieces: tuple[Piece, ...] = ()
    seams: tuple[Seam, ...] = ()
    run: RunSettings = RunSettings()
    tracks: tuple[Track, ...] = Field((), max_length=20)

    @model_validator(mode="after")
    def _each_once(self) -> "Scene":
        ids = [piece.id for piece in self.pieces]
        if len(set(ids)) < len(ids):
            raise PydanticCustomError("twice", "two pieces have the same id")
        return self

    def track_of(self, path: str) -> Track | None:
        """The keys of the value of the scene at a path, if it has some."""
        return next((one for one in self.tracks if one.of == path), None)

    def mesh_keys(self) -> list[str]:
        """Keys of the imported meshes that its shapes are."""
        return sorted({p.shape.mesh for p in self.pieces if isinstance(p.shape, ImportedShape)})

    def piece(self, piece_id: str) -> Piece:
        for piece in self.pieces:
            if piece.id == piece_id:
                return piece
        raise KeyError(piece_id)

    def passes(self, piece_id: str) -> set[str]:
        """What a piece passes through, by its own word or by that of the other: ids, and GROUND."""
        return {key for p in self.pieces for key in p.passes if p.id == piece_id} | {
            p.id for p in self.pieces if piece_id in p.passes}

    def sewn(self) -> tuple[Seam, ...]:
        """The seams whose two pieces are there and move."""
        moving = {piece.id for piece in self.pieces if piece.moves}
        return tuple(seam for seam in self.seams if {seam.one, seam.two} <= moving)

    def with_seam(self, seam_id: str, name: str, value: float) -> "Scene":
        """The same scene with a value of a seam changed.  Raises SceneError when it is out of its range."""
        seams = tuple(changed(seam, f"values.{name}", value) if seam.id == seam_id else seam for seam in self.seams)
        return self.model_copy(update={"seams": seams})

    def with_piece(self, piece: Piece) -> "Scene":
        """The same scene with ``piece`` in the place of the one with its id."""
        return self.model_copy(update={
            "pieces": tuple(piece if p.id == piece.id else p for p in self.pieces)})


RELATIONS = {"greater_than_equal": ("at least", "ge"), "less_than_equal": ("at most", "le"),
             "greater_than": ("more than", "gt"), "less_than": ("less than", "lt")}


def changed(model: Any, path: str, value: Any) -> Any:
    """A copy of ``model`` with the value at a dotted ``path`` replaced and checked.

    Raises SceneError with one sentence when the value is out of its range.
    """
    head, _, rest = path.partition(".")
    fresh = changed(getattr(model, head), rest, value) if rest else value
    if rest:
        return model.model_copy(update={head: fresh})
    try:
        return type(model).model_validate({**dict(model), head: fresh})
    except ValidationError as error:
        raise _refusal(head.replace("_", " ").capitalize(), error) from None


def _refusal(name: str, error: ValidationError) -> SceneError:
    first = error.errors()[0]
    if first["type"] in RELATIONS:
        relation, key = RELATIONS[first["type"]]
        return RangeError(name, relation, float(first["ctx"][key]))
    return SceneError(f"{name}: {first['msg'].replace('Input should be', 'it should be').rstrip('.')}.")
