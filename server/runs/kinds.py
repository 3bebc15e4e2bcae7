"""What can be worked out: cases, plates. Each registers itself; nothing here knows any of them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any, ClassVar, Generic, TypeVar

from django.db import models

from bitecore.engine.document import SheetDocument
from bitecore.engine.graph import Node
from bitecore.engine.sheet import Sheet
from bitecore.engine.store import Manifest
from bitecore.views import ViewJob
from ground.refusing import Refused

from .models import Worked

W = TypeVar("W", bound=Worked)


class GoneMeanwhile(Refused):
    """Deleted by a colleague while it was asked for."""


class Kind(ABC, Generic[W]):
    """What the engine asks of a kind of what is worked out.

    name     : in addresses of jobs and in events
    sheet    : what it is worked out on
    document : the model of its document
    """

    name: ClassVar[str]
    sheet: ClassVar[Sheet[Any, Any]]
    document: ClassVar[type[SheetDocument]]
    model: type[W]

    @abstractmethod
    def visible_to(self, user: Any) -> models.QuerySet[W]:
        """Those that a person may see."""

    @abstractmethod
    def called(self, row: W) -> str:
        """Its name in events and in the log; never a person's."""

    def rank(self, row: W) -> int:
        """2: somebody has it open and waits for what was changed; 1: somebody has it open; 0: nobody has."""
        return 0

    def summarise(self, row: W, document: Any, graph: Any) -> None:
        """Keep what lists show of it."""
        return

    def learned(self, row: W, node: Node, manifest: Manifest) -> None:
        """A result has come."""
        return

    def early(self, row: W, document: Any) -> list[ViewJob]:
        """What somebody who opens it now looks at before any step is through."""
        return []

    def beside(self, row: W, step: str, manifest: Manifest) -> list[ViewJob]:
        """Pictures that go with a result, besides the meshes its step shows."""
        return []

    def picture(self, row: W, graph: Any) -> ViewJob | None:
        """Its picture as it stands now."""
        return None

    def pictured(self, row: W, job: ViewJob) -> None:
        """The picture is made."""
        return

    def freshen(self, row: W) -> None:
        """After a newer version came: what lists show of it is put together anew where it has to be."""
        return

    def at_rest(self, row: W) -> bool:
        """Put away: newer versions of steps do not take it up again."""
        return False


KINDS: dict[str, Kind[Any]] = {}


def register(kind: Kind[Any]) -> None:
    KINDS[kind.name] = kind


def kind_of(row: Worked) -> Kind[Any]:
    return next(kind for kind in KINDS.values() if isinstance(row, kind.model))


def lock_of(kind: Kind[Any], pk: int) -> str:
    """The name of the job that works one out: one waiting, one running at most."""
    return f"{kind.name}-{pk}"


def owners_visible(user: Any) -> list[models.QuerySet]:
    """Ids of the owners of all that a person may see, a query for each kind."""
    return [kind.visible_to(user).values("owner_id") for kind in KINDS.values()]


def document_of(row: Worked) -> Any:
    """Its newest document."""
    return kind_of(row).document.model_validate(row.document)
