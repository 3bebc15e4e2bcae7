"""Shapes of the JSON values of Articulate and its parts: what holds the pair, and how it moves. Lengths in mm."""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict

from .values import Matrix, Point


class Strut(TypedDict):
    """Where a strut stands on a body's mounting face, in its home: from the middle of its post to the wall; how wide it is, and the post
    thick."""

    from_mm: Point
    to_mm: Point
    wide_mm: float
    post_mm: float


class Pin(TypedDict):
    """A pin in the lower's home: its seat, the bench's vertical, and the entry of the settings that put it there, if one did; how thick its
    post is, how deep the pin goes."""

    zone: str
    entry: str
    air_mm: float
    at_mm: Point
    axis: Point
    post_mm: float
    deep_mm: float


class HingeAxis(TypedDict):
    """Of hinged backs: a place on the axis and its direction in the lower's home; on the bench from where to where it goes along x, how
    far behind the incisors and how high over the occlusal plane it lies; how far the pair opens."""

    at_mm: Point
    along: Point
    from_mm: float
    to_mm: float
    behind_mm: float
    over_mm: float
    opens_deg: float


class Meets(TypedDict):
    """Where the jaws meet as they close: teeth of upper and lower (None on gum), a place in the lower's home, how far open they still are
    there, and by how much it stands high in the bite (below nought: misses)."""

    teeth: tuple[int | None, int | None]
    piece: str
    point_mm: Point
    open_deg: float
    high_mm: float


class Swung(TypedDict):
    """The hinge axis in the lower's home, along to the patient's left, and what meets as they close about it, the first first. printed : it
    is that of the hinged backs, not one taken for the patient's."""

    piece: str
    at_mm: Point
    along: Point
    printed: bool
    meets: list[Meets]


class GlidePose(TypedDict):
    """way : forward, left or right; by_mm : how far the condyles have gone; matrix : of the lower, on the bench; meets : see Meets, in the
    upper's home."""

    way: str
    by_mm: float
    matrix: Matrix
    meets: list[Meets]


class Glided(TypedDict):
    """piece : the lower"""

    piece: str
    poses: list[GlidePose]


class PinRoom(TypedDict):
    """Where pins can stand, over the plan of the bench: a grid of places, `step_mm` apart from `low_mm` on, `count` of them along x and y.

    codes   : of the places, y fastest, as runs (code, how many); 0 where one can stand
    why     : by code the reason why none can
    to_plan : the lower's home to the bench, 4 by 4, row by row
    """

    low_mm: tuple[float, float]
    step_mm: float
    count: tuple[int, int]
    codes: list[tuple[int, int]]
    why: dict[str, str]
    to_plan: list[float]


class Opening(TypedDict):
    """What the wall of a die takes of a tooth that stays: how deep it goes into its outline, and where, in the jaw's home."""

    fdi: int
    mm: float
    at_mm: Point


class Bearing(TypedDict):
    """The face of a base that lies on a block of an articulator: its outline in the home of its piece."""

    piece: str
    outline: list[Point]


class DieWall(TypedDict):
    """The wall of a die to another tooth (fdi): a place over it as high as its crown, the way it moves towards that tooth, and how far it
    is moved (mm), as it would be said by hand."""

    fdi: int
    at_mm: Point
    towards: Point
    moved_mm: float


class DieWindow(TypedDict):
    """From the axis of its shaft to where it comes out of the model, and its diameter."""

    from_mm: Point
    to_mm: Point
    wide_mm: float


class Die(TypedDict):
    """A tooth that comes out of the model, in the jaw's home.

    part       : its name as a part; kind : die, or loose (a neighbour that comes out too)
    way        : it comes out along it; by_hand : a person said so; lean_deg : against the base's up
    at_mm      : on its socket's axis where the head begins; over_mm : from there along the way to the top of its crown
    walls      : to the teeth beside it; steep : of the planes it stands on, mm a mm
    rim        : (k) places round its head; socket : round its shaft where that begins
    opens      : of the teeth that stay; lost_mm : of its own tooth; kept : the share of its faces that are the scan's bit for bit
    """

    fdi: int
    part: str
    kind: str
    way: Point
    by_hand: bool
    lean_deg: float
    at_mm: Point
    over_mm: float
    long_mm: float
    seat_mm2: float
    wall_mm: float
    turns_deg: float
    steep: float
    rim: list[Point]
    socket: list[Point]
    opens: list[Opening]
    walls: list[DieWall]
    window: NotRequired[DieWindow | None]
    lost_mm: float
    kept: float


class JoinedScan(TypedDict):
    """A scan that is one body with a jaw's model. scan : its piece; the rest as in parts/joining.py"""

    scan: str
    gap_mm: float
    deep_mm: float
    pushed_mm: float
    facing_mm2: float
    pockets_mm3: float
    volume_ml: float


class HousePart(TypedDict):
    """A body of the house's own on a base. entry : of the settings; faces : how many flat faces it has; round_mm : how far its face was
    carried to a round wall"""

    entry: str
    faces: int
    face_mm2: float
    round_mm: float
