"""Work the run sheet out: do what is ready, look again, until nothing is. Two jaws go side by side."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Generic, Protocol, TypeVar

from ..progress import QUIET, Run
from .document import SheetDocument
from .graph import Graph, Node
from .registry import Registry
from .resolve import resolve
from .sheet import Sheet
from .store import Manifest, ResultStore
from .task import Task, perform

D = TypeVar("D", bound=SheetDocument)
G = TypeVar("G", bound=Graph)


class Runner(Protocol):
    """Where tasks are done. submit starts one; wait gives (task, manifest) of one that ended."""

    slots: int

    def submit(self, task: Task) -> None: ...
    def wait(self, run: Run) -> tuple[Task, Manifest]: ...


class HereRunner:
    """In this process, one after the other."""

    slots = 1

    def __init__(self, registry: Registry, store: ResultStore) -> None:
        self._registry, self._store, self._queue = registry, store, list[Task]()

    def submit(self, task: Task) -> None:
        self._queue.append(task)

    def wait(self, run: Run) -> tuple[Task, Manifest]:
        task = self._queue.pop(0)
        return task, perform(task, self._registry, self._store.blobs, run)


@dataclass
class Evaluation(Generic[G]):
    """What came of working a sheet out.

    graph   : the last look
    worked  : keys that were worked out now (the others were there already)
    passing : what failed because of the surroundings
    """

    graph: G
    worked: set[str] = field(default_factory=set)
    passing: list[Manifest] = field(default_factory=list)


class _Passing:
    """The store, and for this time the failures that are not kept in it: what depends on them waits."""

    def __init__(self, store: ResultStore) -> None:
        self._store, self.blobs = store, store.blobs
        self.failed: dict[str, Manifest] = {}

    def get(self, key: str) -> Manifest | None:
        return self.failed.get(key) or self._store.get(key)

    def put(self, manifest: Manifest) -> None:
        if manifest.passing:
            self.failed[manifest.key] = manifest
        else:
            self._store.put(manifest)


def evaluate(
    document: D,
    sheet: Sheet[D, G],
    store: ResultStore,
    *,
    runner: Runner | None = None,
    run: Run = QUIET,
    until: str | None = None,
    demanded: frozenset[str] = frozenset(),
    on_start: Callable[[Node], None] = lambda node: None,
    on_done: Callable[[Node, Manifest], None] = lambda node, manifest: None,
) -> Evaluation[G]:
    """Bring every node that `until` needs (all when None) to a result. Raises Cancelled when the run was taken back."""
    registry = sheet.registry
    runner = runner or HereRunner(registry, store)
    wanted = registry.up_to(until) if until else {s.name for s in registry.steps}
    busy: dict[str, Node] = {}
    worked: set[str] = set()
    kept = _Passing(store)
    graph = resolve(document, sheet, kept, demanded=demanded)
    while True:
        ready = [n for n in graph.nodes.values() if n.state == "ready" and n.step.name in wanted]
        # What nobody waits for (contacts, places) comes when all else is done: the bodies are not held up by it.
        first = [n for n in ready if registry.waited_for(n.step)]
        if first or any(registry.waited_for(n.step) for n in busy.values()):
            ready = first
        for node in ready:
            assert node.task is not None
            if node.task.key not in busy and len(busy) < runner.slots:
                busy[node.task.key] = node
                on_start(node)
                runner.submit(node.task)
        if not busy:
            return Evaluation(graph, worked, list(kept.failed.values()))
        task, manifest = runner.wait(run)
        kept.put(manifest)
        worked.add(task.key)
        on_done(busy.pop(task.key), manifest)
        graph = resolve(document, sheet, kept, demanded=demanded, before=graph, ended={task.step})
