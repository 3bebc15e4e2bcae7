"""From a document and what is known so far to the nodes of a sheet, their keys and their states."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from ..errors import BadSetting
from .document import SheetDocument, hashed, key_of
from .gives import holds_anything
from .graph import Graph, Node
from .model import Flag, Need, above
from .sheet import Sheet
from .store import Manifest, ResultStore
from .task import Task

D = TypeVar("D", bound=SheetDocument)
G = TypeVar("G", bound=Graph)


def resolve(
    document: D, sheet: Sheet[D, G], store: ResultStore, *, demanded: Collection[str] = (), before: G | None = None,
    ended: Collection[str] = (),
) -> G:  # fmt: skip
    """Look up every node that can be known now. Reads manifests only, never a mesh: fast enough for every request.

    before, ended : an earlier look at the same document, and the steps of which a result came since: only what needs those is
    looked up anew.
    """
    touched: set[str] | None = None
    if before is not None and not set(ended) & sheet.learns:
        touched = sheet.registry.after(ended) | set(ended)
    graph = before if touched is not None and before is not None else sheet.begin(document)
    nodes = graph.nodes if touched is not None else {}
    graph.nodes = {}
    for step in sheet.registry.steps:
        if touched is not None and step.name not in touched:
            graph.nodes |= {key: node for key, node in nodes.items() if node.step is step}
            continue
        for address in sheet.addresses(step, document, graph):
            node = Node(step, address)
            graph.nodes[node.id] = node
            _Look(document, sheet, graph, store, demanded).settle(node)
        if touched is None:
            sheet.learn(step, document, graph)
    return graph


class _Waits(Exception):
    """Something it needs is not there."""


@dataclass(frozen=True)
class _Look:
    document: Any
    sheet: Any
    graph: Any
    store: ResultStore
    demanded: Collection[str]

    def settle(self, node: Node) -> None:
        step = node.step
        tag = self.sheet.tag(node, self.graph)
        node.jaw = tag.get("jaw")
        node.why = self.sheet.waits(node, self.graph)
        if node.why:
            return
        try:
            settings = self.document.settings_for(step, node.piece)
        except BadSetting as error:
            # Kept before it was refused, or by a step that knew more: it is said where it stands, and the rest goes on.
            flag = Flag("bad-setting", "stop", error.message).as_json()
            node.state, node.manifest = "failed", Manifest("", step.name, node.piece, {}, flags=[flag], figure="failed")
            return
        if step.off is not None and step.off(settings):
            node.state = "off"
            return
        try:
            inputs = {name: self.ref(need, node) for name, need in step.needs.items()}
        except _Waits as waits:
            node.why = str(waits)
            return
        gathered = [name for name, need in step.needs.items() if need.gathered is not None]
        # A part is never what it would be cut from.
        if step.through and "." not in node.piece and not any(holds_anything(inputs[name]) for name in gathered):
            self.hand_through(node, inputs)
            return
        if step.counts is not None:
            settings = step.counts(settings)
        key = key_of(step, settings, inputs, tag)
        node.origin = hashed([inputs, tag, self.document.layered(step, node.piece)])
        node.task = Task(key, self.sheet.module, step.name, node.piece, tag, settings.model_dump(mode="json"), inputs)
        node.manifest = self.kept(node) or self.store.get(key)
        self.judge(node)

    def hand_through(self, node: Node, inputs: dict[str, Any]) -> None:
        """Nothing is to be done: what it would have worked on is its result, as the same blob under the same key."""
        values = {output: inputs[name] for output, name in node.step.through.items()}
        name = next(iter(node.step.through.values()))
        giver = self.graph.nearest(node.step.needs[name].step, node.piece)
        node.manifest = replace(giver.manifest, step=node.step.name, piece=node.piece, values=values, flags=[])
        node.state = "done"

    def kept(self, node: Node) -> Manifest | None:
        """What a person accepted under an older version stays, until an input or a setting changes."""
        step = node.step
        accepted = self.document.accepted.get(step.part_of or step.name)
        seen = accepted.seen.get(node.id) if accepted else None
        if seen is None or seen.version == step.version or seen.origin != node.origin:
            return None
        manifest = self.store.get(seen.key)
        node.kept = seen.version if manifest else None
        return manifest

    def judge(self, node: Node) -> None:
        if node.manifest is None:
            node.state = "ready" if not node.step.on_demand or node.step.name in self.demanded else "blocked"
            node.why = "" if node.state == "ready" else "waits for a person"
        elif node.manifest.stopped:
            node.state = "failed"
        else:
            node.state = "look" if any(f["severity"] == "look" for f in node.manifest.flags) else "done"

    def ref(self, need: Need, node: Node) -> Any:
        """Raises _Waits."""
        if need.gathered is not None:
            return {"from_each": self.gather(need, node)}
        if need.target:
            address, found = self.sheet.target(need, node, self.document, self.graph)
            if need.step in self.sheet.registry.outside:
                return found
            return self.value(self.graph.node(need.step, address), need, address) if address else None
        if need.step in self.sheet.registry.outside:
            try:
                return self.sheet.outside(need, node, self.document, self.graph)
            except BadSetting as error:
                raise _Waits(need.value.partition(".")[0]) from error
        if need.setting:
            if need.each:
                return {"by_piece": {a: self.setting(need, a) for a in self.members(need.step)}}
            return self.setting(need, node.piece)
        if need.each or need.of:
            wanted = self.sheet.of_kinds(need.of, self.graph) if need.of else self.members(need.step)
            return {"by_piece": {a: self.value(self.graph.nearest(need.step, a), need, a) for a in wanted}}
        return self.value(self.graph.nearest(need.step, node.piece), need, node.piece)

    def setting(self, need: Need, address: str) -> Any:
        try:
            settings = self.document.settings_for(self.sheet.registry[need.step], address)
        except BadSetting as error:
            raise _Waits(need.step) from error  # said where that step stands
        value = settings.model_dump(mode="json")[need.value]
        return {"json": {key: entry[need.field] for key, entry in value.items()} if need.field else value}

    def members(self, step: str) -> list[str]:
        """What a step that runs once gave a value for, or what it runs over."""
        known = self.sheet.registry[step]
        if known.over.what in ("jaws", "bodies"):
            return self.sheet.addresses(known, self.document, self.graph)
        return self.sheet.each(self.graph)

    def gather(self, need: Need, node: Node) -> dict[str, Any]:
        out = {}
        for step in self.sheet.registry.steps:
            for name in self.sheet.registry.givers(need, step):
                upstream = self.graph.nearest(step.name, node.piece)
                if upstream is None or upstream.state == "off":
                    continue
                ref = self.value(upstream, Need(step.name, name, optional=True), node.piece)
                if holds_anything(ref):
                    out[step.name] = ref
        return out

    def value(self, upstream: Node | None, need: Need, address: str) -> Any:
        """Raises _Waits."""
        if upstream is None or upstream.manifest is None or upstream.manifest.stopped:
            if need.optional and upstream is not None and upstream.state in ("failed", "off"):
                return None
            raise _Waits(need.step)
        ref = upstream.manifest.values.get(need.value)
        if ref and "by_piece" in ref:
            ref = next((ref["by_piece"][at] for at in above(address) if at in ref["by_piece"]), None)
        if ref is None and not need.optional:
            raise _Waits(need.step)
        return ref
