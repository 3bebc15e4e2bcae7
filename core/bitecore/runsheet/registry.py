"""Which steps there are. A file in steps/ that defines STEP is on the run sheet."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterable
from functools import cache

from ..errors import BadSetting
from .model import Step


def _order(step: Step) -> tuple[int, int]:
    """By number; what belongs to a step comes before it, or after it where it needs it."""
    after = any(need.step == step.part_of for need in step.needs.values())
    return step.number, 0 if not step.part_of else 1 if after else -1


class Registry:
    """Steps in the order of their numbers, each after all it needs. Raises ValueError for a graph that is not one."""

    def __init__(self, steps: Iterable[Step]) -> None:
        self.steps = tuple(sorted(steps, key=_order))
        self._by_name = {s.name: s for s in self.steps}
        seen: set[str] = {"source", "case"}
        for step in self.steps:
            for need in step.needs.values():
                if need.step not in seen:
                    raise ValueError(f"step {step.name} needs {need.step}, which does not come before it")
            seen.add(step.name)

    def __getitem__(self, name: str) -> Step:
        if name not in self._by_name:
            names = ", ".join(s.name for s in self.shown)
            raise BadSetting(f"There is no step “{name}”. The steps are: {names}.")
        return self._by_name[name]

    @property
    def shown(self) -> list[Step]:
        """Those that stand on the run sheet."""
        return [s for s in self.steps if not s.part_of]

    def waited_for(self, step: Step) -> bool:
        """Does it stand on the run sheet, or does something that does need what it gives?"""
        if not step.part_of:
            return True
        return any(self.waited_for(other) for other in self.steps if step.name in {need.step for need in other.needs.values()})

    def __contains__(self, name: str) -> bool:
        return name in self._by_name

    def with_step(self, step: Step) -> Registry:
        return Registry([*self.steps, step])

    def up_to(self, name: str) -> list[Step]:
        last = self[name].number
        return [s for s in self.steps if s.number <= last]


@cache
def standard() -> Registry:
    """All steps found in the steps package."""
    from . import steps

    found = []
    for module in pkgutil.iter_modules(steps.__path__):
        loaded = importlib.import_module(f"{steps.__name__}.{module.name}")
        if hasattr(loaded, "STEP"):
            found.append(loaded.STEP)
    return Registry(found)
