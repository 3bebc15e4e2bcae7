"""A case from another installation: a stranger's file. It is read in a child process by strict models; only scans, settings,
details and history come in, and everything that is worked out is worked out here."""

from __future__ import annotations

import hashlib
import json
import re
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError, model_validator

from bitecore.anatomy.notation import parsed
from bitecore.apart import allow, apart
from bitecore.engine.gives import digests_in, unpacked_points
from bitecore.errors import BenchError, UnreadableFile
from bitecore.files import read_mesh
from bitecore.limits import Limits
from bitecore.parts.shelf import SHELVES
from bitecore.runsheet import CaseDocument, PieceEntry, standard
from bitecore.runsheet.document import brought_up
from bitecore.text import odd
from runs.paths import applied

FORMAT, OLDEST = 3, 1
MARK = "bite-bench-case.json"
_MOST_MEMBERS, _LONGEST_INDEX, _MOST_NUMBER = 4000, 60_000_000, 10**15
# What Python's own readers raise for what is damaged.
_BROKEN = (
    zipfile.BadZipFile, zlib.error, ValueError, KeyError, TypeError, AttributeError, OSError, EOFError, NotImplementedError,
    RuntimeError, RecursionError, OverflowError,
)  # fmt: skip

Short = Annotated[str, StringConstraints(max_length=150)]
Digest = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$", max_length=64)]
PieceId = Annotated[str, StringConstraints(pattern=r"^p[1-9]\d{0,5}$")]


class _Strict(BaseModel):
    # An older form also names results: they are passed over.
    model_config = ConfigDict(extra="ignore", frozen=True, strict=True, allow_inf_nan=False)


class CarriedPiece(_Strict):
    id: PieceId
    file: Annotated[str, StringConstraints(min_length=1, max_length=300)]
    sha256: Digest
    drop: int = Field(0, ge=0, le=100_000)
    retired: bool = False
    replaced: bool = False
    beside: bool = False


class CarriedLayer(_Strict):
    id: Annotated[str, StringConstraints(max_length=60)] = ""
    name: Annotated[str, StringConstraints(max_length=200)] = ""
    revision: int = Field(0, ge=0, le=10**6)
    steps: dict[str, dict[str, Any]] = Field(default_factory=dict, max_length=200)
    versions: dict[str, Annotated[int, Field(ge=1, le=10_000)]] = Field(default_factory=dict, max_length=200)


class CarriedRecord(_Strict):
    name: Short
    revision: int = Field(0, ge=0, le=10**6)
    data: dict[Short, float | str | None] = Field(default_factory=dict, max_length=50)


class CarriedPart(_Strict):
    begins: Short


