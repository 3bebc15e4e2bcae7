"""What is kept of a plate: which bodies lie on it, pinned as they were when they were put there."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from ..engine.document import SheetDocument

Point = tuple[float, float, float]
Row = tuple[float, float, float, float]


class PlateBody(BaseModel):
    """A body on the plate.

    id        : b1, b2, …
    mesh      : the digest of its mesh, in its jaw's home; supports : of what it stands on, in the same; empty where it stands on nothing
    up, front : of its jaw, in its home: it is laid on what is under it
    place     : how its case laid it, to that plate's own frame; None: on its base
    kit       : bodies of one kit stay as they lie to each other on their case's plate; empty: it is by itself
    margin    : the lowest place of a tooth's margin as its case laid it, in its home; None: none is told
    case      : the number of the case it is from, empty of a strip of the house's own; address : which body of it
    veiled    : the digest of the same body with dots for the patient's name, where that is written on it: what is seen under the veil
    as_is     : it is printed in the size it has, and not turned: what is measured on it says what the resin's record shall correct
    """

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    id: str
    mesh: str
    supports: str = ""
    up: Point
    front: Point
    place: tuple[Row, Row, Row, Row] | None = None
    kit: str = ""
    margin: Point | None = None
    case: str
    address: str
    jaw: str = ""
    veiled: str = ""
    as_is: bool = False

    @property
    def called(self) -> str:
        """In files and in findings: no patient's name."""
        if not self.case:
            return self.address.replace("-", " ").capitalize()
        part = self.address.partition(".")[2]
        return " ".join(word for word in (self.case, self.jaw, part) if word)


class GoneBodies(BaseModel):
    """Bodies that went with their case. day : YYYY-MM-DD; boxes : of each, x, y, width and depth on the plate (mm), where it lay;
    printed : the plate had been printed with them"""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    day: str
    count: int
    boxes: list[tuple[float, float, float, float]] = Field(default_factory=list)
    printed: bool = False


class PlateDocument(SheetDocument):
    """gone : what lay on it of cases that were deleted, without whose it was"""

    model_config = ConfigDict(extra="forbid")
    name: str = ""
    bodies: list[PlateBody] = Field(default_factory=list)
    gone: list[GoneBodies] = Field(default_factory=list)

    @property
    def cases(self) -> list[str]:
        """The numbers of the cases whose bodies lie on it."""
        return sorted({b.case for b in self.bodies if b.case})

    def body(self, ident: str) -> PlateBody:
        return next(b for b in self.bodies if b.id == ident)
