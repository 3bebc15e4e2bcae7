"""A kind of sheet: its steps, and what is true of it alone. The engine knows nothing else of cases or plates."""

from __future__ import annotations

import importlib
from abc import ABC, abstractmethod
from typing import Any, ClassVar, Generic, TypeVar

from .document import SheetDocument
from .graph import Graph, Node
from .model import Need, Step
from .registry import Registry

D = TypeVar("D", bound=SheetDocument)
G = TypeVar("G", bound=Graph)


class Sheet(ABC, Generic[D, G]):
    """What the engine asks of a kind of sheet.

    name   : of the kind
    module : where a child process finds it, as SHEET
    learns : steps after which it is known anew what is there
    """

    name: ClassVar[str]
    module: ClassVar[str]
    learns: ClassVar[frozenset[str]] = frozenset()

    def __init__(self, registry: Registry) -> None:
        self.registry = registry

    @abstractmethod
    def begin(self, document: D) -> G:
        """A look at it before any step."""

    @abstractmethod
    def addresses(self, step: Step, document: D, graph: G) -> list[str]:
        """What a step runs for now."""

    @abstractmethod
    def tag(self, node: Node, graph: G) -> dict[str, Any]:
        """What apply gets beside the inputs: fields of Inputs. It is part of the key."""

    def waits(self, node: Node, graph: G) -> str:
        """Why a node cannot be looked up yet, for a reason of this kind of sheet; empty where there is none."""
        return ""

    def learn(self, step: Step, document: D, graph: G) -> None:
        """Called when every node of a step has been looked up."""
        return

    def outside(self, need: Need, node: Node, document: D, graph: G) -> Any:
        """The ref for a need of what comes from no step."""
        raise KeyError(need.step)

    def target(self, need: Need, node: Node, document: D, graph: G) -> tuple[str, Any]:
        """(address that this one lies on or '', the ref of how it was found)."""
        raise KeyError(need.step)

    def each(self, graph: G) -> list[str]:
        """The addresses that `each` means where a step runs once or over all scans."""
        return []

    def of_kinds(self, kinds: tuple[str, ...], graph: G) -> list[str]:
        """Addresses of these kinds."""
        return []


def sheet_of(module: str) -> Sheet[Any, Any]:
    """The kind of sheet that a task is of."""
    found: Sheet[Any, Any] = importlib.import_module(module).SHEET
    return found