class CarriedDocument(_Strict):
    number: Short = ""
    opened: Annotated[str, StringConstraints(pattern=r"^(\d{4}-\d{2}-\d{2})?$")] = ""
    patient: Annotated[str, StringConstraints(max_length=2000)] = ""
    practice: Annotated[str, StringConstraints(max_length=2000)] = ""
    purpose: Annotated[str, StringConstraints(max_length=2000)] = ""
    due: Annotated[str, StringConstraints(max_length=2000)] = ""
    notes: Annotated[str, StringConstraints(max_length=2000)] = ""
    technician: Annotated[str, StringConstraints(max_length=2000)] = ""
    teeth: Annotated[str, StringConstraints(max_length=2000)] = ""
    opposing: Annotated[str, StringConstraints(max_length=2000)] = ""
    pieces: list[CarriedPiece] = Field(default_factory=list, max_length=1000)
    settings: dict[str, dict[str, dict[str, Any]]] = Field(default_factory=dict, max_length=200)
    versions: dict[str, Annotated[int, Field(ge=1, le=10_000)]] = Field(default_factory=dict, max_length=200)
    layers: dict[Literal["house", "purpose", "practice"], CarriedLayer] = Field(default_factory=dict)
    parts: dict[Short, CarriedPart] = Field(default_factory=dict, max_length=1000)
    records: dict[Short, dict[Short, CarriedRecord]] = Field(default_factory=dict, max_length=50)

    @model_validator(mode="before")
    @classmethod
    def _older(cls, raw: Any) -> Any:
        return brought_up(raw) if isinstance(raw, dict) else raw

    @model_validator(mode="after")
    def _own(self) -> CarriedDocument:
        ids = [p.id for p in self.pieces]
        if len(set(ids)) != len(ids):
            raise ValueError("a scan stands there twice")
        named = {piece for own in self.settings.values() for piece in own if piece != "*"} | set(self.parts)
        if any(address.split(".")[0] not in ids for address in named):
            raise ValueError("a setting for a scan that is not there")
        parsed(self.teeth)
        for shelf, records in self.records.items():
            if shelf not in SHELVES:
                raise ValueError(f"no shelf {shelf}")
            # What is drawn is looked at; numbers are judged where they are used.
            for record in (r for r in records.values() if any(isinstance(v, str) for v in r.data.values())):
                SHELVES[shelf].model_validate({key: value for key, value in record.data.items() if value is not None})
        return self

    def document(self) -> CaseDocument:
        """As it is kept here, its settings checked against the steps. Raises BadSetting."""
        pieces = [PieceEntry(**p.model_dump()) for p in self.pieces]
        known = {step.name for step in standard().steps}
        fields = self.model_dump() | {"pieces": pieces}
        for at, names in ((fields, ("settings", "versions")), *((layer, ("steps", "versions")) for layer in fields["layers"].values())):
            for name in names:
                at[name] = {step: value for step, value in at[name].items() if step in known}
        document = CaseDocument(**fields)
        for step in standard().steps:
            for piece in {"*", *document.settings.get(step.name, {})}:
                document.settings_for(step, piece)
        return document


class CarriedChange(_Strict):
    path: list[Short] = Field(min_length=1, max_length=8)
    before: Any = None
    after: Any = None


class CarriedRevision(_Strict):
    number: int = Field(ge=1, le=10**6)
    document: dict[str, Any] | None = None
    changes: list[CarriedChange] = Field(default_factory=list, max_length=2000)
    what: Annotated[str, StringConstraints(max_length=300)]
    kind: Literal["change", "undo", "redo"]
    takes_back: int | None = Field(None, ge=1, le=10**6)
    who: Short = ""
    at: Annotated[str, StringConstraints(pattern=r"^[\dT:.+\-Z ]{0,40}$")] = ""


class CarriedIndex(_Strict):
    format: int
    number: Annotated[str, StringConstraints(max_length=200)]
    revisions: list[CarriedRevision] = Field(min_length=1, max_length=20_000)

    @model_validator(mode="after")
    def _in_order(self) -> CarriedIndex:
        numbers = [r.number for r in self.revisions]
        if numbers != sorted(set(numbers)) or any(r.takes_back is not None and r.takes_back >= r.number for r in self.revisions):
            raise ValueError("the history is not in order")
        if self.revisions[0].document is None:
            raise ValueError("the history has no beginning")
        return self


@dataclass(frozen=True)
class Carried:
    """index     : checked
    documents : one a revision, as kept here; None where its changes say it
    last      : the newest
    scans     : (digest, where its bytes lie ready), lists of points among them
    """

    name: str
    index: CarriedIndex
    documents: list[CaseDocument | None]
    last: CaseDocument
    scans: list[tuple[str, Path]]


def opened(name: str, path: Path, ready: Path, limits: Limits) -> Carried | None:
    """A carried case, or None for any other file. Raises UnreadableFile."""
    with path.open("rb") as start:
        if start.read(4) != b"PK\x03\x04":
            return None
    found: Carried | None = apart(name, _opened, name, path, ready, limits, limits=limits, times=limits.files)
    return found


