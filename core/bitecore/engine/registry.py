"""Which steps a sheet has, in the order in which they need each other."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterable
from dataclasses import replace
from functools import cached_property
from types import ModuleType

from ..errors import BadSetting
from .model import Need, Step


def found_in(package: ModuleType) -> list[Step]:
    """Every STEP that a file of this folder defines."""
    modules = [importlib.import_module(f"{package.__name__}.{m.name}") for m in pkgutil.iter_modules(package.__path__)]
    return [module.STEP for module in modules if hasattr(module, "STEP")]


class Registry:
    """The steps of a kind of sheet. Raises ValueError where a need cannot be met, and where steps need each other in a
    circle.

    steps   : each after all it needs, else by number
    outside : what stands for what comes from no step
    """

    def __init__(self, steps: Iterable[Step], *, outside: Iterable[str] = ("source", "case", "shelf")) -> None:
        given = list(steps)
        self.outside = frozenset(outside)
        self._by_name = {s.name: s for s in given}
        if len(self._by_name) < len(given):
            raise ValueError("two steps have one name")
        self._before = {s.name: self._needed_by(s) for s in given}
        self.steps = self._in_order(given)

    def _needed_by(self, step: Step) -> set[str]:
        before = set()
        self._check_through(step)
        for need in step.needs.values():
            if need.gathered is not None:
                before |= {s.name for s in self._by_name.values() if self.givers(need, s)}
            elif need.step not in self.outside:
                self._check(step, need)
                before |= set() if need.setting else {need.step}
        return before

    @staticmethod
    def givers(need: Need, step: Step) -> list[str]:
        """The outputs of a step that a gathering need takes: of this type, or one of it for each piece."""
        return [name for name, gives in step.gives.items() if need.gathered in (gives, replace(gives, by_piece=False))]

    @staticmethod
    def _check_through(step: Step) -> None:
        for output, name in step.through.items():
            if step.needs[name].value != output:
                raise ValueError(f"step {step.name} hands {name} through under another name than it was given")

    def _check(self, step: Step, need: Need) -> None:
        known = self._by_name.get(need.step)
        if known is None:
            raise ValueError(f"step {step.name} needs {need.step}, which is not there")
        if need.setting:
            if need.value not in known.settings.model_fields:
                raise ValueError(f"step {step.name} needs the setting {need.value} of {need.step}, which has none of that name")
        elif need.value not in known.gives:
            raise ValueError(f"step {step.name} needs {need.value} of {need.step}, which does not give it")

    def _in_order(self, given: list[Step]) -> tuple[Step, ...]:
        left, out = sorted(given, key=self._shown_at), list[Step]()
        while left:
            ready = next((s for s in left if not self._before[s.name] & {other.name for other in left}), None)
            if ready is None:
                raise ValueError(f"steps that need each other in a circle: {', '.join(sorted(s.name for s in left))}")
            left.remove(ready)
            out.append(ready)
        return tuple(out)

    def _shown_at(self, step: Step) -> tuple[int, int, str]:
        """By number; what belongs to a step comes before it, or after it where it needs it."""
        after = step.part_of in self._before[step.name]
        return step.number, 0 if not step.part_of else 1 if after else -1, step.name

    def __getitem__(self, name: str) -> Step:
        if name not in self._by_name:
            names = ", ".join(s.name for s in self.shown)
            raise BadSetting(f"There is no step “{name}”. The steps are: {names}.")
        return self._by_name[name]

    def __contains__(self, name: str) -> bool:
        return name in self._by_name

    @cached_property
    def shown(self) -> list[Step]:
        """Those that stand on the run sheet, by number."""
        return sorted((s for s in self.steps if not s.part_of), key=lambda s: s.number)

    def parts(self, name: str) -> list[Step]:
        """What is shown with a step."""
        return [s for s in self.steps if s.part_of == name]

    def speaking(self, step: Step) -> list[Step]:
        """Those whose states are the step's on the run sheet: itself, and of a step that runs once its parts that run for each jaw,
        for they can be on where it is off."""
        return [step, *(s for s in self.parts(step.name) if step.over.what == "whole" and s.over.what == "jaws")]

    def after(self, names: Iterable[str]) -> set[str]:
        """The steps that need one of these, directly or in the end."""
        out: set[str] = set()
        at = set(names)
        for step in self.steps:
            if self._before[step.name] & (at | out):
                out.add(step.name)
        return out

    def up_to(self, name: str) -> set[str]:
        """A step, all it needs, and what is shown with those."""
        out = {self[name].name}
        for step in reversed(self.steps):
            if step.name in out:
                out |= self._before[step.name]
        return out | {s.name for s in self.steps if s.part_of in out}

    def waited_for(self, step: Step) -> bool:
        """Does it stand on the run sheet, or does something that does need what it gives?"""
        return not step.part_of or any(not self._by_name[name].part_of for name in self.after([step.name]))

    def with_step(self, *steps: Step) -> Registry:
        return Registry([*self.steps, *steps], outside=self.outside)
