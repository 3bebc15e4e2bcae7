"""The JSON values that steps give to each other, to the report and to the stage. Lengths in mm, directions of length one; a
matrix is four rows of four."""

from __future__ import annotations

from typing import Literal, NotRequired

from typing_extensions import TypedDict

from ..parts.printing import Amount

Point = tuple[float, float, float]
Row = tuple[float, float, float, float]
Matrix = tuple[Row, Row, Row, Row]


class Block(TypedDict):
    """A reference block that was found: matrix from its own place to the scan's home."""

    jaw: str
    matrix: Matrix
    rms_mm: float
    error_mm: float


class Print(TypedDict):
    """What stays the same of a surface wherever it lies."""

    area_mm2: float
    spread_mm: list[float]
    middle_mm: Point


class About(TypedDict):
    """What Intake found.

    jaw        : upper or lower, of what is worked on; looks : of any other scan, whose it seems
    confidence : 0 to 1
    up, front  : to the tips and to the lips, in the scan's home; incisal : between the incisors
    form       : of the file
    folds, spikes : has it any? Absent: not looked for
    part       : of a part of an arch, mm along it to the patient's right and left of the midline; minus: it begins so far from it
    part_sure  : 0 to 1, that it is this part
    """

    kind: str
    jaw: str | None
    looks: str | None
    jaw_by_hand: bool
    confidence: float
    unit: str
    unit_mm: float
    turned_inside_out: bool
    up: Point
    front: Point
    incisal: Point | None
    form: str
    print: Print
    folds: NotRequired[bool]
    spikes: NotRequired[bool]
    part: NotRequired[list[float]]
    part_sure: NotRequired[float]
    block: NotRequired[Block]


class Relation(TypedDict):
    """The relation as the bite scans say it.

    loose       : what leaves the fit loose
    disagree_mm : by how much two scans do
    """

    lower_to_upper: Matrix | None
    rms_mm: float
    error_mm: float | None
    loose: str
    disagree_mm: float | None
    why: str


class FittedScan(TypedDict):
    """A bite scan on the jaws; to_upper None where it was not placed; at_mm : where in its home its error is told; bite : which it
    measured, the first where empty."""

    piece: str
    bite: str
    side: str
    to_upper: Matrix | None
    met: list[float]
    rms_mm: list[float]
    why: str
    inside_out: bool
    marks_mm: list[float]
    at_mm: Point


class CameBack(TypedDict):
    """Which scan one shows the surface of, to the last triangle. own, other : share of each that is the same; made : it went out
    as a body, or as a part of that scan alone, and came back."""

    piece: str
    matrix: Matrix
    own: float
    other: float
    rms_mm: float
    made: bool


class Lent(TypedDict):
    """The relation an earlier pair had."""

    lower_to_upper: Matrix
    by: list[str]
    error_mm: float
    rms_mm: float


class Contact(TypedDict):
    """teeth : the FDI numbers of the lower's and of the upper's tooth, None where one is not told, or gum; older results have none."""

    teeth: NotRequired[tuple[int | None, int | None]]
    piece: str
    point_mm: Point
    depth_mm: float
    area_mm2: float
    side: str
    behind_mm: float


class FollowPlace(TypedDict):
    """Where a scan lies on another."""

    on: str
    home_to_jaw: Matrix
    by: str
    met: float
    rms_mm: float
    error_mm: float


class Target(TypedDict):
    piece: str
    why: str


class Auto(TypedDict):
    """Where a jaw was put without the correction by hand."""

    on: str
    matrix: Matrix


class Stand(TypedDict):
    """What a jaw's own steps need of the bench, in its home: up is to the tips, front to the lips.

    alone : the other jaw is there, and no bite yet
    """

    origin: Point
    up: Point
    front: Point
    alone: NotRequired[bool]


class Saw(TypedDict):
    """One saw in its jaw's home.

    mm   : its place along the bench axis, whether it is on or not
    keep : the side that stays
    """

    on: bool
    mm: float
    point: Point
    keep: Point


class Saws(TypedDict):
    bottom: Saw
    back: Saw


class Naming(TypedDict):
    """What a file of the hand-off is named by, in the order of the files."""

    jaw: str
    frame: str
    kind: str
    ending: str
    piece: str
    pattern: str
    folder: str


class OutputRow(TypedDict):
    """teeth : of a die."""

    file: str
    piece: str
    name: str
    kind: str
    jaw: str | None
    frame: str
    home_to_frame: Matrix | None
    sha256: str
    teeth: NotRequired[list[int]]