def _opened(name: str, path: Path, ready: Path, limits: Limits) -> Carried | None:
    wrong = UnreadableFile(f"“{name}” is a case that is damaged or was changed. Export it again.", code="bad-case")
    try:
        archive = zipfile.ZipFile(path)
        if MARK not in archive.namelist():
            return None
    except _BROKEN:
        return None  # the ordinary way says what is wrong with it
    try:
        with archive:
            return _read(name, archive, ready, limits)
    except UnreadableFile:
        raise
    except (*_BROKEN, ValidationError, BenchError) as error:
        raise wrong from error


def _read(name: str, archive: zipfile.ZipFile, ready: Path, limits: Limits) -> Carried:
    members = [m for m in archive.infolist() if m.filename.startswith(("scans/", "files/"))]
    if len(archive.infolist()) > _MOST_MEMBERS or sum(m.file_size for m in members) > 10 * limits.drop_bytes:
        most = 10 * limits.drop_bytes // 1_000_000
        raise UnreadableFile(
            f"“{name}” is too large for a case: up to {_MOST_MEMBERS:,} files and {most:,} MB are accepted.", code="too-large"
        )
    index = _index(name, _member(archive, archive.getinfo(MARK), _LONGEST_INDEX))
    documents, wanted, points = list[CaseDocument | None](), set[str](), set[str]()
    for revision, raw in zip(index.revisions, _documents(index), strict=True):
        last = CarriedDocument.model_validate(raw).document()
        documents.append(None if revision.document is None else last)
        wanted |= {piece.sha256 for piece in last.pieces}
        points |= set(digests_in(last.settings))
    points -= wanted
    scans: dict[str, Path] = {}
    for member in members:
        if member.file_size > limits.drop_bytes:
            continue
        allow(limits.read_seconds)
        data = _member(archive, member, limits.drop_bytes)
        digest = hashlib.sha256(data).hexdigest()
        # Older forms also hold results, which are worked out anew.
        if digest in wanted | points and digest not in scans:
            if digest in wanted:
                read_mesh(name, data, limits)
            else:
                unpacked_points(data)
            scans[digest] = ready / digest
            scans[digest].write_bytes(data)
    if set(scans) != wanted | points:
        raise ValueError("a scan is missing or was changed")
    return Carried(name, index, documents, last, sorted(scans.items()))


def _documents(index: CarriedIndex) -> Iterator[dict[str, Any]]:
    """The document of every revision: whole, or the one before it with its changes."""
    document: dict[str, Any] = {}
    for revision in index.revisions:
        changes = [change.model_dump() for change in revision.changes]
        document = revision.document if revision.document is not None else applied(document, changes)
        yield document


def _member(archive: zipfile.ZipFile, member: zipfile.ZipInfo, most: int) -> bytes:
    if member.file_size > most:
        raise ValueError("too large")
    with archive.open(member) as stream:
        data = stream.read(member.file_size + 1)
    if len(data) != member.file_size:
        raise ValueError("sizes do not agree")
    return data


def _index(name: str, text: bytes) -> CarriedIndex:
    raw = json.loads(text, parse_constant=_no_number, parse_int=_whole)
    if isinstance(raw, dict) and isinstance(raw.get("format"), int) and raw["format"] > FORMAT:
        raise UnreadableFile(f"“{name}” was written by a newer Bite Bench. Bring this installation up to date.", code="newer")
    if not isinstance(raw, dict) or not OLDEST <= raw["format"] <= FORMAT or odd(raw):
        raise ValueError("no index")
    return CarriedIndex.model_validate(raw)


def _no_number(text: str) -> None:
    raise ValueError(f"{text} is no number")


def _whole(text: str) -> int:
    if len(text) > 16 or abs(int(text)) > _MOST_NUMBER:
        raise ValueError("a number beyond all measure")
    return int(text)


_NUMBER = re.compile(r"^\d{2}(0[1-9]|1[0-2])-\d{2,4}$")


def is_number(text: str) -> bool:
    """Is it a case number as the house gives them: year, month, running number?"""
    return _NUMBER.match(text) is not None and "\n" not in text
