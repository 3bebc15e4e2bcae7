"""The nodes of a sheet as they are known: each with its state and its result."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from .document import hashed
from .model import ALL, Step, above
from .store import Manifest
from .task import Task

if TYPE_CHECKING:
    pass


@dataclass
class Node:
    """One step at one address.

    piece : the address, * for the whole sheet
    state : done, look, failed, off, ready (inputs there, result not yet), blocked (an input is missing)
    why   : of blocked: the step that is waited for
    kept  : the version it was made with, where that is an older one which a person accepted
    """

    step: Step
    piece: str
    jaw: str | None = None
    state: str = "blocked"
    task: Task | None = None
    manifest: Manifest | None = None
    why: str = ""
    kept: int | None = None
    origin: str = ""

    @property
    def id(self) -> str:
        return f"{self.step.name}/{self.piece}"

    @property
    def good(self) -> Manifest | None:
        """Its result, where that is no failure."""
        return None if self.manifest is None or self.manifest.stopped else self.manifest

    def seen_digest(self) -> str:
        """Over all that a person who accepts it has seen."""
        assert self.manifest is not None
        words = [[f["code"], f["message"]] for f in self.manifest.flags]
        return hashed([self.manifest.values, self.manifest.readings, words])

    def json(self, name: str, address: str = "") -> Any:
        """A JSON value it gave, of one address where it has one for each; None while unknown."""
        ref = self.manifest.values.get(name) if self.manifest else None
        if ref and "by_piece" in ref:
            ref = ref["by_piece"].get(address)
        return ref.get("json") if ref else None

    def mesh(self, name: str, address: str = "") -> str | None:
        """The digest of a mesh it gave."""
        ref = self.manifest.values.get(name) if self.manifest else None
        if ref and "by_piece" in ref:
            ref = ref["by_piece"].get(address)
        return ref.get("mesh") if ref else None


@dataclass
class Graph:
    """nodes by id, in the order of work."""

    nodes: dict[str, Node] = field(default_factory=dict)

    def node(self, step: str, address: str = ALL) -> Node | None:
        return self.nodes.get(f"{step}/{address}")

    def nearest(self, step: str, address: str) -> Node | None:
        """The node of a step for this address, or for the nearest above it."""
        return next((self.nodes[f"{step}/{at}"] for at in above(address) if f"{step}/{at}" in self.nodes), None)

    def of_step(self, step: str) -> list[Node]:
        return [n for n in self.nodes.values() if n.step.name == step]