class FileMeasured(TypedDict):
    """A file of Hand-off as it was read back.

    bodies        : that hang together by themselves
    open_edges    : of one triangle alone; crowded_edges : of more than two
    corners       : of its triangles, each counted once; of_scan : those that are where one of the scan's is, to
                    0.1 µm
    """

    sha256: str
    bodies: int
    triangles: int
    size_mm: Point
    volume_ml: float
    area_mm2: float
    open_edges: int
    crowded_edges: int
    corners: int
    of_scan: int


Frame = Literal["bench", "bite", "home", "plate"]


class Amounts(TypedDict):
    """Of the body as it is made, and as it would be without hollow."""

    resin: str
    made: Amount
    solid: Amount


class Styles(TypedDict):
    """What a body would take solid, open and closed underneath, without its drains and label; None of one that leaves no room."""

    resin: str
    solid: Amount
    open: Amount | None
    closed: Amount | None


class Labelled(TypedDict):
    """One label as it stands, in the jaw's home.

    name           : text, code or mark of the settings, or the entry's id
    text, veiled   : what it says, and with dots for the patient's name
    middle         : on the surface; along, up : as it is read
    lines          : along it, at its foot, its top and between, what keeps off it
    tall_mm        : of capitals, or as a whole; stroke_mm : its thinnest strokes
    """

    name: str
    kind: Literal["text", "code", "mark"]
    text: str
    veiled: str
    where: str
    middle: Point
    along: Point
    up: Point
    lines: list[list[Point]]
    turn_deg: float
    tall_mm: float
    width_mm: float
    height_mm: float
    stroke_mm: float


class WallPath(TypedDict):
    """The outer wall a label is pulled along, where there is room for one: places of its foot, which way each looks out, and up."""

    foot: list[Point]
    out: list[Point]
    up: Point


class Foot(Stand):
    """What a jaw stands on, in its home; up is away from its flat underside. Heights along up and the plan (x across, y away from
    the front) are from that origin.

    floor_mm : where the flat underside shall lie; None: as far under the border's lowest point as asked
    land     : the outline of the base where it has one of its own; back_mm : where its back lies
    back_cut : the scan is cut at Trim's back saw before it is based, and not the body after
    """

    floor_mm: float | None
    land: list[tuple[float, float]] | None
    back_mm: float | None
    back_cut: bool


class Walls(TypedDict):
    """The upright walls of a body, in the frame of its Foot: rings in the plan where they meet the flat underside (its edge left out),
    outer ones counter-clockwise; draft : mm that they lean out for each mm down; edge_mm : how high that edge is; under_mm : what there is
    under the border's lowest point."""

    floor_mm: float
    rings: list[list[tuple[float, float]]]
    draft: float
    edge_mm: float
    under_mm: float


class Notched(TypedDict):
    """A notch in its jaw's home: its middle on the wall, and its upper edge there."""

    at_mm: Point
    line: list[Point]


class Drained(TypedDict):
    """A drain: its name ("1", "2", …, or the id of an entry), and where it comes out, in its jaw's home."""

    name: str
    at_mm: Point


class Plates(TypedDict):
    """The two plates a pair is mounted between, as heights on the bench; lower_past_mm, upper_past_mm : what of each sticks out, below
    nought what is missing."""

    gap_mm: float
    lower_mm: float
    upper_mm: float
    lower_past_mm: float
    upper_past_mm: float


class ToothFound(TypedDict):
    """A tooth in its jaw's home.

    confidence : 0 to 1, that it is one and this one; 1 where a person said so
    usual_mm   : its mesiodistal width on average
    tips_mm    : on the cheek side: of a molar two, the mesial first; of an incisor the middle of its edge
    """

    fdi: int
    confidence: float
    by_hand: bool
    centre_mm: Point
    mesiodistal_mm: float
    usual_mm: float
    tips_mm: list[Point]


class MarkSeen(TypedDict):
    """What a mark by hand comes to.

    triangles, far : that it covers; of a fence, that it catches on the far side
    far_teeth      : teeth it catches there
    waits          : of a fence, whether it is still to be said if it goes right through
    lost           : nothing of the surface lies there any more
    """

    id: str
    kind: str
    triangles: int
    far: int
    far_teeth: list[int]
    waits: bool
    lost: bool


class Tip(TypedDict):
    """Where a support touches a body, in its home. by : the entry of the settings that put it there, empty: by itself; tooth : the FDI
    number of the tooth it stands on, 0: none; stands : it has a way down to the plate"""

    at_mm: Point
    by: str
    tooth: int
    stands: bool


class WayCost(TypedDict):
    """What a body takes laid one way, alone (parts/ways.py)."""

    way: str
    tilt_deg: float | None
    minutes: float
    ml: float
    grams: float
    cost: float | None
    mm: float
    tips: int
    barred: int
    finds: int
    says: str
